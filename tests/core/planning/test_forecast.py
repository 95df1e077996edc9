"""What is known ahead: the heat path's rungs, a plan's steps, the time until a run is known; and typed figures."""

import math

import numpy as np
import pytest

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.grid import survey_grid
from niente.core.analysis.models import fit_models
from niente.core.model.errors import NotEnoughError
from niente.core.model.limits import Limits
from niente.core.model.quantities import TRUE_MINUS, quantity_of, value_typed
from niente.core.planning.forecast import foresee
from niente.core.planning.progress import plan_rows
from niente.core.planning.templates import grid_project, plan_for
from niente.core.science.dynamics import MARKS, dynamic_mark, scale_limits_dba
from niente.core.science.settling import seconds_until_known
from niente.core.selection.kept import Limit, keeps
from niente.core.selection.pick import choose


@pytest.fixture(scope="module")
def models(evidence: Evidence):  # type: ignore[no-untyped-def]
    return fit_models(evidence)


# -- steps of a plan -------------------------------------------------------------------------------------------------


def test_steps_are_foreseen_as_the_models_say(models, evidence: Evidence) -> None:  # type: ignore[no-untyped-def]
    plan = plan_for(evidence.card, grid_project(evidence.card).question)
    steps = [row.step for row in plan_rows(plan, evidence.card, evidence)]
    seen = foresee(models, steps)
    assert len(seen) == len(steps)
    measured = {(run.setting.key(), run.load): run for run in evidence.usable()}
    checked = 0
    for step, said in zip(steps, seen, strict=True):
        assert math.isfinite(said.noise_dba)
        assert math.isfinite(said.core_c) == (step.load in models.power.loads)
        run = measured.get((step.setting.over(evidence.card.stock).key(), step.load))
        if math.isfinite(said.core_c) and run is not None and run.settled.known_to(2.0) and not run.heat_limited:
            assert abs(said.core_c - run.settled.value_c) < 2.0
            checked += 1
    assert checked >= 15  # the exposures of the search are far too short to settle and are not compared


def test_without_models_nothing_is_foreseen(evidence: Evidence) -> None:
    plan = plan_for(evidence.card, grid_project(evidence.card).question)
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
    quiet = Limits(max_noise_dba=26.0)
    field = survey_grid(models, quiet)
    said = field.predicted
    sure = said.in_room_dba + said.in_room_hw * 2.326 / 1.960 <= 26.0  # 99 % to one side, 95 % to both (normal table)
    doubtful = ~keeps(field, quiet)[Limit.NOISE] & sure  # kept by itself, and not together with the others
    assert not np.any(keeps(field, quiet)[Limit.NOISE] & ~sure)
    assert np.count_nonzero(doubtful) < 0.1 * np.count_nonzero(sure)
    assert Limit.NOISE not in keeps(field, limits)
    choice = choose(models, quiet)
    assert choice.pick.in_room_dba + choice.pick.in_room_hw <= 26.0
    assert Limit.NOISE in [cost.limit for cost in choice.costs]
    assert Limit.NOISE not in [cost.limit for cost in choose(models, limits).costs]


def test_a_noise_limit_that_nothing_keeps_says_what_there_is(models) -> None:  # type: ignore[no-untyped-def]
    with pytest.raises(NotEnoughError, match=r"least noise that is sure is .* dBA of the 12 dBA allowed"):
        choose(models, Limits(max_noise_dba=12.0))


def test_the_scale_ends_where_the_marks_change() -> None:
    limits = scale_limits_dba(22.0)
    assert len(limits) == len(MARKS) - 1
    for index, limit in enumerate(limits):
        assert dynamic_mark(limit - 0.01, 22.0) == MARKS[index]
        assert dynamic_mark(limit + 0.01, 22.0) == MARKS[index + 1]


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
