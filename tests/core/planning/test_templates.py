"""Every question, on every machine that ships: it dry-runs, it runs, and it survives its JSON."""

from collections import Counter
from pathlib import Path

import msgspec
import pytest

from niente.core.model.plan import Confirmation, PickRuns, Search, Step, plan_schema, read_plan
from niente.core.model.project import Project, project_of
from niente.core.model.question import question_schema
from niente.core.model.rig_card import LoadKind
from niente.core.planning.cost import cost_of, pace_of
from niente.core.planning.dry_run import dry_run
from niente.core.planning.forecast import foresee
from niente.core.planning.progress import RunStatus, plan_rows
from niente.core.planning.templates import TEMPLATES, default_project, first_question, grid_project, plan_for, template
from niente.core.rigs.registry import open_rig, shipped
from tests.core.answers.to_their_end import RUN_TO_THEIR_END
from tests.core.planning.plans import card_of, plan_of, run, short
from tests.grids import grid_question

RIGS = shipped()
NAMES = [kind.name for kind in TEMPLATES]
FOLLOWING = (Confirmation, PickRuns)
"""Entries that follow from a pick, which runs this short do not give."""
WITH_DEADLINES = ("cormorant", "wren")
"""The machines that ship with a load of a size."""
ASKED = [(rig, name) for rig in RIGS for name in NAMES if name != "real-time" or rig in WITH_DEADLINES]


@pytest.mark.parametrize(("rig", "name"), ASKED)
def test_every_question_dry_runs_and_runs_on_every_machine(rig: str, name: str, tmp_path: Path) -> None:
    card = card_of(rig)
    kind = template(name)
    assert kind is not None
    assert not kind.lacks(card)  # every machine that ships can be asked everything, as far as it has the load
    plan = plan_for(card, kind.first(card))
    rows = plan_rows(plan, card)
    said = dry_run(plan, card, rows, foresee(None, [row.step for row in rows]), question=kind.first(card))
    assert not said.wrong
    assert not said.trips
    assert said.cost.runs == len(rows)
    if (rig, str(name)) in RUN_TO_THEIR_END:
        return
    watcher, evidence = run(short(plan), open_rig(rig, seed=3), tmp_path / "book.niente")
    assert watcher.end().complete, watcher.end()
    after = plan_rows(short(plan), evidence.card, evidence)
    open_yet = [row for row in after if not row.status.closed and not isinstance(plan.entries[row.entry], FOLLOWING)]
    assert not open_yet
    assert any(row.status == RunStatus.DONE for row in after)


@pytest.mark.parametrize(("rig", "name"), ASKED)
def test_a_plan_survives_its_json_and_is_the_same_again(rig: str, name: str) -> None:
    card = card_of(rig)
    plan = plan_for(card, first_question(card, name))
    assert read_plan(plan.to_json()) == plan
    assert plan_for(card, first_question(card, name)) == plan


def test_a_quiet_point_is_looked_for_as_runs_tell_unless_a_grid_is_wanted() -> None:
    """A fresh one has few runs that are known beforehand, and then what follows from them."""
    card = card_of("larkspur")
    fresh, grid = (plan_for(card, question) for question in (first_question(card), grid_question(card)))
    following = [entry for entry in fresh.entries if isinstance(entry, PickRuns)]
    assert [entry.confirm_s for entry in following] == [0.0, 1200.0]  # before the risk, and with the pick confirmed after it
    assert fresh.entries[-1] == following[-1]
    assert not [entry for entry in grid.entries if isinstance(entry, PickRuns)]
    heat = [sum(step.stage == "capacity" for step in plan.steps) for plan in (fresh, grid)]
    assert heat[0] < heat[1] / 3
    assert default_project(card).question == first_question(card)


def test_a_question_goes_through_its_stages() -> None:
    card = card_of("larkspur")
    plan, rows = plan_of(card, grid_question(card))
    stages = list(dict.fromkeys(row.step.stage for row in rows))
    assert stages == ["noise", "baseline", "undervolt", "capacity", "confirmation"]
    capacity = [entry for entry in plan.steps if entry.stage == "capacity"]
    assert {step.takes for step in capacity} == {"undervolt"}  # it runs at what the stage before finds
    noise = [row.step for row in rows if row.step.stage == "noise"]
    assert sum(step.exposure.min_s for step in noise) <= 600.0  # ten minutes for the noise map
    assert all(card.load(step.load).kind == LoadKind.IDLE for step in noise)  # type: ignore[union-attr]


def test_a_baseline_is_idle_after_rest_and_then_stock_under_each_load() -> None:
    """Common practice, no source: idle after 20 minutes' rest, then full load to equilibrium."""
    card = card_of("wren")
    _, rows = plan_of(card, first_question(card, "baseline"))
    assert card.load(rows[0].step.load).kind == LoadKind.IDLE  # type: ignore[union-attr]
    assert rows[0].step.exposure.min_s == 1200.0
    assert len({row.step.load for row in rows}) == len(rows)


def test_the_four_ways_stand_side_by_side() -> None:
    for rig in ("larkspur", "heron"):
        card = card_of(rig)
        plan, rows = plan_of(card, first_question(card, "hold-back"))
        stages = Counter(row.step.stage for row in rows)
        assert {"undervolt", "power limit", "temperature cap", "fixed clock"} <= stages.keys()
        order = [stage for stage in dict.fromkeys(row.step.stage for row in rows) if stage in ("power limit", "undervolt")]
        assert order == ["power limit", "undervolt"]  # gentle before risky
        assert isinstance(plan.entries[-1], Confirmation)
    assert any(isinstance(entry, Search) and entry.controls == ("fixed_voltage_v",) for entry in plan.entries)


def test_a_sweep_of_fans_takes_minutes_and_no_heat() -> None:
    card = card_of("cormorant")
    _, rows = plan_of(card, first_question(card, "fan-sweep"))
    assert cost_of(rows, card).typical_s < 1200.0
    assert {row.step.load for row in rows} == {"idle"}
    heard = [row for row in rows if not row.step.watches]  # the others ask where fans start and stall
    assert sum(row.step.exposure.min_s for row in heard) < 900.0
    duties = {tuple(sorted(row.step.setting.fan_duty.items())) for row in heard}
    assert len(duties) == len(heard)  # no place twice


def test_a_burst_is_15_seconds_from_rest_and_work_that_outlasts_the_window() -> None:
    """Common practice, no source: 15 s bursts, for burst questions only. A moving average of 270 W from rest comes up to 230 W
    after ln(270 / 40) = 1.9 of its time constants, so that work has to go on for longer."""
    card = card_of("cormorant")
    _, rows = plan_of(card, first_question(card, "burst"))
    for row in rows:
        if row.step.load == "burst":
            assert row.step.exposure.min_s == 15.0
        else:
            assert row.step.exposure.min_s > 1.9 * (row.step.setting.burst_time_s or card.stock.burst_time_s or 0.0) + 60.0
    assert {row.step.setting.burst_power_w for row in rows} == {230.0, 270.0}
    assert len({row.step.setting.burst_time_s for row in rows}) == 2
    assert all(row.step.exposure.idle_s >= 600.0 for row in rows)


def test_liquid_gets_90_minutes_and_air_40() -> None:
    """Common practice, no source: 90 minutes and more for liquid."""
    assert grid_question(card_of("cormorant")).exposure.max_s == 5400.0
    assert grid_question(card_of("larkspur")).exposure.max_s == 2400.0
    assert pace_of(card_of("cormorant"), None).seconds > pace_of(card_of("larkspur"), None).seconds


def test_books_of_the_first_kind_are_read() -> None:
    """A project whose question had two axes of its own, and a plan with steps and a confirmation."""
    old = {
        "rig": "larkspur",
        "question": {
            "power": {"control": "sustained_power_w", "values": [80.0, 100.0]},
            "fans": {"control": "fan_duty.case", "values": [20.0, 50.0]},
            "base": {"fan_duty": {"cooler": 40.0}, "voltage_offset_mv": -30.0},
            "loads": ["vector", "dome"],
            "known_to_k": 0.8,
            "most_minutes": 30.0,
        },
    }
    project = project_of(old)
    question = project.question
    assert question.axis("sustained_power_w").points() == (80.0, 100.0)  # type: ignore[union-attr]
    assert (question.survive, question.quiet_under) == (("vector",), ("dome",))
    assert question.exposure.known_to_k == 0.8
    assert question.exposure.max_s == 1800.0
    card = card_of("larkspur")
    heavy = [step for step in plan_for(card, question).steps if step.stage == "capacity" and step.load == "vector"]
    assert len(heavy) == 4
    assert all(step.setting.voltage_offset_mv == -30.0 for step in heavy)
    guard = {"quantity": "core_temperature_c", "trip": 95.0, "clear": 90.0, "hold_s": 3.0, "action": "stop", "reason": "hot"}
    step = {"setting": {}, "load": "vector", "exposure": {"least_s": 60.0, "most_s": 60.0}}
    first = {"format": "niente-plan/1", "rig": "larkspur", "question": "quiet-point", "steps": [step], "guards": [guard]}
    plan = read_plan(msgspec.json.encode({**first, "confirm": {"exposure_s": 600.0, "most_runs": 2}}))
    assert isinstance(plan.entries[0], Step)
    assert plan.entries[1] == Confirmation(600.0, 2)
    assert read_plan(msgspec.json.encode({**first, "confirm": None})).entries == plan.entries[:1]


def test_a_project_survives_its_json() -> None:
    project = grid_project(card_of("heron"))
    assert project_of(msgspec.to_builtins(project)) == project
    assert isinstance(project, Project)


def test_the_schemas_in_the_reference_are_true() -> None:
    folder = Path(__file__).parents[3] / "docs" / "reference"
    assert (folder / "plan.schema.json").read_bytes() == plan_schema()
    assert (folder / "question.schema.json").read_bytes() == question_schema()
    text = (folder / "documents.md").read_text()
    assert all(f"`{name}`" in text for name in NAMES)
