"""The dry run, costs and what could be asked instead: all of it before anything is touched."""

import itertools
import math
from pathlib import Path

import msgspec
import pytest

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.models import Models, fit_models
from niente.core.model.errors import DocumentError, NotEnoughError, PlanError
from niente.core.model.guard_rules import default_guards
from niente.core.model.plan import PLAN_FORMAT, Exposure, Guard, GuardAction, Plan, QuietHours, Search, Step
from niente.core.model.question import Axis, FanSchool, Order, Question, Span
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.planning.alternatives import of_budget, of_step, of_target, within
from niente.core.planning.cost import AIR, Pace, cost_of, naive_runs, pace_of, typical_seconds
from niente.core.planning.dry_run import DryRun, dry_run, hand_words
from niente.core.planning.forecast import foresee, heard_at
from niente.core.planning.open_steps import duties_at_level, duty_at_speed
from niente.core.planning.own_templates import for_rig, keep, kept, own_text, read_own
from niente.core.planning.progress import plan_rows
from niente.core.planning.templates import first_question, plan_for
from niente.core.planning.validation import check_plan, findings
from tests.conftest import larkspur_rig
from tests.core.planning.plans import card_of
from tests.grids import grid_question


@pytest.fixture(scope="module")
def models(evidence: Evidence) -> Models:
    return fit_models(evidence)


def dry(
    card: RigCard, plan: Plan, models: Models | None = None, question: Question | None = None, hour: float = 12.0
) -> DryRun:
    rows = plan_rows(plan, card)
    return dry_run(plan, card, rows, foresee(models, [row.step for row in rows]), question=question, hour=hour)


def hot(card: RigCard, *watts: float, guards: tuple[Guard, ...] | None = None, **changed: object) -> Plan:
    base = Setting(fan_duty={"case": 20.0, "cooler": 40.0}, temperature_cap_c=95.0)
    until = Exposure(480.0, 2400.0, 1.0)
    steps = tuple(Step(base.replaced("sustained_power_w", one), "vector", until, "capacity", "a test") for one in watts)
    return msgspec.structs.replace(Plan(PLAN_FORMAT, card.name, "free", steps, guards or default_guards(card)), **changed)


def test_a_guard_that_the_plan_must_trip_is_said(card: RigCard, models: Models) -> None:
    low = (Guard("core_temperature_c", 75.0, 70.0, 3.0, GuardAction.STOP, "a low one"),)
    said = dry(card, hot(card, 50.0, 120.0, 150.0, guards=low), models)
    assert said.trips == (1, 2)
    assert any("Runs 2 to 3 must trip a guard" in words for words in said.warnings)
    assert said.hottest == 2
    assert said.near[0].guard == low[0]
    assert said.near[0].gap < 0
    fine = dry(card, hot(card, 60.0, 80.0), models)
    assert not fine.trips
    assert fine.near[0].index == 1
    assert fine.near[0].gap == pytest.approx(fine.near[0].guard.trip - foresee(models, hot(card, 80.0).steps)[0].core_c)


def test_a_power_guard_is_tripped_by_the_limit_itself(card: RigCard) -> None:
    """Nothing has to be measured for that: the heaviest load draws what the limit lets it, up to stock."""
    power = (*default_guards(card), Guard("package_power_w", 100.0, 90.0, 3.0, GuardAction.STOP, "the supply"))
    assert dry(card, hot(card, 80.0, 120.0, guards=power)).trips == (1,)
    deep = hot(card, 120.0, guards=power)
    lower = msgspec.structs.replace(deep.steps[0], setting=deep.steps[0].setting.replaced("voltage_offset_mv", -80.0))
    assert not dry(card, msgspec.structs.replace(deep, entries=(lower,))).trips  # it may never draw that much


def test_without_models_nothing_is_claimed(card: RigCard) -> None:
    said = dry(card, hot(card, 150.0))
    assert said.hottest is None
    assert all(math.isnan(near.gap) for near in said.near if near.guard.quantity == "core_temperature_c")


def test_hands_are_counted_and_told() -> None:
    card = card_of("plover")  # its firmware holds the power
    question = grid_question(card)
    plan = plan_for(card, question)
    said = dry(card, plan)
    limits = len(question.axis("sustained_power_w").points())  # type: ignore[union-attr]
    assert limits <= len(said.hands) <= 3 * limits + 3
    rows = plan_rows(plan, card)
    assert "sustained power limit" in hand_words(card, rows, said.hands[0])
    lark = card_of("larkspur")
    compared = plan_for(lark, first_question(lark, "variants"))
    assert dry(lark, compared).hands == (1, 3)
    assert "becomes 'filter out'" in hand_words(lark, plan_rows(compared, lark), 1)
    assert dry(lark, plan_for(lark, grid_question(lark))).hands == ()


def test_a_plan_of_ten_thousand_runs_says_its_hours(card: RigCard) -> None:
    axes = (Axis("sustained_power_w", span=Span(60.0, 160.0, 1.0)), Axis("fan_duty.case", span=Span(0.0, 99.0, 1.0)))
    question = msgspec.structs.replace(first_question(card, "free"), axes=axes)
    plan = plan_for(card, question)
    assert len(plan.entries) == 10_100
    said = dry(card, plan, question=question)
    assert any("10100 runs take" in words and "h" in words for words in said.warnings)
    assert not said.wrong
    assert said.cost.naive_s == 10_100 * 1800.0


def test_what_keeps_a_plan_from_running(card: RigCard) -> None:
    ladder = plan_for(card, first_question(card, "undervolt-ladder"))
    search = next(entry for entry in ladder.entries if isinstance(entry, Search))
    step = hot(card, 80.0).steps[0]
    changed = msgspec.structs.replace

    def wrong(*entries: object, **more: object) -> list[str]:
        return findings(changed(hot(card, 80.0), entries=entries, **more), card)

    for found, words in (
        (wrong(changed(step, load="juggling")), "no load 'juggling'"),
        (wrong(changed(step, takes="nothing")), "no search of that name"),
        (wrong(changed(step, variant="in the garden")), "no variant 'in the garden'"),
        (wrong(changed(step, speed_rpm={"door": 500.0})), "no fan group 'door'"),
        (wrong(changed(step, level_dba=38.0)), "names no fans"),
        (wrong(changed(search, fine=1.0)), "finer than the rig's 5"),
        (wrong(changed(search, deepest=-400.0)), "outside the rig's range"),
        (wrong(changed(search, controls=("warp",))), "no control 'warp'"),
        (wrong(changed(search, loads=("tiles",))), "not checked"),
        (wrong(step, budget_s=0.0), "budget is not positive"),
        (wrong(), "no steps"),
    ):
        assert any(words in one for one in found), (words, found)
    with pytest.raises(PlanError, match="no fan group"):
        check_plan(changed(hot(card, 80.0), entries=(changed(step, speed_rpm={"door": 500.0}),)), card)
    assert not wrong(search, changed(step, takes=search.name))


def test_schools_that_hide_something_are_flagged(card: RigCard) -> None:
    used = msgspec.structs.replace(grid_question(card), fans=FanSchool.AS_USED)
    assert any(
        "no longer shifts one for one with the room" in words
        for words in dry(card, plan_for(card, used), question=used).warnings
    )
    axis = Axis("voltage_offset_mv", (0.0, -20.0, -40.0))
    wild = msgspec.structs.replace(first_question(card, "free"), axes=(axis,), order=Order.RANDOM)
    assert any("random order" in words for words in dry(card, plan_for(card, wild), question=wild).warnings)


@pytest.mark.parametrize(
    ("watts", "words"),
    [
        ((120.0, 80.0), "Run 1 must"),
        ((80.0, 120.0, 120.0, 120.0), "Runs 2 to 4 must"),
        ((120.0, 80.0, 120.0, 80.0, 120.0), "Runs 1, 3, 5 must"),
        ((120.0, 80.0, 120.0, 80.0, 120.0, 80.0, 120.0), "Runs 1, 3, 5 and 1 more must"),
    ],
)
def test_runs_that_must_trip_are_named(card: RigCard, watts: tuple[float, ...], words: str) -> None:
    power = (*default_guards(card), Guard("package_power_w", 110.0, 100.0, 3.0, GuardAction.SKIP, "?"))
    assert any(text.startswith(words) for text in dry(card, hot(card, *watts, guards=power)).warnings)


def test_runs_too_loud_for_the_quiet_hours_are_named(card: RigCard, models: Models) -> None:
    plan = msgspec.structs.replace(hot(card, 60.0, 70.0), quiet=QuietHours(22.0, 7.0, 25.0))
    loud = msgspec.structs.replace(plan.steps[1], setting=plan.steps[1].setting.replaced("fan_duty.case", 100.0))
    plan = msgspec.structs.replace(plan, entries=(plan.steps[0], loud))
    assert dry(card, plan, models, hour=23.0).loud == (1,)
    assert dry(card, plan, models, hour=12.0).loud == ()


# -- costs -------------------------------------------------------------------------------------------------------------


def test_a_closer_target_takes_longer() -> None:
    times = [typical_seconds(Exposure(60.0, 7200.0, known_to_k=k), AIR) for k in (2.0, 1.0, 0.5)]
    assert times == sorted(times)
    assert times[1] == AIR.seconds
    assert times[2] - times[1] == pytest.approx(AIR.tau_s * math.log(2.0))  # half of it: a time constant times ln 2
    assert typical_seconds(Exposure(60.0, 60.0, idle_s=600.0)) == 660.0
    assert typical_seconds(Exposure(480.0, 600.0, known_to_k=0.5), Pace(9000.0)) == 600.0


def test_costs_are_learnt_from_the_book(evidence: Evidence) -> None:
    pace = pace_of(evidence.card, evidence)
    seconds = sorted(
        run.seconds for run in evidence.runs if run.load == "vector" and run.settled.known and run.outcome == "done"
    )
    assert seconds[0] <= pace.seconds <= seconds[-1]
    assert pace != AIR


def test_the_full_factorial_is_every_place_under_every_load(card: RigCard) -> None:
    question = grid_question(card)
    sizes = [len(axis.points()) for axis in question.axes]
    assert naive_runs(card, question) == math.prod(sizes) * len(question.loads)
    plan = plan_for(card, question)
    cost = cost_of(plan_rows(plan, card), card, question)
    assert cost.typical_s < cost.naive_s / 10.0
    assert cost.typical_s <= cost.max_s


def test_another_step_is_costed_before_it_is_made(card: RigCard, models: Models) -> None:
    question = grid_question(card).with_axis(Axis("fan_duty.case", span=Span(20.0, 100.0, 1.38, by_ratio=True)))
    ways = of_step(card, question, "fan_duty.case", AIR, models)
    runs = [way.runs for way in ways]
    assert runs == sorted(runs)
    assert [way.is_now for way in ways].count(True) == 1
    assert all(math.isfinite(way.core_hw) for way in ways)
    widths = [way.core_hw for way in ways]
    assert widths[-1] <= widths[0] + 0.05  # more runs never make it wider
    now = next(way for way in ways if way.is_now)
    assert now.typical_s == pytest.approx(cost_of(plan_rows(plan_for(card, question), card), card, question, AIR).typical_s)
    assert of_step(card, question, "no such control") == []


def test_another_target_is_costed_too(card: RigCard) -> None:
    ways = of_target(card, grid_question(card))
    assert [way.words for way in ways] == ["± 2 K", "± 1.5 K", "± 1 K", "± 0.7 K", "± 0.5 K"]
    times = [way.typical_s for way in ways]
    assert times == sorted(times)
    assert of_target(card, first_question(card, "soak")) == []


def test_a_budget_buys_runs_and_a_closer_interval(card: RigCard) -> None:
    question = msgspec.structs.replace(grid_question(card), budget_h=3.0)
    plan = plan_for(card, question)
    rows = plan_rows(plan, card)
    seconds = [typical_seconds(row.step.exposure, AIR) for row in rows]
    ways = of_budget(card, question, rows, seconds)
    assert [way.words for way in ways] == ["1 h", "2 h", "3 h", "4 h", "6 h", "all of it"]
    assert [way.is_now for way in ways] == [False, False, True, False, False, False]
    assert ways[-1].runs == len(rows)
    assert ways[-1].typical_s == pytest.approx(sum(seconds))
    assert all(way.typical_s <= (way.question.budget_h or 1e9) * 3600.0 for way in ways)
    known = [way.core_hw for way in ways if math.isfinite(way.core_hw)]
    assert all(later <= before + 0.05 for before, later in itertools.pairwise(known))  # more time never makes it wider
    assert math.isnan(ways[0].core_hw)  # an hour ends before the heat path was measured


@pytest.mark.parametrize("hours", [0.2, 1.2, 4.0])
def test_a_budget_too_short_says_what_it_can_answer_instead(card: RigCard, hours: float) -> None:
    question = msgspec.structs.replace(grid_question(card), budget_h=hours)
    plan = plan_for(card, question)
    said = dry(card, plan, question=question)
    assert any("more than its budget" in words for words in said.warnings)
    ways = within(card, question, hours * 3600.0)
    assert ways
    assert all(way.typical_s <= hours * 3600.0 for way in ways)
    if hours == 4.0:
        assert ways[0].question.template == "quiet-point"  # the same, with fewer places, before other questions
    if hours == 0.2:
        assert {way.question.template for way in ways} == {"fan-sweep"}


# -- what follows from readings ----------------------------------------------------------------------------------------


def test_a_speed_is_the_duty_that_was_seen_to_give_it(evidence: Evidence) -> None:
    card = evidence.card
    duty = duty_at_speed(card, evidence.runs, "case", 600.0)
    rig = larkspur_rig()
    rig.apply(Setting(fan_duty={"case": duty}))
    rig.start("idle")
    index = card.index("fan_speed_rpm.case")
    assert index is not None
    _, rows, _ = rig.record(60)
    assert rows[-10:, index].mean() == pytest.approx(600.0, abs=25.0)
    with pytest.raises(NotEnoughError, match="9000 rpm"):
        duty_at_speed(card, evidence.runs, "case", 9000.0)


def test_a_level_is_the_duty_at_which_the_machine_is_as_loud(evidence: Evidence) -> None:
    """Held against the stand-in's own level, free of noise."""
    found = duties_at_level(evidence.card, evidence.runs, ("case",), 34.0)
    cooler = 40.0  # where the readings were taken with it
    level = larkspur_rig().true_level_dba({"case": found["case"], "cooler": cooler})
    assert level == pytest.approx(34.0, abs=1.0)
    with pytest.raises(NotEnoughError, match="not to 70"):
        duties_at_level(evidence.card, evidence.runs, ("case",), 70.0)


def test_what_is_louder_at_lower_duties_is_at_least_as_loud(evidence: Evidence) -> None:
    step = Step(Setting(fan_duty={"case": 100.0, "cooler": 100.0}), "vector", Exposure(60.0, 60.0))
    heard = heard_at(evidence, step)
    assert heard == max(run.noise_dba for run in evidence.runs if run.outcome == "done")
    assert math.isnan(heard_at(None, step))
    assert math.isnan(
        heard_at(evidence, msgspec.structs.replace(step, setting=Setting(fan_duty={"case": 0.0, "cooler": -1.0})))
    )


# -- templates of one's own --------------------------------------------------------------------------------------------


def test_a_question_is_kept_and_asked_again(tmp_path: Path) -> None:
    card = card_of("larkspur")
    question = msgspec.structs.replace(grid_question(card), budget_h=9.0, since="2026-01-01T00:00:00+00:00")
    file = keep(tmp_path, "Night, quiet", question)
    assert list(kept(tmp_path)) == ["Night, quiet"]
    own = read_own(file.read_bytes(), file.name)
    assert own.question == msgspec.structs.replace(question, since="")
    keep(tmp_path, "Night, quiet", grid_question(card))
    assert len(list(tmp_path.iterdir())) == 2  # the older one is kept beside it
    (tmp_path / "broken.json").write_text("{")
    assert list(kept(tmp_path)) == ["Night, quiet"]


def test_another_machine_is_asked_as_far_as_it_can_be() -> None:
    question = first_question(card_of("heron"), "clock-voltage")
    fresh, left = for_rig(question, card_of("larkspur"))
    assert {"the axis fixed_clock_mhz", "the axis fixed_voltage_v"} <= set(left)
    assert fresh.loads
    assert not findings(plan_for(card_of("larkspur"), fresh), card_of("larkspur"))
    same, nothing = for_rig(grid_question(card_of("larkspur")), card_of("larkspur"))
    assert (same, nothing) == (grid_question(card_of("larkspur")), [])


@pytest.mark.parametrize("text", [b"{", b"[]", b"\xff", b'{"format": "niente-question/9", "name": "x"}'])
def test_what_is_no_question_is_refused(text: bytes) -> None:
    with pytest.raises(DocumentError, match="untouched"):
        read_own(text, "x.json")


def test_a_question_of_an_unknown_kind_is_refused(card: RigCard) -> None:
    text = own_text("x", msgspec.structs.replace(grid_question(card), template="horoscope"))
    with pytest.raises(DocumentError, match="horoscope"):
        read_own(text, "x.json")
