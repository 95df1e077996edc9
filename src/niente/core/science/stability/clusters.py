"""Failures that come in clusters: a rate that is now lower and now higher, in turns of minutes, and keeps its mean.

A Poisson process whose rate is switched by a hidden chain of two states (Fischer and Meier-Hellstern, The Markov-modulated
Poisson process cookbook, Performance Evaluation 18, 1993; the equations from memory). Ten failures of one restless spell then
tell less than ten that came alone.
"""

from typing import NamedTuple

import numpy as np

from niente.core.science.arrays import Array

STAYS_S = 300.0
"""How long a spell lasts on average; common practice knows only that it is minutes."""


class ClusterEvidence(NamedTuple):
    """What an exposure says: the logarithm of its likelihood, and how likely the machine is in its calm spell after it."""

    log_likelihood: Array
    calm: Array


def relaxed(calm: Array, gap_s: float) -> Array:
    """Return how likely the calm spell is after some seconds in which nothing was seen."""
    found: Array = 0.5 + (calm - 0.5) * np.exp(-2.0 * gap_s / STAYS_S)
    return found


def told_of(rate_per_s: Array, swing: Array, calm: Array, seconds: float, failed: bool) -> ClusterEvidence:
    """Return what an exposure says that lasted so many seconds and ended with a failure, or without any.

    ``rate_per_s`` is the mean rate; in the two spells it is exp(-swing) and exp(swing) over cosh(swing) times that. ``calm`` is
    how likely the calm spell is at the start. Shapes broadcast. Of a failure the likelihood is a density in 1/s.
    """
    leaves = 1.0 / STAYS_S
    slow, fast = rate_per_s * np.exp(-swing) / np.cosh(swing), rate_per_s * np.exp(swing) / np.cosh(swing)
    half = 0.5 * (fast - slow)
    root = np.sqrt(half * half + leaves * leaves)
    growth = root - leaves - 0.5 * (slow + fast)  # of the larger eigenvalue; never positive
    back = np.exp(-2.0 * root * seconds)
    even, odd = 0.5 * (1.0 + back), 0.5 * (1.0 - back) / root
    in_calm = calm * (even + odd * half) + (1.0 - calm) * odd * leaves
    in_rush = calm * odd * leaves + (1.0 - calm) * (even - odd * half)
    if failed:
        in_calm, in_rush = in_calm * slow, in_rush * fast
    both = np.maximum(in_calm + in_rush, 1e-300)
    return ClusterEvidence(growth * seconds + np.log(both), in_calm / both)
