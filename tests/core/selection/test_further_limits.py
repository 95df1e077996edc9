"""Limits beside core, noise and throughput: what the stand-ins truly come to lies within them at every pick."""

import itertools
import math

import msgspec
import numpy as np
import pytest

from niente.core.analysis.beside import KnownFigure, beside_at, beside_of, readable
from niente.core.analysis.evidence import Evidence
from niente.core.analysis.judged import judge
from niente.core.analysis.models import Models, fit_models
from niente.core.analysis.prediction import predict_under_load
from niente.core.analysis.setting_batch import SettingBatch
from niente.core.model.errors import NotEnoughError
from niente.core.model.json_files import JsonError, converted
from niente.core.model.limits import Aim, Limits, LoadLimits, NoisePlace, Weights
from niente.core.science.power.wall import fit_wall
from niente.core.selection.kept import Limit, in_force, keeps, misses
from niente.core.selection.opening import openings
from niente.core.selection.pick import choose
from niente.core.selection.reach import reachable


@pytest.fixture(scope="module")
def models(evidence: Evidence) -> Models:
    return fit_models(evidence)


def test_a_line_through_readings_is_found_and_widens_beyond_them() -> None:
    """Against numpy's own least squares, on readings that lie far enough apart for what supplies usually lose to be nothing."""
    rng = np.random.default_rng(5)
    inside = np.linspace(40.0, 220.0, 30)
    wall = 38.0 + 1.17 * inside + rng.normal(0.0, 0.5, 30)
    law = fit_wall(inside, wall)
    assert law is not None
    slope, beside = np.polyfit(inside, wall, 1)
    assert law.slope == pytest.approx(slope, abs=0.002)
    assert law.beside_w == pytest.approx(beside, abs=0.3)
    _, widths = law.wall_w(np.array([130.0, 400.0]))
    assert widths[1] > 5.0 * widths[0]
    assert fit_wall(inside[:2], wall[:2]) is None


def test_what_is_read_beside_the_cores_is_foretold(models: Models) -> None:
    """Each run's own board and wall readings lie where the models put them."""
    assert readable(models.card) == ("board_temperature_c", "wall_power_w")
    inside, apart = 0, []
    for run in models.usable():
        if run.load != models.heavy_load or "board_temperature_c" not in run.beside or run.heat_limited:
            continue
        one = SettingBatch(run.setting.over(models.base), {}, 1)
        there = predict_under_load(models, one, run.load, run.settled.room_c)
        said = beside_at(models, there, run.settled.room_c, ("board_temperature_c", "wall_power_w"))
        board, wall = said["board_temperature_c"], said["wall_power_w"]
        settled, metered = run.beside["board_temperature_c"], run.channels["wall_power_w"].mean
        inside += abs(board.value[0] - settled.value_c) < math.hypot(board.half_width[0], settled.half_width_k)
        apart.append(abs(wall.value[0] - metered) / math.hypot(wall.half_width[0], 0.5))
    assert len(apart) >= 20
    assert inside >= 0.9 * len(apart)
    assert np.mean(np.array(apart) < 1.0) >= 0.9


def test_what_was_fitted_is_kept_for_the_same_evidence(models: Models) -> None:
    assert beside_of(models) is beside_of(models)


@pytest.mark.parametrize(
    ("limits", "limit"),
    [
        (Limits().with_ceiling("wall_power_w", 185.0), Limit.WALL),
        (Limits().with_ceiling("board_temperature_c", 50.0), Limit.BOARD),
        (Limits(max_over_background_db=3.0), Limit.NOISE),
        (Limits().with_load("dome", LoadLimits(min_headroom_k=16.0)), Limit.LOADS),
        (Limits().with_load("vector", LoadLimits(min_throughput_percent=93.0)), Limit.LOADS),
    ],
)
def test_a_pick_keeps_what_is_limited_beside(models: Models, limits: Limits, limit: Limit) -> None:
    """Tightening a limit never makes the pick quieter, and what it limits is kept with its interval."""
    assert limit in in_force(limits)
    free = choose(models, Limits()).pick
    choice = choose(models, limits)
    at = judge(models, limits, SettingBatch(choice.pick.setting, {}, 1))
    assert misses(at, limits)[limit][0] <= 0.01
    assert choice.pick.in_room_dba >= free.in_room_dba - 0.1
    assert limit in {cost.limit for cost in choice.costs}


def test_a_limit_that_is_tightened_is_never_quieter(models: Models) -> None:
    levels = [
        choose(models, Limits(min_throughput_percent=70.0).with_ceiling("board_temperature_c", most)).pick.in_room_dba
        for most in (60.0, 50.0, 48.0, 47.0)
    ]
    assert all(after >= before - 0.1 for before, after in itertools.pairwise(levels))
    assert levels[-1] > levels[0]


def test_fans_that_never_stand(models: Models) -> None:
    """A setting with a group that stands is out, whatever else it keeps."""
    limits = Limits(min_throughput_percent=10.0, min_headroom_k=0.0, fans_turn=True)
    settings = SettingBatch(models.base, {"fan_duty.case": np.array([0.0, 40.0])}, 2)
    judged = judge(models, limits, settings)
    still = msgspec.structs.replace(judged, figures=msgspec.structs.replace(judged.figures, stands=np.array([True, False])))
    assert keeps(still, limits)[Limit.FANS].tolist() == [False, True]
    assert Limit.FANS not in keeps(still, msgspec.structs.replace(limits, fans_turn=False))
    pick = choose(models, limits).pick
    assert all(models.rpm(group, np.array([duty]))[0] > 30.0 for group, duty in pick.setting.fan_duty.items())


def test_noise_over_a_background_that_nobody_knows_is_refused_in_words(models: Models) -> None:
    card = msgspec.structs.replace(models.card, listener={"distance_m": 2.0})
    evidence = msgspec.structs.replace(models.evidence, card=card)
    blind = msgspec.structs.replace(models, evidence=evidence)
    limits = Limits(max_over_background_db=1.0, noise_at=NoisePlace.LISTENER_AT_NIGHT)
    with pytest.raises(NotEnoughError, match="no runs tell whether any keeps at most 1 dB over the background"):
        choose(blind, limits)


def test_a_reading_that_the_rig_does_not_give_is_refused_in_words(models: Models) -> None:
    with pytest.raises(NotEnoughError, match="no runs tell whether any keeps coolant of at most 45 °C"):
        choose(models, Limits().with_ceiling("coolant_temperature_c", 45.0))


def test_limits_that_say_nothing_are_refused() -> None:
    with pytest.raises(ValueError, match="mood_c"):
        Limits().with_ceiling("mood_c", 3.0)
    for ceilings in ({"mood_c": 3.0}, {"wall_power_w": "much"}):
        with pytest.raises(JsonError):
            converted({"ceilings": ceilings}, Limits)


def test_limits_travel_as_json() -> None:
    limits = Limits(fans_turn=True, weights=Weights(core_k=0.2)).with_ceiling("wall_power_w", 200.0)
    limits = limits.with_load("game", LoadLimits(min_headroom_k=12.0))
    assert converted(msgspec.to_builtins(limits), Limits) == limits
    assert limits.with_ceiling("wall_power_w", None).ceilings == {}
    assert limits.with_load("game", LoadLimits()).each_load == {}


@pytest.mark.parametrize(
    ("weights", "as_aim"),
    [
        (Weights(1.0, 0.0, 0.0, 0.0), Aim.QUIETEST),
        (Weights(0.0, 1.0, 0.0, 0.0), Aim.FASTEST),
        (Weights(0.0, 0.0, 1.0, 0.0), Aim.LEAST_WATTS),
        (Weights(0.0, 0.0, 0.0, 1.0), Aim.COOLEST),
    ],
)
def test_all_weight_on_one_thing_is_that_aim(models: Models, weights: Weights, as_aim: Aim) -> None:
    weighed = choose(models, Limits(max_noise_dba=30.0, aim=Aim.WEIGHED, weights=weights)).pick
    plain = choose(models, Limits(max_noise_dba=30.0, aim=as_aim)).pick
    assert weighed.in_room_dba == pytest.approx(plain.in_room_dba, abs=0.6)
    assert weighed.throughput_percent == pytest.approx(plain.throughput_percent, abs=0.5)
    assert weighed.power_w == pytest.approx(plain.power_w, abs=1.5)
    assert weighed.core_c == pytest.approx(plain.core_c, abs=0.5)


def test_more_weight_on_throughput_is_never_slower(models: Models) -> None:
    speeds = [
        choose(models, Limits(70.0, aim=Aim.WEIGHED, weights=Weights(1.0, share, 0.0, 0.0))).pick.throughput_percent
        for share in (0.0, 0.2, 0.6, 2.0)
    ]
    assert all(after >= before - 0.3 for before, after in itertools.pairwise(speeds))
    assert speeds[-1] > speeds[0] + 3.0


@pytest.mark.parametrize(
    "limits",
    [
        Limits(min_headroom_k=24.0, max_noise_dba=24.0),
        Limits(min_throughput_percent=99.0, max_noise_dba=24.0),
        Limits(min_headroom_k=40.0),
        Limits().with_ceiling("wall_power_w", 120.0),
    ],
)
def test_the_smallest_change_opens_a_setting(models: Models, limits: Limits) -> None:
    """What is told is tried: with that one limit changed something is picked, and with half of the change nothing is that was
    looked at."""
    field = reachable(models, limits)
    with pytest.raises(NotEnoughError, match="No setting keeps every limit") as refused:
        choose(models, limits, field)
    assert "smallest change that opens one" in str(refused.value)
    first = openings(field, limits)[0]
    assert all(first.steps <= other.steps for other in openings(field, limits))
    changed = _changed(limits, first.limit, first.value)
    assert choose(models, changed, field).eligible > 0
    half = first.value + (0.5 if first.limit in (Limit.THROUGHPUT, Limit.HEADROOM) else -0.5) * first.by
    tighter = judge(models, _changed(limits, first.limit, half), field.settings)
    kept = keeps(tighter, _changed(limits, first.limit, half))
    assert not np.logical_and.reduce(list(kept.values())).any()


def test_openings_keep_their_sign_and_unit(models: Models) -> None:
    """No headroom at all is not as much of it, and decibels over a background are no levels."""
    limits = Limits(min_throughput_percent=10.0)
    judged = judge(models, limits, SettingBatch(models.base, {"fan_duty.case": np.array([40.0, 60.0])}, 2))
    hot = msgspec.structs.replace(judged.figures, headroom_k=KnownFigure(np.full(2, -2.0), np.full(2, 0.1)))
    (first,) = openings(msgspec.structs.replace(judged, figures=hot, against=np.zeros(2, int), lasts=np.ones(2)), limits)
    assert first.limit == Limit.HEADROOM
    assert first.value == pytest.approx(-2.2)
    with pytest.raises(NotEnoughError, match="dB over the background of the 0 dB over the background allowed"):
        choose(models, Limits(max_over_background_db=0.0))


def _changed(limits: Limits, limit: Limit, value: float) -> Limits:
    if limit == Limit.WALL:
        return limits.with_ceiling("wall_power_w", value)
    name = {Limit.THROUGHPUT: "min_throughput_percent", Limit.HEADROOM: "min_headroom_k", Limit.NOISE: "max_noise_dba"}[limit]
    return msgspec.structs.replace(limits, **{name: value})


def test_limits_that_no_single_change_opens_say_how_far_all_must_give_way(models: Models) -> None:
    limits = Limits(min_throughput_percent=104.0, min_headroom_k=45.0, max_noise_dba=22.0)
    with pytest.raises(NotEnoughError, match=r"No single limit opens one; all of them looser by \d") as refused:
        choose(models, limits)
    by = float(str(refused.value).split("looser by ")[1].split(" ")[0])
    looser = Limits(104.0 - by, 45.0 - by, max_noise_dba=22.0 + by)
    assert choose(models, looser).eligible > 0


def test_a_known_figure_may_be_cut() -> None:
    cut = KnownFigure(np.arange(5.0), np.ones(5)).rows(np.array([1, 2]))
    assert cut.value.tolist() == [1.0, 2.0]
