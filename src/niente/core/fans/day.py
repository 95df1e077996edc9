"""A day of load, second by second: standard days, and what a rehearsal needs of one."""

import math
from collections.abc import Sequence

import msgspec
import numpy as np

from niente.core.science.arrays import Indices, Vector

DAY_S = 86400
HOUR_S = 3600.0


class DayPart(msgspec.Struct, frozen=True):
    """A part of a day: from an hour to another, one kind of load, and how hard it works.

    ``activity`` is its share of what the load draws, over idle; it comes in periods of ``period_s`` (0: steady), working for
    ``busy`` of each and at ``between`` in the rest. ``wanders`` is by how much, as a share, the work goes up and down from
    minute to minute. ``heavy`` says whether it is the heaviest load or the everyday one.
    """

    from_h: float
    to_h: float
    activity: float
    heavy: bool = False
    period_s: float = 0.0
    busy: float = 1.0
    between: float = 0.0
    wanders: float = 0.0


class StandardDay(msgspec.Struct, frozen=True):
    """A day that everybody knows: its name, in words what it is, and its parts; in the rest the machine is idle."""

    name: str
    words: str
    parts: tuple[DayPart, ...]


_SHOWS = (10.0, 11.5, 13.0, 14.5, 16.0, 19.0, 20.5)
STANDARD_DAYS = (
    StandardDay(
        "show",
        "seven shows of fifty minutes, and frames rendered until dawn",
        (
            DayPart(0.0, 5.5, 0.9, wanders=0.03),
            *(DayPart(begins, begins + 5 / 6, 0.75, period_s=240.0, busy=0.7, between=0.5, wanders=0.15) for begins in _SHOWS),
            DayPart(22.5, 24.0, 0.9, wanders=0.03),
        ),
    ),
    StandardDay(
        "office",
        "short work all day, a long one after lunch",
        (
            DayPart(8.0, 12.0, 0.35, period_s=300.0, busy=0.25, between=0.15, wanders=0.4),
            DayPart(13.0, 14.0, 0.8, wanders=0.05),
            DayPart(14.0, 17.5, 0.35, period_s=420.0, busy=0.3, between=0.1, wanders=0.4),
        ),
    ),
    StandardDay(
        "render",
        "the heaviest load from evening to morning",
        (DayPart(0.0, 8.0, 1.0, heavy=True), DayPart(19.0, 24.0, 1.0, heavy=True)),
    ),
    StandardDay(
        "play",
        "an evening of scenes that change every minute or two",
        (DayPart(16.0, 23.0, 0.7, period_s=95.0, busy=0.6, between=0.7, wanders=0.25),),
    ),
    StandardDay(
        "bursts",
        "half a minute of the heaviest load every ten minutes",
        (DayPart(6.0, 22.0, 1.0, heavy=True, period_s=600.0, busy=0.05),),
    ),
)  # fmt: skip
"""What a machine is used for. Common practice, no source."""


class DayOfLoad(msgspec.Struct, frozen=True):
    """A day second by second, all ``(n,)``: which load it is (0 the everyday one, 1 the heaviest), and the share of what that
    draws over idle, 0 to 1."""

    name: str
    load: Indices
    activity: Vector

    @property
    def seconds(self) -> int:
        """How long it lasts."""
        return int(self.activity.shape[0])


def standard_day(name: str, seed: int = 0) -> DayOfLoad:
    """Return a standard day second by second; what wanders in it is drawn from ``seed``. Raises ``KeyError`` for an unknown
    name."""
    by_name = {day.name: day for day in STANDARD_DAYS}
    return day_of(by_name[name].name, by_name[name].parts, seed)


def day_of(name: str, parts: Sequence[DayPart], seed: int = 0) -> DayOfLoad:
    """Return a day of these parts, second by second; of parts that overlap the later one counts."""
    load, activity = np.zeros(DAY_S, dtype=np.int64), np.zeros(DAY_S)
    rng = np.random.default_rng([seed, len(parts)])
    for part in parts:
        first, last = round(part.from_h * HOUR_S), min(round(part.to_h * HOUR_S), DAY_S)
        at_s = np.arange(last - first, dtype=float)
        works = np.full(at_s.shape, part.activity)
        if part.period_s > 0.0:
            works = np.where(np.mod(at_s, part.period_s) < part.busy * part.period_s, works, part.between * part.activity)
        if part.wanders > 0.0:
            knots = rng.normal(size=math.ceil(at_s.shape[0] / 60.0) + 2)
            works = works * (1.0 + part.wanders * np.interp(at_s / 60.0, np.arange(knots.shape[0]), knots))
        activity[first:last] = np.clip(works, 0.0, 1.0)
        load[first:last] = int(part.heavy)
    return DayOfLoad(name, load, activity)
