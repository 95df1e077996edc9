"""Whether a loop through a fan curve swings by itself: gain and phase margins of what was fitted.

A curve of slope k (% of duty a kelvin) closes the loop L(s) = k e^(-s T) sum of b_i / (tau_i s + 1) / product of (lag_j s + 1):
b_i is by how many kelvin a per cent of duty lowers a part of the rise, tau_i how fast that part follows, lag_j what the fan's
inertia and the averaging of the sensor add, T the delay of a controller that acts once in so long. The margins are those of
Bode and Nyquist (any text on linear control).
"""

import math

import msgspec
import numpy as np

from niente.core.science.arrays import Vector

CALM_GAIN, CALM_PHASE_DEG = 2.0, 45.0
"""A loop with at least these margins settles without swinging (rule of thumb of any text on control)."""


class LoopMargins(msgspec.Struct, frozen=True):
    """By which factor the gain may grow before the loop swings, and how much phase it has left where its gain is one, in
    degrees; both infinite where it never comes that far. ``period_s`` is that of the swing that would come first."""

    gain: float
    phase_deg: float
    period_s: float

    @property
    def swings(self) -> bool:
        """Whether the loop swings by itself."""
        return self.gain <= 1.0

    @property
    def calm(self) -> bool:
        """Whether it settles without swinging."""
        return self.gain >= CALM_GAIN and self.phase_deg >= CALM_PHASE_DEG


def loop_margins(slope: float, k_per_percent: Vector, taus_s: Vector, lags_s: Vector, delay_s: float) -> LoopMargins:
    """Return the margins of the loop of a curve with a ``slope`` in %/K over parts that a per cent of duty lowers by
    ``k_per_percent`` (p,) in K, which follow with ``taus_s`` (p,), behind lags (j,) and a delay in s."""
    gain = slope * float(np.sum(k_per_percent))
    if gain <= 0.0:
        return LoopMargins(math.inf, math.inf, math.inf)
    slowest = max(float(taus_s.max()), float(lags_s.max(initial=0.0)), 1.0)
    omega = np.geomspace(0.01 / slowest, 20.0, 20001)
    s = 1j * omega
    plant = np.sum(k_per_percent[:, None] / (taus_s[:, None] * s + 1.0), axis=0)
    loop = slope * plant / np.prod(lags_s[:, None] * s + 1.0, axis=0)
    size, phase = np.abs(loop), np.unwrap(np.angle(loop)) - omega * delay_s
    turned = np.flatnonzero((phase[:-1] > -math.pi) & (phase[1:] <= -math.pi))
    crossed = np.flatnonzero((size[:-1] > 1.0) & (size[1:] <= 1.0))
    found, period = math.inf, math.inf
    if turned.shape[0]:
        worst = turned[np.argmax(size[turned])]
        found, period = float(1.0 / size[worst]), 2.0 * math.pi / float(omega[worst])
    left = min((180.0 + math.degrees(float(phase[index])) for index in crossed), default=math.inf)
    return LoopMargins(found, left, period)
