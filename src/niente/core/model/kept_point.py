"""A point: a setting that a person keeps under a name, with the limits that it was picked for."""

import datetime

import msgspec

from niente.core.model.errors import DocumentError, NotEnoughError
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

    def insist_on(self, variant: str) -> None:
        """Raise ``NotEnoughError`` where the machine is in another variant than the point was kept for."""
        if self.variant not in ("", variant):
            raise NotEnoughError(
                f"{self.name} was kept for {self.variant}, and the machine is {variant}.",
                safe="Nothing was done.",
                remedy="Bring the machine into that variant first, or keep a point of this one.",
            )


def kept_now(name: str, setting: Setting, limits: Limits, variant: str) -> KeptPoint:
    """Return a point that is kept at this moment."""
    now = datetime.datetime.now(datetime.UTC).replace(microsecond=0).isoformat()
    return KeptPoint(name, setting, limits, variant, now)


def name_problem(name: str, others: tuple[KeptPoint, ...]) -> str:
    """Return why a point cannot have a name, in words; empty where it can. One of the same name is replaced."""
    if not name.strip():
        return "A point needs a name."
    if len(name) > LONGEST_NAME or not name.isprintable():
        return f"A name has at most {LONGEST_NAME} characters, in one line."
    if len(others) >= MOST_POINTS and all(one.name != name for one in others):
        return f"There are {MOST_POINTS} points already; let one go first."
    return ""


def point_named(points: tuple[KeptPoint, ...], name: str) -> KeptPoint:
    """Return the point of a name. Raises ``DocumentError`` where there is none."""
    for one in points:
        if one.name == name:
            return one
    names = ", ".join(one.name for one in points) or "none"
    raise DocumentError(
        f"The book keeps no point {name!r}.", safe="Nothing was done.", remedy=f"Points that it keeps: {names}."
    )


def with_point(points: tuple[KeptPoint, ...], point: KeptPoint) -> tuple[KeptPoint, ...]:
    """Return points with one more, in place of the one of its name."""
    if any(one.name == point.name for one in points):
        return tuple(point if one.name == point.name else one for one in points)
    return (*points, point)
