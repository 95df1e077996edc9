"""Where results go wrong: how far each core stands above the voltage it needs, the rate that follows, and what comes of it."""

import math
from typing import NamedTuple

import numpy as np

from niente.core.rigs.simulated.machine import Processor
from niente.core.science.arrays import Vector
from niente.core.science.compiled import compiled

AT_THRESHOLD_PER_S = 1e-3
"""A core's rate of failures where its margin is gone."""
WARM_C = 60.0
PER_CLOCK_MV, PER_ACTIVITY_MV = 40.0, 22.0
"""What less clock (over its whole range) and less activity leave as margin."""
QUIET, RESTLESS = 0.3, 3.1
"""Failures come in clusters: the rate is now lower and now higher, three to one in time, and keeps its mean."""
LEAVES_QUIET_PER_S, LEAVES_RESTLESS_PER_S = 1.0 / 600.0, 1.0 / 200.0

NOTHING, WRONG_RESULT, DROP_OUT, CRASH, SHUT_DOWN = range(5)
"""What one second brings."""
NAMES_CORE = 16
"""A wrong result says where: so many times the number of its core are added to it, 1 for the first."""


class Silicon(NamedTuple):
    """One sample of silicon: each core's own margin and steepness ``(cores,)``, in mV, and what they share."""

    own_mv: Vector
    scale_mv: Vector
    margin_mv: float
    per_k: float
    stretch: float
    stretch_mv: float
    deadly_mv: float
    top_mhz: float


def silicon_of(processor: Processor, rng: np.random.Generator) -> Silicon:
    """Return one sample of a kind of processor."""
    model = processor.silicon
    return Silicon(
        own_mv=model.spread_mv * rng.standard_normal(processor.cores),
        scale_mv=model.scale_mv * (1.0 + 0.25 * rng.random(processor.cores)),
        margin_mv=model.margin_mv,
        per_k=model.margin_mv_per_k,
        stretch=model.stretch,
        stretch_mv=model.stretch_mv,
        deadly_mv=model.deadly_mv,
        top_mhz=processor.curve_mhz[-2],
    )


@compiled
def margin_left_mv(s: Silicon, core: int, over_stock_mv: float, clock_mhz: float, activity: float, core_c: float) -> float:
    """Return how far a core stands above the voltage it needs, mV; ``over_stock_mv`` is its voltage over the stock curve."""
    slack = PER_CLOCK_MV * (1.0 - clock_mhz / s.top_mhz) + PER_ACTIVITY_MV * (1.0 - activity)
    left: float = s.margin_mv + s.own_mv[core] + over_stock_mv + slack - s.per_k * (core_c - WARM_C)
    return left


@compiled
def failures_per_s(s: Silicon, core: int, margin_mv: float) -> float:
    """Return a core's rate of failures in 1/s at a margin.

    Steeper than an exponential above the threshold, and bent over below it, so that no single exponential fits; the
    machine's rate is the sum over its cores.
    """
    depth = -margin_mv / s.scale_mv[core]
    bent = 1.6 * math.sqrt(depth) if depth > 0.0 else depth * (1.0 - 0.012 * depth)
    rate: float = AT_THRESHOLD_PER_S * math.exp(min(max(bent, -80.0), 9.0))
    return rate


@compiled
def work_lost(s: Silicon, margin_mv: float) -> float:
    """Return the share of its work that a core loses by stretching its clock, close to the least voltage."""
    if margin_mv > 0.0:
        return s.stretch * math.exp(-margin_mv / s.stretch_mv)
    return s.stretch * (1.0 + min(-margin_mv / s.stretch_mv, 2.0))


@compiled
def outcome(deepest_mv: float, deadly_mv: float, checks: bool, deadlines: bool, chance: float) -> int:
    """Return what a failure comes to: the deeper the machine stands under its threshold, the likelier it goes down.

    In a load that neither checks its results nor has deadlines most failures come to nothing that anybody sees.
    """
    down = 0.04 + 0.9 / (1.0 + math.exp(-(deepest_mv - deadly_mv) / (0.2 * deadly_mv)))
    if chance < down:
        return CRASH
    if deadlines:
        return DROP_OUT
    return WRONG_RESULT if checks else NOTHING
