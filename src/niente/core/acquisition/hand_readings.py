"""Readings that hands take: left out of samples; what a simulated machine's meter shows is kept for hands to see."""

import math

from niente.core.model.frame import Frame
from niente.core.model.rig_card import RigCard, SetBy


class HandReadings:
    """What hands read of one machine. ``shown`` is what the meters show, by channel, as far as the rig knows it."""

    def __init__(self) -> None:
        self.shown: dict[str, float] = {}
        self._by_hand: list[tuple[int, str]] = []

    def take_card(self, card: RigCard) -> None:
        """Go on with another card."""
        self._by_hand = [(index, one.name) for index, one in enumerate(card.channels) if one.by == SetBy.HANDS]

    def read_by_cable(self, frame: Frame) -> Frame:
        """Return a sample without what hands read."""
        if not self._by_hand:
            return frame
        values = frame.values.copy()
        for index, name in self._by_hand:
            self.shown[name] = float(values[index])
            values[index] = math.nan
        return Frame(frame.time_s, values, frame.events)
