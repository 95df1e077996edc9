"""What the models still want of a machine."""

import msgspec
import pytest

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.models import fit_models
from niente.core.model.errors import NotEnoughError
from niente.core.model.rig_card import RigCard
from niente.core.planning.missing_runs import missing_runs
from niente.core.rigs.simulated.machine_files import shipped_file, shipped_machines
from niente.core.rigs.simulated.rig import SimulatedRig


def test_nothing_is_missing_where_there_are_models(card: RigCard, evidence: Evidence) -> None:
    assert fit_models(evidence)
    assert missing_runs(card, evidence) == ()


def test_an_empty_book_wants_noise_stock_and_heat(card: RigCard) -> None:
    steps = missing_runs(card, None)
    assert {step.stage for step in steps} == {"noise", "baseline", "capacity"}
    heat = [step for step in steps if step.stage == "capacity"]
    assert len(heat) == 4
    assert all(step.reason for step in steps)
    assert len({step.setting.fan_duty["case"] for step in heat}) == 2  # something to tell fans by
    limits = [step.setting.sustained_power_w or 0.0 for step in heat]
    assert max(limits) < (card.stock.sustained_power_w or 0.0)


def test_a_book_in_which_every_run_throttled_wants_less_power(card: RigCard, evidence: Evidence) -> None:
    held = {"temperature cap": 1.0}
    working = [run.load_kind != "idle" for run in evidence.runs]
    hot = [
        msgspec.structs.replace(run, limiter_shares=held) if works else run
        for run, works in zip(evidence.runs, working, strict=True)
    ]
    throttled = Evidence(card, tuple(hot))
    with pytest.raises(NotEnoughError, match="lower sustained power limits"):
        fit_models(throttled)
    plain = [step.setting.sustained_power_w or 0.0 for step in missing_runs(card, None) if step.stage == "capacity"]
    cooler = [step.setting.sustained_power_w or 0.0 for step in missing_runs(card, throttled) if step.stage == "capacity"]
    assert max(cooler) < max(plain)
    assert not [step for step in missing_runs(card, throttled) if step.stage == "noise"]


@pytest.mark.parametrize("name", shipped_machines())
def test_every_machine_takes_what_is_missing(name: str) -> None:
    card = SimulatedRig(shipped_file(name)).describe()
    steps = missing_runs(card, None)
    assert steps
    for step in steps:
        assert card.refusals(step.setting) == []
        assert card.load(step.load) is not None
