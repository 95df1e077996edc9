"""What exposures say of a machine's failure law: a posterior on a grid, without sampling.

The unknowns are the threshold of each load, and what all loads share: scale, easing and bending of the law, how failures
cluster, and how far the threshold moves with clock and temperature. Every exposure counts, clean or failed, with the time it
took.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import msgspec
import numpy as np

from niente.core.science.arrays import Array, Vector
from niente.core.science.remembered import Remembered
from niente.core.science.stability.clusters import CALM_SHARE, relaxed, told_of
from niente.core.science.stability.drawn_laws import Laws, drawn_evenly
from niente.core.science.stability.law import THRESHOLD_PER_S, log_rate
from niente.core.science.stability.shapes import SCALES_MV, Shapes, beforehand

THRESHOLDS_MV = np.arange(-100.0, 402.0, 2.0)
STANDING = 6000
"""Laws that stand for a whole posterior."""
KEEPS = 8
TELLING_MV, TELLING_FAILURES = 30.0, 0.03
"""Further before any failure an exposure tells nothing in which the widest law would see no more failures than so few."""
SAME_CLOCK, SAME_K = 1.01, 4.0
"""Clocks and temperatures that differ by less are the same."""
FORGOTTEN = 16.0
"""Cells this many e-folds under the likeliest are passed over."""


class SeenExposure(msgspec.Struct, frozen=True):
    """One exposure: how deep, for how long, and whether it ended in a failure; the clock and the core temperature that it was
    run at, and the seconds since the one before under the same load. ``others_per_s`` is the rate of all else that a failure
    could have come from, where nothing said what failed."""

    depth_mv: float
    seconds: float
    failed: bool
    clock_mhz: float = math.nan
    core_c: float = math.nan
    gap_s: float = 1e9
    others_per_s: float = 0.0


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
        return Known(THRESHOLDS_MV, shapes, np.zeros(size), np.full(size, CALM_SHARE))

    def log_rate(self, depth_mv: float, clock_mhz: float = math.nan, core_c: float = math.nan) -> Array:
        """Return the logarithm of the rate in 1/s in every cell ``(t, c)``."""
        of = self.shapes
        depth = of.depth_of(depth_mv, clock_mhz, core_c)
        return log_rate((depth - self.thresholds_mv[:, None]) / of.scale_mv, of.easing, of.bending)

    def after(self, seen: SeenExposure) -> "Known":
        """Return what is known after one more exposure."""
        rate = np.exp(self.log_rate(seen.depth_mv, seen.clock_mhz, seen.core_c))
        calm = relaxed(self.calm, seen.gap_s)
        told = told_of(rate, self.shapes.swing, calm, seen.seconds, seen.failed, seen.others_per_s)
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
    def laws(self) -> Laws:
        """Laws that stand for the whole posterior."""
        cells, weight = drawn_evenly(self.weights.ravel(), STANDING)
        rows, columns = np.unravel_index(cells, self.weights.shape)
        return Laws(self.known.shapes.picked(columns), weight, self.known.thresholds_mv[rows], self.known.calm[rows, columns])


def laws_from(loads: Sequence[Sequence[SeenExposure]]) -> tuple[Laws, ...]:
    """Return the laws of each load, from its exposures ``loads``, oldest first; all loads share their shapes.

    How far a threshold moves with clock and temperature is learnt where the exposures that tell of it differ in them. Where
    they do not, it stays as unknown as it was, and the laws are told for the clock and temperature of each load's exposures.
    """
    told = [_telling(exposures) for exposures in loads]
    places = [_place(exposures) for exposures in told]
    clocks, cores = any(place.clocks for place in places), any(place.cores for place in places)
    known = [place for place in places if math.isfinite(place.clock_mhz) or math.isfinite(place.core_c)]
    first = known[0] if known else _Place(math.nan, math.nan, False, False)
    shapes = beforehand(first.clock_mhz if clocks else math.nan, first.core_c if cores else math.nan)
    seen = [
        [
            msgspec.structs.replace(
                one, clock_mhz=one.clock_mhz if clocks else math.nan, core_c=one.core_c if cores else math.nan
            )
            for one in exposures
        ]
        for exposures in told
    ]
    return tuple(
        one.laws.spread(place.clock_mhz, place.core_c)
        for one, place in zip(joint_posteriors(seen, shapes), places, strict=True)
    )


class _Place(NamedTuple):
    """The clock and core temperature that a load's telling exposures were run at, and whether they differ in either."""

    clock_mhz: float
    core_c: float
    clocks: bool
    cores: bool


def _telling(exposures: Sequence[SeenExposure]) -> list[SeenExposure]:
    """Return the exposures that tell of a law: those close to where it failed, those long enough to fail far before it by the
    widest law, and others that ask as much of clock and temperature as these. A brief one far before any failure that asked
    less would only be taken for time at what these ran at."""
    gentlest = min((seen.depth_mv for seen in exposures if seen.failed), default=math.inf)
    near = min(gentlest, max((seen.depth_mv for seen in exposures), default=0.0))
    widest = float(SCALES_MV[-1])

    def tells(seen: SeenExposure) -> bool:
        before = near - seen.depth_mv
        return before <= TELLING_MV or seen.seconds * THRESHOLD_PER_S * math.exp(-before / widest) > TELLING_FAILURES

    place = _place([seen for seen in exposures if tells(seen)])
    return [
        seen
        for seen in exposures
        if tells(seen) or not (seen.clock_mhz * SAME_CLOCK < place.clock_mhz or seen.core_c + SAME_K < place.core_c)
    ]


def _place(exposures: Sequence[SeenExposure]) -> _Place:
    """Return where a load was run."""
    clocks = [seen.clock_mhz for seen in exposures if math.isfinite(seen.clock_mhz)]
    cores = [seen.core_c for seen in exposures if math.isfinite(seen.core_c)]
    return _Place(
        float(np.median(clocks)) if clocks else math.nan,
        float(np.median(cores)) if cores else math.nan,
        bool(clocks) and max(clocks) > min(clocks) * SAME_CLOCK,
        bool(cores) and max(cores) > min(cores) + SAME_K,
    )


def joint_posteriors(loads: Sequence[Sequence[SeenExposure]], shapes: Shapes) -> tuple[Posterior, ...]:
    """Return the posterior of each load, where all share their shapes: what one load says of scale, bending and clusters
    counts for the others, and each keeps a threshold of its own."""
    return jointly([known_from(exposures, shapes) for exposures in loads], shapes)


def jointly(every: Sequence[Known], shapes: Shapes) -> tuple[Posterior, ...]:
    """Return the posterior of each of several thresholds that share their shapes."""
    if len(every) == 1:
        return (Posterior(every[0]),)
    said = [said_of_shapes(known, shapes) for known in every]
    total = np.sum(said, axis=0)
    return tuple(Posterior(known, (total - own)[known.shapes.number]) for known, own in zip(every, said, strict=True))


def said_of_shapes(known: Known, shapes: Shapes) -> Vector:
    """Return what one threshold's exposures say of each shape, whatever the threshold: the logarithm of a mean likelihood, over
    all shapes ``(c,)``; those that were left out say as little as the unlikeliest, and less."""
    top = np.max(known.log_likelihood)
    own = np.log(np.maximum(np.exp(known.log_likelihood - top).sum(axis=0), 1e-300)) + top
    said = np.full(shapes.number.shape, np.min(own) - FORGOTTEN)
    said[known.shapes.number] = own
    return said
