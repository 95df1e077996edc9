"""What exposures say of a machine's failure law: a posterior on a grid, without sampling.

The unknowns are the threshold of each load, and what all loads share: scale, easing and bending of the law, how failures
cluster, and how far the threshold moves with clock and temperature. Every exposure counts, clean or failed, with the time it
took.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import msgspec
import numpy as np

from niente.core.science.arrays import Array, Indices, Vector
from niente.core.science.remembered import Remembered
from niente.core.science.stability.clusters import relaxed, told_of
from niente.core.science.stability.law import log_rate, scales_at

THRESHOLDS_MV = np.arange(-100.0, 402.0, 2.0)
SCALES_MV = np.geomspace(1.2, 14.0, 20)
MIDDLE_SCALE_MV, SCALE_SPREAD = 4.5, 0.7
"""The scale beforehand: log-normal, wide enough for machines unlike any that was seen."""
EASINGS = ((-0.05, 0.1), (0.0, 0.15), (0.12, 0.25), (0.3, 0.25), (0.6, 0.25))
BENDINGS = ((0.0, 0.4), (0.008, 0.35), (0.016, 0.25))
SWINGS = ((0.05, 0.2), (1.0, 0.5), (1.8, 0.3))
PER_MHZ = ((0.0, 0.3), (0.02, 0.4), (0.06, 0.3))
"""Millivolts that a megahertz more takes; beside what the firmware's own voltage curve gives with it."""
PER_K = ((0.08, 0.5), (0.3, 0.5))
MISFIT = 0.7
"""By how much of the doubt that is asked for the grid may err: its shapes are not all shapes (benchmarks, part stability)."""
STANDING = 6000
"""Laws that stand for a whole posterior."""
KEEPS = 8
FORGOTTEN = 16.0
"""Cells this many e-folds under the likeliest are passed over."""


class SeenExposure(msgspec.Struct, frozen=True):
    """One exposure: how deep, for how long, and whether it ended in a failure; the clock and the core temperature that it was
    run at, and the seconds since the one before under the same load."""

    depth_mv: float
    seconds: float
    failed: bool
    clock_mhz: float = math.nan
    core_c: float = math.nan
    gap_s: float = 1e9


@dataclass(frozen=True)
class Shapes:
    """What all loads share, one column each ``(c,)``, with the logarithm of its probability beforehand. ``clock_mhz`` and
    ``core_c`` are what depths are told for; NaN where exposures do not differ in it."""

    scale_mv: Vector
    easing: Vector
    bending: Vector
    swing: Vector
    per_mhz: Vector
    per_k: Vector
    log_prior: Vector
    clock_mhz: float = math.nan
    core_c: float = math.nan

    @property
    def name(self) -> tuple[float, float]:
        """What one set of shapes is known by before anything was run."""
        return (self.clock_mhz, self.core_c)

    def picked(self, columns: Indices) -> "Shapes":
        """Return some of the columns."""
        return Shapes(
            self.scale_mv[columns],
            self.easing[columns],
            self.bending[columns],
            self.swing[columns],
            self.per_mhz[columns],
            self.per_k[columns],
            self.log_prior[columns],
            self.clock_mhz,
            self.core_c,
        )

    def depth_of(self, depth_mv: float, clock_mhz: float, core_c: float) -> Vector:
        """Return how deep a depth at a clock and a temperature is at those that depths are told for ``(c,)``."""
        moved = np.full(self.scale_mv.shape, depth_mv)
        if math.isfinite(self.clock_mhz) and math.isfinite(clock_mhz):
            moved += self.per_mhz * (clock_mhz - self.clock_mhz)
        if math.isfinite(self.core_c) and math.isfinite(core_c):
            moved += self.per_k * (core_c - self.core_c)
        return moved


def beforehand(clock_mhz: float = math.nan, core_c: float = math.nan) -> Shapes:
    """Return the shapes as they are known before anything was run. Where a clock or a temperature is given, exposures may
    differ in it, and depths are told for that one."""
    spread = np.log(SCALES_MV / MIDDLE_SCALE_MV) / SCALE_SPREAD
    only = ((0.0, 1.0),)
    axes = [
        list(zip(SCALES_MV, np.exp(-0.5 * spread * spread), strict=True)),
        EASINGS,
        BENDINGS,
        SWINGS,
        PER_MHZ if math.isfinite(clock_mhz) else only,
        PER_K if math.isfinite(core_c) else only,
    ]
    values = np.meshgrid(*(np.array([value for value, _ in axis]) for axis in axes), indexing="ij")
    weights = np.meshgrid(*(np.array([weight for _, weight in axis]) for axis in axes), indexing="ij")
    log_prior = np.sum([np.log(weight).ravel() for weight in weights], axis=0)
    log_prior -= np.log(np.sum(np.exp(log_prior)))
    scale, easing, bending, swing, per_mhz, per_k = (value.ravel() for value in values)
    return Shapes(scale, easing, bending, swing, per_mhz, per_k, log_prior, clock_mhz, core_c)


@dataclass(frozen=True)
class Known:
    """What the exposures of one load say: thresholds ``(t,)`` by shapes ``(c,)``, the logarithms of likelihoods ``(t, c)``,
    and how likely each cell is in its calm spell."""

    thresholds_mv: Vector
    shapes: Shapes
    log_likelihood: Array
    calm: Array

    @staticmethod
    def nothing(shapes: Shapes) -> "Known":
        """Return what is known of a load that was not run."""
        size = (THRESHOLDS_MV.shape[0], shapes.scale_mv.shape[0])
        return Known(THRESHOLDS_MV, shapes, np.zeros(size), np.full(size, 0.5))

    def log_rate(self, depth_mv: float, clock_mhz: float = math.nan, core_c: float = math.nan) -> Array:
        """Return the logarithm of the rate in 1/s in every cell ``(t, c)``."""
        of = self.shapes
        depth = of.depth_of(depth_mv, clock_mhz, core_c)
        return log_rate((depth - self.thresholds_mv[:, None]) / of.scale_mv, of.easing, of.bending)

    def after(self, seen: SeenExposure) -> "Known":
        """Return what is known after one more exposure."""
        rate = np.exp(self.log_rate(seen.depth_mv, seen.clock_mhz, seen.core_c))
        told = told_of(rate, self.shapes.swing, relaxed(self.calm, seen.gap_s), seen.seconds, seen.failed)
        return Known(self.thresholds_mv, self.shapes, self.log_likelihood + told.log_likelihood, told.calm)._near()

    def _near(self) -> "Known":
        """Leave out the thresholds and shapes that cannot be any more."""
        log = self.log_likelihood + self.shapes.log_prior
        alive = log > np.max(log) - FORGOTTEN
        rows, columns = np.flatnonzero(alive.any(axis=1)), np.flatnonzero(alive.any(axis=0))
        if rows.shape[0] * columns.shape[0] > 0.8 * log.size:
            return self
        at = np.ix_(rows, columns)
        return Known(self.thresholds_mv[rows], self.shapes.picked(columns), self.log_likelihood[at], self.calm[at])


def known_from(exposures: Sequence[SeenExposure], shapes: Shapes) -> Known:
    """Return what the exposures of one load say, oldest first.

    A search asks again after every exposure: what the ones before came to is kept, for the latest few.
    """
    told = tuple(exposures)
    for count in range(len(told), 0, -1):
        known = _KEPT.get((shapes.name, told[:count]))
        if known is not None:
            break
    else:
        count, known = 0, Known.nothing(shapes)
    for seen in told[count:]:
        known = known.after(seen)
    return _KEPT.put((shapes.name, told), known) if told else known


_KEPT: Remembered[tuple[tuple[float, float], tuple[SeenExposure, ...]], Known] = Remembered(KEEPS)


@dataclass(frozen=True)
class Posterior:
    """What is known of one load's law; ``beside`` is what other loads say of the shapes that all share, the logarithm of a
    likelihood ``(c,)``."""

    known: Known
    beside: Vector | None = None

    @cached_property
    def weights(self) -> Array:
        """The probability of every cell ``(t, c)``."""
        log = self.known.log_likelihood + self.known.shapes.log_prior
        if self.beside is not None:
            log = log + self.beside
        weight = np.exp(log - np.max(log))
        found: Array = weight / weight.sum()
        return found

    @cached_property
    def laws(self) -> "Laws":
        """Laws that stand for the whole posterior."""
        cells, weight = _drawn_evenly(self.weights.ravel(), STANDING)
        rows, columns = np.unravel_index(cells, self.weights.shape)
        return Laws(self.known.thresholds_mv[rows], self.known.shapes.picked(columns), weight)


@dataclass(frozen=True)
class Laws:
    """Laws drawn evenly from a posterior by their weight: thresholds and shapes, one each ``(n,)``, and the probability of
    each."""

    thresholds_mv: Vector
    shapes: Shapes
    weight: Vector

    def thinned(self, count: int = 1500) -> "Laws":
        """Return fewer laws that stand for the same."""
        at, weight = _drawn_evenly(self.weight, count)
        return Laws(self.thresholds_mv[at], self.shapes.picked(at), weight)

    def log_rate(self, depth_mv: float, clock_mhz: float = math.nan, core_c: float = math.nan) -> Vector:
        """Return the logarithm of the rate in 1/s by each law ``(n,)``."""
        of = self.shapes
        scales = (of.depth_of(depth_mv, clock_mhz, core_c) - self.thresholds_mv) / of.scale_mv
        return log_rate(scales, of.easing, of.bending)

    def depths_mv(self, rate_per_s: float, clock_mhz: float = math.nan, core_c: float = math.nan) -> Vector:
        """Return the depth in mV at which the rate is so high, at a clock and a temperature, by each law ``(n,)``."""
        of = self.shapes
        scales = scales_at(rate_per_s, of.easing, of.bending)
        depths: Vector = self.thresholds_mv + of.scale_mv * scales - of.depth_of(0.0, clock_mhz, core_c)
        return depths

    def quantile(self, values: Vector, share: float) -> float:
        """Return the value ``(n,)`` that so much of the probability lies under."""
        order = np.argsort(values)
        below = np.cumsum(self.weight[order])
        return float(values[order][min(int(np.searchsorted(below, share)), values.shape[0] - 1)])

    def at_most(self, values: Vector, sure: float) -> float:
        """Return what a figure ``(n,)`` does not exceed, as surely as ``sure``."""
        return self.quantile(values, 1.0 - _doubt(sure))

    def at_least(self, values: Vector, sure: float) -> float:
        """Return what a figure ``(n,)`` is no less than, as surely as ``sure``."""
        return self.quantile(values, _doubt(sure))

    def deepest_mv(
        self, chance: float, sure: float, seconds: float, clock_mhz: float = math.nan, core_c: float = math.nan
    ) -> float:
        """Return the deepest depth in mV at which a failure within so many seconds is no likelier than ``chance``, as surely as
        ``sure``."""
        return self.at_least(self.depths_mv(rate_for(chance, seconds), clock_mhz, core_c), sure)

    def chances(self, depth_mv: float, seconds: float, clock_mhz: float = math.nan, core_c: float = math.nan) -> Vector:
        """Return the chance of a failure within so many seconds at a depth, by each law ``(n,)``.

        By the mean rate: failures that cluster leave more days without any, so this is never too low.
        """
        found: Vector = -np.expm1(-np.exp(self.log_rate(depth_mv, clock_mhz, core_c)) * seconds)
        return found


def _doubt(sure: float) -> float:
    """Return the share of the grid's probability that a bound may leave out, to be as sure as that."""
    return MISFIT * (1.0 - sure)


def _drawn_evenly(weight: Vector, count: int) -> tuple[Indices, Vector]:
    """Return indices into weights ``(n,)`` that stand for all, ``count`` even steps through their sum, and how much each stands
    for."""
    steps = (np.arange(count) + 0.5) / count
    found, times = np.unique(np.searchsorted(np.cumsum(weight), steps), return_counts=True)
    return np.minimum(found, weight.shape[0] - 1), times / count


def rate_for(chance: float, seconds: float) -> float:
    """Return the rate in 1/s at which a failure within so many seconds has this chance. Raises ``ValueError`` where the chance
    is none or sure, or the time is not positive."""
    if not 0.0 < chance < 1.0 or seconds <= 0.0:
        raise ValueError("wanted a chance between 0 and 1, and a time")
    return -math.log1p(-chance) / seconds


def joint_posteriors(loads: Sequence[Sequence[SeenExposure]], shapes: Shapes) -> tuple[Posterior, ...]:
    """Return the posterior of each load, where all share their shapes: what one load says of scale, bending and clusters
    counts for the others, and each keeps a threshold of its own."""
    every = [known_from(exposures, shapes) for exposures in loads]
    if len(every) == 1:
        return (Posterior(every[0]),)
    return tuple(_with_others(index, every, shapes) for index in range(len(every)))


def _with_others(index: int, every: Sequence[Known], shapes: Shapes) -> Posterior:
    """Return the posterior of one load, with what the others say of the shapes."""
    mine = every[index]
    beside = np.zeros(mine.shapes.scale_mv.shape[0])
    for other in (*every[:index], *every[index + 1 :]):
        said = dict(zip(_keys(other.shapes), _over_thresholds(other), strict=True))
        lowest = min(said.values()) - FORGOTTEN
        beside += np.array([said.get(key, lowest) for key in _keys(mine.shapes)])
    return Posterior(mine, beside)


def _keys(shapes: Shapes) -> list[tuple[float, ...]]:
    """Return what each shape is known by, once some were left out."""
    columns = (shapes.scale_mv, shapes.easing, shapes.bending, shapes.swing, shapes.per_mhz, shapes.per_k)
    return list(zip(*(column.tolist() for column in columns), strict=True))


def _over_thresholds(known: Known) -> list[float]:
    """Return what a load says of each shape, whatever its threshold: the logarithm of a mean likelihood ``(c,)``."""
    top = np.max(known.log_likelihood)
    total = np.exp(known.log_likelihood - top).sum(axis=0)
    found: list[float] = (np.log(np.maximum(total, 1e-300)) + top).tolist()
    return found
