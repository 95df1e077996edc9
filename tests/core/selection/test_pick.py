"""The pick over a whole sweep, held against the machine's own truth, which no fit ever sees."""

import itertools
import math
from collections.abc import Callable

import msgspec
import numpy as np
import pytest

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.grid import SettingGrid, survey_grid
from niente.core.analysis.judged import judge
from niente.core.analysis.models import Models, fit_models
from niente.core.analysis.prediction import predict, stock_throughput
from niente.core.analysis.setting_batch import SettingBatch
from niente.core.model.errors import NotEnoughError
from niente.core.model.limits import Aim, Limits, NoisePlace
from niente.core.model.plan import Confirmation
from niente.core.planning.confirmation import next_of_pick
from niente.core.planning.templates import plan_for
from niente.core.science.arrays import Vector
from niente.core.selection.explanation import (
    candidate_text,
    comparison_text,
    confirmation_text,
    limit_cost_text,
    limit_text,
    pick_reason,
)
from niente.core.selection.kept import Limit, in_force, keeps
from niente.core.selection.pick import candidate_at, choose, front
from niente.core.selection.reach import reachable
from tests.conftest import larkspur_rig
from tests.grids import grid_question


@pytest.fixture(scope="module")
def models(evidence: Evidence) -> Models:
    return fit_models(evidence)


def test_settled_temperatures_agree_with_the_truth(evidence: Evidence) -> None:
    """At least nine of ten 95 % intervals hold the truth (few runs; the benchmark takes many)."""
    rig = larkspur_rig()
    heavy = [run for run in evidence.runs if run.load == "vector" and not run.heat_limited and run.settled.known]
    off = [abs(run.settled.value_c - rig.true_settled_core_c(run.setting, run.load, run.settled.room_c)) for run in heavy]
    inside = [error <= run.settled.half_width_k for error, run in zip(off, heavy, strict=True)]
    assert len(heavy) >= 12
    assert np.mean(inside) >= 0.9


def test_the_map_agrees_with_the_truth_where_nothing_was_measured(models: Models, limits: Limits) -> None:
    rig = larkspur_rig()
    limit_w, duty = np.array([90.0, 110.0, 118.0, 135.0]), np.array([26.0, 42.0, 24.0, 70.0])
    cooler = np.full(4, models.base.fan_duty["cooler"])
    values = {"sustained_power_w": limit_w, "fan_duty.case": duty, "fan_duty.cooler": cooler}
    said = predict(models, SettingBatch(models.base, values, 4), limits.design_room_c)
    for i in range(4):
        setting = models.base.replaced("sustained_power_w", float(limit_w[i])).replaced("fan_duty.case", float(duty[i]))
        core = rig.true_settled_core_c(setting.replaced("temperature_cap_c", 95.0), "vector", limits.design_room_c)
        assert abs(said.core_c[i] - core) < max(1.5, said.core_hw[i] + 0.5)
        level = rig.true_level_dba({"case": float(duty[i]), "cooler": models.base.fan_duty["cooler"]})
        assert abs(said.in_room_dba[i] - level) < said.in_room_hw[i] + 1.4  # the meter's floor, and a hump no law knows


def test_the_pick_is_the_quietest_that_keeps_every_limit(models: Models, limits: Limits) -> None:
    field = reachable(models, limits)
    choice = choose(models, limits, field)
    everything = [candidate_at(models, field, limits, index) for index in range(field.clean_s.shape[0])]
    eligible = [one for one in everything if not one.breaks]
    assert choice.eligible == len(eligible)
    assert choice.pick.in_room_dba <= min(one.in_room_dba for one in eligible) + 0.1
    pick = choice.pick
    assert pick.throughput_percent - pick.throughput_hw >= limits.min_throughput_percent
    assert pick.headroom_k - pick.core_hw >= limits.min_headroom_k
    assert choice.confirmed
    assert pick.clean_s >= 1200
    assert pick.measured


def test_the_pick_holds_on_the_real_machine(models: Models, limits: Limits) -> None:
    choice = choose(models, limits)
    core = larkspur_rig().true_settled_core_c(choice.pick.setting, "vector", limits.design_room_c)
    assert 90.0 - core >= limits.min_headroom_k - 0.3


def test_three_runners_up_that_differ(models: Models, limits: Limits) -> None:
    choice = choose(models, limits)
    settings = {one.setting.key() for one in (choice.pick, *choice.runners_up)}
    assert len(choice.runners_up) == 3
    assert len(settings) == 4
    assert all(one.in_room_dba >= choice.pick.in_room_dba - 0.1 for one in choice.runners_up)
    for one, other in itertools.combinations((choice.pick, *choice.runners_up), 2):  # and in what they come to
        louder, faster = abs(one.in_room_dba - other.in_room_dba), abs(one.throughput_percent - other.throughput_percent)
        assert louder >= 0.5 or faster >= 0.8 or abs(one.headroom_k - other.headroom_k) >= 1.0


def test_what_each_limit_costs(models: Models, limits: Limits) -> None:
    limits = msgspec.structs.replace(limits, min_throughput_percent=97.0)  # where throughput is what costs
    choice = choose(models, limits)
    for cost in choice.costs:
        if cost.instead is None:
            continue
        assert cost.limit in cost.instead.breaks
        assert cost.wins_db >= -0.1
    always = {Limit.THROUGHPUT, Limit.HEADROOM, Limit.RESULTS, Limit.FAILURES}
    assert {cost.limit for cost in choice.costs} == always  # the others are not set
    costly = next(cost for cost in choice.costs if cost.limit == Limit.THROUGHPUT)
    lax = choose(models, msgspec.structs.replace(limits, min_throughput_percent=10.0))
    assert costly.instead is not None
    assert candidate_text(costly.instead) == candidate_text(lax.pick)


def test_stricter_limits_are_never_quieter(models: Models) -> None:
    levels = [choose(models, Limits(min_throughput_percent=share)).pick.in_room_dba for share in (85.0, 90.0, 93.0, 95.0)]
    assert all(after >= before - 0.1 for before, after in itertools.pairwise(levels))


def test_limits_that_nothing_keeps_say_which(models: Models) -> None:
    with pytest.raises(NotEnoughError, match="the most headroom that is sure"):
        choose(models, Limits(min_headroom_k=60.0))
    with pytest.raises(NotEnoughError, match="the most throughput"):
        choose(models, Limits(min_throughput_percent=150.0))


def test_limits_that_contradict_each_other_are_named(models: Models) -> None:
    """Each can be kept alone; giving up any one of them leaves two that nothing keeps both."""
    alone = (
        Limits(min_throughput_percent=99.5, min_headroom_k=0.0),
        Limits(min_throughput_percent=10.0, min_headroom_k=24.0),
        Limits(min_throughput_percent=10.0, min_headroom_k=0.0, max_noise_dba=23.6),
    )
    assert all(choose(models, limits).eligible > 0 for limits in alone)
    with pytest.raises(NotEnoughError, match=r"99\.5 % of throughput|24 K of headroom|at most 23\.6 dBA") as refused:
        choose(models, Limits(min_throughput_percent=99.5, min_headroom_k=24.0, max_noise_dba=23.6))
    assert "contradict each other" in str(refused.value)


def test_a_wrong_result_excludes_its_clock_and_all_above(evidence: Evidence, limits: Limits) -> None:
    """More clock needs more voltage: what failed at a limit fails at every higher one, whatever the fans do; with a
    gentler offset it may hold."""
    index, run = next(
        (i, run)
        for i, run in enumerate(evidence.runs)
        if run.load == "vector" and not run.heat_limited and 110.0 <= (run.setting.sustained_power_w or 0.0) <= 135.0
    )
    offset = run.setting.voltage_offset_mv or 0.0
    assert offset <= -5.0
    failed = msgspec.structs.replace(run, failures=1)
    models = fit_models(msgspec.structs.replace(evidence, runs=(*evidence.runs[:index], failed, *evidence.runs[index + 1 :])))
    limit = run.setting.sustained_power_w or 0.0
    judged = judge(
        models,
        limits,
        SettingBatch(
            run.setting,
            {
                "sustained_power_w": np.array([limit, limit + 8.0, limit - 15.0, limit + 8.0, limit + 8.0]),
                "fan_duty.case": np.array([84.0, 84.0, 84.0, 30.0, 84.0]),
                "voltage_offset_mv": np.array([offset, offset, offset, offset, 0.0]),
            },
            5,
        ),
    )
    assert keeps(judged, limits)[Limit.RESULTS].tolist() == [False, False, True, False, True]


def test_the_reasons_are_words_with_units(models: Models, limits: Limits) -> None:
    choice = choose(models, limits)
    text = pick_reason(choice)
    for unit in ("dBA", "%", "K", "°C", "±"):
        assert unit in text
    assert "without a wrong result" in confirmation_text(choice)
    assert all(comparison_text(choice, other).endswith(".") for other in choice.runners_up)
    assert all(limit_cost_text(choice, cost.limit) for cost in choice.costs)
    assert all(limit_text(choice, limit) for limit in in_force(choice.limits))


def test_too_few_runs_say_what_is_missing(evidence: Evidence) -> None:
    few = Evidence(evidence.card, evidence.runs[:7])
    with pytest.raises(NotEnoughError, match="three settled runs"):
        fit_models(few)
    working = [run for run in evidence.runs if run.load_kind != "idle"]
    hot = tuple(msgspec.structs.replace(run, limiter_shares={"temperature cap": 1.0}) for run in working[:8])
    quiet = tuple(run for run in evidence.runs if run.load_kind == "idle")
    with pytest.raises(NotEnoughError, match=r"temperature cap limited the clock.*only says what is not enough"):
        fit_models(Evidence(evidence.card, quiet + hot))
    with pytest.raises(NotEnoughError, match="no noise readings"):
        fit_models(Evidence(evidence.card, tuple(msgspec.structs.replace(run, noise_dba=math.nan) for run in evidence.runs)))


def test_without_a_stock_run_the_models_say_what_stock_does(evidence: Evidence, models: Models, limits: Limits) -> None:
    """A load with no stock baseline: 100 % is then inferred, near to what it was measured to be, and said to be inferred."""
    no_stock = fit_models(Evidence(evidence.card, tuple(run for run in evidence.runs if run.setting != evidence.card.stock)))
    measured, reason = stock_throughput(models, "dome", limits.design_room_c)
    inferred, words = stock_throughput(no_stock, "dome", limits.design_room_c)
    assert reason == ""
    assert "stock was not run under dome" in words
    assert inferred == pytest.approx(measured, rel=0.01)
    assert choose(no_stock, limits).pick.limit_w == pytest.approx(choose(models, limits).pick.limit_w, abs=4.0)


def test_stock_that_heat_held_is_carried_to_the_room(evidence: Evidence, models: Models) -> None:
    """A stock run that its cap held does less in a hotter room; one that power held does what it did."""
    index, run = next(
        (i, run) for i, run in enumerate(evidence.runs) if run.setting == evidence.card.stock and run.load == "vector"
    )
    held = msgspec.structs.replace(run, limiter_shares={"temperature cap": 1.0})
    runs = (*evidence.runs[:index], held, *evidence.runs[index + 1 :])
    hot = fit_models(msgspec.structs.replace(evidence, runs=runs))
    same, words = stock_throughput(hot, "vector", run.settled.room_c)
    assert same == pytest.approx(run.throughput_per_s)
    assert "carried to the room" in words
    assert stock_throughput(hot, "vector", 45.0)[0] < same


def test_the_confirmation_is_the_pick_and_then_no_more(evidence: Evidence, limits: Limits) -> None:
    plan = plan_for(evidence.card, grid_question(evidence.card))
    entry = plan.entries[-1]
    assert isinstance(entry, Confirmation)
    assert next_of_pick(entry, evidence, limits, 0) is None  # confirmed already
    before = Evidence(evidence.card, tuple(run for run in evidence.runs if run.step < len(plan.entries) - 1))
    step = next_of_pick(entry, before, limits, 0)
    assert step is not None
    assert step.load == "vector"
    assert step.exposure.min_s >= 1200
    assert next_of_pick(entry, before, limits, 3) is None


def test_the_front_is_what_no_other_beats() -> None:
    """By definition: every pair is compared with every other."""
    rng = np.random.default_rng(8)
    noise, throughput = np.round(rng.random(200), 2), np.round(rng.random(200), 2)
    quiet, fast = front(noise, throughput)
    for a, b in zip(noise, throughput, strict=True):
        beaten = np.any((noise <= a) & (throughput >= b) & ((noise < a) | (throughput > b)))
        assert beaten != bool(np.any((quiet == a) & (fast == b)))
    assert np.all(np.diff(quiet) > 0)
    assert np.all(np.diff(fast) > 0)
    assert front(noise[:0], noise[:0])[0].shape == (0,)


def test_a_baseline_measured_again_does_not_move_the_map(evidence: Evidence, models: Models, limits: Limits) -> None:
    """The stock setting has its own fans; as the latest run it must not become what the map is drawn for."""
    stock = next(run for run in evidence.runs if run.setting == evidence.card.stock and run.load == "vector")
    again = msgspec.structs.replace(evidence, runs=(*evidence.runs, msgspec.structs.replace(stock, run_id=999)))
    assert fit_models(again).base.fan_duty["cooler"] == models.base.fan_duty["cooler"] != stock.setting.fan_duty["cooler"]
    assert choose(fit_models(again), limits).confirmed


def test_a_rig_without_some_readings_still_has_a_map(evidence: Evidence, models: Models, limits: Limits) -> None:
    """No core voltage, no throughput (the clock stands for it), no fan speeds (the duties do): the pick hardly moves."""
    pick = choose(models, limits).pick

    def without(**lost: float) -> Models:
        return fit_models(
            msgspec.structs.replace(evidence, runs=tuple(msgspec.structs.replace(run, **lost) for run in evidence.runs))
        )

    for other in (without(voltage_v=math.nan), without(throughput_per_s=math.nan)):
        assert choose(other, limits).pick.limit_w == pytest.approx(pick.limit_w, abs=4.0)
    _, reason = stock_throughput(without(throughput_per_s=math.nan), "dome", 28.0)
    assert "the clock stands for it" in reason
    no_speeds = tuple(msgspec.structs.replace(run, fan_rpm=dict.fromkeys(run.fan_rpm, math.nan)) for run in evidence.runs)
    blind = fit_models(msgspec.structs.replace(evidence, runs=no_speeds))
    assert choose(blind, limits).pick.duty == pytest.approx(pick.duty, abs=6.0)
    lost = next(run for run in evidence.runs if run.load == "vector" and run.settled.known and not run.heat_limited)
    once = tuple(
        msgspec.structs.replace(run, fan_rpm={**run.fan_rpm, "case": math.nan}) if run is lost else run for run in evidence.runs
    )
    assert fit_models(msgspec.structs.replace(evidence, runs=once)).heat.runs == models.heat.runs - 1


@pytest.mark.parametrize(
    ("aim", "best"),
    [
        (Aim.FASTEST, lambda field: -field.predicted.throughput_percent),
        (Aim.LEAST_WATTS, lambda field: field.predicted.power_w),
        (Aim.COOLEST, lambda field: field.predicted.core_c),
    ],
)
def test_a_choice_is_for_what_is_wanted(
    models: Models, limits: Limits, aim: Aim, best: Callable[[SettingGrid], Vector]
) -> None:
    """Among all settings that keep every limit none is better in it by more than nobody would notice."""
    wanted = msgspec.structs.replace(limits, aim=aim, max_noise_dba=34.0)
    field = survey_grid(models, wanted)
    kept = np.logical_and.reduce(list(keeps(field, wanted).values())) & field.inside
    choice = choose(models, wanted, field)
    index = field.nearest(choice.pick.limit_w, choice.pick.duty)
    assert kept[index]
    assert best(field)[index] <= np.min(best(field)[kept]) + 0.51
    quietest = choose(models, limits)
    assert choice.pick.setting != quietest.pick.setting
    assert pick_reason(choice) != pick_reason(quietest)
    told = [cost for cost in choice.costs if cost.instead is not None]
    assert all(cost.wins >= -0.51 for cost in told)  # without a limit it is never worse in what is wanted


def test_noise_is_judged_at_the_listeners_place_by_day_and_at_night(models: Models, limits: Limits) -> None:
    """Free sound falls by 6 dB from one metre to two (inverse square law); over a background it falls by less."""
    levels = {}
    for place in NoisePlace:
        field = survey_grid(models, msgspec.structs.replace(limits, noise_at=place))
        levels[place] = field.figures.heard_dba.value
    loud = np.argmax(levels[NoisePlace.ROOM])
    listener = models.card.listener
    assert listener["day_dba"] > listener["night_dba"]  # type: ignore[operator]
    far = 20.0 * math.log10(float(listener["distance_m"]) / float(models.card.meter["distance_m"]))
    assert far > 0.0
    assert levels[NoisePlace.LISTENER_AT_NIGHT][loud] < levels[NoisePlace.ROOM][loud]
    assert levels[NoisePlace.ROOM][loud] - levels[NoisePlace.LISTENER_AT_NIGHT][loud] <= far + 0.5
    assert np.all(levels[NoisePlace.LISTENER_BY_DAY] > levels[NoisePlace.LISTENER_AT_NIGHT])
    assert np.all(levels[NoisePlace.LISTENER_BY_DAY] >= float(listener["day_dba"]) - 0.01)
