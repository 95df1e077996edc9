"""Laws that stand for a whole posterior, drawn evenly from it: rates, depths and chances with how surely each is known."""

import math
from abc import ABC, abstractmethod
from dataclasses import dataclass, replace
from typing import Self

import numpy as np

from niente.core.science.arrays import Array, Indices, Vector
from niente.core.science.stability.clusters import CALM_SHARE
from niente.core.science.stability.law import log_rate, scales_at
from niente.core.science.stability.shapes import BENDINGS, PER_K, PER_MHZ, UNMOVED, Shapes

MISFIT = 0.7
"""By how much of the doubt that is asked for the grid may err: its shapes are not all shapes (benchmarks, part stability)."""
SPREAD = 15000
"""Laws that stand for a posterior, once they are told for all that exposures cannot tell."""
HALVINGS = 12
"""How often the millivolts are halved between which the depth of a rate lies that several parts share."""


@dataclass(frozen=True)
class DrawnLaws(ABC):
    """Laws ``(n,)`` with the probability of each, and the shape of each."""

    shapes: Shapes
    weight: Vector

    @abstractmethod
    def log_rate(self, depth_mv: float, clock_mhz: float = math.nan, core_c: float = math.nan) -> Vector:
        """Return the logarithm of the rate in 1/s by each law ``(n,)``."""

    @abstractmethod
    def depths_mv(self, rate_per_s: float, clock_mhz: float = math.nan, core_c: float = math.nan) -> Vector:
        """Return the depth in mV at which the rate is so high, at a clock and a temperature, by each law ``(n,)``."""

    @abstractmethod
    def picked(self, at: Indices, weight: Vector) -> Self:
        """Return some of the laws, with other probabilities."""

    def thinned(self, count: int = 1500) -> Self:
        """Return fewer laws that stand for the same."""
        return self.picked(*drawn_evenly(self.weight, count))

    def reweighted(self, weight: Vector) -> Self:
        """Return the same laws with other probabilities ``(n,)``."""
        return self.picked(np.arange(weight.shape[0]), weight)

    def unbent(self) -> Self:
        """Return the same laws as exposures tell them: straight on the safe side."""
        return replace(self, shapes=replace(self.shapes, bending=np.zeros(self.weight.shape)))

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

    def sure_of(self, values: Vector, most: float) -> float:
        """Return how surely a figure ``(n,)`` is no more than ``most``: what ``at_most`` tells, the other way round."""
        return 1.0 - min(float(np.sum(self.weight[values > most])) / MISFIT, 1.0)

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


@dataclass(frozen=True)
class Laws(DrawnLaws):
    """Laws of one threshold: its depth by each ``(n,)``, and how likely each is in its calm spell after the last exposure."""

    thresholds_mv: Vector
    calm: Vector

    def picked(self, at: Indices, weight: Vector) -> "Laws":
        """Return some of the laws, with other probabilities."""
        return Laws(self.shapes.picked(at), weight, self.thresholds_mv[at], self.calm[at])

    def spread(self, clock_mhz: float, core_c: float) -> "Laws":
        """Return the laws with all that exposures near a threshold cannot tell, as it is known beforehand: how the law bends
        far on the safe side, and how far clock and temperature move the threshold where nothing was learnt of that. They are
        told for a clock and a temperature."""
        of = self.shapes
        per_mhz = UNMOVED if math.isfinite(of.clock_mhz) or not math.isfinite(clock_mhz) else PER_MHZ
        per_k = UNMOVED if math.isfinite(of.core_c) or not math.isfinite(core_c) else PER_K
        ways = np.array([(bend, mhz, k, a * b * c) for bend, a in BENDINGS for mhz, b in per_mhz for k, c in per_k])
        few = self.thinned(SPREAD // ways.shape[0])
        every = np.repeat(np.arange(few.weight.shape[0]), ways.shape[0])
        bending, mhz, k, share = np.tile(ways, (few.weight.shape[0], 1)).T
        wide = few.picked(every, few.weight[every] * share)
        return replace(wide, shapes=wide.shapes.moving(bending, mhz, k, clock_mhz, core_c))

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


@dataclass(frozen=True)
class PartLaws(DrawnLaws):
    """Laws of a machine whose parts (its cores) each have a threshold of their own and share the shape: thresholds ``(p, n)``.

    A depth is what all parts are lowered by together; ``offsets_mv`` is how much deeper each part stands ``(p,)``. The rate is
    the sum over the parts.
    """

    thresholds_mv: Array
    offsets_mv: Vector

    def picked(self, at: Indices, weight: Vector) -> "PartLaws":
        """Return some of the laws, with other probabilities."""
        return PartLaws(self.shapes.picked(at), weight, self.thresholds_mv[:, at], self.offsets_mv)

    def of_part(self, part: int) -> Laws:
        """Return the laws of one part alone, at depths of its own."""
        return Laws(self.shapes, self.weight, self.thresholds_mv[part], np.full(self.weight.shape, CALM_SHARE))

    def log_rate(self, depth_mv: float, clock_mhz: float = math.nan, core_c: float = math.nan) -> Vector:
        """Return the logarithm of the machine's rate in 1/s by each law ``(n,)``."""
        return self._log_rate(np.full(self.weight.shape, depth_mv), clock_mhz, core_c)

    def depths_mv(self, rate_per_s: float, clock_mhz: float = math.nan, core_c: float = math.nan) -> Vector:
        """Return the depth in mV at which the machine's rate is so high by each law ``(n,)``, by halving: it lies between those
        where the weakest part alone has that rate, and its share of it."""
        wanted, parts = math.log(rate_per_s), self.offsets_mv.shape[0]
        low, high = (self._weakest(rate, clock_mhz, core_c) for rate in (rate_per_s / parts, rate_per_s))
        for _ in range(HALVINGS):
            middle = 0.5 * (low + high)
            under = self._log_rate(middle, clock_mhz, core_c) < wanted
            low, high = np.where(under, middle, low), np.where(under, high, middle)
        return low

    def _weakest(self, rate_per_s: float, clock_mhz: float, core_c: float) -> Vector:
        """Return the depth at which the first part alone has a rate, by each law ``(n,)``."""
        of = self.shapes
        scales = scales_at(rate_per_s, of.easing, of.bending)
        weakest = np.min(self.thresholds_mv - self.offsets_mv[:, None], axis=0)
        depths: Vector = weakest + of.scale_mv * scales - of.depth_of(0.0, clock_mhz, core_c)
        return depths

    def _log_rate(self, depth_mv: Vector, clock_mhz: float, core_c: float) -> Vector:
        of = self.shapes
        depth = depth_mv + of.depth_of(0.0, clock_mhz, core_c)
        scales = (depth + self.offsets_mv[:, None] - self.thresholds_mv) / of.scale_mv
        total: Vector = np.logaddexp.reduce(log_rate(scales, of.easing, of.bending), axis=0)
        return total


def _doubt(sure: float) -> float:
    """Return the share of the grid's probability that a bound may leave out, to be as sure as that."""
    return MISFIT * (1.0 - sure)


def drawn_evenly(weight: Vector, count: int) -> tuple[Indices, Vector]:
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
