"""The dynamic mark: noise in a verbal scale against the room's background."""

from bisect import bisect_right

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
