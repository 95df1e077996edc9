"""The structured search of parts: how deep each core goes, all of them looked at together.

All parts go down in coarse steps with short exposures to the first failure. Then every part is put where it is expected to fail
as often as the others, and the machine fails now in a minute and now in a quarter of an hour: each failure tells the threshold
of the part that it names, and the two ends tell the shape that all share. Nothing is remembered: it is asked anew with all
exposures that were made.
"""

import math
from collections.abc import Sequence

import msgspec
import numpy as np

from niente.core.model.failure_goal import FailureGoal
from niente.core.planning.depth_search import COARSE_MV, COARSE_S, LONGEST, MIN_EXPOSURE_S, DepthRange
from niente.core.science.remembered import Remembered
from niente.core.science.stability.drawn_laws import PartLaws, rate_for
from niente.core.science.stability.parts import PartExposure, known_parts, part_laws
from niente.core.science.stability.shapes import beforehand

MEAN_TIMES_S = (60.0, 240.0, 900.0)
"""The mean times to a failure of any part; in turn, so that a restless spell does not fall on one of them alone."""
CLOSE_SCALES = 6.0
"""A search is over where no part's recommended depth lies further from its likely one, in scales of the law."""
REACH_MV, STOOD_S = 8.0, 15.0
"""No part goes deeper than so far beyond where it stood for so long: one that has not failed yet may fail hard."""
REMEMBERED = 16


class PartGoal(msgspec.Struct, frozen=True):
    """What a search of parts is for: how rarely the machine may fail, where each part may go, and over how many parts and
    loads."""

    goal: FailureGoal
    within: DepthRange
    parts: int
    loads: int


class MadePartExposure(msgspec.Struct, frozen=True):
    """An exposure that was made under a load, by the load's index; ``here`` says that it was made for this search."""

    load: int
    seen: PartExposure
    here: bool = True


class WantedPartExposure(msgspec.Struct, frozen=True):
    """The exposure that comes next: under which load (its index), how deep each part stands in mV, at most how long in s."""

    load: int
    depths_mv: tuple[float, ...]
    seconds: float


class PartAnswer(msgspec.Struct, frozen=True):
    """What exposures come to for each part ``(p,)``: the deepest depth in mV that keeps the goal under every load and the
    likely one; the likely scale in mV, and the load (its index) that decides most parts."""

    depths_mv: tuple[float, ...]
    likely_mv: tuple[float, ...]
    scale_mv: float
    load: int

    def within(self, scales: float) -> bool:
        """Return whether no recommended depth lies further than so many scales from the likely one."""
        return all(
            likely - depth <= scales * self.scale_mv for depth, likely in zip(self.depths_mv, self.likely_mv, strict=True)
        )


def laws_of_parts(parts: int, loads: int, made: Sequence[MadePartExposure]) -> tuple[PartLaws, ...]:
    """Return what all exposures say of the parts under each load; depths are told for the temperature of the first."""
    key = (parts, loads, tuple(made))
    found = _LAWS.get(key)
    if found is not None:
        return found
    shapes = beforehand(core_c=made[0].seen.core_c if made else math.nan)
    known = [known_parts([one.seen for one in made if one.load == load], parts, shapes) for load in range(loads)]
    return _LAWS.put(key, part_laws(known, np.zeros(parts), shapes))


_LAWS: Remembered[tuple[int, int, tuple[MadePartExposure, ...]], tuple[PartLaws, ...]] = Remembered(2)


def part_answer(of: PartGoal, made: tuple[MadePartExposure, ...]) -> PartAnswer:
    """Return the depth that is recommended for each part. The parts share the chance of a failure evenly: each is held to its
    share as surely as the goal asks, so the sum of them is too."""
    return _ANSWERS.get((of, made)) or _ANSWERS.put((of, made), _worked_out(of, made))


_ANSWERS: Remembered[tuple[PartGoal, tuple[MadePartExposure, ...]], PartAnswer] = Remembered(REMEMBERED)


def parts_are_known(of: PartGoal, made: tuple[MadePartExposure, ...]) -> bool:
    """Return whether the answer for these exposures was worked out here before: it takes a moment for each of them."""
    return not made or _ANSWERS.get((of, made)) is not None


def _worked_out(of: PartGoal, made: tuple[MadePartExposure, ...]) -> PartAnswer:
    share = rate_for(of.goal.chance, of.goal.horizon_s) / of.parts
    every = laws_of_parts(of.parts, of.loads, made)
    depths, likely, deciding = [], [], [0] * of.loads
    for part in range(of.parts):
        each = [laws.of_part(part) for laws in every]
        there = [laws.depths_mv(share, core_c=of.within.hottest_c) for laws in each]
        least = [laws.at_least(values, of.goal.sure) for laws, values in zip(each, there, strict=True)]
        load = min(range(of.loads), key=lambda index: least[index])
        deciding[load] += 1
        depths.append(least[load])
        likely.append(each[load].quantile(there[load], 0.5))
    load = max(range(of.loads), key=lambda index: deciding[index])
    return PartAnswer(tuple(depths), tuple(likely), every[0].quantile(every[0].shapes.scale_mv, 0.5), load)


def next_part_exposure(of: PartGoal, made: tuple[MadePartExposure, ...], left_s: float) -> WantedPartExposure | None:
    """Return the exposure that comes next; ``None`` where all depths are known closely, or ``left_s`` is used up. ``made`` are
    all exposures so far, oldest first."""
    if left_s < MIN_EXPOSURE_S:
        return None
    coarse = _coarse(of, made)
    if coarse is not None:
        return coarse
    answer = part_answer(of, made)
    if answer.within(CLOSE_SCALES):
        return None
    mean_s, core_c = MEAN_TIMES_S[sum(one.here for one in made) % len(MEAN_TIMES_S)], made[-1].seen.core_c
    laws = laws_of_parts(of.parts, of.loads, made)[answer.load]
    reaching, reach = _reaching(of.parts, made), max(REACH_MV, of.within.step_mv)
    depths: list[float] = []
    for part in range(of.parts):
        one = laws.of_part(part)
        likely = one.quantile(one.depths_mv(1.0 / (mean_s * of.parts), core_c=core_c), 0.5)
        furthest = _stood(part, of.within, made) + (reach if part in reaching else 0.0)
        depths.append(of.within.on_step(min(likely, furthest)))
    seconds = min(float(math.ceil(mean_s * LONGEST)), left_s)
    return WantedPartExposure(answer.load, tuple(depths), max(seconds, MIN_EXPOSURE_S))


def is_coarse_for_parts(of: PartGoal, made: Sequence[MadePartExposure]) -> bool:
    """Return whether all parts still go down together in coarse steps, for which nothing has to be worked out."""
    return _coarse(of, made) is not None


def _coarse(of: PartGoal, made: Sequence[MadePartExposure]) -> WantedPartExposure | None:
    """Return the next coarse step of all parts, every load at each depth; ``None`` where something has failed, or the deepest
    has passed."""
    here = [one for one in made if one.here]
    if any(one.seen.failed for one in here):
        return None
    within = of.within
    passed = [
        max((min(one.seen.depths_mv) for one in here if one.load == load), default=within.start_mv) for load in range(of.loads)
    ]
    load = min(range(of.loads), key=lambda index: passed[index])
    if passed[load] >= within.deepest_mv - 1e-6:
        return None
    return WantedPartExposure(load, (within.on_step(passed[load] + max(COARSE_MV, within.step_mv)),) * of.parts, COARSE_S)


def _stood(part: int, within: DepthRange, made: Sequence[MadePartExposure]) -> float:
    """Return the deepest depth at which a part stood for a while."""
    stood = [
        one.seen.depths_mv[part]
        for one in made
        if one.seen.seconds >= STOOD_S and not (one.seen.failed and one.seen.part in (part, None))
    ]
    return max(stood, default=within.start_mv)


def _reaching(parts: int, made: Sequence[MadePartExposure]) -> set[int]:
    """Return the parts that may go beyond where they stood: all, and half as many after each failure that nothing named: what
    takes the machine down is found without many crashes."""
    halvings = 0
    for one in made:
        halvings = halvings + 1 if one.seen.failed and one.seen.part is None else max(halvings - 1, 0)
    count = max(math.ceil(parts / 2**halvings), 1)
    return {(len(made) * count + index) % parts for index in range(count)}
