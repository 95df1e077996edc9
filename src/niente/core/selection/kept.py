"""How surely settings keep the limits of a choice: each limit by itself, and all of them together."""

from enum import StrEnum
from typing import NamedTuple

import msgspec
import numpy as np

from niente.core.analysis.judged import JudgedSettings
from niente.core.model.project import Limits
from niente.core.science.arrays import Mask, Vector
from niente.core.science.statistics import Z95

LEAST_SD = 1e-9
"""A figure that is exactly known still lies on one side of its limit."""


class Limit(StrEnum):
    """The limits of a choice."""

    THROUGHPUT = "throughput"
    HEADROOM = "headroom"
    RESULTS = "results"
    NOISE = "noise"
    FAILURES = "failures"


class Figures(NamedTuple):
    """What limits are set to, as it is known of settings ``(n,)``, with 95 % half widths."""

    throughput_percent: Vector
    throughput_hw: Vector
    headroom_k: Vector
    headroom_hw: Vector
    heard_dba: Vector
    heard_hw: Vector


class Bound(NamedTuple):
    """A figure ``(n,)`` with its half width, and the least that it may be."""

    value: Vector
    half_width: Vector
    least: float


def bounds(figures: Figures, limits: Limits) -> dict[Limit, Bound]:
    """Return the figures that have limits, each so that more is better."""
    found = {
        Limit.THROUGHPUT: Bound(figures.throughput_percent, figures.throughput_hw, limits.min_throughput_percent),
        Limit.HEADROOM: Bound(figures.headroom_k, figures.headroom_hw, limits.min_headroom_k),
    }
    if limits.max_noise_dba is not None:
        found[Limit.NOISE] = Bound(-figures.heard_dba, figures.heard_hw, -limits.max_noise_dba)
    return found


def misses(judged: JudgedSettings, limits: Limits) -> dict[Limit, Vector]:
    """Return for each limit the probability that settings break it ``(n,)``, by what is known of them.

    A wrong result at a setting breaks ``RESULTS`` for certain, and so does one that was seen at no deeper an offset and no
    higher a clock. ``FAILURES`` asks that a failure within the horizon is as unlikely as wanted; it excludes nothing before
    failures have taught a law, nor what the maker gives where nothing speaks against it: 298 clean days would have to be run.
    """
    predicted = judged.predicted
    figures = Figures(
        predicted.throughput_percent,
        predicted.throughput_hw,
        predicted.headroom_k,
        predicted.core_hw,
        judged.heard_dba,
        judged.heard_hw,
    )
    by_exposure = (not judged.by_law) | (judged.makers & (judged.against == 0))
    return {
        Limit.NOISE: np.zeros(judged.settings.count),
        **{limit: short_of(*bound) for limit, bound in bounds(figures, limits).items()},
        Limit.RESULTS: ((judged.failures > 0) | (judged.against > 0)).astype(float),
        Limit.FAILURES: np.where(by_exposure, 0.0, 1.0 - np.nan_to_num(judged.lasts)),
    }


def short_of(value: Vector, half_width: Vector, least: float) -> Vector:
    """Return the probability that figures with their 95 % half widths lie under a limit, ``(n,)``: normal, as the intervals
    are; 1 where a figure is not known."""
    from scipy.special import ndtr

    scaled = (least - value) / np.maximum(half_width / Z95, LEAST_SD)
    probability: Vector = np.where(np.isfinite(scaled), ndtr(np.nan_to_num(scaled)), 1.0)
    return probability


def keeps(judged: JudgedSettings, limits: Limits) -> dict[Limit, Mask]:
    """Return for each limit which settings keep it, arrays ``(n,)``: all of those that are kept hold together as surely as the
    limits ask.

    The probability of breaking any is at most the sum of those of breaking each, however they depend on each other (Boole's
    inequality; textbook). Where only that sum is too high, the limit that it mostly comes from counts as broken.
    """
    found = misses(judged, limits)
    allowed = doubt(limits)
    kept = {limit: missed <= allowed for limit, missed in found.items()}
    each = np.logical_and.reduce(list(kept.values()))
    doubtful = each & (np.sum(list(found.values()), axis=0) > allowed)
    if doubtful.any():
        worst = np.argmax(list(found.values()), axis=0)
        kept = {limit: mask & ~(doubtful & (worst == index)) for index, (limit, mask) in enumerate(kept.items())}
    return kept


def keeps_without(judged: JudgedSettings, limits: Limits, limit: Limit) -> Mask:
    """Return which settings keep all limits but one, together ``(n,)``."""
    found = misses(judged, limits)
    rest = np.sum([missed for name, missed in found.items() if name != limit], axis=0)
    kept: Mask = rest <= doubt(limits)
    return kept


def at_even_odds(limits: Limits) -> Limits:
    """Return limits that are kept as soon as that is no less likely than not: where a pick may lie once more is known."""
    return msgspec.structs.replace(limits, failure=msgspec.structs.replace(limits.failure, sure=0.5))


def surely(limits: Limits) -> float:
    """Return how many 95 % half widths from a limit a figure lies where its share of the doubt is what all limits alike may
    leave: what surely keeps each keeps all together."""
    from scipy.special import ndtri

    width: float = ndtri(1.0 - doubt(limits) / len(Limit)) / Z95
    return width


def doubt(limits: Limits) -> float:
    """Return the probability of breaking a limit that a pick may leave."""
    return 1.0 - limits.failure.sure + 1e-12


UNITS = {
    Limit.THROUGHPUT: ("min_throughput_percent", -1.0),
    Limit.HEADROOM: ("min_headroom_k", -1.0),
    Limit.NOISE: ("max_noise_dba", 1.0),
}
"""The limits that may be loosened by a unit, and which way that is: a per cent, a kelvin, a decibel."""


def loosened(limits: Limits) -> dict[Limit, Limits]:
    """Return for each limit in force that has a unit the limits with that one loosened by it."""
    found = {}
    for limit, (name, unit) in UNITS.items():
        value = getattr(limits, name)
        if value is not None:
            found[limit] = msgspec.structs.replace(limits, **{name: value + unit})
    return found
