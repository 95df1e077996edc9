"""Bench cards as data: what hands have to set or read, in order, what to check before going on, and the cautions to it.

A card is written into the book when it is shown, ticked and confirmed, so that it outlasts a restart.
"""

from enum import StrEnum

import msgspec

from niente.core.model.errors import DocumentError
from niente.core.model.quantities import Quantity, quantity_of


class CardKind(StrEnum):
    """What a card is for."""

    SET = "set"
    VARIANT = "variant"
    READ = "read"


class CardLine(msgspec.Struct, frozen=True):
    """One thing to do, with a box to tick: what, the value with its unit, what it was before, and where it is done."""

    words: str
    value: str = ""
    before: str = ""
    where: str = ""


class ReadingRequest(msgspec.Struct, frozen=True):
    """A reading that hands take: its channel, what it is called, and between which figures it can lie."""

    channel: str
    title: str
    low: float
    high: float

    @property
    def quantity(self) -> Quantity:
        """The quantity that is read."""
        return quantity_of(self.channel)


class HandCard(msgspec.Struct, frozen=True):
    """A card for hands. ``sets`` are the controls that its lines set; they count as set once it is confirmed. Where hands go
    in, ``cool_below_c`` is what the machine has to cool to first: a box of its own, before all others."""

    kind: CardKind
    title: str
    lines: tuple[CardLine, ...] = ()
    readings: tuple[ReadingRequest, ...] = ()
    checks: tuple[str, ...] = ()
    cautions: tuple[str, ...] = ()
    sets: dict[str, float] = {}
    cool_below_c: float | None = None

    @property
    def boxes(self) -> int:
        """How many boxes there are to tick: that it is cool, where that is asked for, one a line, then one a check."""
        return (self.cool_below_c is not None) + len(self.lines) + len(self.checks)

    def problems(self, readings: dict[str, float]) -> list[str]:
        """Return what keeps readings from being taken, in words: one that is missing, or cannot be."""
        found = []
        for request in self.readings:
            value = readings.get(request.channel)
            if value is None or value != value:
                found.append(f"{request.title}: no reading was given")
            elif not request.low <= value <= request.high:
                quantity = request.quantity
                span = f"{quantity.text(request.low)} to {quantity.with_unit(request.high)}"
                found.append(f"{request.title}: {quantity.with_unit(value)} cannot be, it lies between {span}")
        unknown = readings.keys() - {request.channel for request in self.readings}
        found += [f"{name}: this card does not ask for it" for name in sorted(unknown)]
        return found

    def insist(self, readings: dict[str, float]) -> None:
        """Raise ``DocumentError``, with everything in words, for readings that cannot be taken."""
        found = self.problems(readings)
        if found:
            raise DocumentError(
                f"The card cannot be confirmed: {'; '.join(found)}.",
                safe="Nothing was taken; the plan still waits.",
                remedy="Look again and correct the figure; a comma or the unit is the usual slip.",
            )

    def words(self) -> str:
        """Return the card in one line of words."""
        lines = [f"{line.words}: {line.value}" if line.value else line.words for line in self.lines]
        lines += [f"read {request.title.lower()} in {request.quantity.unit}" for request in self.readings]
        return f"{self.title} {'; '.join(lines)}".strip()
