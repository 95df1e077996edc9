"""The settings that a choice reaches over all controls, held against brute force over a fine grid, and the front against a
general-purpose library."""

import itertools
import math

import moocore  # type: ignore[import-untyped]
import msgspec
import numpy as np
import pytest
from scipy.optimize import differential_evolution

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.judged import JudgedSettings, judge
from niente.core.analysis.models import Models, fit_models
from niente.core.analysis.setting_batch import SettingBatch
from niente.core.model.limits import Aim, Limits
from niente.core.model.runs import RunOutcome
from niente.core.model.setting import Setting
from niente.core.science.arrays import Array, Vector
from niente.core.selection.free_controls import free_controls
from niente.core.selection.kept import Limit, keeps
from niente.core.selection.pick import Standing, choose, front, sound_settings
from niente.core.selection.reach import reachable


@pytest.fixture(scope="module")
def models(evidence: Evidence) -> Models:
    return fit_models(evidence)


@pytest.fixture(scope="module")
def reached(models: Models) -> JudgedSettings:
    return reachable(models, Limits())


@pytest.fixture(scope="module")
def every(models: Models) -> SettingBatch:
    """Every power limit in two watts, both fan groups in two per cent around the quiet end, with and without the offset."""
    offset = models.base.voltage_offset_mv or 0.0
    axes = (np.arange(92.0, 124.0, 2.0), np.arange(20.0, 44.0, 2.0), np.arange(30.0, 62.0, 4.0), np.array([offset, 0.0]))
    power, case, cooler, depth = (values.ravel() for values in np.meshgrid(*axes))
    values = {"sustained_power_w": power, "fan_duty.case": case, "fan_duty.cooler": cooler, "voltage_offset_mv": depth}
    return SettingBatch(models.base, values, power.shape[0])


@pytest.mark.parametrize(
    "limits",
    [
        Limits(),
        Limits(min_throughput_percent=94.0),
        Limits(min_headroom_k=10.0, design_room_c=29.0),
        Limits(aim=Aim.FASTEST, max_noise_dba=24.5),
        Limits(aim=Aim.LEAST_WATTS, max_noise_dba=28.0),
        Limits(aim=Aim.COOLEST, max_noise_dba=28.0, min_throughput_percent=88.0),
    ],
)
def test_no_setting_of_a_fine_grid_is_better_than_what_is_reached(models: Models, every: SettingBatch, limits: Limits) -> None:
    """Brute force: every setting judged by itself, over both fan groups, power and offset at once."""
    field = judge(models, limits, every)
    kept = np.logical_and.reduce(list(keeps(field, limits).values())) & field.inside
    assert np.count_nonzero(kept) > 20
    pick = choose(models, limits).pick
    best = {
        Aim.QUIETEST: (np.min(field.predicted.in_room_dba[kept]), pick.in_room_dba, 0.12),
        Aim.FASTEST: (-np.max(field.predicted.throughput_percent[kept]), -pick.throughput_percent, 0.35),
        Aim.LEAST_WATTS: (np.min(field.predicted.power_w[kept]), pick.power_w, 0.6),
        Aim.COOLEST: (np.min(field.predicted.core_c[kept]), pick.core_c, 0.4),
    }
    least, found, near = best[limits.aim]
    assert found <= least + near


@pytest.mark.parametrize(
    "limits",
    [
        Limits(),
        Limits(design_room_c=34.0),
        Limits(min_throughput_percent=95.0),
        Limits(aim=Aim.FASTEST, max_noise_dba=26.0),
    ],
)
def test_a_general_optimiser_finds_no_better_setting(models: Models, limits: Limits) -> None:
    """SciPy's differential evolution over whole steps of every control, begun at the pick, with a penalty for broken limits."""
    controls = free_controls(models, limits)
    least = np.array([control.low for control in controls])
    step = np.array([control.step for control in controls])

    def cost(steps: Array) -> Vector:
        points = least + steps.T * step
        values = {control.name: control.on_step(points[:, index]) for index, control in enumerate(controls)}
        field = judge(models, limits, SettingBatch(models.base, values, points.shape[0]))
        missed = np.sum([~kept for kept in keeps(field, limits).values()], axis=0) + ~field.inside
        predicted = field.predicted
        wanted = predicted.in_room_dba if limits.aim == Aim.QUIETEST else -predicted.throughput_percent
        short = np.maximum(0.0, limits.min_headroom_k - predicted.headroom_k + 1.2 * predicted.core_hw)
        short += np.maximum(0.0, limits.min_throughput_percent - predicted.throughput_percent + 1.2 * predicted.throughput_hw)
        short += np.maximum(0.0, predicted.in_room_dba - (limits.max_noise_dba or 99.0))
        return np.nan_to_num(np.where(missed > 0, 1000.0 + 10.0 * missed + short, wanted), nan=2000.0)

    pick = choose(models, limits).pick
    start = np.array([pick.setting.value(control.name) or 0.0 for control in controls])
    found = differential_evolution(
        cost,
        [(0.0, float(round((control.high - control.low) / control.step))) for control in controls],
        x0=(start - least) / step,  # what keeps all limits is rare: it begins with one that does
        integrality=[True] * len(controls),
        vectorized=True,
        updating="deferred",
        popsize=16,
        maxiter=60,
        rng=3,
    )
    assert found.fun < 1000.0
    ours = pick.in_room_dba if limits.aim == Aim.QUIETEST else -pick.throughput_percent
    assert ours <= found.fun + (0.12 if limits.aim == Aim.QUIETEST else 0.35)


def test_the_front_is_what_a_general_library_finds(reached: JudgedSettings) -> None:
    """moocore's non-dominated points, of noise and of throughput with its sign turned."""
    noise, throughput = sound_settings(reached, Limits())
    points = np.column_stack([noise, -throughput])
    theirs = points[moocore.is_nondominated(points)]
    quiet, fast = front(noise, throughput)
    ours = {(round(a, 9), round(b, 9)) for a, b in zip(quiet.tolist(), fast.tolist(), strict=True)}
    assert ours == {(round(a, 9), round(-b, 9)) for a, b in theirs.tolist()}
    assert len(ours) >= 10


def test_what_is_reached_can_be_set(models: Models, reached: JudgedSettings) -> None:
    """Each value lies on the control's own steps and within what it takes."""
    assert reached.settings.count >= 200
    for name, values in reached.settings.values.items():
        control = models.card.control(name)
        assert control is not None
        assert np.all((values >= control.low) & (values <= control.high))
        steps = (values - control.low) / control.step
        assert np.allclose(steps, np.round(steps), atol=1e-6)


def test_all_controls_move_and_none_that_nobody_may_move(models: Models, reached: JudgedSettings) -> None:
    moved = {name for name, values in reached.settings.values.items() if np.ptp(values) > 0.0}
    assert moved == {"sustained_power_w", "clock_cap_mhz", "voltage_offset_mv", "fan_duty.case", "fan_duty.cooler"}
    lax = {control.name for control in free_controls(models, Limits(min_headroom_k=0.0))}
    assert lax - moved == {"temperature_cap_c"}  # it limits the clock by heat, which leaves no headroom


def test_everything_that_was_run_is_among_it(models: Models, reached: JudgedSettings) -> None:
    assert np.count_nonzero(reached.measured) >= 16
    assert np.any(reached.clean_s >= 1200.0)


def test_two_fan_groups_are_never_louder_than_one(models: Models, every: SettingBatch) -> None:
    """With the cooler's fans left where they were run, the best is no quieter than with both free."""
    kept_at = SettingBatch(
        models.base, {name: values for name, values in every.values.items() if name != "fan_duty.cooler"}, every.count
    )
    field = judge(models, Limits(), kept_at)
    kept = np.logical_and.reduce(list(keeps(field, Limits()).values())) & field.inside
    assert choose(models, Limits()).pick.in_room_dba <= np.min(field.predicted.in_room_dba[kept]) + 0.11


@pytest.mark.parametrize("field", ["min_throughput_percent", "min_headroom_k", "failure"])
def test_tightening_a_limit_never_makes_the_pick_quieter(models: Models, field: str) -> None:
    """And loosening one never louder; within what counts as equal in the room."""
    limits = Limits()
    tighter: dict[str, list[Limits]] = {
        "min_throughput_percent": [Limits(min_throughput_percent=share) for share in (84.0, 88.0, 92.0, 95.0)],
        "min_headroom_k": [Limits(min_headroom_k=kelvin) for kelvin in (4.0, 8.0, 12.0, 16.0)],
        "failure": [
            msgspec.structs.replace(limits, failure=msgspec.structs.replace(limits.failure, chance=chance))
            for chance in (0.2, 0.05, 0.01, 0.001)
        ],
    }
    levels = [choose(models, one).pick.in_room_dba for one in tighter[field]]
    assert all(after >= before - 0.1 for before, after in itertools.pairwise(levels))


def test_what_a_unit_of_a_limit_buys_is_what_the_looser_limit_gives(models: Models) -> None:
    """A per cent less throughput, a kelvin less headroom: worked out anew they win what was said they would."""
    choice = choose(models, Limits())
    bought = {cost.limit: cost.unit_wins for cost in choice.costs}
    looser = {Limit.THROUGHPUT: Limits(min_throughput_percent=89.0), Limit.HEADROOM: Limits(min_headroom_k=7.0)}
    for limit, limits in looser.items():
        won = choice.pick.in_room_dba - choose(models, limits).pick.in_room_dba
        assert bought[limit] == pytest.approx(won, abs=0.11)
    assert bought[Limit.RESULTS] is None
    assert bought[Limit.FAILURES] is None


def test_where_nothing_failed_the_offset_goes_no_deeper_than_clean_exposures_allow(evidence: Evidence) -> None:
    """A search ends there too; without exposures that were clearly deeper than the rest it stays."""
    gentlest = max(run.setting.voltage_offset_mv or 0.0 for run in evidence.runs)
    level = tuple(run for run in evidence.runs if run.setting.voltage_offset_mv == gentlest)
    clean = {"failures": 0, "crashed": False, "outcome": RunOutcome.DONE, "seconds": 7200.0}
    deeper = tuple(msgspec.structs.replace(run, **clean) for run in evidence.runs if run not in level)
    models = fit_models(msgspec.structs.replace(evidence, runs=(*level, *deeper)))
    assert not models.stability.laws
    offset = next(one for one in free_controls(models, Limits()) if one.name == "voltage_offset_mv")
    assert min(run.setting.voltage_offset_mv or 0.0 for run in deeper) < offset.low < offset.high == 0.0
    choice = choose(models, Limits())
    picked = choice.pick.setting.voltage_offset_mv or 0.0
    run = {one.setting.voltage_offset_mv for one in (*level, *deeper)}
    assert offset.low <= picked <= 0.0 or picked in run  # what was run is among the settings, however deep
    assert choice.standing != Standing.PROVEN or picked == 0.0
    models = fit_models(msgspec.structs.replace(evidence, runs=level))
    assert "voltage_offset_mv" not in reachable(models, Limits()).settings.values


def test_a_machine_without_anything_to_move_still_has_its_one_setting(models: Models) -> None:
    bare = msgspec.structs.replace(
        models,
        evidence=msgspec.structs.replace(models.evidence, card=msgspec.structs.replace(models.card, controls=())),
    )
    reached = reachable(bare, Limits())
    assert reached.settings.count == 1
    assert reached.settings.at(0) == bare.base
    assert isinstance(reached.settings.at(0), Setting)
    assert math.isfinite(float(reached.predicted.core_c[0]))


def test_controls_that_say_no_step_and_odd_ends_still_give_values_that_can_be_set(models: Models) -> None:
    """A driver may know no step, and fans may have run at 37.3 %: values stay within what the control takes."""
    odd = tuple(
        msgspec.structs.replace(control, step=0.0 if control.name == "sustained_power_w" else 7.0)
        if control.name in ("sustained_power_w", "fan_duty.case")
        else control
        for control in models.card.controls
    )
    card = msgspec.structs.replace(models.card, controls=odd)
    other = msgspec.structs.replace(models, evidence=msgspec.structs.replace(models.evidence, card=card))
    settings = reachable(other, Limits()).settings
    for name in ("sustained_power_w", "fan_duty.case"):
        control = card.control(name)
        assert control is not None
        assert all(control.takes(value) for value in settings.values[name].tolist())


def test_without_any_throughput_nothing_is_reached_that_could_be_picked(models: Models) -> None:
    blind = msgspec.structs.replace(models, power=msgspec.structs.replace(models.power, work={}))
    reached = reachable(blind, Limits())
    assert not np.isfinite(reached.predicted.throughput_percent).any()
    assert not np.logical_and.reduce(list(keeps(reached, Limits()).values())).any()
