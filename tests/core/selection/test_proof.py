"""The proof of a setting: its figures follow from the exposures, and what it names to be run next does what it says."""

import math
from typing import Any

import msgspec
import pytest

from niente.core.model.limits import Limits
from niente.core.model.setting import Setting
from niente.core.selection.proof import Proof, proof_of
from niente.core.selection.proof_words import headline, loads_sentence, more_sentence, rests_on, short_headline, state_text
from tests.core.analysis.test_stability import evidence, ran

RUNS = (
    ran(0.0, 1200.0),
    ran(-100.0, 4.0, True, crashed=True, failed_cores=("7",)),
    ran(-90.0, 30.0, True, failed_cores=("7",)),
    ran(-80.0, 240.0, True, failed_cores=("3",)),
    ran(-75.0, 900.0),
    ran(-85.0, 70.0, True, failed_cores=("7",)),
    ran(-90.0, 15.0, True),
    ran(-80.0, 700.0, True),
    ran(-20.0, 3600.0),
)


def proof(*runs: Any, offset_mv: float = -20.0, **named: Any) -> Proof:
    return proof_of(evidence(*(runs or RUNS)), named.pop("limits", Limits()), Setting(voltage_offset_mv=offset_mv), **named)


def test_the_guard_band_is_what_lies_between_and_the_bound_follows() -> None:
    shallow, deep = proof(offset_mv=-20.0), proof(offset_mv=-50.0)
    assert shallow.by_law
    assert shallow.guard_band_mv.value == pytest.approx(shallow.threshold_mv.value - 20.0)
    assert deep.guard_band_mv.value == pytest.approx(shallow.guard_band_mv.value - 30.0)
    assert shallow.at_most < deep.at_most
    assert shallow.expected <= shallow.at_most
    assert 60.0 < shallow.threshold_mv.value < 85.0  # -80 mV failed after 240 and 700 s, -75 mV lasted 900 s
    longer = proof(
        limits=msgspec.structs.replace(Limits(), failure=msgspec.structs.replace(Limits().failure, horizon_s=30 * 86400.0))
    )
    assert shallow.at_most < longer.at_most <= 1.0


def test_what_it_names_to_run_next_halves_the_bound() -> None:
    """Each offer, added to the book as it says, leaves at most what it foretold, by about a tenth."""
    now = proof()
    assert now.more
    assert list(now.more) == sorted(now.more, key=lambda one: one.hours)
    for more in now.more:
        assert more.at_most <= 0.5 * now.at_most * 1.001
        assert more.step.exposure.min_s == pytest.approx(3600.0 * more.hours)
        then = proof(*RUNS, ran(-more.depth_mv, 3600.0 * more.hours))
        assert then.at_most == pytest.approx(more.at_most, rel=0.35)
        assert then.at_most < 0.75 * now.at_most


def test_what_has_not_run_is_not_proven_however_unlikely_it_is_to_fail() -> None:
    """At -5 mV nothing ran: the bound is carried there, and it is not confirmed. Twenty clean minutes confirm it."""
    goal = msgspec.structs.replace(Limits().failure, chance=0.9)
    limits = msgspec.structs.replace(Limits(), failure=goal)
    never = proof(offset_mv=-5.0, limits=limits)
    assert never.at_most <= goal.chance
    assert (never.confirmed, never.proven, state_text(never)) == (False, False, "not confirmed yet")
    ran_there = proof(*RUNS, ran(-5.0, 1200.0), offset_mv=-5.0, limits=limits)
    assert (ran_there.confirmed, ran_there.proven, state_text(ran_there)) == (True, True, "proven")
    failed = proof(*RUNS, ran(-5.0, 1200.0), ran(-5.0, 1200.0, True), offset_mv=-5.0, limits=limits)
    assert not failed.confirmed


def test_cores_are_named_the_weakest_first() -> None:
    """Core 7 failed three times and core 3 once, though gentler by 5 mV; of the others nobody knows where they fail."""
    cores = proof().cores
    assert [(one.core, one.failures, one.gentlest_mv) for one in cores[:2]] == [("7", 3, 85.0), ("3", 1, 80.0)]
    assert all(one.failures == 0 and math.isnan(one.gentlest_mv) for one in cores[2:])
    assert all(one.threshold_mv.low < one.threshold_mv.value < one.threshold_mv.high for one in cores)
    widths = {one.core: one.threshold_mv.high - one.threshold_mv.low for one in cores}
    assert widths["7"] < widths["3"] < widths["1"]


def test_loads_carry_their_failures_and_crashes() -> None:
    (vector,) = proof().loads
    assert (vector.failures, vector.crashes) == (6, 1)
    assert vector.seconds == pytest.approx(sum(run.seconds for run in RUNS))
    assert vector.there_s == pytest.approx(900.0 + 3600.0)


def test_the_makers_voltage_is_said_and_how_little_clean_time_says() -> None:
    clean = proof(ran(0.0, 1200.0), offset_mv=0.0)
    assert clean.makers
    assert not clean.by_law
    assert not clean.proven
    assert clean.at_most > 0.99
    assert "before something has failed" in rests_on(clean)
    assert "maker's voltage" in headline(clean)


def test_old_evidence_ages() -> None:
    fresh = proof(now_s=30.0 * 86400.0)
    old = proof(now_s=400.0 * 86400.0)
    assert not fresh.aged
    assert "13 months" in old.aged
    assert not old.proven
    assert sum(month.runs for month in old.months) == len(RUNS)


def test_a_changed_machine_forgets_and_says_so() -> None:
    changed = proof(*RUNS, ran(-10.0, 2.0, True), ran(-10.0, 3.0, True))
    assert changed.forgotten == len(RUNS)
    assert changed.at_most > 0.9


def test_nothing_run_is_nothing_known() -> None:
    nothing = proof_of(evidence(ran(0.0, 100.0, outcome=None)), Limits(), Setting())
    assert short_headline(nothing) == "Nothing was run yet"
    assert "nothing is known" in headline(nothing)
    assert loads_sentence(nothing) == "No load was run."
    assert nothing.curves is None


def test_words_carry_units_and_intervals() -> None:
    now = proof()
    assert "% likely (99\u00a0% sure)" in headline(now)
    assert all("without a failure, then at most" in more_sentence(now, one) for one in now.more)
    assert math.isfinite(now.tenfold_mv.value)
    assert "leans on the rate" in rests_on(now)
