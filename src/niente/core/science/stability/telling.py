"""Which exposure tells most of a depth that is wanted, for the time that it costs."""

import math
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from niente.core.science.arrays import Vector
from niente.core.science.stability.clusters import relaxed, told_of
from niente.core.science.stability.drawn_laws import Laws

NEVER_PER_S = 1e-12
"""A rate under which nothing fails within any time that is run."""


class ExposureOffer(NamedTuple):
    """One exposure that could be made: how deep, and at most how long."""

    depth_mv: float
    seconds: float


class ExposureCost(NamedTuple):
    """What an exposure costs in seconds: ``setting_s`` whatever comes of it, and ``failing_s`` where it fails (the chance of
    a crash times what a crash is held to cost) at each depth offered."""

    setting_s: float
    failing_s: dict[float, float]


def most_telling(
    known: Laws,
    rate_per_s: float,
    offers: Sequence[ExposureOffer],
    cost: ExposureCost,
    clock_mhz: float = math.nan,
    core_c: float = math.nan,
) -> ExposureOffer:
    """Return the exposure that takes most off the variance of the depth where the rate is ``rate_per_s``, for a second of cost.

    An exposure that fails within the time or does not is a draw with two outcomes: the variance falls by the variance of the
    two means that would then be held (law of total variance; textbook). Laws that hold the machine to be in a restless spell
    foresee more failures than their mean rate: a second look within one spell tells little. Raises ``ValueError`` where nothing
    is offered.
    """
    if not offers:
        raise ValueError("no exposure is offered")
    wanted = known.depths_mv(rate_per_s, clock_mhz, core_c)
    wanted = wanted - float(np.sum(known.weight * wanted))
    gains = []
    calm = relaxed(known.calm, cost.setting_s)
    rates: dict[float, Vector] = {}
    for offer in offers:
        if offer.depth_mv not in rates:
            rates[offer.depth_mv] = np.maximum(np.exp(known.log_rate(offer.depth_mv, clock_mhz, core_c)), NEVER_PER_S)
        rate = rates[offer.depth_mv]
        lasts = np.exp(told_of(rate, known.shapes.swing, calm, offer.seconds, False).log_likelihood)
        gains.append(_gain(wanted, known.weight, rate, lasts, offer, cost))
    return offers[int(np.argmax(gains))]


def _gain(wanted: Vector, weight: Vector, rate: Vector, lasts: Vector, offer: ExposureOffer, cost: ExposureCost) -> float:
    clean = float(np.sum(weight * lasts))
    failing = 1.0 - clean
    if min(clean, failing) < 1e-6:
        return 0.0
    mean = float(np.sum(weight * lasts * wanted))  # of what is clean; the other outcome's is the opposite
    told = mean * mean / clean + mean * mean / failing
    seconds = float(np.sum(weight * (1.0 - lasts) / rate))  # an exposure ends at its failure
    return told / (cost.setting_s + seconds + failing * cost.failing_s.get(offer.depth_mv, 0.0))
