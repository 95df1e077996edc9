"""What if: circumstances in which a setting was not measured, and under which it may have to hold. Assumptions, typed by a
person."""

from enum import StrEnum
from typing import Annotated

import msgspec


class Circumstance(StrEnum):
    """The kinds of circumstances that there are."""

    ROOM = "hotter room"
    ALTITUDE = "altitude"
    FLOW = "clogged filter"
    PASTE = "aged paste"
    DEAD_FANS = "fans that fail"
    NIGHT = "at night"
    BY_DAY = "by day"
    OTHER_LOAD = "another load counts"


USUAL = {Circumstance.ROOM: 32.0, Circumstance.ALTITUDE: 1500.0, Circumstance.FLOW: 70.0, Circumstance.PASTE: 3.0}
"""What is assumed where a person says nothing: °C, m, per cent of the flow, and K more at 100 W. Common practice, no source."""
WITHIN = {
    Circumstance.ROOM: (-10.0, 60.0),
    Circumstance.ALTITUDE: (-400.0, 9000.0),
    Circumstance.FLOW: (5.0, 100.0),
    Circumstance.PASTE: (0.0, 60.0),
}
"""Between which values each makes sense."""


class WhatIf(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One circumstance. ``value`` is the room (°C), the altitude (m), the flow of the case's fans (%), or what the paste adds
    (K at 100 W); ``part`` the fan group that fails, or the load that counts. ``must_hold`` asks a robust pick to keep every
    limit under it."""

    kind: Circumstance
    value: Annotated[float, msgspec.Meta(ge=-400, le=9000)] = 0.0
    part: str = ""
    must_hold: bool = False

    def problem(self) -> str:
        """Return what is impossible about it, in words; empty where nothing is."""
        low, high = WITHIN.get(self.kind, (-400.0, 9000.0))
        if not low <= self.value <= high:
            return f"{self.kind.value}: {self.value:g} is not between {low:g} and {high:g}"
        if self.kind in (Circumstance.DEAD_FANS, Circumstance.OTHER_LOAD) and not self.part:
            return f"{self.kind.value}: it names none"
        return ""
