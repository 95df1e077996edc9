"""Kept points against stock, and why another setting was not picked."""

import itertools

import msgspec
import numpy as np
import pytest

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.models import Models, fit_models
from niente.core.model.kept_point import KeptPoint, name_problem, with_point
from niente.core.model.limits import Aim, Limits, LoadLimits
from niente.core.selection.answer import Answer, chosen_anew
from niente.core.selection.pick import Choice, Standing, candidate_at, choose
from niente.core.selection.points import candidate_of, chosen, point_stand
from niente.core.selection.reach import reachable
from niente.core.selection.why_not import why_not
from tests.conftest import larkspur_rig

LIMITS = Limits()


@pytest.fixture(scope="module")
def models(evidence: Evidence) -> Models:
    return fit_models(evidence)


@pytest.fixture(scope="module")
def choice(models: Models) -> Choice:
    return choose(models, LIMITS)


def test_a_point_is_told_against_stock(models: Models, choice: Choice) -> None:
    """Against what the stand-in truly draws and comes to: watts and kelvins within 2 of each, energy by arithmetic."""
    stand = point_stand(models, KeptPoint("Night", choice.pick.setting, LIMITS, models.card.variant))
    assert stand.holds
    words = stand.words.replace("\N{NO-BREAK SPACE}", " ")
    parts = {what: amount for amount, what in (part.split(" ", 1) for part in words.split(", "))}
    rig = larkspur_rig()
    here = rig.true_settled_core_c(choice.pick.setting, models.heavy_load, LIMITS.design_room_c)
    stock = rig.true_settled_core_c(models.card.stock, models.heavy_load, LIMITS.design_room_c)
    assert float(parts["K cooler"]) == pytest.approx(stock - here, abs=2.0)
    watts = float(parts["W less"])
    assert watts == pytest.approx(candidate_of(models, LIMITS, models.card.stock).power_w - choice.pick.power_w, abs=0.51)
    assert float(parts["kWh less in 8 h"]) == pytest.approx(0.008 * watts, abs=0.011)
    assert "quieter" in words
    assert "% slower" in words


def test_stock_is_no_different_from_itself(models: Models) -> None:
    stand = point_stand(models, KeptPoint("As found", models.card.stock, LIMITS))
    assert stand.words == "no different from stock"


def test_a_point_of_another_variant_is_not_judged(models: Models, choice: Choice) -> None:
    stand = point_stand(models, KeptPoint("Old", choice.pick.setting, LIMITS, "no such state"))
    assert stand.at is None
    assert not stand.holds
    assert "no such state" in stand.words


def test_a_kept_point_stands_by_the_limits_it_was_kept_for(models: Models, choice: Choice) -> None:
    strict = msgspec.structs.replace(LIMITS, min_headroom_k=30.0)
    assert not point_stand(models, KeptPoint("Strict", choice.pick.setting, strict)).holds
    one = chosen(models, KeptPoint("Night", choice.pick.setting, LIMITS))
    assert one.standing == choice.standing != Standing.PROPOSED
    assert one.confirmed
    assert one.pick.in_room_dba == pytest.approx(choice.pick.in_room_dba)


def test_points_have_names_of_their_own() -> None:
    points: tuple[KeptPoint, ...] = ()
    for number in range(12):
        assert not name_problem(f"P{number}", points)
        points = with_point(points, KeptPoint(f"P{number}", larkspur_rig().describe().stock, LIMITS))
    assert "12 points" in name_problem("one more", points)
    assert not name_problem("P3", points)  # replaces
    changed = with_point(points, KeptPoint("P3", larkspur_rig().describe().stock, Limits(80.0)))
    assert len(changed) == 12
    assert changed[3].limits.min_throughput_percent == 80.0
    for bad in ("", "   ", "x" * 41, "two\nlines"):
        assert name_problem(bad, ())


def test_why_not_names_every_limit_that_breaks(models: Models, choice: Choice) -> None:
    hot = choice.pick.setting.replaced("sustained_power_w", 150.0)
    words = why_not(choice, candidate_of(models, LIMITS, hot))
    assert "of headroom at 28" in words
    slow = choice.pick.setting.replaced("sustained_power_w", 60.0)
    assert "of stock; at least 90" in why_not(choice, candidate_of(models, LIMITS, slow))
    assert why_not(choice, choice.pick) == "It is the pick."


@pytest.mark.parametrize(
    ("limits", "setting", "told"),
    [
        (Limits(max_noise_dba=26.0), {"fan_duty.case": 90.0}, "in the room; at most 26 dBA"),
        (LIMITS.with_ceiling("wall_power_w", 190.0), {"sustained_power_w": 140.0}, "Its wall power may come to more than"),
        (LIMITS.with_load("vector", LoadLimits(70.0)), {"sustained_power_w": 50.0}, "A single load may fall short: vector"),
    ],
)
def test_why_not_says_each_kind_of_limit(models: Models, limits: Limits, setting: dict[str, float], told: str) -> None:
    choice = choose(models, limits)
    other = choice.pick.setting
    for control, value in setting.items():
        other = other.replaced(control, value)
    assert told in why_not(choice, candidate_of(models, limits, other)).replace("\N{NO-BREAK SPACE}", " ")


@pytest.mark.parametrize(
    ("aim", "worse"),
    [(Aim.QUIETEST, "dB louder"), (Aim.FASTEST, "% slower"), (Aim.LEAST_WATTS, "W more"), (Aim.COOLEST, "K warmer")],
)
def test_why_not_says_in_what_the_pick_is_better(models: Models, aim: Aim, worse: str) -> None:
    limits = Limits(min_throughput_percent=85.0, aim=aim)
    field = reachable(models, limits)
    choice = choose(models, limits, field)
    everything = [candidate_at(models, field, limits, index) for index in range(field.settings.count)]
    kept = [one for one in everything if not one.breaks and one.inside and one.setting != choice.pick.setting]
    told = [why_not(choice, one).replace("\N{NO-BREAK SPACE}", " ") for one in kept]
    assert all(words.startswith("It keeps every limit.") for words in told)
    assert sum(worse in words for words in told) > 0.7 * len(told)  # the others are as good, and the pick ran longer


def test_other_limits_are_looked_up_at_once(models: Models) -> None:
    """What was judged already gives the pick for other limits as a whole choice does; what it cannot tell it leaves alone."""
    field = reachable(models, LIMITS)
    answer = Answer(models=models, reached=field, choice=choose(models, LIMITS, field))
    for changed in (Limits(93.0), Limits(min_headroom_k=12.0), Limits(aim=Aim.FASTEST, max_noise_dba=28.0)):
        found = chosen_anew(answer, changed)
        assert found is not None
        assert found.choice is not None
        assert found.choice.limits == changed
        assert not found.choice.pick.breaks
    untold = (Limits(design_room_c=30.0), LIMITS.with_ceiling("wall_power_w", 180.0), Limits(min_headroom_k=70.0))
    assert all(chosen_anew(answer, changed) is None for changed in untold)
    assert chosen_anew(Answer(), LIMITS) is None


def test_looked_up_picks_are_near_those_that_are_searched_for(models: Models) -> None:
    field = reachable(models, LIMITS)
    answer = Answer(models=models, reached=field, choice=choose(models, LIMITS, field))
    apart = []
    for share, kelvin in itertools.product((86.0, 90.0, 94.0), (6.0, 8.0, 12.0)):
        limits = Limits(share, kelvin)
        found = chosen_anew(answer, limits)
        assert found is not None
        assert found.choice is not None
        apart.append(found.choice.pick.in_room_dba - choose(models, limits).pick.in_room_dba)
    assert np.median(apart) < 0.4
    assert min(apart) > -0.3
