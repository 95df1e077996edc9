"""The dynamic mark: noise in a verbal scale against the room's background."""

MARKS = ("niente", "ppp", "pp", "p", "mp", "mf", "f", "ff")
STEP_DB = 4.0
FIRST_DB = 1.5


def dynamic_mark(in_room_dba: float, background_dba: float) -> str:
    """Return the mark of an in-room level: *niente* within 1.5 dB of the background, then a mark every 4 dB."""
    if in_room_dba != in_room_dba or background_dba != background_dba:
        return ""
    over = in_room_dba - background_dba - FIRST_DB
    place = 0 if over < 0 else 1 + int(over // STEP_DB)
    return MARKS[min(place, len(MARKS) - 1)]


def scale_limits_dba(background_dba: float) -> tuple[float, ...]:
    """Return the seven in-room levels in dBA at which one mark ends and the next begins, quietest first."""
    return tuple(background_dba + FIRST_DB + STEP_DB * place for place in range(len(MARKS) - 1))
