"""A rehearsal: a whole day under fan curves before a machine hears it, and what a person would have heard and read."""

import math
from collections.abc import Mapping
from itertools import pairwise

import msgspec
import numpy as np

from niente.core.fans.day import DayOfLoad
from niente.core.fans.loop import NEVER_C, CurveTables, live_a_day
from niente.core.fans.machine import MachineAtPoint, energy_of
from niente.core.model.setting import FanCurve
from niente.core.science.arrays import Array, Indices, Vector

RAMP_DB, RAMP_S = 1.5, 30.0
"""A change of level by more than this within this long is heard as a ramp; so fast as to be noticed, small enough that a calm
machine has none. Common practice, no source."""
OVER_DB = 1.5
"""A machine is heard where its room is louder by more than this than without it."""
SWING_PERCENT, SWING_S = 4.0, 240.0
"""A curve hunts where a duty goes by so much one way and back within this long while the work is steady."""
STEADY_SHARE = 0.02
SETTLES_S = 3 * 3600
FULL_POWER = 0.99


class Rehearsal(msgspec.Struct, frozen=True):
    """A rehearsed day, second by second, all ``(n,)``: core in °C, level in the room in dBA, power in W, the share of power
    that the temperature cap left, and the groups' duties ``(n, g)`` in %; with its figures."""

    core_c: Vector
    level_dba: Vector
    power_w: Vector
    left: Vector
    duty: Array
    figures: "DayFigures"


class DayFigures(msgspec.Struct, frozen=True):
    """What a day came to: the mean level (of energies) and the loudest second in dBA, the hottest core in °C, ramps that are
    heard, the moments (s) in which they were, seconds over the room, seconds throttled, and how often duties hunted."""

    mean_dba: float
    loudest_dba: float
    hottest_c: float
    ramps: int
    ramp_s: tuple[int, ...]
    over_room_s: int
    throttled_s: int
    hunts: int


def rehearse(
    machine: MachineAtPoint,
    curves: Mapping[str, FanCurve],
    day: DayOfLoad,
    room_c: float,
    background_dba: Vector | None = None,
    dead: str = "",
) -> Rehearsal:
    """Play a day through a machine with its fans on curves, groups without one at the duties of its setting.

    ``background_dba`` (n,) is the room without the machine (none: as it was measured); a ``dead`` group stands. It begins
    where the machine would have settled at the first second.
    """
    background = np.full(day.seconds, machine.background_dba) if background_dba is None else background_dba
    table = curves_of(machine, curves)
    out = _lived(machine, table, day, room_c, _settled(machine, table, day, room_c), background, dead)
    core, level, power, left, duty = out[:, 0], out[:, 1], out[:, 2], out[:, 3], out[:, 4:]
    figures = _figures(core, level, left, duty, background, day)
    return Rehearsal(core, level, power, left, duty, figures)


def curves_of(machine: MachineAtPoint, curves: Mapping[str, FanCurve]) -> CurveTables:
    """Return the curves as the compiled day takes them."""
    setting = machine.setting
    each = [curves.get(group) for group in machine.groups]
    points = [point for curve in each for point in (curve.points if curve is not None else ())]
    ends = np.cumsum([len(curve.points) if curve is not None else 0 for curve in each]).astype(np.int64)
    known = [curve if curve is not None else FanCurve("", ()) for curve in each]
    return CurveTables(
        fixed=np.array([setting.fan_duty.get(group, FIXED_DUTY) for group in machine.groups]),
        first=np.concatenate([[0], ends[:-1]]).astype(np.int64),
        last=ends,
        celsius=np.array([celsius for celsius, _ in points], dtype=float),
        duty=np.array([duty for _, duty in points], dtype=float),
        smooth_s=np.array([curve.smoothing_s for curve in known]),
        hysteresis_k=np.array([curve.hysteresis_k for curve in known]),
        ramp_up=np.array([curve.ramp_up_percent_per_s for curve in known]),
        ramp_down=np.array([curve.ramp_down_percent_per_s for curve in known]),
        off_below=np.array([NEVER_C if curve.off_below_c is None else curve.off_below_c for curve in known]),
    )


FIXED_DUTY = 50.0
"""Where a group stands that has neither a curve nor a duty."""


def _settled(machine: MachineAtPoint, table: CurveTables, day: DayOfLoad, room_c: float) -> Vector:
    """Return the parts of the rise where a day begins: as they settle after hours of its first second."""
    first = DayOfLoad(day.name, np.repeat(day.load[:1], SETTLES_S), np.repeat(day.activity[:1], SETTLES_S))
    parts = np.zeros(machine.parts)
    _lived(machine, table, first, room_c, parts, np.zeros(SETTLES_S), "")
    return parts


def _lived(
    machine: MachineAtPoint, table: CurveTables, day: DayOfLoad, room_c: float, parts: Vector, background_dba: Vector, dead: str
) -> Array:
    """Return a day second by second, as ``live_a_day`` fills it in, and move ``parts`` through it."""
    out = np.empty((day.seconds, 4 + len(machine.groups)))
    stands: Indices = np.array([int(group == dead) for group in machine.groups], dtype=np.int64)
    drawn = machine.drawn
    live_a_day(
        machine.heat, machine.fans, table, day.load, day.activity, np.full(day.seconds, room_c), energy_of(background_dba),
        drawn.idle_w, drawn.full_w, drawn.per_k, drawn.at_c, machine.cap_c, parts, out, stands,
    )  # fmt: skip
    return out


def _figures(core: Vector, level: Vector, left: Vector, duty: Array, background: Vector, day: DayOfLoad) -> DayFigures:
    ramps = ramps_heard(level)
    return DayFigures(
        mean_dba=10.0 * math.log10(float(np.mean(energy_of(level)))),
        loudest_dba=float(level.max()),
        hottest_c=float(core.max()),
        ramps=len(ramps),
        ramp_s=tuple(ramps),
        over_room_s=int(np.count_nonzero(level > background + OVER_DB)),
        throttled_s=int(np.count_nonzero(left < FULL_POWER)),
        hunts=sum(hunts_of(duty[:, group], day) for group in range(duty.shape[1])),
    )


def ramps_heard(level_dba: Vector, by_db: float = RAMP_DB, within_s: float = RAMP_S) -> list[int]:
    """Return the seconds at which a level ``(n,)`` has changed by more than ``by_db`` within ``within_s``. A long ramp counts
    once for each such change: what is heard begins anew from where it was noticed."""
    found: list[int] = []
    window, values = round(within_s), level_dba.tolist()
    low, high = _running(level_dba, window)
    may = np.flatnonzero((level_dba - low > by_db) | (high - level_dba > by_db))
    since = 0
    for second in may.tolist():
        first = max(since, second - window)
        recent = values[first : second + 1]
        if values[second] - min(recent) > by_db or max(recent) - values[second] > by_db:
            found.append(second)
            since = second
    return found


def _running(values: Vector, window: int) -> tuple[Vector, Vector]:
    """Return the lowest and the highest value of the last ``window`` samples and the present one ``(n,)``."""
    from scipy.ndimage import maximum_filter1d, minimum_filter1d

    size, back = window + 1, (window + 1) // 2
    origin = size - 1 - back
    low: Vector = minimum_filter1d(values, size, origin=origin, mode="nearest")
    high: Vector = maximum_filter1d(values, size, origin=origin, mode="nearest")
    return low, high


def hunts_of(duty: Vector, day: DayOfLoad) -> int:
    """Return how often a duty ``(n,)`` went one way and back by more than a swing while the work was steady: a curve that does
    so moves by itself."""
    turns: list[tuple[int, float]] = []
    moved = np.flatnonzero(np.diff(duty)) + 1
    up, extreme, at = 0, float(duty[0]), 0
    for second in moved.tolist():
        value = float(duty[second])
        if (up >= 0 and value > extreme) or (up <= 0 and value < extreme):
            if up == 0 and abs(value - duty[0]) >= SWING_PERCENT:
                up = 1 if value > duty[0] else -1
            extreme, at = value, second
        elif up and abs(value - extreme) >= SWING_PERCENT:
            turns.append((at, extreme))
            up, extreme, at = -up, value, second
    found = 0
    for (first, _), (second, _) in pairwise(turns):
        works = day.activity[max(first - 60, 0) : second + 1]
        steady = float(works.max() - works.min()) <= STEADY_SHARE
        found += steady and second - first <= SWING_S
    return found
