"""The layers of the map: what is drawn in colour, its step, its interval, and the limit that belongs to it."""

from collections.abc import Callable

import msgspec
import numpy as np
from numpy.typing import NDArray

from niente.core.choosing.field import Field
from niente.core.choosing.models import Predicted
from niente.core.project import Limits

Array = NDArray[np.float64]
FINE, COARSE = 360, 90
"""Points a side of the grid of colours, and of the grid of lines."""


class Layer(msgspec.Struct, frozen=True):
    """One layer: title, unit, the colours' step, values and 95 % half widths (``None`` where it has none).

    ``limit`` is the level a person or the firmware has set on it, if there is one.
    """

    title: str
    unit: str
    step: float
    of: Callable[[Predicted, Limits], Array]
    spread: Callable[[Predicted], Array] | None
    limit: Callable[[Limits, float], float | None]


def _no_limit(limits: Limits, ceiling_c: float) -> float | None:
    return None


def _core_spread(said: Predicted) -> Array:
    return said.core_hw


LAYERS = (
    Layer("Hottest core", "°C", 2.5, lambda said, _: said.core_c, _core_spread, lambda _, ceiling: ceiling),
    Layer("Core rise", "K", 2.5, lambda said, limits: said.core_c - limits.design_room_c, _core_spread, _no_limit),
    Layer("Headroom", "K", 2.5, lambda said, _: said.headroom_k, _core_spread, lambda limits, _: limits.least_headroom_k),
    Layer(
        title="Noise",
        unit="dBA",
        step=1.0,
        of=lambda said, _: said.in_room_dba,
        spread=lambda said: said.in_room_hw,
        limit=lambda limits, _: limits.most_noise_dba,
    ),
    Layer(
        title="Throughput",
        unit="%",
        step=2.5,
        of=lambda said, _: said.throughput_percent,
        spread=lambda said: said.throughput_hw,
        limit=lambda limits, _: limits.least_throughput_percent,
    ),
    Layer("Throughput per watt", "%/W", 0.02, lambda said, _: said.throughput_percent / said.power_w, None, _no_limit),
)


class Drawn(msgspec.Struct, frozen=True):
    """A layer brought onto two even grids: a fine one for its colours, values ``fine`` ``(d', p')``, and a coarser one
    for its lines, edges ``x`` (p,), ``y`` (d,), values and noise ``(d, p)``. ``edge_x`` (d,) is where the wanted
    headroom stops being sure; ``area`` the grid's left, lower, right and upper edge."""

    fine: Array
    x: Array
    y: Array
    values: Array
    noise: Array
    edge_x: Array
    low: float
    high: float
    area: tuple[float, float, float, float]


def drawn(field: Field, layer: Layer, limits: Limits) -> Drawn:
    """Return what the picture of a layer is made from."""
    span = (float(field.limit_w[0]), float(field.duty[0]), float(field.limit_w[-1]), float(field.duty[-1]))
    x, y = np.linspace(span[0], span[2], COARSE), np.linspace(span[1], span[3], COARSE)
    fine_x, fine_y = np.linspace(span[0], span[2], FINE), np.linspace(span[1], span[3], FINE)
    of_layer = field.as_grid(layer.of(field.predicted, limits))
    values = _resample(of_layer, field.limit_w, field.duty, x, y)
    noise = _resample(field.as_grid(field.predicted.in_room_dba), field.limit_w, field.duty, x, y)
    sure = field.as_grid(field.predicted.headroom_k - field.predicted.core_hw) - limits.least_headroom_k
    edges = np.array([_falls_below_zero(field.limit_w, row, span[2]) for row in sure])
    low = float(np.floor(np.min(values) / layer.step) * layer.step)
    high = float(np.ceil(np.max(values) / layer.step) * layer.step)
    return Drawn(
        fine=_resample(of_layer, field.limit_w, field.duty, fine_x, fine_y),
        x=x,
        y=y,
        values=values,
        noise=noise,
        edge_x=np.interp(y, field.duty, edges),
        low=low,
        high=max(high, low + layer.step),
        area=span,
    )


def _resample(values: Array, x: Array, y: Array, even_x: Array, even_y: Array) -> Array:
    """Bring values ``(y, x)`` onto an even grid by straight lines, for a picture whose pixels are all alike."""
    resampled: Array = _weights(even_y, y) @ values @ _weights(even_x, x).T
    return resampled


def _weights(wanted: Array, known: Array) -> Array:
    """Return the matrix ``(n, m)`` of straight-line interpolation from ``known`` (m,) to ``wanted`` (n,)."""
    return np.stack([np.interp(wanted, known, one) for one in np.eye(known.shape[0])], axis=1)


def _falls_below_zero(x: Array, values: Array, never: float) -> float:
    """Return where falling values cross zero, by a straight line between neighbours; ``never`` where they do not."""
    below = np.flatnonzero(values < 0.0)
    if not below.shape[0]:
        return never
    place = int(below[0])
    if place == 0:
        return float(x[0])
    before, after = values[place - 1], values[place]
    return float(x[place - 1] + (x[place] - x[place - 1]) * before / (before - after))


def grid_places(field: Field) -> tuple[list[tuple[float, float]], list[tuple[float, float]]]:
    """Return the places measured, and those of the sweep's grid between them that were not.

    Single confirmations open no row or column of their own.
    """
    measured = [field.place(int(index)) for index in np.flatnonzero(field.measured)]
    limits = [limit for limit, _ in measured]
    duties = [duty for _, duty in measured]
    across = sorted({limit for limit in limits if limits.count(limit) > 1})
    up = sorted({duty for duty in duties if duties.count(duty) > 1})
    return measured, [(limit, duty) for limit in across for duty in up if (limit, duty) not in measured]
