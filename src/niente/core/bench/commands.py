"""What a person can ask of a running plan, and the way out of it from anywhere inside a run."""

from enum import StrEnum

import msgspec

from niente.core.bench.cards import BenchCard
from niente.core.errors import NienteError


class Command(StrEnum):
    """What a person can ask of a running plan, besides stopping it."""

    HOLD_AFTER = "hold after this run"
    HOLD_NOW = "hold now"
    GO_ON = "go on"
    SKIP = "skip"
    REPEAT = "repeat"
    """End this run, void it, and make it again at once."""


class Confirmed(msgspec.Struct, frozen=True):
    """Hands are done with a card; ``readings`` are what they read, by channel. It counts for no other card: a second press
    must not confirm what nobody has seen yet."""

    card: BenchCard
    readings: dict[str, float] = {}


class StopPlan(Exception):  # noqa: N818 (it is a way out, not an error)
    """Ends the plan from anywhere inside a run."""

    def __init__(self, why: str, how: str, error: NienteError | None = None) -> None:
        super().__init__(why)
        self.why = why
        self.how = how
        self.error = error
