"""Settings and plans: what is wrong with one is said with its place, and nothing is touched."""

import json

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from niente.core.model.errors import DocumentError, PlanError
from niente.core.model.plan import Exposure, Plan, read_plan
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.planning.cost import cost_of
from niente.core.planning.progress import plan_rows
from niente.core.planning.templates import plan_for
from niente.core.planning.validation import check_plan
from tests.conftest import short_plan
from tests.grids import grid_question

controls = st.sampled_from(["voltage_offset_mv", "sustained_power_w", "temperature_cap_c", "fan_duty.case", "fan_duty.cooler"])
settings = st.dictionaries(controls, st.floats(-200, 200)).map(
    lambda named: Setting().over(_from(named)),
)


def _from(named: dict[str, float]) -> Setting:
    setting = Setting()
    for control, value in named.items():
        setting = setting.replaced(control, value)
    return setting


@given(settings, settings)
def test_a_setting_over_another_wins_where_it_speaks(top: Setting, base: Setting) -> None:
    both = top.over(base)
    named = dict(top.controls())
    for control, value in both.controls():
        assert value == named.get(control, base.value(control))
    assert top.over(top) == top


@given(settings)
def test_a_setting_survives_its_json(setting: Setting) -> None:
    assert msgspec.json.decode(msgspec.json.encode(setting), type=Setting) == setting


def test_an_unknown_control_is_refused() -> None:
    with pytest.raises(AttributeError):
        Setting().replaced("warp_factor", 9.0)


def test_a_plan_survives_its_json(card: RigCard) -> None:
    plan = plan_for(card, grid_question(card))
    assert read_plan(plan.to_json()) == plan


def _broken(card: RigCard, change: object) -> bytes:
    data = json.loads(plan_for(card, grid_question(card)).to_json())
    change(data)  # type: ignore[operator]
    return json.dumps(data).encode()


@pytest.mark.parametrize(
    ("change", "path"),
    [
        (lambda data: data["entries"][2].pop("load"), "entries[2]"),
        (lambda data: data["entries"][1]["setting"].update(sustained_power="much"), "entries[1].setting"),
        (lambda data: data["entries"][0]["exposure"].update(least_s="long"), "entries[0].exposure.least_s"),
        (lambda data: data.pop("guards"), "guards"),
        (lambda data: data.update(entries=7), "entries"),
    ],
)
def test_json_that_is_wrong_is_refused_with_its_path(card: RigCard, change: object, path: str) -> None:
    with pytest.raises(DocumentError) as refused:
        read_plan(_broken(card, change), "night.json")
    assert path in str(refused.value)
    assert "night.json" in str(refused.value)
    assert "nothing was run" in str(refused.value)


@pytest.mark.parametrize("text", [b"", b"{", b"[1, 2]", b"\xff\xfe", b"plain words"])
def test_what_is_no_json_is_refused(text: bytes) -> None:
    with pytest.raises(DocumentError):
        read_plan(text)


def test_a_plan_of_another_format_is_refused(card: RigCard) -> None:
    with pytest.raises(DocumentError, match="niente-plan/9"):
        read_plan(_broken(card, lambda data: data.update(format="niente-plan/9")))


@pytest.mark.parametrize(
    ("plan", "words"),
    [
        (lambda card: short_plan(card, Setting(sustained_power_w=900.0)), "sustained_power_w = 900 lies outside"),
        (lambda card: short_plan(card, Setting(burst_power_w=100.0)), "no control 'burst_power_w'"),
        (lambda card: short_plan(card, Setting(), load="juggling"), "no load 'juggling'"),
        (lambda card: short_plan(card), "no steps"),
        (lambda card: short_plan(card, Setting(), seconds=-1.0), "least_s"),
        (lambda card: msgspec.structs.replace(short_plan(card, Setting()), rig="heron"), "made for the rig 'heron'"),
        (lambda card: msgspec.structs.replace(short_plan(card, Setting()), guards=()), "no guard on the hottest core"),
    ],
)
def test_a_plan_the_rig_cannot_run_is_refused(card: RigCard, plan: object, words: str) -> None:
    with pytest.raises(PlanError) as refused:
        check_plan(plan(card), card)  # type: ignore[operator]
    assert words in str(refused.value)
    assert "not touched" in refused.value.safe


def test_a_guard_above_the_makers_limit_is_refused(card: RigCard) -> None:
    plan = short_plan(card, Setting())
    hot = msgspec.structs.replace(plan.guards[0], trip=120.0)
    with pytest.raises(PlanError, match="above the maker's limit"):
        check_plan(msgspec.structs.replace(plan, guards=(hot,)), card)


def test_the_default_plan_runs_on_its_rig(card: RigCard) -> None:
    plan = plan_for(card, grid_question(card))
    check_plan(plan, card)
    assert isinstance(plan, Plan)
    heavy = [step for step in plan.steps if step.load == "vector" and step.stage == "capacity"]
    powers = [step.setting.sustained_power_w or 0.0 for step in heavy]
    assert all(powers)
    assert powers == sorted(powers)  # keep warm: power ascends


def test_a_plan_costs_less_than_the_careful_half_hours(card: RigCard) -> None:
    question = grid_question(card)
    cost = cost_of(plan_rows(plan_for(card, question), card), card, question)
    assert cost.typical_s < cost.naive_s
    assert cost.naive_s == cost.naive_runs * 1800.0
    assert cost.typical_s <= cost.max_s


def test_no_exposure_promises_better_than_half_a_kelvin() -> None:
    assert Exposure(10.0, 20.0, known_to_k=0.2).problems()
