"""Edits of a fan curve by hand: a point moved between its neighbours, added, taken away; and how a curve is rounded."""

import math
from collections.abc import Sequence

import msgspec
import numpy as np

from niente.core.model.fan_curve import FanCurve

MIN_POINTS, MAX_DRAWN = 2, 8
"""As many points as boards take. Common practice, no source."""
STEP_C = 1.0
"""Neighbouring points stand at least so far apart."""
COLDEST_C, HOTTEST_C = 0.0, 120.0


def moved_point(curve: FanCurve, index: int, celsius: float, duty: float) -> FanCurve:
    """Return a curve with a point moved: no further than its neighbours in temperature, and never over the next one's duty or
    under the last one's, so that a hotter machine never gets less air."""
    points = list(curve.points)
    before, after = points[:index][-1:], points[index + 1 :][:1]
    low_c = before[0][0] + STEP_C if before else COLDEST_C
    high_c = after[0][0] - STEP_C if after else HOTTEST_C
    low = before[0][1] if before else 0.0
    high = after[0][1] if after else 100.0
    points[index] = (min(max(celsius, low_c), high_c), min(max(duty, low), high))
    return _with_points(curve, points)


def added_point(curve: FanCurve, celsius: float) -> tuple[FanCurve, int]:
    """Return a curve with a point more on its line at a temperature, and the point's index; where there is no room, or there
    are enough, the curve as it is and -1."""
    celsius = min(max(float(round(celsius)), COLDEST_C), HOTTEST_C)
    if len(curve.points) >= MAX_DRAWN or any(abs(celsius - at) < STEP_C for at, _ in curve.points):
        return curve, -1
    made = (celsius, float(round(float(curve.duty(np.array([celsius]))[0]))))
    points = sorted([*curve.points, made])
    return _with_points(curve, points), points.index(made)


def without_point(curve: FanCurve, index: int) -> FanCurve:
    """Return a curve with a point less; of two the curve as it is."""
    if len(curve.points) <= MIN_POINTS:
        return curve
    return _with_points(curve, [*curve.points[:index], *curve.points[index + 1 :]])


def rounded_curve(curve: FanCurve, step_c: float, step_percent: float) -> FanCurve:
    """Return a curve as a board takes it: temperatures down, duties and floor up to whole steps, which errs to the cool side.
    Points that come to the same temperature become the higher of them."""
    kept: dict[float, float] = {}
    for celsius, duty in curve.points:
        at = round(math.floor(celsius / step_c + 1e-9) * step_c, 6)
        up = min(round(math.ceil(duty / step_percent - 1e-9) * step_percent, 6), 100.0)
        kept[at] = max(kept.get(at, 0.0), up)
    floor = min(math.ceil(curve.floor_percent / step_percent - 1e-9) * step_percent, 100.0)
    return msgspec.structs.replace(_with_points(curve, sorted(kept.items())), floor_percent=floor)


def _with_points(curve: FanCurve, points: Sequence[tuple[float, float]]) -> FanCurve:
    """Return a curve with other points; where the fans stand stays below the first."""
    changed = msgspec.structs.replace(curve, points=tuple(points))
    if curve.off_below_c is not None and points and curve.off_below_c > points[0][0]:
        return msgspec.structs.replace(changed, off_below_c=points[0][0])
    return changed
