"""Sandpiper: a small heatsink in a small case, with coarser sensors. Facts of the trade it has to agree with."""

import threading
from pathlib import Path

import msgspec
import pytest

from niente.core.acquisition.opening import open_bench
from niente.core.analysis.evidence import gather
from niente.core.analysis.models import fit_models
from niente.core.model.question import Axis
from niente.core.model.records import BenchFailed, PlanEnded, Record
from niente.core.model.setting import Setting
from niente.core.planning.templates import grid_project, plan_for
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.selection.pick import choose
from niente.core.storage.reader import BookReader
from tests.waiting import PATIENCE_S

ROOM_C = 22.5


@pytest.fixture(scope="module")
def rig() -> SimulatedRig:
    return SimulatedRig(shipped_file("sandpiper"), seed=3)


def rise(rig: SimulatedRig, limit_w: float, cooler: float, case: float = 60.0) -> float:
    setting = Setting(sustained_power_w=limit_w, temperature_cap_c=95, fan_duty={"cooler": cooler, "case": case})
    return rig.true_settled_core_c(setting, "vector", ROOM_C) - ROOM_C


def test_more_air_does_little_for_a_small_heatsink(rig: SimulatedRig) -> None:
    """Its own resistance is the limit (common practice, no source)."""
    slow, fast = rise(rig, 45.0, 60.0), rise(rig, 45.0, 100.0)
    assert 0.0 < slow - fast < 0.08 * slow
    assert rig.true_level_dba({"cooler": 100.0, "case": 60.0}) > rig.true_level_dba({"cooler": 60.0, "case": 60.0}) + 6.0


def test_the_rise_is_nearly_a_line_in_watts(rig: SimulatedRig) -> None:
    """With fans fixed; leakage and the case's own heat bend it a little (common practice, no source)."""
    low, middle, high = (rise(rig, watts, 60.0) for watts in (25.0, 42.5, 60.0))
    assert middle == pytest.approx((low + high) / 2, abs=0.03 * middle)
    assert 0.6 < (high - low) / 35.0 < 1.3  # K/W: a small cooler


def test_it_is_hotter_per_watt_than_a_tower(rig: SimulatedRig) -> None:
    tower = SimulatedRig(shipped_file("larkspur"), seed=3)
    setting = Setting(sustained_power_w=60.0, fan_duty={"cooler": 60.0, "case": 60.0})
    assert rise(rig, 60.0, 60.0) > 1.5 * (tower.true_settled_core_c(setting, "vector", ROOM_C) - ROOM_C)
    tower.close()


def test_a_night_on_it_ends_with_a_pick(tmp_path: Path) -> None:
    over, ended = threading.Event(), []

    def hear(event: Record) -> None:
        if isinstance(event, PlanEnded | BenchFailed):
            ended.append(event)
            over.set()

    rig = SimulatedRig(shipped_file("sandpiper"), seed=5)
    bench = open_bench(rig, tmp_path / "counter.niente", hear)
    project = grid_project(bench.card)
    axes = (Axis("sustained_power_w", (30.0, 45.0, 60.0)), Axis("fan_duty.case", (20.0, 42.0, 84.0)), project.question.axes[-1])
    bench.start(plan_for(bench.card, msgspec.structs.replace(project.question, axes=axes)), project.limits)
    assert over.wait(PATIENCE_S)
    bench.close()
    assert isinstance(ended[0], PlanEnded)
    assert ended[0].complete
    book = BookReader(tmp_path / "counter.niente")
    evidence = gather(book)
    book.close()
    assert evidence is not None
    held = [run for run in evidence.usable() if run.settled.known and run.load == "vector" and not run.heat_limited]
    off = [
        abs(run.settled.value_c - rig.true_settled_core_c(run.setting, run.load, run.settled.room_c)) / run.settled.half_width_k
        for run in held
    ]
    assert len(held) >= 9
    assert sum(one <= 1.0 for one in off) >= 0.85 * len(off)  # most of the 95 % intervals hold the truth
    models = fit_models(evidence)
    choice = choose(models, project.limits)
    assert choice.confirmed
    true = rig.true_settled_core_c(choice.pick.setting, "vector", project.limits.design_room_c)
    assert choice.pick.core_c == pytest.approx(true, abs=choice.pick.core_hw + 1.0)
    assert models.count_load == "tickets"
