"""What is known ahead: the heat path's rungs, a plan's steps, the time until a run is known; and typed figures."""

import math

import numpy as np
import pytest
from niente.core.science.thermal import fit_rise, heat_path, typical_model

from niente.core.choosing.field import survey
from niente.core.choosing.models import fit_models
from niente.core.choosing.pick import Limit, choose, keeps
from niente.core.errors import NotEnoughError
from niente.core.evidence import Evidence
from niente.core.planning.foresight import foresee
from niente.core.planning.progress import rows_of
from niente.core.planning.templates import default_project, plan_for
from niente.core.project import Limits
from niente.core.quantities import TRUE_MINUS, quantity_of, value_typed
from niente.core.science.dynamics import MARKS, dynamic_mark, scale_limits_dba
from niente.core.science.settling import seconds_until_known


@pytest.fixture(scope="module")
def models(evidence: Evidence):  # type: ignore[no-untyped-def]
    return fit_models(evidence)


# -- the heat path ---------------------------------------------------------------------------------------------------


def test_the_rungs_add_up_to_the_rise(models) -> None:  # type: ignore[no-untyped-def]
    for power, cooler, case in ((80.0, 600.0, 300.0), (150.0, 900.0, 900.0)):
        rungs = heat_path(models.thermal, power, cooler, case)
        rise, _ = models.thermal.rise(power, cooler, case)
        assert sum(rung.kelvin for rung in rungs) == pytest.approx(float(rise))
        assert all(rung.kelvin > 0 and rung.half_width_k > 0 for rung in rungs)
        assert rungs[0].by_fans_k == 0.0  # no fan reaches into the processor


def test_what_fans_could_win_is_what_they_win(models) -> None:  # type: ignore[no-untyped-def]
    """Taking the share of the fans away leaves the rise at full speed."""
    thermal = models.thermal
    rungs = heat_path(thermal, 120.0, 500.0, 250.0)
    best, _ = thermal.rise(120.0, thermal.cooler_full_rpm, thermal.case_full_rpm)
    assert sum(rung.kelvin - rung.by_fans_k for rung in rungs) == pytest.approx(float(best))
    at_full = heat_path(thermal, 120.0, thermal.cooler_full_rpm, thermal.case_full_rpm)
    assert all(rung.by_fans_k == pytest.approx(0.0, abs=1e-9) for rung in at_full)


def test_single_rungs_are_less_well_known_than_their_sum(models) -> None:  # type: ignore[no-untyped-def]
    rungs = heat_path(models.thermal, 120.0, 600.0, 300.0)
    _, together = models.thermal.rise(120.0, 600.0, 300.0)
    assert max(rung.half_width_k for rung in rungs) > float(together)


def test_a_typical_path_is_a_tower_coolers() -> None:
    """0.3 to 0.6 K/W from core to room with its fans at full speed: common practice, no source."""
    typical = typical_model(1500.0, 1200.0)
    theta, half_width = typical.resistance(1500.0, 1200.0)
    assert 0.3 < theta < 0.6
    assert half_width > 0.1  # and nobody should trust it much
    assert typical.runs == 0


def test_without_fans_a_typical_path_keeps_to_practice() -> None:
    """0.7 to 0.9 K/W for large towers without a fan (common practice, no source): the prior must hold that open."""
    theta, half_width = typical_model(1500.0, 1200.0).resistance(0.0, 300.0)
    assert theta - half_width < 0.9 and theta + half_width > 0.7  # noqa: PT018


def test_a_made_up_path_is_found_again() -> None:
    truth = fit_rise(
        np.array([60.0, 90.0, 120.0, 150.0, 60.0, 120.0]),
        np.array([30.0, 42.0, 54.0, 66.0, 26.0, 46.0]),
        np.full(6, 0.3),
        np.full(6, 600.0),
        np.array([300.0, 300.0, 300.0, 300.0, 900.0, 900.0]),
    )
    rungs = heat_path(truth, 120.0, 600.0, 300.0)
    assert sum(rung.kelvin for rung in rungs) == pytest.approx(54.0, abs=1.0)


# -- steps of a plan -------------------------------------------------------------------------------------------------


def test_steps_are_foreseen_as_the_models_say(models, evidence: Evidence) -> None:  # type: ignore[no-untyped-def]
    plan = plan_for(evidence.card, default_project(evidence.card).question)
    steps = [row.step for row in rows_of(plan, evidence.card, evidence)]
    seen = foresee(models, steps)
    assert len(seen) == len(steps)
    measured = {(run.setting.key(), run.load): run for run in evidence.usable()}
    checked = 0
    for step, said in zip(steps, seen, strict=True):
        assert math.isfinite(said.noise_dba)
        assert math.isfinite(said.core_c) == (step.load == models.heavy_load)
        run = measured.get((step.setting.over(evidence.card.stock).key(), step.load))
        if math.isfinite(said.core_c) and run is not None and run.settled.known and not run.heat_held:
            assert abs(said.core_c - run.settled.value_c) < 2.0
            checked += 1
    assert checked >= 10


def test_without_models_nothing_is_foreseen(evidence: Evidence) -> None:
    plan = plan_for(evidence.card, default_project(evidence.card).question)
    assert all(math.isnan(said.core_c) and math.isnan(said.noise_dba) for said in foresee(None, plan.steps))
    assert foresee(None, ()) == []


# -- when a run is known -----------------------------------------------------------------------------------------------


def test_an_interval_that_halves_every_two_minutes_is_foreseen() -> None:
    t = np.arange(0.0, 300.0, 30.0)
    k = 8.0 * 0.5 ** (t / 120.0)
    left = 120.0 * math.log2(k[-1] / 1.0)
    assert seconds_until_known(t, k, 1.0) == pytest.approx(left, rel=1e-6)
    assert seconds_until_known(t, k, 10.0) == 0.0


def test_what_does_not_close_is_not_foreseen() -> None:
    t = np.arange(0.0, 300.0, 30.0)
    assert math.isnan(seconds_until_known(t, np.full(t.shape, 3.0), 1.0))
    assert math.isnan(seconds_until_known(t, np.linspace(2.0, 4.0, t.shape[0]), 1.0))
    assert math.isnan(seconds_until_known(np.empty(0), np.empty(0), 1.0))
    assert math.isnan(seconds_until_known(t[:2], np.array([5.0, 4.0]), 1.0))


# -- a limit on the noise ------------------------------------------------------------------------------------------------


def test_a_noise_limit_is_kept_with_its_interval(models, limits: Limits) -> None:  # type: ignore[no-untyped-def]
    quiet = Limits(most_noise_dba=26.0)
    field = survey(models, quiet)
    said = field.predicted
    assert np.array_equal(keeps(field, quiet)[Limit.NOISE], said.in_room_dba + said.in_room_hw <= 26.0)
    assert np.all(keeps(field, limits)[Limit.NOISE])
    choice = choose(models, quiet)
    assert choice.pick.in_room_dba + choice.pick.in_room_hw <= 26.0
    assert Limit.NOISE in [cost.limit for cost in choice.costs]
    assert Limit.NOISE not in [cost.limit for cost in choose(models, limits).costs]


def test_a_noise_limit_that_nothing_keeps_says_what_there_is(models) -> None:  # type: ignore[no-untyped-def]
    with pytest.raises(NotEnoughError, match=r"least noise that is sure is .* dBA of the 12 dBA allowed"):
        choose(models, Limits(most_noise_dba=12.0))


def test_the_scale_ends_where_the_marks_change() -> None:
    limits = scale_limits_dba(22.0)
    assert len(limits) == len(MARKS) - 1
    for place, limit in enumerate(limits):
        assert dynamic_mark(limit - 0.01, 22.0) == MARKS[place]
        assert dynamic_mark(limit + 0.01, 22.0) == MARKS[place + 1]


# -- typed figures -------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [
        ("120", "W", 120.0),
        ("0.12 kW", "W", 120.0),
        ("0,12 kW", "W", 120.0),
        ("4.5GHz", "MHz", 4500.0),
        (f"{TRUE_MINUS}40 mV", "mV", -40.0),
        ("-0.04 V", "mV", -40.0),
        ("4\u00a0497\u00a0MHz", "MHz", 4497.0),
        ("1.5 h", "min", 90.0),
        ("90 s", "min", 1.5),
        ("28 C", "°C", 28.0),
        (".5 K", "K", 0.5),
    ],
)
def test_a_unit_may_be_typed(text: str, unit: str, value: float) -> None:
    assert value_typed(text, unit) == pytest.approx(value)


@pytest.mark.parametrize("text", ["", "lots", "12 12", "1.2.3", "--4", "5 parsecs", "K"])
def test_what_is_no_figure_is_refused_in_words(text: str) -> None:
    with pytest.raises(ValueError, match=r"no number|no unit"):
        value_typed(text, "K")


def test_what_is_shown_can_be_typed_back() -> None:
    for name, value in (("voltage_offset_mv", -85.0), ("effective_clock_mhz", 4497.0), ("core_temperature_c", 83.3)):
        quantity = quantity_of(name)
        assert value_typed(quantity.with_unit(value), quantity.unit) == pytest.approx(value)
