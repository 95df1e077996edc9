"""Runs that a search's new result leaves usable: clean ones, near it, and below the highest limit."""

import msgspec
import pytest

from niente.core.model.plan import PLAN_FORMAT, Exposure, Plan, Search, Step
from niente.core.model.rig_card import RigCard
from niente.core.model.runs import RunOutcome
from niente.core.model.setting import Setting
from niente.core.planning.carried_runs import CarriedRuns
from tests.core.analysis.making import evidence_from
from tests.core.planning.plans import card_of

EXPOSURE = Exposure(60.0, 60.0)


def at(card: RigCard, watts: float, offset_mv: float) -> Setting:
    return Setting(sustained_power_w=watts, voltage_offset_mv=offset_mv).over(card.stock)


def carried(card: RigCard, made: Setting, wanted: Setting, *, failures: int = 0, outcome: RunOutcome = RunOutcome.DONE) -> bool:
    """Whether a run that was made answers a step that is wanted, in a plan whose highest limit is 150 W."""
    search = Search("undervolt", ("voltage_offset_mv",), 0.0, -100.0, 20.0, 5.0, 10.0, card.stock, ("vector",), EXPOSURE)
    steps = [
        Step(at(card, watts, 0.0), "vector", EXPOSURE, "capacity", "", takes="undervolt") for watts in (90.0, 120.0, 150.0)
    ]
    plan = Plan(format=PLAN_FORMAT, rig=card.name, question="quiet-point", entries=(search, *steps), guards=())
    run = next(run for run in evidence_from("larkspur").runs if run.load == "vector")
    run = msgspec.structs.replace(run, setting=made, failures=failures, outcome=outcome, variant=card.variant)
    found = CarriedRuns(plan, card, [run])
    wanted_step = msgspec.structs.replace(steps[0], setting=wanted)
    answer = found.answer(steps[0], wanted_step, lambda one, exposure: True)
    if answer is not None:
        assert found.answer(steps[0], wanted_step, lambda one, exposure: True) is None  # a run answers once
    return answer is not None


@pytest.mark.parametrize(
    ("made_mv", "wanted_mv", "watts", "expected"),
    [
        (-60.0, -40.0, 120.0, True),
        (-60.0, -20.0, 120.0, True),  # 40 mV apart heat and noise are still the same
        (-65.0, -20.0, 120.0, False),
        (-40.0, -60.0, 120.0, True),
        (-40.0, -40.0, 120.0, False),  # that is an answer of its own, not one that is carried over
        (-60.0, -40.0, 150.0, False),  # the highest limit has the highest clock: whether it holds is run anew
    ],
)
def test_what_is_carried_over(made_mv: float, wanted_mv: float, watts: float, expected: bool) -> None:
    card = card_of("larkspur")
    assert carried(card, at(card, watts, made_mv), at(card, watts, wanted_mv)) is expected


def test_only_clean_runs_of_the_same_setting_are_carried_over() -> None:
    card = card_of("larkspur")
    made, wanted = at(card, 120.0, -60.0), at(card, 120.0, -40.0)
    assert carried(card, made, wanted)
    assert not carried(card, made, wanted, failures=1)
    assert not carried(card, made, wanted, outcome=RunOutcome.STOPPED)
    assert not carried(card, at(card, 110.0, -60.0), wanted)
