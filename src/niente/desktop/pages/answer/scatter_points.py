"""Which of the settings that a choice is made from are drawn in its picture, and as what."""

import math
from collections.abc import Sequence

import msgspec
import numpy as np

from niente.core.analysis.judged import JudgedSettings
from niente.core.model.limits import Limits
from niente.core.science.arrays import Array, Indices, Mask
from niente.core.selection.kept import keeps
from niente.core.selection.methods import MethodStep
from niente.core.selection.pick import are_sound, front
from niente.desktop.pages.answer.measures import ACROSS, UP, Measure
from niente.desktop.widgets.scale import rounded

TICKS_UP = 6
"""About so many figures stand at the upright axis."""
CELL = (0.012, 0.02)
"""Of the settings that were not run, one is drawn in so much of each axis; all of them count."""


class ScatterPoints(msgspec.Struct, frozen=True):
    """What is drawn, in groups: what stands across and what up ``(n, 2)`` of each; ``drawn`` are the settings that have a mark,
    by their index, and ``at`` where those stand ``(m, 2)``; ``spread`` is the interval of what stands across, along the
    front."""

    measured: Array
    inferred: Array
    rejected: Array
    worse: Array
    front: Array
    spread: Array
    drawn: Indices
    at: Array


def sort_settings(
    judged: JudgedSettings,
    limits: Limits,
    method_steps: Sequence[MethodStep] = (),
    axes: tuple[Measure, Measure] = (ACROSS, UP),
) -> ScatterPoints:
    """Put every setting into its group; those that were not run are thinned, the others never. The front is drawn through them
    and the rungs of other ways alike, which are known by noise and throughput only."""
    predicted = judged.predicted
    points = np.column_stack([axis.values(predicted) for axis in axes])
    known = np.isfinite(points).all(axis=1)
    broken = np.sum([~mask for mask in keeps(judged, limits).values()], axis=0)
    inferred = known & ~judged.measured
    thin = inferred & _apart(points, inferred, broken)
    sound = [rung for rung in method_steps if rung.headroom_k >= limits.min_headroom_k]
    rungs = [(rung.in_room_dba, rung.throughput_percent) for rung in sound] if axes == (ACROSS, UP) else []
    across, up = axes
    best = np.concatenate([points[are_sound(judged, limits) & known], np.array(rungs).reshape(-1, 2)])
    less, more = front(-across.way * best[:, 0], up.way * best[:, 1])  # of what is better as it is less, and as it is more
    on_front = np.column_stack([-across.way * less, up.way * more])
    widths = across.half_widths(predicted)[known]
    spread = np.interp(on_front[:, 0], *_sorted(points[known, 0], widths)) if less.shape[0] else np.empty(0)
    return ScatterPoints(
        measured=points[judged.measured & known],
        inferred=points[thin & (broken == 0)],
        rejected=points[thin & (broken == 1)],
        worse=points[thin & (broken > 1)],
        front=on_front,
        spread=spread,
        drawn=(drawn := np.flatnonzero((judged.measured & known) | thin)),
        at=points[drawn],
    )


def ranges_of(every: Array, limits: Limits, axes: tuple[Measure, Measure]) -> tuple[tuple[float, float], tuple[float, float]]:
    """Return from where to where the axes go for points ``(n, 2)``, at least one, and for the limits that have a handle."""
    across, up = axes
    low, high = np.min(every, axis=0), np.max(every, axis=0)
    if up == UP:
        low[1] = min(low[1], limits.min_throughput_percent - 5.0)
    tall = rounded(low[1] - up.margin, high[1] + up.margin, TICKS_UP)
    if across != ACROSS:
        return rounded(low[0] - across.margin, high[0] + across.margin, TICKS_UP), tall
    if limits.max_noise_dba is not None:  # a handle stands where it was put
        low[0], high[0] = min(low[0], limits.max_noise_dba), max(high[0], limits.max_noise_dba)
    return (math.floor(low[0] - 0.3), math.ceil(max(high[0] + 0.5, low[0] + 6.0))), tall


def _apart(points: Array, among: Mask, broken: Indices) -> Mask:
    """Return which points to draw ``(n,)`` so that no two of a group stand on each other: the first in each cell."""
    chosen = np.zeros(among.shape, dtype=bool)
    indices = np.flatnonzero(among)
    if not indices.shape[0]:
        return chosen
    low, high = points[indices].min(axis=0), points[indices].max(axis=0)
    cells = np.floor((points[indices] - low) / np.maximum((high - low) * np.array(CELL), 1e-9))
    groups = np.minimum(broken[indices], 2)
    _, first = np.unique(np.column_stack([cells, groups]), axis=0, return_index=True)
    chosen[indices[first]] = True
    return chosen


def _sorted(x: Array, y: Array) -> tuple[Array, Array]:
    order = np.argsort(x)
    return x[order], y[order]
