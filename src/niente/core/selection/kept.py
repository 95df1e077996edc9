"""How surely settings keep the limits of a choice: each limit by itself, and all of them together."""

from enum import StrEnum
from typing import NamedTuple

import msgspec
import numpy as np

from niente.core.analysis.beside import KnownFigure
from niente.core.analysis.judged import JudgedSettings
from niente.core.analysis.limit_figures import LimitFigures, LoadFigures
from niente.core.model.limits import Ceiling, Limits, LoadLimits
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
    COOLANT = "coolant"
    BOARD = "board"
    GRAPHICS = "graphics"
    WALL = "wall"
    FANS = "fans"
    LOADS = "loads"


CEILING_OF = {
    Limit.COOLANT: Ceiling.COOLANT,
    Limit.BOARD: Ceiling.BOARD,
    Limit.GRAPHICS: Ceiling.GRAPHICS,
    Limit.WALL: Ceiling.WALL,
}
"""The quantity that each limit on a further reading is about."""


class Bound(NamedTuple):
    """A figure ``(n,)`` with its half width, and the least that it may be."""

    value: Vector
    half_width: Vector
    least: float


def in_force(limits: Limits) -> tuple[Limit, ...]:
    """Return the limits that are set."""
    is_set = {
        Limit.NOISE: limits.max_noise_dba is not None or limits.max_over_background_db is not None,
        Limit.FANS: limits.fans_turn,
        Limit.LOADS: bool(limits.each_load),
        **{limit: quantity in limits.ceilings for limit, quantity in CEILING_OF.items()},
    }
    return tuple(limit for limit in Limit if is_set.get(limit, True))


def bounds(figures: LimitFigures, limits: Limits) -> dict[Limit, tuple[Bound, ...]]:
    """Return the figures that have limits, by limit, each so that more is better. A limit that settings were not judged for is
    passed over: they are being judged anew."""
    found: dict[Limit, tuple[Bound, ...]] = {
        Limit.THROUGHPUT: (Bound(*figures.throughput_percent, limits.min_throughput_percent),),
        Limit.HEADROOM: (Bound(*figures.headroom_k, limits.min_headroom_k),),
    }
    noise = []
    if limits.max_noise_dba is not None:
        noise.append(_at_most(figures.heard_dba, limits.max_noise_dba))
    if limits.max_over_background_db is not None:
        noise.append(_at_most(figures.over_background_db, limits.max_over_background_db))
    if noise:
        found[Limit.NOISE] = tuple(noise)
    for limit, quantity in CEILING_OF.items():
        if quantity in limits.ceilings and quantity in figures.ceilings:
            found[limit] = (_at_most(figures.ceilings[quantity], limits.ceilings[quantity]),)
    known = [(figures.each_load[load], wanted) for load, wanted in limits.each_load.items() if load in figures.each_load]
    each = [bound for own, wanted in known for bound in _of_load(own, wanted)]
    if each:
        found[Limit.LOADS] = tuple(each)
    return found


def _at_most(known: KnownFigure, most: float) -> Bound:
    return Bound(-known.value, known.half_width, -most)


def _of_load(figures: LoadFigures, wanted: LoadLimits) -> list[Bound]:
    found = []
    if wanted.min_throughput_percent is not None:
        found.append(Bound(*figures.throughput_percent, wanted.min_throughput_percent))
    if wanted.min_headroom_k is not None:
        found.append(Bound(*figures.headroom_k, wanted.min_headroom_k))
    return found


def missed_by_figures(figures: LimitFigures, limits: Limits) -> dict[Limit, Vector]:
    """Return for each limit on a figure the probability that settings break it ``(n,)``; of several figures the sum."""
    found = {}
    for limit, each in bounds(figures, limits).items():
        found[limit] = np.minimum(np.sum([short_of(*bound) for bound in each], axis=0), 1.0)
    if limits.fans_turn:
        found[Limit.FANS] = figures.stands.astype(float)
    return found


def misses(judged: JudgedSettings, limits: Limits) -> dict[Limit, Vector]:
    """Return for each limit in force the probability that settings break it ``(n,)``, by what is known of them.

    A wrong result at a setting breaks ``RESULTS`` for certain, and so does one that was seen at no deeper an offset and no
    higher a clock. ``FAILURES`` asks that a failure within the horizon is as unlikely as wanted; it excludes nothing before
    failures have taught a law, nor what the maker gives where nothing speaks against it: 298 clean days would have to be run.
    """
    by_exposure = (not judged.by_law) | (judged.makers & (judged.against == 0))
    found = {
        **missed_by_figures(judged.figures, limits),
        Limit.RESULTS: ((judged.failures > 0) | (judged.against > 0)).astype(float),
        Limit.FAILURES: np.where(by_exposure, 0.0, 1.0 - np.nan_to_num(judged.lasts)),
    }
    return {limit: found[limit] for limit in Limit if limit in found}


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


def doubt(limits: Limits) -> float:
    """Return the probability of breaking a limit that a pick may leave."""
    return 1.0 - limits.failure.sure + 1e-12


UNITS = {
    Limit.THROUGHPUT: "min_throughput_percent",
    Limit.HEADROOM: "min_headroom_k",
    Limit.NOISE: "max_noise_dba",
}
"""The limits of a name of their own that may be loosened by a unit: a per cent, a kelvin, a decibel."""


def loosened(limits: Limits, by: float = 1.0) -> dict[Limit, Limits]:
    """Return for each limit in force that has a unit the limits with that one loosened by so many of it."""
    found = {}
    for limit, name in UNITS.items():
        value = getattr(limits, name)
        if value is not None:
            wider = value + by if limit == Limit.NOISE else value - by
            found[limit] = msgspec.structs.replace(limits, **{name: wider})
    for limit, quantity in CEILING_OF.items():
        if quantity in limits.ceilings:
            found[limit] = limits.with_ceiling(quantity, limits.ceilings[quantity] + by)
    return found
