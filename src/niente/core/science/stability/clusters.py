"""Failures that come in clusters: a rate that is now lower and now higher, in turns of minutes, and keeps its mean.

A Poisson process whose rate is switched by a hidden chain of two states (Fischer and Meier-Hellstern, The Markov-modulated
Poisson process cookbook, Performance Evaluation 18, 1993; the equations from memory). Ten failures of one restless spell then
tell less than ten that came alone.
"""

from typing import NamedTuple

import numpy as np

from niente.core.science.arrays import Array

CALM_S, RESTLESS_S = 450.0, 150.0
"""How long a calm and a restless spell last on average; common practice knows only that it is minutes."""
CALM_SHARE = CALM_S / (CALM_S + RESTLESS_S)


class ClusterEvidence(NamedTuple):
    """What an exposure says: the logarithm of its likelihood, and how likely the machine is in its calm spell after it."""

    log_likelihood: Array
    calm: Array


def relaxed(calm: Array, gap_s: float) -> Array:
    """Return how likely the calm spell is after some seconds in which nothing was seen."""
    forgets = 1.0 / CALM_S + 1.0 / RESTLESS_S
    found: Array = CALM_SHARE + (calm - CALM_SHARE) * np.exp(-forgets * gap_s)
    return found


def told_of(
    rate_per_s: Array, swing: Array, calm: Array, seconds: float, failed: bool, others_per_s: float = 0.0
) -> ClusterEvidence:
    """Return what an exposure says that lasted so many seconds and ended with a failure, or without any.

    ``rate_per_s`` is the mean rate; in a restless spell it is exp(2 swing) times that of a calm one. ``calm`` is how likely the
    calm spell is at the start. Shapes broadcast. Of a failure the likelihood is a density in 1/s, of any failure where others
    come ``others_per_s`` often and nothing told them apart.
    """
    leaves, returns = 1.0 / CALM_S, 1.0 / RESTLESS_S
    ratio = np.exp(2.0 * swing)
    slow = rate_per_s / (CALM_SHARE + (1.0 - CALM_SHARE) * ratio)
    fast = slow * ratio
    half = 0.5 * (fast + returns - slow - leaves)
    root = np.sqrt(half * half + leaves * returns)
    growth = root - 0.5 * (fast + returns + slow + leaves)  # of the larger eigenvalue; never positive
    back = np.exp(-2.0 * root * seconds)
    even, odd = 0.5 * (1.0 + back), 0.5 * (1.0 - back) / root
    in_calm = calm * (even + odd * half) + (1.0 - calm) * odd * returns
    in_rush = calm * odd * leaves + (1.0 - calm) * (even - odd * half)
    if failed:
        in_calm, in_rush = in_calm * (slow + others_per_s), in_rush * (fast + others_per_s)
    both = np.maximum(in_calm + in_rush, 1e-300)
    return ClusterEvidence(growth * seconds + np.log(both), in_calm / both)
