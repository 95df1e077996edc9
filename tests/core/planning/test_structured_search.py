"""A structured search against a book: what was made for it counts, it goes on where it stood, and late failures move it."""

import math
from typing import Any

import msgspec
import numpy as np

from niente.core.analysis.evidence import Evidence, RunSummary
from niente.core.model.failure_goal import FailureGoal
from niente.core.model.plan import Exposure, Plan, Search, SearchMethod, Step
from niente.core.model.runs import RunOutcome
from niente.core.model.setting import Setting
from niente.core.planning.progress import RunStatus, plan_rows
from niente.core.planning.structured_search import safe_value, stand_of, takes_long
from tests.core.analysis.test_stability import card, ran

THRESHOLD_MV, SCALE_MV = 95.0, 4.0
DEEPEST_MV = THRESHOLD_MV + SCALE_MV * math.log(1.163e-7 / 2e-3)


def entry(**changed: Any) -> Search:
    usual = Search(
        name="undervolt", controls=("voltage_offset_mv",), start=0.0, deepest=-150.0, coarse=20.0, fine=5.0, margin=10.0,
        setting=Setting(), loads=("vector",), exposure=Exposure(600.0, 600.0), method=SearchMethod.STRUCTURED,
        stage="undervolt", hottest_c=75.0,
    )  # fmt: skip
    return msgspec.structs.replace(usual, **changed)


def plan(one: Search) -> Plan:
    step = Step(Setting(), "vector", Exposure(300.0, 300.0), takes="undervolt")
    return Plan("niente-plan/2", "larkspur", "undervolt-ladder", (one, step), ())


def book(one: Search, *runs: RunSummary) -> Evidence:
    numbered = tuple(
        msgspec.structs.replace(run, run_id=number, at_s=1500.0 * number, opened_at=1500.0 * number)
        for number, run in enumerate(runs, 1)
    )
    return Evidence(card(), numbered, plans={1: plan(one)})


def answered(one: Search, seed: int = 1, most: int = 200) -> list[RunSummary]:
    """Run a search as the bench does: it forgets everything between two exposures."""
    rng = np.random.default_rng(seed)
    runs: list[RunSummary] = []
    for _ in range(most):
        stand = stand_of(one, card(), book(one, *runs))
        if stand.found is not None:
            return runs
        step = stand.ahead[0]
        offset = step.setting.voltage_offset_mv or 0.0
        rate = 2e-3 * math.exp(min((-offset - THRESHOLD_MV) / SCALE_MV, 6.0))
        comes = float(rng.exponential(1.0 / rate))
        seconds = min(comes, step.exposure.min_s)
        runs.append(ran(offset, max(seconds, 1.0), failed=comes < step.exposure.min_s))
    raise AssertionError("it never ends")


def test_it_finds_what_lasts_within_its_time() -> None:
    one = entry()
    runs = answered(one)
    found = stand_of(one, card(), book(one, *runs)).found
    assert found is not None
    assert -DEEPEST_MV <= found["voltage_offset_mv"] <= 0.0
    assert found["voltage_offset_mv"] % 5.0 == 0.0
    assert sum(run.seconds + 30.0 for run in runs) <= 5400.0 + 1250.0
    assert any(run.failures for run in runs)


def test_rows_are_the_exposures_made_and_those_ahead() -> None:
    one = entry()
    runs = answered(one)
    begun = plan_rows(plan(one), card(), book(one, *runs[:3]))
    assert [row.status for row in begun[:4]] == [RunStatus.DONE] * 3 + [RunStatus.AHEAD]
    assert begun[-1].waits  # what it finds is not known yet
    over = plan_rows(plan(one), card(), book(one, *runs))
    assert len(over) == len(runs) + 1
    found = stand_of(one, card(), book(one, *runs)).found
    assert found is not None
    assert over[-1].step.setting.voltage_offset_mv == found["voltage_offset_mv"]


def test_clean_runs_after_it_change_nothing_and_a_failure_makes_it_gentler() -> None:
    one = entry()
    runs = answered(one)
    found = stand_of(one, card(), book(one, *runs)).found
    assert found is not None
    offset = found["voltage_offset_mv"]
    clean = [ran(offset, 3000.0, step=1) for _ in range(4)]
    assert stand_of(one, card(), book(one, *runs, *clean)).found == found
    late = ran(-60.0, 100.0, failed=True, step=1)
    moved = stand_of(one, card(), book(one, *runs, *clean, late)).found
    assert moved is not None
    assert moved["voltage_offset_mv"] > offset


def test_a_search_that_guards_end_gives_up() -> None:
    one = entry()
    hot = [ran(-20.0, 30.0, outcome=RunOutcome.GUARD) for _ in range(3)]
    stand = stand_of(one, card(), book(one, *hot))
    assert stand.found is not None
    assert stand.found["voltage_offset_mv"] <= 0.0


def test_hotter_places_are_given_more_room() -> None:
    cool = answered(entry())
    found = [stand_of(entry(hottest_c=hot, fine=1.0), card(), book(entry(), *cool)).found for hot in (75.0, 95.0)]
    assert found[0] is not None
    assert found[1] is not None
    assert found[1]["voltage_offset_mv"] > found[0]["voltage_offset_mv"]


def test_a_ladder_hands_out_no_more_than_the_law_recommends() -> None:
    """P25: -30, -20, -15 failed and -10 passed, -12 was chosen (common practice, no source): the failures say how deep."""
    runs = [ran(mv, t, True) for mv, t in ((-30.0, 10.0), (-20.0, 300.0), (-15.0, 900.0))] + [ran(-10.0, 3600.0)]
    one = entry(method=SearchMethod.LADDER, coarse=10.0, deepest=-30.0, margin=0.0, exposure=Exposure(3600.0, 3600.0))
    value = safe_value(one, card(), book(one, *runs))
    assert value is not None
    assert value > -10.0
    rows = plan_rows(plan(one), card(), book(one, *runs))
    assert rows[-1].step.setting.voltage_offset_mv == value  # the last pass, without a margin, would be -10 mV


def test_what_takes_long_is_known_before_it_is_asked_for() -> None:
    """A window asks for it elsewhere then, and goes on painting."""
    one = entry(goal=FailureGoal(chance=0.02))  # no other test has asked this
    failed = book(one, ran(-20.0, 40.0), ran(-40.0, 3.0, True))
    assert not takes_long(one, card(), None)
    assert not takes_long(one, card(), book(one, ran(-20.0, 40.0)))  # nothing has failed: no law to be learnt
    assert takes_long(one, card(), failed)
    stand_of(one, card(), failed)
    assert not takes_long(one, card(), failed)
    later = book(one, ran(-20.0, 40.0), ran(-40.0, 3.0, True), ran(-10.0, 30.0, True, step=1))
    assert takes_long(one, card(), later)  # it failed again, after the search
