"""Rise against watts: a line per fan setting, its slope in K/W, and the capacity in watts that it has in a room.

The capacity is the package power at which a line meets the limit: the figure that coolers are compared by.
"""

import math

import msgspec
import numpy as np

from niente.core.analysis.evidence import RunSummary
from niente.core.analysis.model_runs import turning
from niente.core.analysis.models import Models
from niente.core.analysis.prediction import ceilings
from niente.core.analysis.setting_batch import one_setting
from niente.core.model.setting import Setting
from niente.core.science.arrays import Vector

MAX_LINES = 6
POINTS = 60
BEYOND = 1.25
"""Lines are drawn to this share of the highest power run, and their capacity looked for up to ``FURTHEST``."""
FURTHEST = 3.0
NEAR_RPM = 0.06
"""A run belongs to a line where all its fans turn within this share of their highest speed."""


class Point(msgspec.Struct, frozen=True):
    """One run on a line: package power (W), rise (K) with its 95 % half width, and whether its temperature cap limited it."""

    run_id: int
    power_w: float
    rise_k: float
    half_width_k: float
    limited: bool


class Capacity(msgspec.Struct, frozen=True):
    """The watts at which a line meets the limit in a room, with the ends of its 95 % interval; infinite beyond what is looked
    at. ``inferred`` where it lies above every power that was run."""

    room_c: float
    power_w: float
    low_w: float
    high_w: float
    inferred: bool

    @property
    def half_width_w(self) -> float:
        """Half the interval."""
        return (self.high_w - self.low_w) / 2.0


class WattLine(msgspec.Struct, frozen=True):
    """A fan setting's line: the duty of the group that is varied, rise and 95 % half widths over ``power_w``, its slope at
    ``near_w``, its capacities, the noise in the room where it meets the limit, and the runs on it."""

    duty: float
    power_w: Vector
    rise_k: Vector
    half_width_k: Vector
    near_w: float
    slope_kpw: float
    slope_hw: float
    capacities: tuple[Capacity, ...]
    in_room_dba: float
    in_room_hw: float
    points: tuple[Point, ...]

    def at(self, power_w: float) -> tuple[float, float]:
        """Return rise and half width at a power."""
        return (
            float(np.interp(power_w, self.power_w, self.rise_k)),
            float(np.interp(power_w, self.power_w, self.half_width_k)),
        )


class WattLines(msgspec.Struct, frozen=True):
    """All lines, from the slowest fans to the fastest. ``limit_k`` is the rise at the limit in the first of ``rooms_c``;
    ``measured_w`` the highest power that was run."""

    group: str
    load: str
    lines: tuple[WattLine, ...]
    rooms_c: tuple[float, ...]
    limit_c: float
    measured_w: float

    @property
    def limit_k(self) -> float:
        """The rise at which the limit is met in the first room."""
        return self.limit_c - self.rooms_c[0]


def watt_lines(
    models: Models, rooms_c: tuple[float, ...], near_w: float, load: str = "", base: Setting | None = None
) -> WattLines:
    """Return the lines of the leading fan group's duties that were run, all else as ``base`` has it (none: as the runs had).

    ``near_w`` is where their slopes are told. The heat path knows the package's power alone: lines of a machine at its limits
    end where these hold it.
    """
    whole = base or models.base
    load = load or models.heavy_load
    runs = [run for run in models.usable() if run.load == load and run.settled.known and math.isfinite(run.power_w)]
    highest = max((run.power_w for run in runs), default=100.0)
    lowest = min((run.power_w for run in runs), default=20.0)
    power = np.linspace(0.85 * lowest, BEYOND * highest, POINTS)
    limit_c = float(ceilings(models, one_setting(whole))[0])
    duties = _duties(models, runs)
    at = near_w, highest, limit_c
    every = [_line(models, whole.replaced(models.fans, duty), duty, runs, power, at, rooms_c, load) for duty in duties]
    lines = [line for line in every if line.points] or every
    return WattLines(models.lead, load, tuple(lines), rooms_c, limit_c, highest)


def _duties(models: Models, runs: list[RunSummary]) -> list[float]:
    """Return the duties of the leading group that most runs were made at, rising."""
    counts: dict[float, int] = {}
    for run in runs:
        duty = run.setting.fan_duty.get(models.lead)
        if duty is not None and models.lead not in run.setting.fan_curve:
            counts[duty] = counts.get(duty, 0) + 1
    return sorted(sorted(counts, key=lambda duty: -counts[duty])[:MAX_LINES])


def _line(
    models: Models,
    setting: Setting,
    duty: float,
    runs: list[RunSummary],
    power: Vector,
    at: tuple[float, float, float],
    rooms_c: tuple[float, ...],
    load: str,
) -> WattLine:
    near_w, highest, limit_c = at
    rpm = np.array([float(models.rpm(group, np.array(setting.fan_duty.get(group, 0.0)))) for group in models.noise.groups])
    sources = np.array(models.sources_w.get(load, (0.0,) * len(models.heat.sources)))

    def rise(watts: Vector) -> tuple[Vector, Vector]:
        count = watts.shape[0]
        return models.heat.rise(watts, np.tile(rpm, (count, 1)), np.tile(sources, (count, 1)), load)

    value, half_width = rise(power)
    slope, slope_hw = models.heat.resistance(near_w, rpm.tolist(), load)
    level, level_hw = models.noise.in_room(rpm[None, :], near_w + float(np.sum(sources)))
    full = np.maximum(np.array(models.heat.full_rpm), 1.0)
    points = [
        Point(run.run_id, run.power_w, run.rise_k, run.settled.half_width_k, run.heat_limited)
        for run in runs
        if np.all(np.abs(np.array([turning(run, group) for group in models.noise.groups]) - rpm) <= NEAR_RPM * full)
    ]
    wide = np.linspace(0.05 * highest, FURTHEST * highest, 400)
    wide_k, wide_hw = rise(wide)
    capacities = tuple(_capacity(wide, wide_k, wide_hw, limit_c, room, highest) for room in rooms_c)
    return WattLine(
        duty=duty,
        power_w=power,
        rise_k=value,
        half_width_k=half_width,
        near_w=near_w,
        slope_kpw=slope,
        slope_hw=slope_hw,
        capacities=capacities,
        in_room_dba=float(level[0]),
        in_room_hw=float(level_hw[0]),
        points=tuple(points),
    )


def _capacity(power: Vector, rise: Vector, half_width: Vector, limit_c: float, room_c: float, highest: float) -> Capacity:
    """Return where a line and its band meet the limit: rise never falls with power, so that each is met once."""
    limit = limit_c - room_c

    def meets(value: Vector) -> float:
        rising = np.maximum.accumulate(value)
        if rising[-1] < limit:
            return math.inf
        return float(np.interp(limit, rising, power))

    found = meets(rise)
    return Capacity(room_c, found, meets(rise + half_width), meets(rise - half_width), found > highest)
