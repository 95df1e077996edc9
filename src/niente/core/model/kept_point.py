"""A point: a setting that a person keeps under a name, with the limits that it was picked for."""

import msgspec

from niente.core.model.limits import Limits
from niente.core.model.setting import Setting

MOST_POINTS, LONGEST_NAME = 12, 40


class KeptPoint(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A whole setting of one variant of the machine, with the limits of the choice at the moment (UTC, ISO 8601) when it was
    kept."""

    name: str
    setting: Setting
    limits: Limits
    variant: str = ""
    kept_at: str = ""


def name_problem(name: str, others: tuple[KeptPoint, ...]) -> str:
    """Return why a point cannot have a name, in words; empty where it can. One of the same name is replaced."""
    if not name.strip():
        return "A point needs a name."
    if len(name) > LONGEST_NAME or not name.isprintable():
        return f"A name has at most {LONGEST_NAME} characters, in one line."
    if len(others) >= MOST_POINTS and all(one.name != name for one in others):
        return f"There are {MOST_POINTS} points already; let one go first."
    return ""


def with_point(points: tuple[KeptPoint, ...], point: KeptPoint) -> tuple[KeptPoint, ...]:
    """Return points with one more, in place of the one of its name."""
    if any(one.name == point.name for one in points):
        return tuple(point if one.name == point.name else one for one in points)
    return (*points, point)
