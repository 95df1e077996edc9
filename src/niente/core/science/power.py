"""Throughput and package power over the sustained power limit."""

import msgspec
import numpy as np
from numpy.typing import NDArray

from niente.core.science.statistics import Z95

Vector = NDArray[np.float64]
Array = NDArray[np.float64]

FLOOR_SHARE = 0.002


class PowerLaw(msgspec.Struct, frozen=True):
    """What a load does under a limit: ln X is a polynomial of ln(limit) while power holds the clock, and flat above.

    ``coefficients`` highest power first; ``free_w`` and ``free_throughput`` are what the load draws and does when
    power does not hold it (infinite where that was never seen); ``gain`` is metered watts a watt of limit;
    ``residual_share`` the scatter about the law.
    """

    coefficients: tuple[float, ...]
    gain: float
    free_w: float
    free_throughput: float
    residual_share: float
    lowest_w: float
    highest_w: float

    def power_w(self, limit_w: Array) -> Array:
        """Return the package power in W under limits ``(n,)``."""
        return np.minimum(np.asarray(limit_w, float) * self.gain, self.free_w)

    def throughput(self, limit_w: Array) -> tuple[Array, Array]:
        """Return the throughput under limits ``(n,)`` and its 95 % half width, in the load's own unit."""
        held = np.exp(np.polyval(np.asarray(self.coefficients), np.log(limit_w)))
        value = np.minimum(held, self.free_throughput)
        return value, Z95 * max(self.residual_share, FLOOR_SHARE) * value


def dynamic_power_w(switched_nf: float, voltage_v: float, clock_ghz: float) -> float:
    """Return the power of switching a C V^2 f in W, with the active capacitance in nF (textbook)."""
    return switched_nf * voltage_v**2 * clock_ghz


def fit_power_law(limit_w: Vector, power_w: Vector, throughput: Vector, held: NDArray[np.bool_]) -> PowerLaw:
    """Fit throughput over the limit; all arrays ``(n,)``, ``held`` tells where power held the clock.

    Raises ``ValueError`` where no run was held by power.
    """
    if not np.any(held):
        raise ValueError("power held the clock in no run")
    x, y = np.log(limit_w[held]), np.log(throughput[held])
    order = min(2, len(np.unique(np.round(x, 6))) - 1)
    coefficients = np.polyfit(x, y, order)
    off = y - np.polyval(coefficients, x)
    free = ~held
    return PowerLaw(
        tuple(coefficients.tolist()),
        float(np.mean(power_w[held] / limit_w[held])),
        float(np.mean(power_w[free])) if np.any(free) else float("inf"),
        float(np.mean(throughput[free])) if np.any(free) else float("inf"),
        float(np.sqrt(np.sum(off**2) / max(len(x) - order - 1, 1))),
        float(np.min(limit_w)),
        float(np.max(limit_w)),
    )
