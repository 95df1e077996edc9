"""Where nothing keeps every limit: which of them stand against each other, and the smallest change that opens a setting."""

import math
from itertools import combinations

import msgspec
import numpy as np

from niente.core.analysis.judged import JudgedSettings
from niente.core.model.limits import Limits
from niente.core.model.quantities import duration_text, number_text, quantity_of
from niente.core.science.arrays import Mask, Vector
from niente.core.science.statistics import Z95
from niente.core.selection.kept import CEILING_OF, Bound, Limit, bounds, doubt, keeps, loosened, misses

A_STEP = {Limit.WALL: 5.0}
"""What weighs as much as a per cent, a kelvin or a decibel of the other limits; a judgement."""
ROUND = 10.0
"""Changes are told to a tenth of a unit, away from what is wanted."""
MOST_TOGETHER, HALVINGS = 64.0, 12
AT_LEAST = (Limit.THROUGHPUT, Limit.HEADROOM, Limit.LOADS)
"""Limits on the least of a figure; the others are on the most, and stand with the other sign among bounds."""


class LimitOpening(msgspec.Struct, frozen=True):
    """One limit by itself that would open a setting: what it would have to be, and by how much that is looser."""

    limit: Limit
    value: float
    by: float

    @property
    def steps(self) -> float:
        """How great the change is beside those of other limits."""
        return self.by / A_STEP.get(self.limit, 1.0)


def openings(judged: JudgedSettings, limits: Limits) -> tuple[LimitOpening, ...]:
    """Return the limits that open a setting if they alone are changed, the smallest change first."""
    missed, found = misses(judged, limits), []
    every = np.sum(list(missed.values()), axis=0)
    for limit, some in bounds(judged.figures, limits).items():
        left = doubt(limits) - (every - missed[limit])
        if len(some) > 1 or not (left > 0.0).any():
            continue
        bound = some[0]
        most = float(np.max(_kept_at(bound, left)))
        if math.isfinite(most) and most < bound.least:
            value = math.floor(ROUND * most) / ROUND
            found.append(LimitOpening(limit, value if limit in AT_LEAST else -value, bound.least - value))
    return tuple(sorted(found, key=lambda one: one.steps))


def _kept_at(bound: Bound, left: Vector) -> Vector:
    """Return the least that a figure ``(n,)`` surely comes to, where its limit may be broken with a probability ``(n,)``."""
    from scipy.special import ndtri

    known = (left > 0.0) & np.isfinite(bound.value) & np.isfinite(bound.half_width)
    wide = -ndtri(np.clip(np.where(known, left, 0.5), 1e-12, 1.0 - 1e-12))
    surely: Vector = np.where(known, bound.value - wide * bound.half_width / Z95, -np.inf)
    return surely


def opens_together(judged: JudgedSettings, limits: Limits) -> float | None:
    """Return by how many units every limit that has one must be looser for a setting to keep them all; ``None`` where no such
    change helps."""

    def opened(by: float) -> bool:
        looser = limits
        for limit in loosened(limits):
            looser = loosened(looser, by)[limit]
        return bool(np.logical_and.reduce(list(keeps(judged, looser).values())).any())

    if not opened(MOST_TOGETHER):
        return None
    low, high = 0.0, MOST_TOGETHER
    for _ in range(HALVINGS):
        middle = 0.5 * (low + high)
        low, high = (low, middle) if opened(middle) else (middle, high)
    return math.ceil(ROUND * high) / ROUND


def none_fits(judged: JudgedSettings, limits: Limits) -> tuple[str, str]:
    """Say which limits stand in the way where nothing keeps them all, and what to do about it."""
    kept = keeps(judged, limits)
    single = openings(judged, limits)
    apart = _contradicting(kept)
    unread = [limit for limit in kept if _is_unknown(judged, limits, limit)]
    if unread:
        what = limit_words(unread[0], limits)
        return (
            f"No setting keeps every limit: no runs tell whether any keeps {what}.",
            "Run more of the plan, or drop that limit.",
        )
    if apart is not None and not single:
        one, other = (limit_words(limit, limits) for limit in apart)
        what = f"No setting keeps every limit: {one} and {other} contradict each other"
    elif single:
        what = f"No setting keeps every limit: {_best_words(single[0], limits)}, where the other limits are kept"
    else:
        what = f"No setting keeps every limit: {_hardest(judged, kept, limits)}"
    return f"{what}.", remedy(judged, limits, single)


def remedy(judged: JudgedSettings, limits: Limits, single: tuple[LimitOpening, ...]) -> str:
    """Say the smallest change that opens a setting, and the others."""
    if single:
        first, *rest = (opening_words(one, limits) for one in single[:3])
        others = f"; or {', or '.join(rest)}" if rest else ""
        return f"The smallest change that opens one: {first}{others}."
    together = opens_together(judged, limits)
    if together is not None:
        return f"No single limit opens one; all of them looser by {number_text(together, 1)} (%, K, dB) do."
    return "Relax that limit, or measure further out."


def opening_words(opening: LimitOpening, limits: Limits) -> str:
    """Return a limit as it would have to be, in words: ``headroom of 5.2 K``."""
    told = number_text(opening.value, 1)
    if opening.limit in CEILING_OF:
        quantity = quantity_of(CEILING_OF[opening.limit])
        return f"{quantity.title.lower()} of {told} {quantity.unit}"
    return {
        Limit.THROUGHPUT: f"throughput of {told} % of stock",
        Limit.HEADROOM: f"headroom of {told} K",
        Limit.NOISE: f"noise of {told} {_noise_unit(limits)}",
        Limit.LOADS: f"{told} for the single load",
    }[opening.limit]


def _noise_unit(limits: Limits) -> str:
    return "dBA" if limits.max_noise_dba is not None else "dB over the background"


def _best_words(opening: LimitOpening, limits: Limits) -> str:
    """Say what the most or least is that is sure, of what is wanted."""
    told = number_text(opening.value, 1)
    at_most = "the least {what} that is sure is {told} {unit} of the {most:g} {unit} allowed"
    if opening.limit in CEILING_OF:
        quantity = quantity_of(CEILING_OF[opening.limit])
        most = limits.ceilings[CEILING_OF[opening.limit]]
        return at_most.format(what=quantity.title.lower(), told=told, unit=quantity.unit, most=most)
    if opening.limit == Limit.NOISE:
        most = limits.max_noise_dba if limits.max_noise_dba is not None else limits.max_over_background_db or 0.0
        return at_most.format(what="noise", told=told, unit=_noise_unit(limits), most=most)
    wanted = f"the {limits.min_headroom_k:g} K wanted in a {limits.design_room_c:g} °C room"
    return {
        Limit.THROUGHPUT: f"the most throughput is {told} % of the {limits.min_throughput_percent:g} % wanted",
        Limit.HEADROOM: f"the most headroom that is sure is {told} K of {wanted}",
        Limit.LOADS: f"the most that is sure is {told} of what {' and '.join(limits.each_load)} must keep",
    }[opening.limit]


def _hardest(judged: JudgedSettings, kept: dict[Limit, Mask], limits: Limits) -> str:
    """Say which limit keeps most settings out, where no single change helps."""
    hardest = min(kept, key=lambda limit: int(np.count_nonzero(kept[limit])))
    if hardest == Limit.RESULTS:
        return "every setting gave a wrong result, or lies beyond one that did"
    if hardest == Limit.FAILURES:
        least = 100.0 * float(np.fmin.reduce(judged.risk))
        return (
            f"the least chance of a failure in {duration_text(limits.failure.horizon_s)} that is sure is "
            f"{number_text(least, 1)} % of the {100.0 * limits.failure.chance:g} % allowed"
        )
    return f"nothing keeps {limit_words(hardest, limits)}"


def _is_unknown(judged: JudgedSettings, limits: Limits, limit: Limit) -> bool:
    some = bounds(judged.figures, limits).get(limit, ())
    return any(not np.isfinite(bound.value).any() for bound in some)


def _contradicting(kept: dict[Limit, Mask]) -> tuple[Limit, Limit] | None:
    """Return two limits that settings keep, and none both; ``None`` where there are no such."""
    pairs = combinations((limit for limit, mask in kept.items() if mask.any()), 2)
    return next((pair for pair in pairs if not (kept[pair[0]] & kept[pair[1]]).any()), None)


def limit_words(limit: Limit, limits: Limits) -> str:
    """Return a limit in the middle of a sentence."""
    if limit in CEILING_OF:
        quantity = quantity_of(CEILING_OF[limit])
        return f"{quantity.title.lower()} of at most {limits.ceilings[CEILING_OF[limit]]:g} {quantity.unit}"
    return {
        Limit.THROUGHPUT: f"{limits.min_throughput_percent:g} % of throughput",
        Limit.HEADROOM: f"{limits.min_headroom_k:g} K of headroom in a {limits.design_room_c:g} °C room",
        Limit.NOISE: noise_words(limits),
        Limit.RESULTS: "no wrong result",
        Limit.FAILURES: f"a failure at most {100.0 * limits.failure.chance:g} % likely",
        Limit.FANS: "fans that never stand",
        Limit.LOADS: f"what {' and '.join(limits.each_load)} must keep",
    }[limit]


def noise_words(limits: Limits) -> str:
    """Return the limits on noise in words: ``at most 26 dBA``."""
    parts = []
    if limits.max_noise_dba is not None:
        parts.append(f"at most {limits.max_noise_dba:g} dBA")
    if limits.max_over_background_db is not None:
        parts.append(f"at most {limits.max_over_background_db:g} dB over the background")
    return " and ".join(parts)
