"""Silicon for searches: shipped processors' own, and made-up ones whose law is straight, or bent either way.

A machine here has no heat: a setting's rate of failures is known at once, so that hundreds of searches take minutes.
"""

import math
from dataclasses import dataclass
from functools import cache

import numpy as np

from niente.core.rigs.simulated import silicon as sil
from niente.core.rigs.simulated.machine import Processor
from niente.core.rigs.simulated.machine_files import shipped_file, shipped_machines
from niente.core.science.arrays import Vector

SHAPES = ("shipped", "straight", "bent")
RESTART_S = 180.0


@dataclass
class MadeSilicon:
    """One sample under one load at one clock: cores whose thresholds and scales differ, and the curvature of their law.

    ``threshold_mv`` is each core's depth at a failure in a thousand seconds; ``eases`` and ``bends`` are its curvatures beyond
    and before it. ``silicon`` is a shipped processor's own, whose law stands in the stand-ins.
    """

    shape: str
    threshold_mv: Vector
    scale_mv: Vector
    eases: float
    bends: float
    deadly_mv: float
    silicon: sil.Silicon | None = None

    def rate_per_s(self, depth_mv: float) -> float:
        """Return the rate of failures at a depth, over all cores."""
        return float(np.sum(self.rates_per_s(np.full(self.threshold_mv.shape, depth_mv))))

    def rates_per_s(self, depths_mv: Vector) -> Vector:
        """Return each core's rate of failures at a depth of its own."""
        if self.silicon is not None:
            margins = self.threshold_mv - depths_mv
            return np.array([sil.failures_per_s(self.silicon, core, float(margin)) for core, margin in enumerate(margins)])
        z = (depths_mv - self.threshold_mv) / self.scale_mv
        beyond = np.maximum(z, 0.0)
        up = np.log1p(self.eases * beyond) / self.eases if self.eases else beyond
        down = np.minimum(z, 0.0)
        found: Vector = sil.AT_THRESHOLD_PER_S * np.exp(np.clip(up + down - self.bends * down * down, -80.0, 9.0))
        return found

    def deepest_mv(self, rate_per_s: float) -> float:
        """Return the depth at which the rate is so high, by halving."""
        low, high = -400.0, 800.0
        for _ in range(60):
            middle = 0.5 * (low + high)
            low, high = (middle, high) if self.rate_per_s(middle) < rate_per_s else (low, middle)
        return low

    def own_scale_mv(self) -> float:
        """Return the sample's own scale: that of the core which decides where failures are rare."""
        at = self.deepest_mv(1e-6)
        return float(self.scale_mv[int(np.argmax((at - self.threshold_mv) / self.scale_mv))])


@cache
def _processor(name: str) -> Processor:
    return shipped_file(name).machine.processor


def made_silicon(shape: str, seed: int) -> MadeSilicon:
    """Return one sample of a shape."""
    rng = np.random.default_rng([seed, SHAPES.index(shape), 19])
    if shape == "shipped":
        drawn = sil.silicon_of(_processor(shipped_machines()[seed % len(shipped_machines())]), rng)
        margin = np.array([sil.margin_left_mv(drawn, core, 0.0, drawn.top_mhz, 1.0, 75.0) for core in range(len(drawn.own_mv))])
        return MadeSilicon(shape, margin, drawn.scale_mv, 0.0, 0.0, drawn.deadly_mv, drawn)
    cores = int(rng.integers(4, 33))
    threshold = rng.uniform(70.0, 240.0) + rng.uniform(4.0, 12.0) * rng.standard_normal(cores)
    scale = rng.uniform(2.0, 8.0) * (1.0 + rng.uniform(0.0, 0.3) * rng.random(cores))
    eases, bends = (0.0, 0.0) if shape == "straight" else (rng.uniform(0.0, 0.6), rng.uniform(0.0, 0.016))
    return MadeSilicon(shape, threshold, scale, float(eases), float(bends), float(rng.uniform(15.0, 60.0)))


class MadeBench:
    """A bench with one sample: exposures are run in its own time, failures come in clusters, and some take the machine down."""

    def __init__(self, sample: MadeSilicon, seed: int) -> None:
        self.sample = sample
        self.now_s = 0.0
        self.crashes = 0
        self.failures = 0
        self._rng = np.random.default_rng([seed, 191])
        self._restless = bool(self._rng.random() < 0.25)
        self._turns_s = self._stay()

    def _stay(self) -> float:
        return float(self._rng.exponential(1.0 / (sil.LEAVES_RESTLESS_PER_S if self._restless else sil.LEAVES_QUIET_PER_S)))

    def wait(self, seconds: float) -> None:
        """Let time go by without a load."""
        self._run(0.0, seconds)

    def expose(self, depth_mv: float, seconds: float) -> tuple[float, bool, bool]:
        """Return how long an exposure lasted, whether it failed, and whether that took the machine down."""
        lasted, failed = self._run(self.sample.rate_per_s(depth_mv), seconds)
        crashed = False
        if failed:
            self.failures += 1
            beyond = float(np.max(depth_mv - self.sample.threshold_mv))
            outcome = sil.outcome(beyond, self.sample.deadly_mv, True, False, float(self._rng.random()))
            crashed = bool(outcome == sil.CRASH)
            self.crashes += crashed
            if crashed:
                self.wait(RESTART_S)
        return lasted, failed, crashed

    def expose_cores(self, depths_mv: Vector, seconds: float) -> tuple[float, bool, int | None, bool]:
        """Return how long an exposure lasted, whether it failed, the core that its error named (none where the machine went
        down), and whether it went down."""
        rates = self.sample.rates_per_s(depths_mv)
        lasted, failed = self._run(float(rates.sum()), seconds)
        if not failed:
            return lasted, False, None, False
        self.failures += 1
        core = int(self._rng.choice(rates.shape[0], p=rates / rates.sum()))
        beyond = float(depths_mv[core] - self.sample.threshold_mv[core])
        outcome = sil.outcome(beyond, self.sample.deadly_mv, True, False, float(self._rng.random()))
        if outcome != sil.CRASH:
            return lasted, True, core, False
        self.crashes += 1
        self.wait(RESTART_S)
        return lasted, True, None, True

    def _run(self, rate_per_s: float, seconds: float) -> tuple[float, bool]:
        left = seconds
        while left > 0.0:
            spell = min(left, self._turns_s)
            rate = rate_per_s * (sil.RESTLESS if self._restless else sil.QUIET)
            comes = float(self._rng.exponential(1.0 / rate)) if rate > 0.0 else math.inf
            passed = min(spell, comes)
            self.now_s += passed
            self._turns_s -= passed
            left -= passed
            if comes < spell:
                return max(round(seconds - left), 1.0), True
            if self._turns_s <= 0.0:
                self._restless = not self._restless
                self._turns_s = self._stay()
        return seconds, False
