"""Runs as exposures: which count, when the machine is another one, and the chance of a failure that follows."""

import functools
import math
from typing import Any

import msgspec
import numpy as np
import pytest

from niente.core.analysis.evidence import Evidence, RunSummary
from niente.core.analysis.stability import (
    Stability,
    changed_since,
    clean_depth_mv,
    depth_and_family,
    exposures_in,
    risk_at,
    risk_by_exposure,
    stability_of,
)
from niente.core.model.failure_goal import FailureGoal
from niente.core.model.limits import Limits
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.model.runs import RunOutcome
from niente.core.model.setting import Setting
from niente.core.science.settling import not_yet
from niente.core.selection.proof import proof_of
from niente.core.selection.proof_words import loads_sentence
from tests.core.planning.plans import card_of

DAY = FailureGoal()


@functools.cache
def card() -> RigCard:
    return card_of("larkspur")


def ran(offset_mv: float, seconds: float, failed: bool = False, **changed: Any) -> RunSummary:
    """One run of the heaviest load at an offset."""
    setting = Setting(voltage_offset_mv=offset_mv).over(card().stock)
    usual = RunSummary(
        run_id=1, plan_id=1, step=0, setting=setting, load="vector", load_kind=LoadKind.HEAVY,
        outcome=RunOutcome.FAILED if failed else RunOutcome.DONE, seconds=seconds, settled=not_yet(""), room_c=22.0,
        power_w=120.0, clock_mhz=4500.0, throughput_per_s=1.0, noise_dba=30.0, noise_se_db=0.1, fan_rpm={},
        limiter_shares={}, failures=int(failed), core_c=75.0,
    )  # fmt: skip
    return msgspec.structs.replace(usual, **changed)


def evidence(*runs: RunSummary) -> Evidence:
    numbered = [msgspec.structs.replace(run, run_id=number, at_s=1000.0 * number) for number, run in enumerate(runs, 1)]
    return Evidence(card(), tuple(numbered))


def stability_in(known: Evidence, setting: Setting) -> Stability:
    return stability_of(exposures_in(known.runs, known.card), setting)


def test_what_a_guard_or_a_person_ended_is_clean_as_far_as_it_went() -> None:
    runs = [ran(-40.0, 300.0, outcome=outcome) for outcome in (RunOutcome.GUARD, RunOutcome.SKIPPED, RunOutcome.STOPPED)]
    found = exposures_in(evidence(*runs).runs, card())
    assert [(one.seen.failed, one.seen.seconds) for one in found] == [(False, 300.0)] * 3
    unknown = [ran(-40.0, 300.0, outcome=outcome) for outcome in (RunOutcome.VOIDED, RunOutcome.INTERRUPTED)]
    assert exposures_in(evidence(*unknown).runs, card()) == ()  # nobody knows what the machine did in them


def test_a_load_that_checks_nothing_shows_no_clean_time_but_its_crashes() -> None:
    unchecked = msgspec.structs.replace(
        card(), loads=tuple(msgspec.structs.replace(load, checks_results=False) for load in card().loads)
    )
    runs = evidence(ran(-40.0, 3000.0), ran(-80.0, 20.0, True, crashed=True)).runs
    assert [one.seen.failed for one in exposures_in(runs, unchecked)] == [True]


def test_one_pass_of_two_is_a_failure() -> None:
    """P26: one pass out of two or three is a failure (common practice, no source)."""
    passed = stability_in(evidence(ran(-90.0, 5.0, True), ran(-60.0, 600.0)), card().stock)
    again = stability_in(evidence(ran(-90.0, 5.0, True), ran(-60.0, 600.0), ran(-60.0, 200.0, True)), card().stock)

    def deepest(one: Any) -> float:
        return float(one.laws["vector"].deepest_mv(0.01, 0.99, 86400.0, 4500.0, 75.0))

    assert deepest(again) < deepest(passed) - 5.0


def test_work_that_falls_short_of_the_clock_is_a_failure() -> None:
    """P26: a run in which a load slows is a failure as much as a crash is (common practice, no source)."""

    def failed(deep_work: float, clock_mhz: float = 4500.0, seconds: float = 600.0) -> bool:
        deep = ran(-70.0, seconds, throughput_per_s=deep_work, throughput_se=0.001, clock_mhz=clock_mhz)
        runs = evidence(ran(0.0, 600.0, throughput_per_s=10.0, throughput_se=0.001), deep).runs
        return exposures_in(runs, card())[-1].seen.failed

    assert failed(9.6)
    assert not failed(9.8)
    assert not failed(9.6, seconds=60.0)  # a burst
    assert not failed(9.2, clock_mhz=4000.0)  # another clock promises another work
    assert failed(9.4, clock_mhz=4450.0)


def test_an_idle_run_and_one_that_is_open_are_no_exposures() -> None:
    runs = evidence(ran(-40.0, 300.0, load_kind=LoadKind.IDLE), ran(-40.0, 300.0, outcome=None)).runs
    assert exposures_in(runs, card()) == ()


def test_depths_and_families() -> None:
    stock = card().stock
    depth, plain = depth_and_family(Setting(voltage_offset_mv=-45.0).over(stock))
    assert depth == 45.0
    assert depth_and_family(stock) == (0.0, plain)
    assert depth_and_family(Setting(core_offset_mv={"3": -20.0}).over(stock))[1] != plain
    low, fixed = depth_and_family(Setting(fixed_voltage_v=1.05, fixed_clock_mhz=4200.0).over(stock))
    assert low == pytest.approx(150.0)
    assert depth_and_family(Setting(fixed_voltage_v=1.0, fixed_clock_mhz=4200.0).over(stock))[1] == fixed
    assert depth_and_family(Setting(fixed_voltage_v=1.0, fixed_clock_mhz=4300.0).over(stock))[1] != fixed


def test_a_machine_that_fails_gentler_than_it_passed_is_another_one_now() -> None:
    before = [ran(-100.0, 1800.0), ran(-110.0, 900.0), ran(-120.0, 10.0, True)]
    after = [ran(-40.0, 3.0, True), ran(-40.0, 4.0, True)]
    every = exposures_in(evidence(*before, *after).runs, card())
    assert changed_since(every) == 3
    assert changed_since(exposures_in(evidence(*before).runs, card())) == 0
    told = stability_in(evidence(*before, *after), card().stock)
    assert (len(told.exposures), len(told.forgotten)) == (2, 3)


def test_bad_luck_near_the_threshold_is_no_change() -> None:
    runs = [ran(-80.0, 600.0), ran(-85.0, 300.0), ran(-90.0, 20.0, True), ran(-78.0, 250.0, True), ran(-80.0, 600.0)]
    assert changed_since(exposures_in(evidence(*runs).runs, card())) == 0


def test_deeper_more_clock_and_hotter_are_riskier() -> None:
    runs = [ran(-90.0, 10.0, True), ran(-80.0, 120.0, True), ran(-70.0, 900.0), ran(-85.0, 40.0, True), ran(-75.0, 400.0, True)]
    laws = stability_in(evidence(*runs), card().stock).laws

    def most(depth: float, clock: float, core: float) -> float:
        risk = risk_at(laws, DAY, np.array([depth]), {"vector": np.array([clock])}, {"vector": np.array([core])})
        assert risk.load == ("vector",)
        return float(risk.at_most[0])

    assert most(0.0, 4500.0, 75.0) < most(20.0, 4500.0, 75.0) < most(40.0, 4500.0, 75.0)
    assert most(20.0, 4000.0, 75.0) < most(20.0, 4500.0, 75.0) <= most(20.0, 4500.0, 88.0)


def test_without_a_failure_there_is_the_rule_of_three_and_no_law() -> None:
    """24 h clean: at most -ln 0.01 / 24 h at 99 % (exact Poisson; rule of three at 95 %), which is near to sure in a day."""
    told = stability_in(evidence(ran(0.0, 43200.0), ran(0.0, 43200.0)), card().stock)
    assert told.laws == {}
    risk = risk_by_exposure(told, DAY, np.array([0.0, 10.0]), np.array([4500.0, 4500.0]))
    assert risk.at_most[0] == pytest.approx(1.0 - math.exp(-4.60517), abs=1e-4)
    assert risk.at_most[1] == 1.0  # deeper than anything that was run
    clean_days = stability_in(evidence(ran(0.0, 86400.0 * 459)), card().stock)  # ln 0.01 / ln 0.99 = 458.2 days
    assert risk_by_exposure(clean_days, DAY, np.array([0.0]), np.array([4500.0])).at_most[0] <= 0.01


def test_where_nothing_failed_clean_exposures_say_how_deep_is_still_safe() -> None:
    """Deeper and longer clean exposures let settings go deeper, but never as deep as they were: a day is not ten minutes."""

    def depth(*runs: RunSummary) -> float:
        return clean_depth_mv(stability_in(evidence(*runs), card().stock), DAY, 87.0)

    assert depth(ran(0.0, 3600.0), ran(0.0, 3600.0)) == 0.0  # nothing was deeper than the rest
    shallow, deep = [ran(0.0, 600.0), ran(-60.0, 600.0)], [ran(0.0, 600.0), ran(-60.0, 600.0), ran(-120.0, 600.0)]
    assert 0.0 <= depth(*shallow) < depth(*deep) < 120.0
    assert depth(*deep) <= depth(*deep, ran(-120.0, 7200.0)) < 120.0
    assert depth(*deep, ran(-120.0, 600.0, core_c=math.nan)) < 120.0


def test_a_thinned_law_says_what_the_whole_one_says() -> None:
    runs = [ran(-90.0, 10.0, True), ran(-80.0, 120.0, True), ran(-70.0, 900.0)]
    laws = stability_in(evidence(*runs), card().stock).laws["vector"]
    whole, few = (one.deepest_mv(0.01, 0.95, 86400.0, 4500.0, 75.0) for one in (laws, laws.thinned(1000)))
    assert few == pytest.approx(whole, abs=4.0)


def test_a_load_that_no_search_went_deeper_with_has_no_law_and_stops_no_proof() -> None:
    """A baseline beside a search: a few minutes of work on one core at stock say nothing of it at an offset, and must neither
    pass for safe nor make every setting unsafe."""
    searched = [ran(0.0, 600.0), ran(-40.0, 3600.0), ran(-60.0, 600.0), ran(-80.0, 30.0, True), ran(-90.0, 4.0, True)]
    one_core = ran(0.0, 300.0, load="single", load_kind=LoadKind.LIGHT, clock_mhz=4800.0, core_c=45.0)
    alone, beside = (evidence(*runs) for runs in (searched, [*searched, one_core]))
    assert set(stability_in(beside, card().stock).laws) == {"vector"}
    setting = Setting(voltage_offset_mv=-5.0)
    proofs = [proof_of(known, Limits(), setting) for known in (alone, beside)]
    assert proofs[1].at_most == proofs[0].at_most
    assert proofs[1].load == "vector"
    (left,) = (load for load in proofs[1].loads if load.load == "single")
    assert math.isnan(left.at_most)
    assert "run no deeper" in loads_sentence(proofs[1])
    deeper = evidence(*searched, one_core, ran(-60.0, 60.0, load="single", load_kind=LoadKind.LIGHT, clock_mhz=4800.0))
    assert set(stability_in(deeper, card().stock).laws) == {"vector", "single"}  # it was searched: it counts
