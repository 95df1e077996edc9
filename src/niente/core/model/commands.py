"""What a person can request of a running plan."""

from enum import StrEnum

import msgspec

from niente.core.model.hand_cards import HandCard


class Command(StrEnum):
    """What a person can ask of a running plan, besides stopping it."""

    PAUSE_AFTER = "pause after this run"
    PAUSE_NOW = "pause now"
    RESUME = "go on"
    SKIP = "skip"
    REPEAT = "repeat"
    """End this run, void it, and make it again at once."""


class Confirmed(msgspec.Struct, frozen=True):
    """Hands are done with a card; ``readings`` are what they read, by channel. It counts for no other card: a second press
    must not confirm what nobody has seen yet."""

    card: HandCard
    readings: dict[str, float] = {}


class WhenLost(StrEnum):
    """What a bench does when the window or terminal that commands it ends without a word."""

    GO_ON = "go on"
    """The plan goes on under its guards, as one that is left alone overnight."""
    STOP = "stop"
    """The plan stops, and the machine gets its safe setting."""
