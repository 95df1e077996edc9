"""How fast a fan group turns at a duty, from the duties that were run; beyond them the speed is told with what is not known
of it."""

import functools
import math

import msgspec
import numpy as np

from niente.core.science.arrays import Array, Vector

READ_SHARE = 0.004
"""What a mean speed is off by, as a share of it."""
BENT_SHARE = 0.01
"""What a smooth curve between two duties leaves out, as a share of the step of speed between them."""
BEYOND_SHARE = 0.35
"""The same beyond the duties that were run: fans start, stall and bend as they like."""
STANDS_RPM = 30.0
TYPICAL_RPM = 1500.0
"""What a group of which nothing was run may turn at full duty."""


class FanSpeeds(msgspec.Struct, frozen=True):
    """Duties in % that were run, rising, each with its mean speed in rpm."""

    pairs: tuple[tuple[float, float], ...] = ()

    @property
    def span(self) -> tuple[float, float]:
        """The least and highest duty that was run; NaN where none was."""
        return (self.pairs[0][0], self.pairs[-1][0]) if self.pairs else (math.nan, math.nan)

    def at(self, duty: Array) -> tuple[Array, Array]:
        """Return speeds in rpm at duties ``(...)``, and their standard errors."""
        duty = np.asarray(duty, float)
        if not self.pairs:
            share = duty / 100.0
            return TYPICAL_RPM * share, 0.5 * TYPICAL_RPM * np.ones_like(share)
        known = np.array(self.pairs)
        low, high = known[0], known[-1]
        inner = np.clip(duty, low[0], high[0])
        speed = self._between(inner)
        error = READ_SHARE * speed + self._bent(inner)
        below, above = duty < low[0], duty > high[0]
        if below.any():
            gone = np.where(low[0] > 0.0, 1.0 - duty / max(low[0], 1e-9), 0.0)
            speed, error = (
                np.where(below, low[1] * (1.0 - gone), speed),
                error + np.where(below, BEYOND_SHARE * low[1] * gone, 0.0),
            )
        if above.any():
            more = (duty / max(high[0], 1.0) - 1.0) * high[1]
            speed, error = np.where(above, high[1] + more, speed), error + np.where(above, BEYOND_SHARE * more, 0.0)
        return speed, error

    def _between(self, duty: Array) -> Array:
        """Return speeds between the duties that were run: a curve that rises where they do (Fritsch and Carlson 1980)."""
        known = np.array(self.pairs)
        if known.shape[0] < 3:
            straight: Array = np.interp(duty, known[:, 0], known[:, 1])
            return straight
        smooth: Array = _curve(self.pairs)(duty)
        return smooth

    def _bent(self, duty: Array) -> Array:
        """Return what the curve leaves out: most in the middle of a wide step, and wherever a fan starts to turn."""
        known = np.array(self.pairs)
        if known.shape[0] < 2:
            return np.zeros_like(duty)
        upper = np.clip(np.searchsorted(known[:, 0], duty), 1, known.shape[0] - 1)
        before, after = known[upper - 1], known[upper]
        along = (duty - before[..., 0]) / np.maximum(after[..., 0] - before[..., 0], 1e-9)
        step = np.abs(after[..., 1] - before[..., 1])
        starts = (before[..., 1] < STANDS_RPM) & (after[..., 1] > STANDS_RPM)
        bent: Array = np.where(starts, BEYOND_SHARE, BENT_SHARE) * step * 4.0 * along * (1.0 - along)
        return bent


@functools.lru_cache(maxsize=64)
def _curve(pairs: tuple[tuple[float, float], ...]):  # type: ignore[no-untyped-def]
    from scipy.interpolate import PchipInterpolator

    known: Vector = np.array(pairs)
    return PchipInterpolator(known[:, 0], known[:, 1])
