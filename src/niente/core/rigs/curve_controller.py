"""How a board's controller moves fans along their curves, second by second, compiled: stand-ins and rehearsals share it."""

from collections.abc import Callable, Sequence
from typing import NamedTuple

import numpy as np

from niente.core.model.fan_curve import Combined, FanCurve
from niente.core.science.arrays import Array, Indices, Vector
from niente.core.science.compiled import compiled

NEVER_C, ALWAYS_W = -300.0, 1e9
"""A temperature that nothing falls under, and a power that nothing comes to."""
CROSSES_PERCENT_PER_S = 20.0
"""So fast a band of duty is crossed in which a fan resonates; it is left within a second or two. A judgement, no source."""
NO_CURVE = FanCurve("", ())
"""What stands for a group that is on no curve."""


class CurveLaws(NamedTuple):
    """The curves of fan groups ``(g,)``, and their points, sensors and bands one group after the other.

    Points, sensors and bands of a group lie between ``first`` and ``last`` of each kind; a group without points is on no curve.
    ``sensor`` (s,) numbers what is read (-1: the hottest core), ``mean`` says that the mean of a group's sensors counts and not
    the largest.
    """

    first: Indices
    last: Indices
    celsius: Vector
    duty: Vector
    smooth_s: Vector
    hysteresis_k: Vector
    ramp_up: Vector
    ramp_down: Vector
    off_below_c: Vector
    off_below_w: Vector
    on_again_c: Vector
    floor: Vector
    sensor_first: Indices
    sensor_last: Indices
    sensor: Indices
    mean: Indices
    band_first: Indices
    band_last: Indices
    band: Array


@compiled
def sensed(laws: CurveLaws, g: int, readings: Vector, core_c: float) -> float:
    """Return what a group's sensors come to, of all ``readings`` ``(r,)`` and the hottest core (sensor -1): their largest, or
    their mean."""
    first, last = laws.sensor_first[g], laws.sensor_last[g]
    largest, total = NEVER_C, 0.0
    for i in range(first, last):
        reading = core_c if laws.sensor[i] < 0 else readings[laws.sensor[i]]
        largest = max(largest, reading)
        total += reading
    found: float = total / (last - first) if laws.mean[g] else largest
    return found


@compiled
def duty_on_curve(laws: CurveLaws, g: int, held_c: float) -> float:
    """Return the duty that a group's points give at a temperature, straight in between and flat outside, not under its floor
    and not inside a band that is avoided."""
    first, last = laws.first[g], laws.last[g]
    found = laws.duty[last - 1]
    if held_c <= laws.celsius[first]:
        found = laws.duty[first]
    else:
        for i in range(first + 1, last):
            if held_c <= laws.celsius[i]:
                along = (held_c - laws.celsius[i - 1]) / (laws.celsius[i] - laws.celsius[i - 1])
                found = laws.duty[i - 1] + along * (laws.duty[i] - laws.duty[i - 1])
                break
    found = max(found, laws.floor[g])
    for b in range(laws.band_first[g], laws.band_last[g]):
        if laws.band[b, 0] < found < laws.band[b, 1]:
            found = laws.band[b, 1]
    wanted: float = found
    return wanted


@compiled
def stands_now(laws: CurveLaws, g: int, held_c: float, seen_c: float, power_w: float, stands: float) -> float:
    """Return whether a group is let go (1) or turns (0): it stands once temperature and power are both low, and until either
    comes back."""
    if held_c < laws.off_below_c[g] and power_w < laws.off_below_w[g]:
        return 1.0
    if stands > 0.0 and seen_c < laws.on_again_c[g] and power_w < laws.off_below_w[g]:
        return 1.0
    return 0.0


@compiled
def moved_duty(laws: CurveLaws, g: int, duty: float, wanted: float, seconds: float) -> float:
    """Return a duty some seconds later: nearer to what is wanted by a ramp, fast through a band that is avoided."""
    up, down = laws.ramp_up[g], laws.ramp_down[g]
    for b in range(laws.band_first[g], laws.band_last[g]):
        low, high = laws.band[b, 0], laws.band[b, 1]
        if low <= duty < high <= wanted:
            up = max(up, CROSSES_PERCENT_PER_S)
        if wanted <= low < duty <= high:
            down = max(down, CROSSES_PERCENT_PER_S)
    moved: float = duty + min(max(wanted - duty, -down * seconds), up * seconds)
    return moved


def curve_laws(curves: Sequence[FanCurve | None], number: Callable[[str], int]) -> CurveLaws:
    """Return the curves of all groups in order (none: on no curve); ``number`` says which reading a source is (-1: the hottest
    core)."""
    known = [curve if curve is not None else NO_CURVE for curve in curves]
    first, last = _ends([len(curve.points) for curve in known])
    sensors = [[number(one) for one in curve.sources] if curve.points else [] for curve in known]
    sensor_first, sensor_last = _ends([len(one) for one in sensors])
    band_first, band_last = _ends([len(curve.avoided) for curve in known])
    points = np.array([point for curve in known for point in curve.points], float).reshape(-1, 2)
    return CurveLaws(
        first=first,
        last=last,
        celsius=points[:, 0].copy(),
        duty=points[:, 1].copy(),
        smooth_s=np.array([curve.smoothing_s for curve in known], float),
        hysteresis_k=np.array([curve.hysteresis_k for curve in known], float),
        ramp_up=np.array([curve.ramp_up_percent_per_s for curve in known], float),
        ramp_down=np.array([curve.ramp_down_percent_per_s for curve in known], float),
        off_below_c=_or(NEVER_C, [curve.off_below_c for curve in known]),
        off_below_w=_or(ALWAYS_W, [curve.off_below_w for curve in known]),
        on_again_c=_or(NEVER_C, [curve.on_again_c for curve in known]),
        floor=np.array([curve.floor_percent for curve in known], float),
        sensor_first=sensor_first,
        sensor_last=sensor_last,
        sensor=np.array([one for each in sensors for one in each], dtype=np.int64),
        mean=np.array([int(curve.combined == Combined.MEAN) for curve in known], dtype=np.int64),
        band_first=band_first,
        band_last=band_last,
        band=np.array([band for curve in known for band in curve.avoided], float).reshape(-1, 2),
    )


def _or(otherwise: float, values: Sequence[float | None]) -> Vector:
    return np.array([otherwise if value is None else value for value in values], float)


def _ends(counts: Sequence[int]) -> tuple[Indices, Indices]:
    """Return where each of several parts begins and ends that are laid one after the other."""
    ends = np.cumsum(counts).astype(np.int64)
    return np.concatenate([[0], ends[:-1]]).astype(np.int64), ends
