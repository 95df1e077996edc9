"""A rehearsal: a whole day under fan curves before a machine hears it, and what a person would have heard and read."""

import math
from collections.abc import Mapping
from itertools import pairwise

import msgspec
import numpy as np

from niente.core.fans.day import DayOfLoad
from niente.core.fans.loop import live_a_day
from niente.core.fans.machine import MachineAtPoint, energy_of
from niente.core.fans.told import DayFigures
from niente.core.model.fan_curve import FanCurve
from niente.core.rigs.curve_controller import CurveLaws, curve_laws
from niente.core.science.arrays import Array, Indices, Vector

RAMP_DB, RAMP_S = 1.5, 30.0
"""A change of level by more than this within this long is heard as a ramp; so fast as to be noticed, small enough that a calm
machine has none. Common practice, no source."""
OVER_DB = 1.5
"""A machine is heard where its room is louder by more than this than without it."""
SWING_PERCENT, SWING_S = 4.0, 240.0
"""A curve hunts where a duty goes by so much one way and back within this long while the work is steady."""
STEADY_SHARE = 0.02
SETTLES_S, LAST_S = 3 * 3600, 600
FULL_POWER = 0.99


class Rehearsal(msgspec.Struct, frozen=True):
    """A rehearsed day, second by second, all ``(n,)``: core in °C, level in the room in dBA, power in W, the share of power
    that the temperature cap left, and the groups' duties ``(n, g)`` in %; with its figures."""

    core_c: Vector
    level_dba: Vector
    power_w: Vector
    left: Vector
    duty: Array
    figures: DayFigures


def rehearse(
    machine: MachineAtPoint,
    curves: Mapping[str, FanCurve],
    day: DayOfLoad,
    room_c: float,
    background_dba: Vector | None = None,
    dead: str = "",
    every_s: int = 1,
    begins: tuple[Vector, Vector] | None = None,
) -> Rehearsal:
    """Play a day through a machine with its fans on curves, groups without one at the duties of its setting.

    ``background_dba`` (n,) is the room without the machine (none: as it was measured); a ``dead`` group stands. It is played in
    steps of ``every_s`` seconds (a few are near enough for a look), and begins with the parts of the rise (p,) and the
    duties (g,) of ``begins``, or where the machine would have settled at the first second.
    """
    background = np.full(day.seconds, machine.background_dba) if background_dba is None else background_dba
    laws = laws_at(machine, curves)
    if begins is None:
        _, settled = _hours_of(machine, laws, float(day.activity[0]), int(day.load[0]), room_c, every_s)
        begins = settled, _as_wanted(machine)
    parts, duty = begins
    out = _lived(machine, laws, day, room_c, (parts.copy(), duty), background, dead, every_s)
    ends = 4 + len(machine.groups)
    core, level, power, left, duties, sensors = out[:, 0], out[:, 1], out[:, 2], out[:, 3], out[:, 4:ends], out[:, ends:]
    hottest = dict(zip(machine.sources, sensors.max(axis=0).tolist(), strict=True))
    figures = _figures(core, level, left, duties, background, day, hottest)
    return Rehearsal(core, level, power, left, duties, figures)


def laws_at(machine: MachineAtPoint, curves: Mapping[str, FanCurve]) -> CurveLaws:
    """Return the curves as the compiled day takes them. Raises ``KeyError`` for a source that the rehearsal does not know."""
    return curve_laws([curves.get(group) for group in machine.groups], machine.sensor)


def fixed_at(machine: MachineAtPoint) -> Vector:
    """Return the duties in % ``(g,)`` of groups that are on no curve."""
    return np.array([machine.setting.fan_duty.get(group, FIXED_DUTY) for group in machine.groups])


FIXED_DUTY = 50.0
"""Where a group stands that has neither a curve nor a duty."""


def settled_on(
    machine: MachineAtPoint, curves: Mapping[str, FanCurve], activity: float, room_c: float, load: int = 1
) -> tuple[float, Vector, Vector]:
    """Return where a machine settles with its fans on curves: the core in °C, all duties ``(g,)`` in % and the parts of the
    rise ``(p,)`` in K; of one that swings, the core and duties of its last ten minutes."""
    hours, parts = _hours_of(machine, laws_at(machine, curves), activity, load, room_c)
    last = hours[-LAST_S:]
    return float(last[:, 0].mean()), last[:, 4 : 4 + len(machine.groups)].mean(axis=0), parts


def _hours_of(
    machine: MachineAtPoint, laws: CurveLaws, activity: float, load: int, room_c: float, every_s: int = 1
) -> tuple[Array, Vector]:
    """Return hours of steady work from cold as ``live_a_day`` fills them in, and the parts of the rise at their end."""
    hours = DayOfLoad("steady", np.full(SETTLES_S, load, dtype=np.int64), np.full(SETTLES_S, activity))
    parts = np.zeros(machine.parts)
    return _lived(machine, laws, hours, room_c, (parts, _as_wanted(machine)), np.zeros(SETTLES_S), "", every_s), parts


def _as_wanted(machine: MachineAtPoint) -> Vector:
    """Return duties to begin with that are where the curves want them."""
    return np.full(len(machine.groups), math.nan)


def _lived(
    machine: MachineAtPoint,
    laws: CurveLaws,
    day: DayOfLoad,
    room_c: float,
    begins: tuple[Vector, Vector],
    background_dba: Vector,
    dead: str,
    every_s: int = 1,
) -> Array:
    """Return a day second by second, as ``live_a_day`` fills it in, and move the parts that it begins with
    through it."""
    out = np.empty((day.seconds, 4 + len(machine.groups) + len(machine.sources)))
    stands: Indices = np.array([int(group == dead) for group in machine.groups], dtype=np.int64)
    drawn = machine.drawn
    parts, duty = begins
    room = np.full(day.seconds, room_c)
    live_a_day(
        machine.heat, machine.fans, machine.sensors, laws, fixed_at(machine), day.load, day.activity, room,
        energy_of(background_dba), drawn.idle_w, drawn.full_w, drawn.per_k, drawn.at_c, machine.cap_c, parts, out, stands,
        duty, every_s,
    )  # fmt: skip
    return out


def _figures(
    core: Vector,
    level: Vector,
    left: Vector,
    duty: Array,
    background: Vector,
    day: DayOfLoad,
    hottest_at: dict[str, float],
) -> DayFigures:
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
        hottest_at=hottest_at,
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
