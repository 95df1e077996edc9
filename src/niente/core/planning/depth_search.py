"""The structured search: which exposure tells most of how deep a control may go, and when that is known well enough.

Coarse steps with short exposures to the first failure; then exposures at the depths that the posterior chooses, from those
that fail in seconds to those that last some hundreds; over when what would be recommended is known closely, or the time is
used up. Nothing is remembered: it is asked anew with all exposures that were made.
"""

import math
from collections.abc import Sequence
from functools import lru_cache

import msgspec

from niente.core.model.failure_goal import FailureGoal
from niente.core.science.remembered import Remembered
from niente.core.science.stability.drawn_laws import Laws, rate_for
from niente.core.science.stability.posterior import SeenExposure, laws_from
from niente.core.science.stability.telling import ExposureCost, ExposureOffer, most_telling

COARSE_MV, COARSE_S = 20.0, 40.0
SETTING_S = 10.0
"""What changing a setting takes, with the load off and on again."""
CRASH_S = 1200.0
"""What a crash is held to cost: the minutes of its restart, and what a person would give to have had none."""
MEAN_TIMES_S = (20.0, 50.0, 120.0, 300.0, 600.0, 1200.0)
"""The mean times to a failure at the depths that are offered."""
LONGEST = 1.5
"""For how many mean times an exposure goes on."""
MAX_EXPOSURE_S, MIN_EXPOSURE_S = 1200.0, 10.0
LIKE_FAILURES, LIKE_CRASHES = 3.0, 0.3
"""What is believed of crashes among failures before any was seen: as if there had been 0.3 in 3."""
NEAR_MV = 12.0
CRASHES_SHUN, ENOUGH_FAILURES, ALIKE_MV = 3, 10, 3.0
REMEMBERED = 64
CLOSE_SCALES = 2.0
"""A search is over where the recommended depth lies no further from the likely one, in scales of the law."""


class MadeExposure(msgspec.Struct, frozen=True):
    """An exposure that was made under a load, by the load's index; ``crashed`` says that its failure took the machine down,
    ``here`` that it was made for this search, at its own setting."""

    load: int
    seen: SeenExposure
    crashed: bool = False
    here: bool = True


class WantedExposure(msgspec.Struct, frozen=True):
    """The exposure that comes next: under which load (its index), how deep in mV, and at most how long in s."""

    load: int
    depth_mv: float
    seconds: float


class DepthAnswer(msgspec.Struct, frozen=True):
    """What exposures come to: the deepest depth that keeps the goal under every load, the load that decides it (its index), the
    likely depth and the likely scale there, in mV."""

    depth_mv: float
    load: int
    likely_mv: float
    scale_mv: float

    def within(self, scales: float) -> bool:
        """Return whether the recommended depth lies no further than so many scales from the likely one."""
        return self.likely_mv - self.depth_mv <= scales * self.scale_mv


class DepthRange(msgspec.Struct, frozen=True):
    """Where a search may go: depths from ``start_mv`` (the gentle end) to ``deepest_mv`` in steps of the control. What is found
    has to hold at ``hottest_c``, the hottest core that the plan allows."""

    start_mv: float
    deepest_mv: float
    step_mv: float
    hottest_c: float = math.nan

    def on_step(self, depth_mv: float) -> float:
        """Return the nearest depth that the control takes."""
        steps = round((min(max(depth_mv, self.start_mv), self.deepest_mv) - self.start_mv) / self.step_mv)
        return min(round(self.start_mv + steps * self.step_mv, 6), self.deepest_mv)

    def no_deeper(self, depth_mv: float) -> float:
        """Return the deepest depth that the control takes and that is no deeper; the start, where none is."""
        steps = math.floor((min(depth_mv, self.deepest_mv) - self.start_mv) / self.step_mv + 1e-9)
        return round(self.start_mv + max(steps, 0) * self.step_mv, 6)


def laws_of(loads: int, made: Sequence[MadeExposure]) -> tuple[Laws, ...]:
    """Return what all exposures say of each load, by the load's index."""
    return laws_from([[one.seen for one in made if one.load == load] for load in range(loads)])


def is_known(goal: FailureGoal, within: DepthRange, loads: int, made: tuple[MadeExposure, ...]) -> bool:
    """Return whether the answer for these exposures was worked out here before: it takes a moment for each of them."""
    return _ANSWERS.get((goal, within, loads, made)) is not None


def is_coarse(within: DepthRange, loads: int, made: Sequence[MadeExposure]) -> bool:
    """Return whether a search still goes down in coarse steps, for which nothing has to be worked out."""
    here = [one for one in made if one.here]
    return not any(one.seen.failed for one in here) and _coarse(within, loads, here) is not None


def answer_of(goal: FailureGoal, within: DepthRange, loads: int, made: tuple[MadeExposure, ...]) -> DepthAnswer:
    """Return the depth that is recommended, which is the posterior's own quantile: where the search runs, at the hottest."""
    key = (goal, within, loads, made)
    return _ANSWERS.get(key) or _ANSWERS.put(key, _worked_out(goal, within, loads, made))


_ANSWERS: Remembered[tuple[FailureGoal, DepthRange, int, tuple[MadeExposure, ...]], DepthAnswer] = Remembered(REMEMBERED)


def _worked_out(goal: FailureGoal, within: DepthRange, loads: int, made: tuple[MadeExposure, ...]) -> DepthAnswer:
    clock = _clock_of(made)
    every = laws_of(loads, made)
    depths = [laws.deepest_mv(goal.chance, goal.sure, goal.horizon_s, clock, within.hottest_c) for laws in every]
    load = min(range(loads), key=lambda index: depths[index])
    laws = every[load]
    likely = laws.quantile(laws.depths_mv(rate_for(goal.chance, goal.horizon_s), clock, within.hottest_c), 0.5)
    return DepthAnswer(depths[load], load, likely, laws.quantile(laws.shapes.scale_mv, 0.5))


@lru_cache(maxsize=REMEMBERED)
def next_exposure(
    goal: FailureGoal,
    within: DepthRange,
    loads: int,
    made: tuple[MadeExposure, ...],
    left_s: float,
    close: float = CLOSE_SCALES,
) -> WantedExposure | None:
    """Return the exposure that comes next; ``None`` where the depth is known within ``close`` scales, or ``left_s`` is used up.

    ``made`` are all exposures so far, oldest first, those at other settings among them.
    """
    if left_s < MIN_EXPOSURE_S:
        return None
    here = [one for one in made if one.here]
    if not any(one.seen.failed for one in here) and (coarse := _coarse(within, loads, here)) is not None:
        return coarse
    answer = answer_of(goal, within, loads, made)
    if answer.within(close):
        return None
    laws, seen = laws_of(loads, made)[answer.load], _conditions(here)
    furthest = max(one.seen.depth_mv for one in here) + max(COARSE_MV, within.step_mv)
    offers = _worth_making(_offers(laws, within, seen, left_s, furthest), here)
    crashes = {offer.depth_mv: _crash_share(offer.depth_mv, here) * CRASH_S for offer in offers}
    best = most_telling(laws, rate_for(goal.chance, goal.horizon_s), offers, ExposureCost(SETTING_S, crashes), *seen)
    return WantedExposure(answer.load, best.depth_mv, best.seconds)


def _coarse(within: DepthRange, loads: int, here: Sequence[MadeExposure]) -> WantedExposure | None:
    """Return the next coarse step down, every load at each depth; ``None`` where the deepest one has passed."""
    deepest = [max((one.seen.depth_mv for one in here if one.load == load), default=-math.inf) for load in range(loads)]
    load = min(range(loads), key=lambda index: deepest[index])
    if deepest[load] >= within.deepest_mv - 1e-6:
        return None
    level = deepest[load]
    if level == -math.inf:  # at the maker's voltage it was found to run
        level = within.start_mv if within.start_mv == 0.0 else within.start_mv - max(COARSE_MV, within.step_mv)
    depth = level + max(COARSE_MV, within.step_mv)
    return WantedExposure(load, within.on_step(depth), COARSE_S)


def _conditions(here: Sequence[MadeExposure]) -> tuple[float, float]:
    """Return the clock in MHz and the core temperature that the search's exposures run at: those of the longest one."""
    longest = max(here, key=lambda one: one.seen.seconds).seen
    return longest.clock_mhz, longest.core_c


def _clock_of(made: Sequence[MadeExposure]) -> float:
    here = [one for one in made if one.here] or made
    return _conditions(here)[0] if here else math.nan


def _offers(
    laws: Laws, within: DepthRange, seen: tuple[float, float], left_s: float, furthest_mv: float
) -> list[ExposureOffer]:
    """Return exposures at depths that fail within seconds to some hundreds of them, as far as is known, and none beyond
    ``furthest_mv``: a load that has not failed yet may do so anywhere. Of those that the control brings to one depth, the
    longest."""
    offers: dict[float, ExposureOffer] = {}
    for mean_s in MEAN_TIMES_S:
        depth = within.on_step(min(laws.quantile(laws.depths_mv(1.0 / mean_s, *seen), 0.5), furthest_mv))
        seconds = min(float(math.ceil(mean_s * LONGEST)), MAX_EXPOSURE_S, max(left_s, MIN_EXPOSURE_S))
        offers[depth] = ExposureOffer(depth, max(seconds, MIN_EXPOSURE_S))
    return list(offers.values())


def _worth_making(offers: list[ExposureOffer], here: Sequence[MadeExposure]) -> list[ExposureOffer]:
    """Return the offers without those as deep as where the machine went down before, more than once, and without those where
    failures enough were seen: the next tells little more of a rate. Where nothing is left, the gentlest."""
    crashes = sorted(one.seen.depth_mv for one in here if one.crashed)
    dear = crashes[CRASHES_SHUN - 1] if len(crashes) >= CRASHES_SHUN else math.inf
    failures = [one.seen.depth_mv for one in here if one.seen.failed]
    left = [
        offer
        for offer in offers
        if offer.depth_mv < dear and sum(abs(depth - offer.depth_mv) < ALIKE_MV for depth in failures) < ENOUGH_FAILURES
    ]
    return left or [min(offers)]


def _crash_share(depth_mv: float, here: Sequence[MadeExposure]) -> float:
    """Return how likely a failure at a depth takes the machine down, by the failures nearby."""
    near = [one for one in here if one.seen.failed and abs(one.seen.depth_mv - depth_mv) <= NEAR_MV]
    return (sum(one.crashed for one in near) + LIKE_CRASHES) / (len(near) + LIKE_FAILURES)
