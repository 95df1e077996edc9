"""Axes and orders: what is promised of them holds for any question."""

import itertools
from collections import Counter

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from niente.core.model.plan import Step
from niente.core.model.question import Axis, FanSchool, Order, Question, Span
from niente.core.model.setting import Setting
from niente.core.planning.axis_values import axis_problem, snapped
from niente.core.planning.builders import base_of, spots
from niente.core.planning.order import arranged
from niente.core.planning.risk import as_risky, depth_mv, is_telling
from niente.core.planning.templates import first_question, plan_for
from tests.core.planning.plans import card_of
from tests.grids import grid_question

CARD = card_of("larkspur")
powers = st.lists(st.integers(45, 200).map(float), min_size=1, max_size=5, unique=True)
duties = st.lists(st.integers(0, 100).map(float), min_size=1, max_size=4, unique=True)
offsets = st.lists(st.integers(-30, 0).map(lambda n: 5.0 * n), min_size=1, max_size=4, unique=True)


def free(power: list[float], duty: list[float], offset: list[float], order: Order, repeats: int) -> Question:
    axes = (
        Axis("sustained_power_w", tuple(power)),
        Axis("fan_duty.case", tuple(duty)),
        Axis("voltage_offset_mv", tuple(offset)),
    )
    return msgspec.structs.replace(first_question(CARD, "free"), axes=axes, order=order, repeats=repeats)


def steps_of(question: Question) -> list[Step]:
    return list(plan_for(CARD, question).steps)


@settings(max_examples=40)
@given(powers, duties, offsets, st.sampled_from(list(Order)), st.integers(1, 3))
def test_an_order_runs_everything_as_often_as_asked(
    power: list[float], duty: list[float], offset: list[float], order: Order, repeats: int
) -> None:
    question = free(power, duty, offset, order, repeats)
    found = Counter(step.setting.key() for step in steps_of(question))
    points = len(power) * len(duty) * len(offset)
    assert len(found) == points
    times = repeats * (2 if order == Order.MIRRORED else 1)
    assert set(found.values()) == {times * len(question.loads)}
    assert steps_of(question) == steps_of(question)


@settings(max_examples=40)
@given(powers, duties, st.integers(1, 2))
def test_warm_ascends_and_takes_no_long_step(power: list[float], duty: list[float], repeats: int) -> None:
    """Between runs: keep warm, ascending power (common practice, no source)."""
    steps = steps_of(free(power, duty, [0.0], Order.WARM, repeats))
    watts = [step.setting.sustained_power_w for step in steps]
    assert watts == sorted(watts)  # type: ignore[type-var]
    for a, b in itertools.pairwise(steps):
        moved = a.setting.sustained_power_w != b.setting.sustained_power_w
        turned = a.setting.fan_duty["case"] != b.setting.fan_duty["case"]
        assert not (moved and turned)  # one thing at a time
    assert steps[0].setting.fan_duty["case"] == max(duty)  # where it is coolest


@given(powers, duties)
def test_a_cold_start_rests_before_every_run(power: list[float], duty: list[float]) -> None:
    steps = steps_of(msgspec.structs.replace(free(power, duty, [0.0], Order.COLD, 1), idle_minutes=12.0))
    assert {step.exposure.idle_s for step in steps} == {720.0}
    watts = [step.setting.sustained_power_w for step in steps]
    assert watts == sorted(watts)  # type: ignore[type-var]


@given(powers, duties)
def test_there_and_back_again_reads_the_same_both_ways(power: list[float], duty: list[float]) -> None:
    steps = steps_of(free(power, duty, [0.0], Order.MIRRORED, 1))
    assert steps == steps[::-1]


@settings(max_examples=40)
@given(powers, offsets)
def test_risk_comes_last(power: list[float], offset: list[float]) -> None:
    steps = steps_of(free(power, [40.0], offset, Order.RISK_LAST, 1))
    depths = [depth_mv(step.setting) for step in steps]
    assert depths == sorted(depths)


def test_random_is_no_order_and_always_the_same() -> None:
    question = free([60.0, 80.0, 100.0, 120.0], [20.0, 40.0, 60.0], [0.0], Order.RANDOM, 1)
    steps = steps_of(question)
    assert steps == steps_of(question)
    watts = [step.setting.sustained_power_w for step in steps]
    assert watts != sorted(watts)  # type: ignore[type-var]
    other = free([60.0, 80.0, 100.0, 140.0], [20.0, 40.0, 60.0], [0.0], Order.RANDOM, 1)
    assert [s.setting.fan_duty["case"] for s in steps_of(other)] != [s.setting.fan_duty["case"] for s in steps]


def test_two_states_are_compared_in_turn() -> None:
    """Alternate A B B A for comparisons (common practice, no source)."""
    card = card_of("larkspur")
    plan = plan_for(card, first_question(card, "variants"))
    assert [step.variant for step in plan.steps] == ["filter in", "filter out", "filter out", "filter in"]
    assert [step.stage for step in plan.steps] == ["A", "B", "B", "A"]


# -- axes --------------------------------------------------------------------------------------------------------------


@given(st.floats(1.0, 200.0), st.floats(0.1, 100.0), st.integers(1, 40))
def test_a_span_has_both_ends_and_even_steps(first: float, step: float, count: int) -> None:
    last = first + step * count
    points = Span(first, last, step).points()
    assert points[0] == pytest.approx(first, rel=1e-4)
    assert points[-1] == last
    assert len(points) == count + 1
    gaps = [b - a for a, b in itertools.pairwise(points)]
    assert all(gap == pytest.approx(step, rel=0.02, abs=0.02) for gap in gaps)


def test_places_by_ratio() -> None:
    """Each 1.38 times the last: 20, 28, 38, 52, 72, 100 %."""
    axis = Axis("fan_duty.case", span=Span(20.0, 100.0, 1.38, by_ratio=True))
    assert snapped(axis, CARD) == (20.0, 28.0, 38.0, 53.0, 73.0, 100.0)


@given(st.floats(1.0, 50.0), st.floats(1.05, 3.0), st.integers(1, 12))
def test_a_ratio_is_kept_but_for_the_last_step(first: float, ratio: float, count: int) -> None:
    points = Span(first, first * ratio**count, ratio, by_ratio=True).points()
    ratios = [b / a for a, b in itertools.pairwise(points)]
    assert all(one == pytest.approx(ratio, rel=0.02) for one in ratios)


@pytest.mark.parametrize(
    ("axis", "words"),
    [
        (Axis("sustained_power_w", ()), "it is empty"),
        (Axis("sustained_power_w", span=Span(160.0, 60.0, 10.0)), "runs backwards, from 160 to 60"),
        (Axis("sustained_power_w", span=Span(60.0, 160.0, 0.5)), "finer than the rig's 1 W"),
        (Axis("sustained_power_w", span=Span(60.0, 160.0, 0.0)), "not positive"),
        (Axis("sustained_power_w", span=Span(60.0, 160.0, float("nan"))), "a figure is missing"),
        (Axis("sustained_power_w", span=Span(60.0, 160.0, 1e-9)), "more than 100000 points"),
        (Axis("fan_duty.case", span=Span(0.0, 100.0, 1.5, by_ratio=True)), "start above 0"),
        (Axis("sustained_power_w", (20.0,)), "lies outside 45 to 200"),
        (Axis("sustained_power_w", (80.0, 80.0)), "stands there twice"),
        (Axis("voltage_offset_mv", (-10.0, -12.0)), "closer than the rig's step of 5 mV"),
        (Axis("warp_factor", (1.0,)), "no control 'warp_factor'"),
        (Axis("fan_speed_rpm.door", (600.0,)), "no speed of the fan group 'door'"),
    ],
)
def test_what_is_wrong_with_an_axis_is_said(axis: Axis, words: str) -> None:
    assert words in axis_problem(axis, CARD).replace("\u00a0", " ")


def test_a_fixed_voltage_of_zero_is_a_place_of_its_own() -> None:
    heron = card_of("heron")
    axis = Axis("fixed_clock_mhz", (0.0, 3000.0))
    assert not axis_problem(axis, heron)
    assert snapped(axis, heron) == (0.0, 3000.0)


# -- fans --------------------------------------------------------------------------------------------------------------


def test_fans_as_used_are_on_a_curve_and_nowhere_else() -> None:
    for name in ("larkspur", "wren"):
        card = card_of(name)
        question = msgspec.structs.replace(grid_question(card), fans=FanSchool.AS_USED, base=Setting())
        base = base_of(card, question)
        assert set(base.fan_curve) >= set(card.fan_groups()[:1])
        heavy = [step for step in plan_for(card, question).steps if step.stage == "capacity"]
        assert all(step.setting.fan_curve == base.fan_curve for step in heavy)
    fixed = base_of(card_of("larkspur"), grid_question(card_of("larkspur")))
    assert not fixed.fan_curve


def test_a_fan_axis_begins_where_the_machine_is_coolest() -> None:
    axes = (Axis("sustained_power_w", (80.0, 100.0)), Axis("fan_duty.case", (20.0, 60.0)))
    found = [spot.setting for spot in spots(CARD, CARD.stock, axes)]
    assert [one.fan_duty["case"] for one in found] == [60.0, 20.0, 20.0, 60.0]


# -- what one failure says ---------------------------------------------------------------------------------------------


def implied(asked: Setting, failed: Setting) -> bool:
    return is_telling(failed) and as_risky(asked, failed)


depths = st.integers(-30, 0).map(lambda n: 5.0 * n)


@given(depths, depths, st.integers(45, 200), st.integers(45, 200))
def test_a_failure_implies_what_is_as_deep_and_no_slower(deep: float, other: float, watts: int, more: int) -> None:
    """An offset that is safe while power is capped fails when the clock goes higher: risk last, and implied failures out."""
    failed = Setting(voltage_offset_mv=deep, sustained_power_w=float(watts))
    asked = Setting(voltage_offset_mv=other, sustained_power_w=float(more))
    assert implied(asked, failed) == (deep < 0 and other <= deep and more >= watts)


def test_what_a_failure_does_not_say() -> None:
    failed = Setting(voltage_offset_mv=-60.0, sustained_power_w=120.0, clock_cap_mhz=4800.0)
    assert not implied(failed.replaced("clock_cap_mhz", 4000.0), failed)  # a lower clock needs less voltage
    assert not implied(failed.replaced("voltage_offset_mv", -55.0), failed)
    assert implied(failed.replaced("core_offset_mv.3", -10.0), failed)
    assert not implied(failed.replaced("fixed_voltage_v", 1.1), failed)
    assert not implied(Setting(sustained_power_w=200.0), Setting(sustained_power_w=100.0))  # no offset: it says nothing
    fixed = Setting(fixed_clock_mhz=3900.0, fixed_voltage_v=1.05)
    assert implied(fixed.replaced("fixed_voltage_v", 1.0), fixed)
    assert not implied(fixed.replaced("fixed_voltage_v", 1.1), fixed)
    assert not implied(fixed.replaced("fixed_clock_mhz", 3600.0), fixed)


def test_repeats_stand_side_by_side_where_that_is_warmest() -> None:
    question = free([80.0, 100.0], [40.0], [0.0], Order.WARM, 2)
    steps = arranged(steps_of(msgspec.structs.replace(question, repeats=1)), question, CARD)
    assert [step.setting.sustained_power_w for step in steps] == [80.0, 80.0, 100.0, 100.0]
