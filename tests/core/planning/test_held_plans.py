"""Plans as they are laid out, with their costs, forecasts and alternatives, held to what they were when people last agreed on
them (see ``tests.held``)."""

from collections.abc import Callable
from typing import Any

import msgspec
import pytest

from niente.core.model.plan import Exposure, Guard, GuardAction, QuietHours, Search, SearchMethod, Step
from niente.core.model.question import FanSchool, Order, Question
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.planning.alternatives import Alternative, of_budget, of_step, of_target, within
from niente.core.planning.axis_values import is_fan_axis
from niente.core.planning.builders import default_fans
from niente.core.planning.cost import naive_runs
from niente.core.planning.dry_run import DryRun, hand_words
from niente.core.planning.layout import PlanLayout, PlanRequest
from niente.core.planning.search import follow, rung_text
from niente.core.planning.templates import TEMPLATES, first_question
from niente.core.selection.answer import Answer
from tests.core.analysis.making import models_from
from tests.core.planning.plans import card_of
from tests.grids import grid_question
from tests.held import hold

NAMES = [kind.name for kind in TEMPLATES]
MACHINES = ("larkspur", "heron", "wren")
SHOWN = 40
"""Of a longer plan, the first runs, and as many of the last as make up these."""


def step_words(step: Step, card: RigCard) -> str:
    """A run in a line: what it sets otherwise than stock, under which load, for how long, and why."""
    whole = msgspec.to_builtins(step.setting)
    stock = msgspec.to_builtins(card.stock)
    set_here = {name: value for name, value in whole.items() if value and value != stock.get(name)}
    named = ("speed_rpm", "level_dba", "takes", "variant", "passes")
    rest = {name: getattr(step, name) for name in named if getattr(step, name, None)}
    exposure = {name: value for name, value in msgspec.to_builtins(step.exposure).items() if value}
    return f"{step.stage} | {step.load} | {set_here} | {exposure} | {rest} | {step.reason}"


def alternatives(found: list[Alternative]) -> list[object]:
    return [[one.words, one.runs, one.typical_s, one.core_hw, one.is_now] for one in found]


def dry_figures(dry: DryRun) -> dict[str, object]:
    near = [[one.guard.quantity, one.guard.trip, one.gap, one.index] for one in dry.near]
    named = {name: list(getattr(dry, name)) for name in ("wrong", "warnings", "hands", "trips", "loud")}
    return named | {"hottest": dry.hottest, "near": near, "cost": [dry.cost.runs, dry.cost.typical_s, dry.cost.left_s]}


def laid(
    card: RigCard, question: Question, *, known: bool = False, guards: tuple[Guard, ...] | None = None
) -> dict[str, object]:
    """A question's plan as a person sees it, with forecasts where a night's models are known."""
    layout, models = PlanLayout(), models_from(card.name) if known else None
    answer = Answer(models.evidence, models) if models is not None else Answer()
    found = layout.lay_out(PlanRequest(card, question, guards), answer)
    rows = found.rows
    picked = range(len(rows)) if len(rows) <= SHOWN else [*range(SHOWN // 2), *range(len(rows) - SHOWN // 2, len(rows))]
    outlook = layout.look_ahead(found, models, 20.5)
    forecasts = {
        str(index): [outlook.forecasts[index].core_c, outlook.forecasts[index].core_hw, outlook.forecasts[index].noise_dba]
        for index in picked
        if known
    }
    instead = outlook.instead
    return {
        "runs": {str(index): f"{rows[index].status} {step_words(rows[index].step, card)}" for index in picked},
        "seconds": [found.seconds[index] for index in picked],
        "columns": list(found.columns),
        "pieces": [[one.stage, one.seconds, one.status, one.count] for one in found.pieces[:30]],
        "guards": [[one.quantity, one.trip, one.clear, one.dwell_s, one.action] for one in found.plan.guards],
        "dry": dry_figures(outlook.dry),
        "hands": [hand_words(card, rows, index) for index in outlook.dry.hands[:3]],
        "forecasts": forecasts,
        "instead": alternatives(instead) if instead is not None else None,
        "naive": naive_runs(card, question),
    }


@pytest.mark.parametrize(
    ("machine", "name"),
    [(machine, name) for machine in MACHINES for name in NAMES if name != "real-time" or machine == "wren"],
)
def test_first_plans(machine: str, name: str) -> None:
    card = card_of(machine)
    question = first_question(card, name)
    found: dict[str, object] = {"plan": laid(card, question)}
    for axis in question.axes:
        found[f"steps of {axis.control}"] = alternatives(of_step(card, question, axis.control))
    found["targets"] = alternatives(of_target(card, question))
    found["in 2 h"] = alternatives(within(card, question, 7200.0))
    hold(f"plan-{machine}-{name}", found)


OTHERWISE: dict[str, dict[str, Any]] = {
    "budget and night": {"budget_h": 3.0, "quiet": QuietHours(21.0, 7.0, 30.0)},
    "cold": {"order": Order.COLD, "idle_minutes": 12.0, "repeats": 2},
    "there and back": {"order": Order.MIRRORED},
    "at random": {"order": Order.RANDOM, "passes": 2},
    "risk last": {"order": Order.RISK_LAST},
    "equal speed": {"fans": FanSchool.SPEED},
    "equal noise": {"fans": FanSchool.NOISE},
    "as used": {"fans": FanSchool.AS_USED},
    "bisection": {"method": SearchMethod.BISECTION, "passes": 3},
    "one core after another": {"method": SearchMethod.IN_TURN, "fine": 10.0, "margin": 15.0},
}


@pytest.mark.parametrize("how", OTHERWISE)
def test_plans_asked_otherwise(how: str) -> None:
    card = card_of("larkspur")
    found = {}
    for name in ("quiet-point", "cap-sweep", "undervolt-ladder"):
        first = grid_question(card) if name == "quiet-point" else first_question(card, name)
        question = msgspec.structs.replace(first, **OTHERWISE[how])
        if "fans" in OTHERWISE[how]:
            heat = tuple(axis for axis in question.axes if not is_fan_axis(axis))
            question = msgspec.structs.replace(question, axes=(*heat, *default_fans(card, question.fans)))
        found[name] = laid(card, question)
    hold(f"plan-otherwise-{how.replace(' ', '-')}", found)


def test_plans_beside_a_night_of_runs() -> None:
    """What was run stands, what is foreseen is from the models, and guards that must trip are said."""
    card = models_from("larkspur").card
    question = grid_question(card)
    low = Guard("core_temperature_c", 70.0, 60.0, 3.0, GuardAction.STOP, "Low, for a test.")
    watt = Guard("package_power_w", 120.0, 110.0, 3.0, GuardAction.SKIP, "Low, for a test.")
    loud = Guard("noise_dba", 36.0, 30.0, 3.0, GuardAction.SKIP, "Low, for a test.")
    hold(
        "plan-beside-runs",
        {
            "plain": laid(card, question, known=True),
            "guarded": laid(card, question, known=True, guards=(low, watt, loud)),
            "of budgets": alternatives(budgets(card, question)),
            "targets": alternatives(of_target(card, question, models=models_from("larkspur"))),
        },
    )


def budgets(card: RigCard, question: Question) -> list[Alternative]:
    models = models_from("larkspur")
    found = PlanLayout().lay_out(PlanRequest(card, question, None), Answer(models.evidence, models))
    return of_budget(card, question, found.rows, found.seconds, models)


# -- searches ----------------------------------------------------------------------------------------------------------------

CORES = tuple(f"core_offset_mv.{number}" for number in range(1, 7))
POINTS = tuple(f"point_offset_mv.{number}" for number in range(1, 5))
STOCK = Setting(
    voltage_offset_mv=0.0,
    core_offset_mv={f"{number}": 0.0 for number in range(1, 7)},
    point_offset_mv={f"{number}": 0.0 for number in range(1, 5)},
)


def searched(search: Search, passes: Callable[[Setting], bool]) -> dict[str, object]:
    course = follow(search, STOCK, passes)
    rungs = [f"{rung_text(search, setting)} {'passes' if passed else 'fails'}" for setting, passed in course.rungs]
    return {"rungs": rungs, "last": course.last, "found": course.found}


def over(limits: dict[str, float]) -> Callable[[Setting], bool]:
    return lambda setting: all((setting.value(name) or 0.0) >= limit for name, limit in limits.items())


def test_searches() -> None:
    exposure = Exposure(60.0, 60.0)
    usual = Search("undervolt", ("voltage_offset_mv",), 0.0, -90.0, 20.0, 5.0, 10.0, STOCK, ("heavy",), exposure)
    each = dict(zip(CORES, (-33.0, -47.0, -12.0, -200.0, -41.0, -38.0), strict=True))
    curve = dict(zip(POINTS, (-60.0, -31.0, -22.0, -3.0), strict=True))
    found: dict[str, object] = {}
    for method in SearchMethod:
        by_core = method in (SearchMethod.WEAKEST_FIRST, SearchMethod.IN_TURN)
        controls, limits = (CORES, each) if by_core else (("voltage_offset_mv",), {})
        search = msgspec.structs.replace(usual, method=method, controls=controls)
        for deepest in (-2.0, -13.0, -47.0, -200.0):
            found[f"{method}, {deepest:g}"] = searched(search, over(limits or {"voltage_offset_mv": deepest}))
        deep = msgspec.structs.replace(search, start=-20.0)
        found[f"{method}, started deep"] = searched(deep, over(limits or {"voltage_offset_mv": -30.0}))
        uneven = msgspec.structs.replace(search, deepest=-86.0, coarse=25.0, fine=3.0, margin=7.0)
        found[f"{method}, uneven"] = searched(uneven, over(limits or {"voltage_offset_mv": -44.0}))
    by_point = msgspec.structs.replace(usual, method=SearchMethod.IN_TURN, controls=POINTS)
    found["points in turn"] = searched(by_point, over(curve))
    upwards = msgspec.structs.replace(
        usual, controls=("clock_cap_mhz",), start=3000.0, deepest=4800.0, coarse=400.0, fine=100.0, margin=50.0
    )
    found["upwards"] = searched(upwards, lambda setting: (setting.clock_cap_mhz or 0.0) <= 4150.0)
    hold("searches", found)
