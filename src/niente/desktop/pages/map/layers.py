"""The layers of the map: what is drawn in colour, its step, its interval, and the limit that belongs to it."""

import math
from collections.abc import Callable

import msgspec
import numpy as np
from contourpy import FillType, contour_generator

from niente.core.analysis.grid import SettingGrid
from niente.core.analysis.maps import SettingMap, difference
from niente.core.model.limits import Limits
from niente.core.science.arrays import Array

FINE, COARSE = 360, 90
"""Points a side of the grid of colours, and of the grid of lines."""
MAX_COLOURS, MIN_COLOURS = 24, 6


class Layer(msgspec.Struct, frozen=True):
    """One layer: title, unit, the colours' step, values and 95 % half widths (``None`` where it has none).

    ``limit`` is the level a person or the firmware has set on it, if there is one.
    """

    title: str
    unit: str
    step: float
    of: Callable[[SettingGrid, Limits], Array]
    spread: Callable[[SettingGrid], Array] | None
    limit: Callable[[Limits, float], float | None]


def _no_limit(limits: Limits, ceiling_c: float) -> float | None:
    return None


def _core_spread(field: SettingGrid) -> Array:
    return field.predicted.core_hw


def _per_watt(field: SettingGrid, limits: Limits) -> Array:
    return field.predicted.throughput_percent / field.predicted.power_w


LAYERS = (
    Layer("Hottest core", "°C", 2.5, lambda at, _: at.predicted.core_c, _core_spread, lambda _, ceiling: ceiling),
    Layer("Core rise", "K", 2.5, lambda at, _: at.predicted.rise_k, _core_spread, _no_limit),
    Layer("Headroom", "K", 2.5, lambda at, _: at.predicted.headroom_k, _core_spread, lambda limits, _: limits.min_headroom_k),
    Layer(
        title="Noise",
        unit="dBA",
        step=1.0,
        of=lambda at, _: at.predicted.in_room_dba,
        spread=lambda at: at.predicted.in_room_hw,
        limit=lambda limits, _: limits.max_noise_dba,
    ),
    Layer("Machine alone", "dBA", 1.0, lambda at, _: at.predicted.alone_dba, None, _no_limit),
    Layer(
        title="Throughput",
        unit="%",
        step=2.5,
        of=lambda at, _: at.predicted.throughput_percent,
        spread=lambda at: at.predicted.throughput_hw,
        limit=lambda limits, _: limits.min_throughput_percent,
    ),
    Layer("Effective clock", "MHz", 50.0, lambda at, _: at.predicted.clock_mhz, lambda at: at.predicted.clock_hw, _no_limit),
    Layer("Package power", "W", 5.0, lambda at, _: at.predicted.power_w, lambda at: at.predicted.power_hw, _no_limit),
    Layer("Throughput per watt", "%/W", 0.02, _per_watt, None, _no_limit),
    Layer("Chance of a stable day", "", 0.05, lambda at, _: at.stable, None, _no_limit),
    Layer("Failure at most", "%", 5.0, lambda at, _: 100.0 * at.risk, None, lambda limits, _: 100.0 * limits.failure.chance),
)
Polygons = tuple[Array, ...]
"""Outlines in the field's own units, each ``(n, 2)``; they are filled odd and even."""


class Drawn(msgspec.Struct, frozen=True):
    """A layer brought onto two even grids: a fine one for its colours, values ``fine`` ``(d', p')``, and a coarser one
    for its lines, edges ``x`` (p,), ``y`` (d,), values, noise and headroom ``(d, p)``.

    ``unsure`` is where the headroom wanted is not sure, ``unstable`` where failures speak against a setting, ``outside`` what
    was not measured, ``alike`` where a difference is not shown; ``area`` the grid's left, lower, right and upper edge.
    """

    fine: Array
    x: Array
    y: Array
    values: Array
    noise: Array
    headroom: Array
    step: float
    low: float
    high: float
    area: tuple[float, float, float, float]
    unsure: Polygons
    unstable: Polygons
    outside: Polygons
    alike: Polygons


def unit_of(mapped: SettingMap, layer: Layer) -> str:
    """Return the unit of what is drawn: differences of temperatures are in K, those of levels in dB."""
    return {"°C": "K", "dBA": "dB"}.get(layer.unit, layer.unit) if mapped.other is not None else layer.unit


def values_of(mapped: SettingMap, layer: Layer) -> tuple[Array, Array]:
    """Return a layer's values and half widths ``(n,)``: of the field, or its difference to the variant it is set against."""
    here, there = mapped.field, mapped.other
    value = layer.of(here, mapped.limits)
    spread = layer.spread(here) if layer.spread is not None else np.zeros_like(value)
    if there is None:
        return value, spread
    other = layer.spread(there) if layer.spread is not None else np.zeros_like(value)
    apart = difference(value, spread, layer.of(there, mapped.limits), other)
    return apart.value, apart.half_width


def drawn(mapped: SettingMap, layer: Layer) -> Drawn:
    """Return what the picture of a layer is made from."""
    field, limits = mapped.field, mapped.limits
    span = (float(field.x[0]), float(field.y[0]), float(field.x[-1]), float(field.y[-1]))
    x, y = np.linspace(span[0], span[2], COARSE), np.linspace(span[1], span[3], COARSE)
    fine_x, fine_y = np.linspace(span[0], span[2], FINE), np.linspace(span[1], span[3], FINE)
    flat, spread = values_of(mapped, layer)
    grid = _filled(field.as_grid(flat))
    predicted = field.predicted
    spare = predicted.headroom_k - predicted.core_hw - limits.min_headroom_k

    def even(values: Array) -> Array:
        return _resample(_filled(field.as_grid(values)), field.x, field.y, x, y)

    values = _resample(grid, field.x, field.y, x, y)
    step = fitting_step(layer.step, float(np.min(grid)), float(np.max(grid)))
    low = float(np.floor(np.min(values) / step + 1e-9) * step)
    high = float(np.ceil(np.max(values) / step - 1e-9) * step)
    if mapped.other is not None:
        high = max(abs(low), abs(high))
        low = -high
    return Drawn(
        fine=_resample(grid, field.x, field.y, fine_x, fine_y),
        x=x,
        y=y,
        values=values,
        noise=even(predicted.in_room_dba),
        headroom=even(predicted.headroom_k),
        step=step,
        low=low,
        high=max(high, low + step),
        area=span,
        unsure=below_zero(x, y, even(np.where(np.isfinite(spare), spare, -1.0))),
        unstable=below_zero(x, y, even(np.where(field.against > 0, -1.0, 1.0))),
        outside=below_zero(x, y, even(np.where(field.inside, 1.0, -1.0))),
        alike=below_zero(x, y, even(np.abs(flat) - spread)) if mapped.other is not None else (),
    )


def _filled(grid: Array) -> Array:
    """Return a grid with what is not known as its nearest neighbour is: a picture has no holes, and says otherwise what it does
    not know."""
    unknown = ~np.isfinite(grid)
    if not unknown.any():
        return grid
    if unknown.all():
        return np.zeros_like(grid)
    from scipy.ndimage import distance_transform_edt

    nearest = distance_transform_edt(unknown, return_distances=False, return_indices=True)
    filled: Array = grid[tuple(nearest)]
    return filled


def fitting_step(step: float, low: float, high: float) -> float:
    """Return a step of colour that gives neither too many colours nor too few: the layer's own, or a round one near it."""
    span = high - low
    if span <= 0.0 or MIN_COLOURS <= span / step <= MAX_COLOURS:
        return step
    rough = span / MAX_COLOURS * 2.0
    power = 10.0 ** math.floor(math.log10(rough))
    return next((factor * power for factor in (1.0, 2.0, 2.5, 5.0) if factor * power >= rough), 10.0 * power)


def below_zero(x: Array, y: Array, values: Array) -> Polygons:
    """Return the outlines of where values ``(d, p)`` lie below zero."""
    if np.min(values) >= 0.0:
        return ()
    maker = contour_generator(x, y, values, fill_type=FillType.OuterOffset)
    shapes: list[Array] = []
    for points, offsets in zip(*maker.filled(float(np.min(values)) - 1.0, 0.0), strict=True):
        shapes += [np.asarray(points[a:b]) for a, b in zip(offsets[:-1].tolist(), offsets[1:].tolist(), strict=True)]
    return tuple(shapes)


def contours(made: Drawn, values: Array, levels: list[float]) -> list[tuple[float, list[Array]]]:
    """Return for each level the lines along which values have it, each ``(n, 2)`` in the axes' units."""
    lines = contour_generator(made.x, made.y, values)
    return [(level, [np.asarray(line) for line in lines.lines(level)]) for level in levels]


def contour_on(field: SettingGrid, flat: Array, level: float) -> list[Array]:
    """Return the lines along which values ``(n,)`` of a field have a level."""
    lines = contour_generator(field.x, field.y, field.as_grid(flat)).lines(level)
    return [np.asarray(line) for line in lines]


def _resample(values: Array, x: Array, y: Array, even_x: Array, even_y: Array) -> Array:
    """Bring values ``(y, x)`` onto an even grid by straight lines, for a picture whose pixels are all alike."""
    resampled: Array = _weights(even_y, y) @ values @ _weights(even_x, x).T
    return resampled


def _weights(wanted: Array, known: Array) -> Array:
    """Return the matrix ``(n, m)`` of straight-line interpolation from ``known`` (m,) to ``wanted`` (n,)."""
    return np.stack([np.interp(wanted, known, one) for one in np.eye(known.shape[0])], axis=1)


def grid_points(field: SettingGrid) -> tuple[list[tuple[float, float]], list[tuple[float, float]]]:
    """Return the points measured, and those of the sweep's grid between them that were not.

    Single confirmations open no row or column of their own.
    """
    measured = [field.point(int(index)) for index in np.flatnonzero(field.nearly)]
    along = [x for x, _ in measured]
    upright = [y for _, y in measured]
    across = sorted({x for x in along if along.count(x) > 1})
    up = sorted({y for y in upright if upright.count(y) > 1})
    return measured, [(x, y) for x in across for y in up if (x, y) not in measured]


def quietest(field: SettingGrid, limits: Limits) -> Array:
    """Return the quietest point of each column that keeps the headroom with its interval, ``(n, 2)``; columns without one are
    left out."""
    predicted = field.predicted
    keeps = field.as_grid(predicted.headroom_k - predicted.core_hw) >= limits.min_headroom_k
    level = np.where(keeps, field.as_grid(predicted.in_room_dba + 0.001 * predicted.alone_dba), np.inf)
    rows = np.argmin(level, axis=0)
    found = np.isfinite(level[rows, np.arange(field.x.shape[0])])
    return np.column_stack([field.x[found], field.y[rows[found]]])
