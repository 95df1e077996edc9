"""The failure law: how often a machine fails at a depth, and at which depth it fails so often.

With the threshold x, the depth at which a failure comes about every eight minutes, and the scale s of some millivolts,
u = (depth - x) / s and ln h = ln h0 + u near it. Beyond the threshold the rate may grow more slowly than an exponential
(several failures hide each other), or faster (more cores join in): ln h = ln h0 + ln(1 + e u) / e. On the safe side it may
fall faster than an exponential, as the tails of a timing margin do: ln h = ln h0 + u - b u^2.
"""

import math

import numpy as np

from niente.core.science.arrays import Array

THRESHOLD_PER_S = 2e-3
"""The rate at the threshold; in the middle of the rates that a search can see, so that its two sides are told apart there."""
HIGHEST_PER_S = 1.0
"""No more than one failure in a sample is seen."""
STEEPEST = 12.0
"""The scales beyond the threshold after which the law is not followed any more: nothing is run there."""


def log_rate(scales_beyond: Array, easing: Array, bending: Array) -> Array:
    """Return the natural logarithm of the rate in 1/s, so many scales beyond the threshold (negative: on the safe side).

    ``easing`` is e and may be negative, down to -0.08; ``bending`` is b and is not. Shapes broadcast.
    """
    beyond = np.clip(scales_beyond, 0.0, STEEPEST)
    short = np.minimum(scales_beyond, 0.0)
    bent = np.where(easing == 0.0, beyond, np.log1p(easing * beyond) / np.where(easing == 0.0, 1.0, easing))
    found: Array = np.minimum(math.log(THRESHOLD_PER_S) + bent + short - bending * short * short, math.log(HIGHEST_PER_S))
    return found


def scales_at(rate_per_s: float, easing: Array, bending: Array) -> Array:
    """Return how many scales beyond the threshold the rate is so high: the inverse of ``log_rate``.

    Raises ``ValueError`` for a rate that is not positive.
    """
    if rate_per_s <= 0.0:
        raise ValueError("a rate is positive")
    over = math.log(rate_per_s / THRESHOLD_PER_S)
    if over >= 0.0:
        eased = np.where(easing == 0.0, over, np.expm1(easing * over) / np.where(easing == 0.0, 1.0, easing))
        return np.minimum(eased, STEEPEST) + np.zeros_like(bending)
    root = np.sqrt(1.0 - 4.0 * bending * over)
    bent = np.where(bending == 0.0, over, (1.0 - root) / np.where(bending == 0.0, 1.0, 2.0 * bending))
    found: Array = bent + np.zeros_like(easing)
    return found
