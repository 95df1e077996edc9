"""A choice in circumstances that were not measured: what is assumed does what it should, and robust picks truly hold."""

import itertools

import msgspec
import numpy as np
import pytest

from niente.core.analysis.circumstances import parts_for, under, usual_what_ifs
from niente.core.analysis.evidence import Evidence
from niente.core.analysis.judged import judge
from niente.core.analysis.models import Models, fit_models
from niente.core.analysis.point_prediction import predict_point
from niente.core.analysis.setting_batch import SettingBatch, one_setting
from niente.core.model.case_air import ROOM
from niente.core.model.limits import Limits, LoadLimits
from niente.core.model.what_if import Circumstance, WhatIf
from niente.core.selection.kept import keeps
from niente.core.selection.pick import Choice, choose
from niente.core.selection.reach import reachable
from niente.core.selection.what_if_words import assumed_text, outcome_brief, outcome_text, robust_text, what_if_title
from niente.core.selection.what_ifs import Outcome, outcome_of, robust
from tests.conftest import larkspur_rig

LIMITS = Limits()
HOT, CLOGGED = WhatIf(Circumstance.ROOM, 34.0), WhatIf(Circumstance.FLOW, 60.0)


@pytest.fixture(scope="module")
def models(evidence: Evidence) -> Models:
    return fit_models(evidence)


@pytest.fixture(scope="module")
def known(models: Models) -> SettingBatch:
    return reachable(models, LIMITS).settings


@pytest.fixture(scope="module")
def choice(models: Models) -> Choice:
    return choose(models, LIMITS)


def core_in(models: Models, choice: Choice, what_if: WhatIf) -> float:
    there, limits = under(models, LIMITS, what_if)
    return float(judge(there, limits, one_setting(choice.pick.setting)).predicted.core_c[0])


@pytest.mark.parametrize(
    ("milder", "worse"),
    [
        (WhatIf(Circumstance.ROOM, 28.0), WhatIf(Circumstance.ROOM, 33.0)),
        (WhatIf(Circumstance.ALTITUDE, 0.0), WhatIf(Circumstance.ALTITUDE, 2500.0)),
        (WhatIf(Circumstance.FLOW, 100.0), WhatIf(Circumstance.FLOW, 50.0)),
        (WhatIf(Circumstance.PASTE, 0.0), WhatIf(Circumstance.PASTE, 6.0)),
    ],
)
def test_a_worse_circumstance_is_hotter(models: Models, choice: Choice, milder: WhatIf, worse: WhatIf) -> None:
    assert core_in(models, choice, worse) > core_in(models, choice, milder) + 2.0


def test_a_circumstance_that_changes_nothing_is_as_measured(models: Models, choice: Choice) -> None:
    plain = float(judge(models, LIMITS, one_setting(choice.pick.setting)).predicted.core_c[0])
    same = [
        WhatIf(Circumstance.ROOM, LIMITS.design_room_c),
        WhatIf(Circumstance.FLOW, 100.0),
        WhatIf(Circumstance.PASTE, 0.0),
        WhatIf(Circumstance.ALTITUDE, models.card.room.get("altitude_m", 0.0)),
    ]
    for one in same:
        assert core_in(models, choice, one) == pytest.approx(plain, abs=1e-6)


def test_paste_adds_its_kelvins_at_a_hundred_watts(models: Models) -> None:
    """3 K at 100 W are 3 K at 100 W, and 1.8 K at 60 W."""
    there, _ = under(models, LIMITS, WhatIf(Circumstance.PASTE, 3.0))
    speeds = np.full((2, len(models.heat.groups)), 600.0)
    watts = np.array([100.0, 60.0])
    more = there.heat.rise(watts, speeds)[0] - models.heat.rise(watts, speeds)[0]
    assert more == pytest.approx([3.0, 1.8])
    assert there.heat.rise_alone(watts, speeds) == pytest.approx(there.heat.rise(watts, speeds)[0])


def test_a_filter_that_lets_less_through_is_a_slower_fan(models: Models) -> None:
    """Fan laws: 70 % of the flow is what the case's fans give at 70 % of their speed; the cooler's own fan stays as it is."""
    there, _ = under(models, LIMITS, WhatIf(Circumstance.FLOW, 70.0))
    groups = models.heat.groups
    fast = np.array([[900.0 if group == "case" else 700.0 for group in groups]])
    slow = np.array([[630.0 if group == "case" else 700.0 for group in groups]])
    watts = np.array([110.0])
    assert there.heat.rise(watts, fast)[0] == pytest.approx(models.heat.rise(watts, slow)[0])


def test_altitude_is_the_same_as_where_a_setting_is_foretold(models: Models, choice: Choice) -> None:
    """Air at 1500 m has 0.8638 of the density at sea level (ISO 2533; from memory)."""
    here = models.card.room.get("altitude_m", 0.0)
    assert here == 0.0 or here < 1500.0
    there, _ = under(models, LIMITS, WhatIf(Circumstance.ALTITUDE, 1500.0))
    from niente.core.science.air_density import density_ratio

    assert density_ratio(1500.0) == pytest.approx(0.8638, abs=0.0005)
    share = density_ratio(1500.0) / density_ratio(here)
    told = predict_point(models, choice.pick.setting, models.heavy_load, 28.0, share).core_c.value
    own = predict_point(there, choice.pick.setting, models.heavy_load, 28.0).core_c.value
    assert told == pytest.approx(own, abs=1e-6)


def test_fans_that_fail_stand_and_are_not_heard(models: Models, choice: Choice) -> None:
    there, limits = under(models, LIMITS, WhatIf(Circumstance.DEAD_FANS, part="case"))
    judged = judge(there, limits, one_setting(choice.pick.setting))
    plain = judge(models, LIMITS, one_setting(choice.pick.setting))
    assert judged.figures.stands[0]
    assert judged.predicted.alone_dba[0] < plain.predicted.alone_dba[0]
    assert judged.predicted.headroom_k[0] < plain.predicted.headroom_k[0]


def test_a_listener_at_night_hears_the_background_of_the_night(models: Models, choice: Choice, known: SettingBatch) -> None:
    night = outcome_of(models, LIMITS, choice.pick.setting, WhatIf(Circumstance.NIGHT), known)
    day = outcome_of(models, LIMITS, choice.pick.setting, WhatIf(Circumstance.BY_DAY), known)
    assert night.heard_dba < day.heard_dba  # the day's background is the louder one
    assert night.holds
    assert day.mark == "niente"


def test_another_load_counts_and_keeps_the_headroom_too(models: Models) -> None:
    there, limits = under(models, LIMITS, WhatIf(Circumstance.OTHER_LOAD, part=models.heavy_load))
    assert there.count_load == models.heavy_load
    assert limits.each_load[models.heavy_load].min_headroom_k == LIMITS.min_headroom_k
    own = LIMITS.with_load("single", LoadLimits(95.0, 12.0))
    _, kept = under(models, own, WhatIf(Circumstance.OTHER_LOAD, part="single"))
    assert kept.each_load["single"] == LoadLimits(95.0, 12.0)  # what it must keep already stays


def test_a_load_that_was_never_run_is_not_guessed_at(models: Models, choice: Choice, known: SettingBatch) -> None:
    never = WhatIf(Circumstance.OTHER_LOAD, part="show", must_hold=True)
    found = outcome_of(models, LIMITS, choice.pick.setting, never, known)
    assert not found.holds
    assert not found.breaks
    assert found.instead is None
    assert outcome_brief(found) == outcome_text(found) == "not known: show was not run"
    unsure = robust(models, choice, [never], known)
    assert unsure is not None
    assert unsure.pick is None
    assert "show was not run" in robust_text(unsure)


def test_what_a_circumstance_may_be_about(models: Models) -> None:
    loads = parts_for(Circumstance.OTHER_LOAD, models.card)
    assert loads[0] == "show"  # processor and outputs together: another mix
    assert "dome" not in loads  # which counts already
    assert "idle" not in loads
    assert parts_for(Circumstance.DEAD_FANS, models.card) == models.card.fan_groups()
    assert parts_for(Circumstance.ROOM, models.card) == ()


def test_the_pick_of_a_hot_room_truly_holds_there(models: Models, choice: Choice, known: SettingBatch) -> None:
    """Against the stand-in's own steady state."""
    found = outcome_of(models, LIMITS, choice.pick.setting, HOT, known)
    assert not found.holds
    assert found.instead is not None
    assert found.instead.in_room_dba > found.there.in_room_dba
    truth = larkspur_rig().true_settled_core_c(found.instead.setting, models.heavy_load, 34.0)
    assert models.card.limits.core_temperature_c - models.card.limits.margin_k - truth >= LIMITS.min_headroom_k - 0.3
    whole = choose(models, msgspec.structs.replace(LIMITS, design_room_c=34.0))
    assert found.instead.in_room_dba == pytest.approx(whole.pick.in_room_dba, abs=0.35)


def test_a_robust_pick_holds_in_all_that_it_must(models: Models, choice: Choice, known: SettingBatch) -> None:
    """Against brute force: of a fine lattice over watts and both groups' duties, none that holds everywhere is quieter."""
    must = [msgspec.structs.replace(one, must_hold=True) for one in (HOT, CLOGGED)]
    found = robust(models, choice, must, known)
    assert found is not None
    assert found.pick is not None
    for one in must:
        assert outcome_of(models, LIMITS, found.pick.setting, one, known).holds
    assert found.louder_db > 0.0
    assert "dB" in robust_text(found)
    points = np.array(list(itertools.product(range(98, 112), range(24, 70, 2), range(40, 80, 4))), dtype=float)
    values = {"sustained_power_w": points[:, 0], "fan_duty.case": points[:, 1], "fan_duty.cooler": points[:, 2]}
    fine = SettingBatch(models.base, values, points.shape[0])
    holds = np.ones(fine.count, dtype=bool)
    for there, limits in [(models, LIMITS), *(under(models, LIMITS, one) for one in must)]:
        holds &= np.logical_and.reduce(list(keeps(judge(there, limits, fine), limits).values()))
    assert holds.any()
    quietest = float(np.min(judge(models, LIMITS, fine).predicted.in_room_dba[holds]))
    assert found.pick.in_room_dba <= quietest + 0.15


def test_nothing_must_hold_and_nothing_can(models: Models, choice: Choice, known: SettingBatch) -> None:
    assert robust(models, choice, [HOT], known) is None
    furnace = WhatIf(Circumstance.ROOM, 58.0, must_hold=True)
    found = robust(models, choice, [furnace], known)
    assert found is not None
    assert found.pick is None
    assert "hotter room" in robust_text(found)
    there = outcome_of(models, LIMITS, choice.pick.setting, furnace, known)
    assert there.instead is None
    assert there.problem
    assert outcome_brief(there) == "nothing holds there"
    assert "nothing holds there" in outcome_text(there)


def test_circumstances_that_make_no_sense_are_left_out(models: Models, choice: Choice, known: SettingBatch) -> None:
    absurd = (WhatIf(Circumstance.FLOW, 0.0), WhatIf(Circumstance.DEAD_FANS), WhatIf(Circumstance.ROOM, 400.0))
    assert all(one.problem() for one in absurd)
    assert robust(models, choice, [msgspec.structs.replace(one, must_hold=True) for one in absurd], known) is None


def test_the_usual_circumstances_are_those_that_the_rig_can_be_in(models: Models) -> None:
    kinds = [one.kind for one in usual_what_ifs(models.card)]
    assert Circumstance.NIGHT in kinds
    assert Circumstance.DEAD_FANS in kinds
    assert not any(one.problem() for one in usual_what_ifs(models.card))
    bare = msgspec.structs.replace(models.card, listener={})
    assert Circumstance.NIGHT not in [one.kind for one in usual_what_ifs(bare)]


def test_a_rig_that_does_not_say_where_air_goes_has_all_fans_hindered(models: Models) -> None:
    card = msgspec.structs.replace(models.card, air=None)
    blind = msgspec.structs.replace(models, evidence=msgspec.structs.replace(models.evidence, card=card))
    there, _ = under(blind, LIMITS, CLOGGED)
    assert there.heat.carried == (0.6, 0.6)
    air = models.card.air
    assert air is not None
    assert any(way.groups == ("cooler",) and ROOM not in (way.start, way.end) for way in air.ways)
    assert dict(zip(models.heat.groups, under(models, LIMITS, CLOGGED)[0].heat.carried, strict=True)) == {
        "case": 0.6,
        "cooler": 1.0,
    }


def test_circumstances_in_words(models: Models, choice: Choice, known: SettingBatch) -> None:
    found: list[Outcome] = [outcome_of(models, LIMITS, choice.pick.setting, one, known) for one in (HOT, CLOGGED)]
    assert what_if_title(HOT) == "hotter room, 34\N{NO-BREAK SPACE}°C"
    assert what_if_title(WhatIf(Circumstance.DEAD_FANS, part="case")) == "fans that fail, case"
    assert what_if_title(WhatIf(Circumstance.NIGHT)) == "at night"
    assert all("headroom" in outcome_text(one) for one in found)
    assert all(one.there.breaks == one.breaks for one in found)
    assert "28" in assumed_text(LIMITS)
