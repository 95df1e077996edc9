"""Where results go wrong: a failure rate that rises steeply as voltage falls below what the cores need."""

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

from niente.core.rigs.simulated.machine import Silicon

Vector = NDArray[np.float64]


@njit(cache=True, nogil=True)
def _summed_hazard(
    shallow_mv: float, per_k: float, extra_mv: Vector, scale_mv: Vector, offset_mv: float, cores_c: Vector
) -> float:
    total = 0.0
    for i in range(extra_mv.shape[0]):
        margin = shallow_mv + extra_mv[i] - per_k * (cores_c[i] - 60.0)
        depth = (-offset_mv - margin) / scale_mv[i]
        bent = 1.6 * math.sqrt(depth) if depth > 0.0 else depth
        total += 1e-3 * math.exp(min(max(bent, -60.0), 9.0))
    return total


class Cores:
    """The cores of one sample of silicon; unlike, as cores are."""

    def __init__(self, silicon: Silicon, cores: int, rng: np.random.Generator) -> None:
        self._silicon = silicon
        self._extra_mv = silicon.spread_mv * rng.standard_normal(cores)
        self._scale_mv = silicon.scale_mv * (1.0 + 0.25 * rng.random(cores))

    def hazard_per_s(self, offset_mv: float, activity: float, clock_ratio: float, cores_c: Vector) -> float:
        """Return the rate of wrong results in 1/s.

        ``clock_ratio`` is the clock over the highest stock clock: less clock leaves more margin. ``cores_c`` has
        shape ``(cores,)``. Each core's rate bends (the exponent grows with the square root of depth beyond the
        threshold), and the machine's is the sum, so that no single exponential describes it.
        """
        shallow_mv = self._silicon.margin_mv + 40.0 * (1.0 - clock_ratio) + 22.0 * (1.0 - activity)
        per_k = self._silicon.margin_mv_per_k
        return float(_summed_hazard(shallow_mv, per_k, self._extra_mv, self._scale_mv, offset_mv, cores_c))
