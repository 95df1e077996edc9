"""What limits come to: watts a watt, clocks of their own, and what a temperature cap reads; what was not seen is not known."""

import math

import msgspec
import pytest

from niente.core.analysis.evidence import Evidence, RunSummary
from niente.core.analysis.limits_learnt import CapReading, cap_reading, clock_ceilings, power_gains, requested_clock
from niente.core.analysis.models import fit_models
from niente.core.analysis.point_prediction import predict_point
from niente.core.model.setting import Setting
from tests.core.analysis.making import evidence_of

HELD = "sustained limit"
LOADS = ("vector",)


@pytest.fixture(scope="module")
def run(evidence: Evidence) -> RunSummary:
    return next(run for run in evidence.runs if run.load == "vector" and run.power_limited and not run.failures)


def at(run: RunSummary, watts: float, limit: float, mhz: float, cap: float = 4800.0, limiter: str = HELD) -> RunSummary:
    setting = msgspec.structs.replace(run.setting, sustained_power_w=limit, clock_cap_mhz=cap)
    return msgspec.structs.replace(
        run, setting=setting, power_w=watts, clock_mhz=mhz, core_c=60.0, limiter_shares={limiter: 1.0}, load="vector"
    )


def test_a_meters_gain_is_learnt_from_runs_that_a_limit_held(run: RunSummary) -> None:
    runs = [at(run, 1.04 * limit, limit, mhz) for limit, mhz in ((80.0, 3700.0), (100.0, 4000.0), (120.0, 4300.0))]
    gain = power_gains(runs, LOADS)["vector"]
    assert gain.value == pytest.approx(1.04)
    assert gain.seen
    assert gain.error < 0.002


def test_a_run_just_under_its_limit_was_not_held_by_it(run: RunSummary) -> None:
    """At 97 % of its limit, where the others read 100 %: something else held the clock, and its ratio is no gain."""
    runs = [at(run, limit, limit, mhz) for limit, mhz in ((80.0, 3700.0), (100.0, 4000.0), (110.0, 4200.0))]
    runs.append(at(run, 0.97 * 130.0, 130.0, 4300.0))
    assert power_gains(runs, LOADS)["vector"].value == pytest.approx(1.0)
    ceiling = clock_ceilings(runs, power_gains(runs, LOADS))["vector"]
    assert ceiling.nameless_mhz == pytest.approx(4300.0)


def test_one_run_just_under_its_limit_makes_no_load_that_rests(run: RunSummary) -> None:
    """The readings call it held for nine tenths of its time, as they do of a load that rests in between; but the limit held
    this load throughout in other runs, with more watts a watt of limit."""
    runs = [at(run, 1.05 * limit, limit, mhz) for limit, mhz in ((80.0, 3700.0), (100.0, 4000.0), (110.0, 4200.0))]
    near = at(run, 0.94 * 140.0, 140.0, 4450.0)
    runs.append(msgspec.structs.replace(near, limiter_shares={HELD: 0.9, "cannot be told": 0.1}))
    assert power_gains(runs, LOADS)["vector"].value == pytest.approx(1.05)


@pytest.mark.parametrize(("core_c", "counts"), [(88.0, True), (89.2, False)])
def test_near_its_temperature_cap_heat_may_have_had_a_part(run: RunSummary, core_c: float, counts: bool) -> None:
    """Within 1.5 K of the cap of 90 °C a run says nothing of a power limit's gain."""
    runs = [at(run, 1.04 * limit, limit, mhz) for limit, mhz in ((80.0, 3700.0), (100.0, 4000.0), (120.0, 4300.0))]
    hot = [msgspec.structs.replace(one, core_c=core_c) for one in runs]
    assert power_gains(hot, LOADS)["vector"].seen is counts


def test_a_meter_far_off_is_found_out_where_watts_go_with_their_limits(run: RunSummary) -> None:
    runs = [at(run, 0.88 * limit, limit, mhz, limiter="cannot be told") for limit, mhz in ((80.0, 3700.0), (120.0, 4300.0))]
    gain = power_gains(runs, LOADS)["vector"]
    assert gain.seen
    assert gain.value == pytest.approx(0.88)
    alone = power_gains(runs[:1], LOADS)["vector"]
    assert not alone.seen
    assert alone.error > 0.01


def test_a_clock_below_its_cap_is_a_clock_of_its_own(run: RunSummary) -> None:
    """4 440 MHz under a cap of 4 800 with nothing in the way: at a cap of 4 300 that cap may hold, or 92.5 % of it."""
    runs = [at(run, 90.0, 160.0, 4440.0, limiter="cannot be told") for _ in range(3)]
    ceiling = clock_ceilings(runs, power_gains(runs, LOADS))["vector"]
    clock, error, shown = ceiling.at(4300.0)
    assert clock == pytest.approx(4300.0)
    assert not shown
    assert clock * (1 - 1.96 * error) == pytest.approx(0.925 * 4300.0, rel=0.002)  # no wider than to what else it may be
    same, error, shown = ceiling.at(4800.0)
    assert same == pytest.approx(4440.0)
    assert shown
    assert error < 0.01


def test_a_cap_that_held_holds_and_others_are_not_known(run: RunSummary) -> None:
    runs = [at(run, 70.0, 160.0, cap, cap, "clock cap") for cap in (4000.0, 4400.0)]
    ceiling = clock_ceilings(runs, power_gains(runs, LOADS))["vector"]
    assert ceiling.at(4200.0)[0] == pytest.approx(4200.0)
    assert ceiling.at(4200.0)[2]
    assert not ceiling.at(4800.0)[2]
    assert not ceiling.at(3000.0)[2]


def test_what_all_cores_may_take_together_is_the_cap_of_a_load_on_all() -> None:
    setting = Setting(clock_cap_mhz=4500.0, active_clock_mhz={"2": 4500.0, "32": 4200.0})
    assert requested_clock(setting) == 4200.0
    assert requested_clock(Setting(fixed_clock_mhz=3800.0, clock_cap_mhz=4500.0)) == 3800.0
    assert requested_clock(Setting()) == math.inf


def test_a_cap_reads_what_it_read(run: RunSummary) -> None:
    """A board whose sensor stands 0.8 K over the one that its firmware goes by (P13 in kind; common practice, no source)."""
    held = [
        msgspec.structs.replace(at(run, 90.0, 160.0, 4000.0, limiter="temperature cap"), core_c=90.0 + over)
        for over in (0.7, 0.8, 0.9)
    ]
    found = cap_reading([msgspec.structs.replace(one, setting=one.setting.replaced("temperature_cap_c", 90.0)) for one in held])
    assert found.over_k == pytest.approx(0.8)
    assert found.error_k < CapReading().error_k
    assert cap_reading([]) == CapReading()


@pytest.fixture(scope="module")
def one_duty() -> Evidence:
    """What an undervolt ladder leaves: both fan groups at one duty, the power limit at stock, offsets that differ."""
    settings = [Setting(voltage_offset_mv=mv) for mv in (0.0, -20.0, -40.0)]
    return evidence_of("larkspur", settings, "vector", 12.0)


def test_duties_that_were_never_run_are_outside_and_their_intervals_say_so(one_duty: Evidence) -> None:
    models = fit_models(one_duty)
    there = predict_point(models, Setting(voltage_offset_mv=-20.0), "vector", 23.0)
    assert there.inside
    said = predict_point(models, Setting(fan_duty={"case": 0.0}), "vector", 28.0)
    assert not said.inside
    assert any("case fans were not run at such a duty: only 75" in words for words in said.outside)
    for figure, least in ((said.in_room_dba, 4.0), (said.headroom_k, 0.5)):
        assert figure.value is None or figure.half_width >= least  # type: ignore[operator]
    quieter = predict_point(models, Setting(fan_duty={"case": 30.0}), "vector", 28.0)
    assert not quieter.inside
    heard = quieter.in_room_dba
    assert heard.value is None or heard.half_width > 2.0  # type: ignore[operator]


def test_a_clock_cap_that_was_never_seen_to_hold_is_outside(one_duty: Evidence) -> None:
    models = fit_models(one_duty)
    said = predict_point(models, Setting(clock_cap_mhz=3800.0), "vector", 23.0)
    assert not said.inside
    assert any("shows what limits the clock" in words for words in said.outside)


def test_a_figure_that_would_say_nothing_is_not_given(one_duty: Evidence) -> None:
    models = fit_models(one_duty)
    said = predict_point(models, Setting(fan_duty={"case": 0.0, "cooler": 0.0}), "vector", 28.0)
    for figure, most in ((said.core_c, 30.0), (said.in_room_dba, 15.0), (said.throughput_percent, 60.0)):
        assert figure.value is None or figure.half_width <= most  # type: ignore[operator]
        assert figure.value is not None or figure.reason
