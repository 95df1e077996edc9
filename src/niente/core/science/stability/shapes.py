"""What all thresholds of a machine share: the shapes that its failure law may have, and how likely each is beforehand."""

import math
from dataclasses import dataclass, replace

import numpy as np

from niente.core.science.arrays import Indices, Vector

SCALES_MV = np.geomspace(1.2, 14.0, 20)
MIDDLE_SCALE_MV, SCALE_SPREAD = 4.5, 0.7
"""The scale beforehand: log-normal, wide enough for machines unlike any that was seen."""
EASINGS = ((-0.05, 0.1), (0.0, 0.15), (0.12, 0.25), (0.3, 0.25), (0.6, 0.25))
BENDINGS = ((0.0, 0.4), (0.008, 0.35), (0.016, 0.25))
SWINGS = ((0.05, 0.2), (1.0, 0.5), (1.8, 0.3))
PER_MHZ = ((0.0, 0.3), (0.02, 0.4), (0.06, 0.3))
"""Millivolts that a megahertz more takes; beside what the firmware's own voltage curve gives with it."""
PER_K = ((0.08, 0.5), (0.3, 0.5))
UNMOVED = ((0.0, 1.0),)


@dataclass(frozen=True)
class Shapes:
    """What all loads share, one column each ``(c,)``, with the logarithm of its probability beforehand and its number among all
    shapes. ``clock_mhz`` and ``core_c`` are what depths are told for; NaN where exposures do not differ in it."""

    scale_mv: Vector
    easing: Vector
    swing: Vector
    per_mhz: Vector
    per_k: Vector
    log_prior: Vector
    number: Indices
    bending: Vector
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
            self.swing[columns],
            self.per_mhz[columns],
            self.per_k[columns],
            self.log_prior[columns],
            self.number[columns],
            self.bending[columns],
            self.clock_mhz,
            self.core_c,
        )

    def moving(self, bending: Vector, per_mhz: Vector, per_k: Vector, clock_mhz: float, core_c: float) -> "Shapes":
        """Return the same columns, bent, and with thresholds that move by so much more with clock and temperature ``(c,)``;
        depths are told for those given, where nothing was learnt of them."""
        return replace(
            self,
            bending=bending,
            per_mhz=self.per_mhz + per_mhz,
            per_k=self.per_k + per_k,
            clock_mhz=self.clock_mhz if math.isfinite(self.clock_mhz) else clock_mhz,
            core_c=self.core_c if math.isfinite(self.core_c) else core_c,
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
    axes = [
        list(zip(SCALES_MV, np.exp(-0.5 * spread * spread), strict=True)),
        EASINGS,
        SWINGS,
        PER_MHZ if math.isfinite(clock_mhz) else UNMOVED,
        PER_K if math.isfinite(core_c) else UNMOVED,
    ]
    values = np.meshgrid(*(np.array([value for value, _ in axis]) for axis in axes), indexing="ij")
    weights = np.meshgrid(*(np.array([weight for _, weight in axis]) for axis in axes), indexing="ij")
    log_prior = np.sum([np.log(weight).ravel() for weight in weights], axis=0)
    log_prior -= np.log(np.sum(np.exp(log_prior)))
    scale, easing, swing, per_mhz, per_k = (value.ravel() for value in values)
    number = np.arange(scale.shape[0])
    straight = np.zeros(scale.shape)
    return Shapes(scale, easing, swing, per_mhz, per_k, log_prior, number, straight, clock_mhz, core_c)
