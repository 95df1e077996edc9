"""The dynamic mark: noise in a verbal scale against the room's background."""

import math
from bisect import bisect_right

import msgspec

MARKS = ("niente", "ppp", "pp", "p", "mp", "mf", "f", "ff")
OVER_DB = (1.5, 5.5, 9.5, 13.5, 17.5, 21.5, 25.5)
"""How far over the background one mark ends and the next begins, where nobody says otherwise."""


def dynamic_mark(in_room_dba: float, background_dba: float, over_db: tuple[float, ...] = OVER_DB) -> str:
    """Return the mark of an in-room level: *niente* up to the first of ``over_db`` above the background, then mark by mark."""
    if in_room_dba != in_room_dba or background_dba != background_dba:
        return ""
    return MARKS[bisect_right(over_db, in_room_dba - background_dba)]


def scale_limits_dba(background_dba: float, over_db: tuple[float, ...] = OVER_DB) -> tuple[float, ...]:
    """Return the seven in-room levels in dBA at which one mark ends and the next begins, quietest first."""
    return tuple(background_dba + over for over in over_db)


class Scale(msgspec.Struct, frozen=True):
    """The dynamic scale of a room: its background in dBA (NaN where it is not known), and how far over it each mark ends."""

    background_dba: float = math.nan
    over_db: tuple[float, ...] = OVER_DB

    def mark(self, in_room_dba: float) -> str:
        """Return the mark of an in-room level; ``""`` where the background is not known."""
        return dynamic_mark(in_room_dba, self.background_dba, self.over_db)

    @property
    def limits_dba(self) -> tuple[float, ...]:
        """The seven levels at which one mark ends and the next begins; none where the background is not known."""
        return scale_limits_dba(self.background_dba, self.over_db) if math.isfinite(self.background_dba) else ()
