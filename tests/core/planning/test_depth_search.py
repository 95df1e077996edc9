"""The structured search on machines whose law is known: safe, gentle before deep, alike for every step of the control."""

import math

import numpy as np
import pytest

from niente.core.model.failure_goal import FailureGoal
from niente.core.planning.depth_search import DepthRange, MadeExposure, WantedExposure, answer_of, next_exposure
from niente.core.science.stability.posterior import SeenExposure

DAY = FailureGoal()
DAY_PER_S = -math.log(0.99) / 86400.0


class Silicon:
    """Loads whose rate is an exponential of the depth; failures far beyond take the machine down."""

    def __init__(self, thresholds_mv: tuple[float, ...], scale_mv: float, seed: int) -> None:
        self.thresholds_mv, self.scale_mv = thresholds_mv, scale_mv
        self._rng = np.random.default_rng(seed)

    def expose(self, wanted: WantedExposure) -> MadeExposure:
        beyond = (wanted.depth_mv - self.thresholds_mv[wanted.load]) / self.scale_mv
        comes = float(self._rng.exponential(1.0 / (2e-3 * math.exp(min(beyond, 6.0)))))
        failed = comes < wanted.seconds
        seen = SeenExposure(wanted.depth_mv, max(min(comes, wanted.seconds), 1.0), failed)
        return MadeExposure(wanted.load, seen, failed and beyond > 8.0)

    def deepest_mv(self) -> float:
        return min(self.thresholds_mv) + self.scale_mv * math.log(DAY_PER_S / 2e-3)


def searched(silicon: Silicon, within: DepthRange, hours: float = 1.5) -> list[MadeExposure]:
    made: list[MadeExposure] = []
    spent = 0.0
    loads = len(silicon.thresholds_mv)
    while (wanted := next_exposure(DAY, within, loads, tuple(made), hours * 3600.0 - spent)) is not None:
        made.append(silicon.expose(wanted))
        spent += made[-1].seen.seconds + 30.0
        assert len(made) < 400
    return made


@pytest.mark.parametrize("mv_a_step", [2.5, 0.5])
def test_steps_of_a_firmware_that_are_taken_for_millivolts_change_no_answer(mv_a_step: float) -> None:
    """A firmware's own steps of 2.5 or of half a millivolt, declared as if each were one: thresholds and scale come out in
    steps, and what is recommended lasts its day all the same. Of four at 99 % each, two too deep would be less likely than
    0.1 % (binomial)."""
    too_deep = 0
    for seed in range(4):
        silicon = Silicon(((110.0 + 5.0 * seed) / mv_a_step,), 5.0 / mv_a_step, seed)
        within = DepthRange(0.0, 380.0, 1.0)
        answer = answer_of(DAY, within, 1, tuple(searched(silicon, within)))
        too_deep += answer.depth_mv > silicon.deepest_mv()
    assert too_deep <= 1


@pytest.mark.parametrize("step_mv", [1.0, 5.0, 6.25, 10.0])
def test_what_is_recommended_lasts_its_day_whatever_the_step(step_mv: float) -> None:
    """Five machines a step; of twenty at 99 % each, two too deep would be less likely than 2 % (binomial)."""
    too_deep = 0
    away: list[float] = []
    for seed in range(5):
        silicon = Silicon((90.0 + 7.0 * seed,), 3.0 + seed, seed)
        within = DepthRange(0.0, 300.0, step_mv)
        made = searched(silicon, within)
        answer = answer_of(DAY, within, 1, tuple(made))
        too_deep += answer.depth_mv > silicon.deepest_mv()
        away.append((silicon.deepest_mv() - answer.depth_mv) / silicon.scale_mv)
        steps = [one.seen.depth_mv / step_mv for one in made]
        assert steps == pytest.approx([round(step) for step in steps])
        assert within.no_deeper(answer.depth_mv) <= max(answer.depth_mv, 0.0)
    assert too_deep <= 1
    assert np.median(away) < 14.0  # scales that are given away


def test_it_goes_down_in_coarse_steps_under_every_load_to_the_first_failure() -> None:
    silicon = Silicon((100.0, 130.0), 4.0, 2)
    made = searched(silicon, DepthRange(0.0, 300.0, 5.0))
    first = next(index for index, one in enumerate(made) if one.seen.failed)
    coarse = made[: first + 1]
    assert [one.seen.depth_mv for one in coarse] == sorted(one.seen.depth_mv for one in coarse)
    assert {one.load for one in coarse[:2]} == {0, 1}  # both at the first depth, before any goes deeper
    assert max(one.seen.seconds for one in coarse) <= 60.0
    deepest_coarse = coarse[-1].seen.depth_mv
    assert max(one.seen.depth_mv for one in made[first + 1 :]) <= deepest_coarse + 20.0  # no deeper for its own sake


def test_it_exposes_at_several_depths_and_not_only_over_the_last_pass() -> None:
    """Exposing only just above the last pass never learns the scale (models.md): three depths at least, over two scales."""
    silicon = Silicon((100.0,), 4.0, 4)
    made = searched(silicon, DepthRange(0.0, 300.0, 1.0))
    first = next(index for index, one in enumerate(made) if one.seen.failed)
    depths = [one.seen.depth_mv for one in made[first + 1 :]]
    assert len({round(depth / 4.0) for depth in depths}) >= 3
    assert max(depths) - min(depths) > 8.0


def test_the_worst_load_decides() -> None:
    silicon = Silicon((140.0, 100.0), 4.0, 6)
    within = DepthRange(0.0, 300.0, 5.0)
    made = searched(silicon, within)
    answer = answer_of(DAY, within, 2, tuple(made))
    assert answer.load == 1
    assert answer.depth_mv < silicon.deepest_mv() + 1e-9


def test_crashes_are_shunned() -> None:
    """Where failures at a depth took the machine down, the next exposures are gentler than where they did not."""
    base = [SeenExposure(d, 40.0, False) for d in (20.0, 40.0, 60.0, 80.0)]
    failed = [SeenExposure(100.0, 3.0, True), SeenExposure(90.0, 30.0, True), SeenExposure(95.0, 9.0, True)]

    def next_depth(crashed: bool) -> float:
        made = [MadeExposure(0, one) for one in base] + [MadeExposure(0, one, crashed) for one in failed]
        wanted = next_exposure(DAY, DepthRange(0.0, 200.0, 1.0), 1, tuple(made), 5000.0)
        assert wanted is not None
        return wanted.depth_mv

    assert next_depth(True) < next_depth(False)


def test_where_nothing_fails_it_stays_within_its_reach() -> None:
    within = DepthRange(0.0, 60.0, 5.0)
    made = searched(Silicon((400.0,), 4.0, 1), within)
    assert not any(one.seen.failed for one in made)
    assert max(one.seen.depth_mv for one in made) == 60.0
    assert 0.0 <= within.no_deeper(answer_of(DAY, within, 1, tuple(made)).depth_mv) <= 60.0
    assert max(one.seen.seconds for one in made) > 1000.0  # time at the deepest tells, short exposures do not


def test_no_time_is_no_exposure() -> None:
    assert next_exposure(DAY, DepthRange(0.0, 100.0, 5.0), 1, (), 0.0) is None


def test_a_load_that_has_not_failed_is_not_leapt_into() -> None:
    """It decides, since nothing bounds it, and where it fails is not known: no deeper than a coarse step beyond what ran."""
    ran = [MadeExposure(0, SeenExposure(20.0, 40.0, False))]
    rungs = ((190.0, 8.0), (184.0, 30.0), (178.0, 110.0), (172.0, 400.0))
    failed = [MadeExposure(1, SeenExposure(depth, seconds, True)) for depth, seconds in rungs * 3]
    made, within = (*ran, *failed), DepthRange(0.0, 400.0, 1.0)
    assert answer_of(DAY, within, 2, made).load == 0
    wanted = next_exposure(DAY, within, 2, made, 3600.0)
    assert wanted is not None
    assert wanted.load == 0
    assert wanted.depth_mv <= 210.0
