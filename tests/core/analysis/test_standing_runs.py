"""Runs that a temperature cap holds, and short runs while other heat is still to come: against where the stand-in settles."""

import math

import msgspec
import numpy as np
import pytest

from niente.core.analysis.evidence import RunSummary
from niente.core.analysis.model_runs import heat_readings, held_by_cap
from niente.core.analysis.settled_readings import warmed_late
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.science.settling import Settled
from tests.core.analysis.making import evidence_of_runs

CAPPED = Setting(sustained_power_w=180.0, temperature_cap_c=66.0, fan_duty={"case": 40.0, "cooler": 45.0})


def run_of(setting: Setting, load: str, minutes: float, name: str = "larkspur") -> RunSummary:
    (run,) = evidence_of_runs(name, [(setting, load, minutes)], seed=5).runs
    return run


@pytest.mark.parametrize("minutes", [12.0, 20.0, 35.0, 60.0])
def test_a_run_that_its_cap_holds_comes_to_the_power_that_it_is_said_to(minutes: float) -> None:
    run = run_of(CAPPED, "vector", minutes)
    assert run.heat_limited
    held = held_by_cap(run)
    assert held is not None
    rig = SimulatedRig(shipped_file("larkspur"), seed=5)
    true = rig.true_settled(CAPPED.over(rig.describe().stock), "vector", run.settled.room_c, 6.0)
    rig.close()
    off_k = (held.power_w / true.readings["package_power_w"] - 1.0) * held.rise_k
    assert abs(off_k) < 2.5 * held.rise_se_k
    assert held.rise_k == pytest.approx(true.hottest_c - run.settled.room_c, abs=1.0)


def test_a_short_run_at_its_cap_is_only_a_bound() -> None:
    run = run_of(CAPPED, "vector", 6.0)
    assert run.heat_limited
    assert held_by_cap(run) is None


def test_a_run_that_has_far_to_go_is_only_a_bound() -> None:
    run = run_of(CAPPED, "vector", 35.0)
    moving = msgspec.structs.replace(
        run, channels=run.channels | {"package_power_w": msgspec.structs.replace(run.channels["package_power_w"], moved=-2.0)}
    )
    assert held_by_cap(moving) is None
    read = heat_readings([(run, ""), (moving, "")], ("case", "cooler"), ())
    assert read.bound.tolist() == [False, True]
    assert read.power_w[1] == run.power_w  # a bound is one at the power that it drew


@pytest.mark.parametrize("watts", [0.0, -5.0, math.nan])
def test_a_power_that_cannot_be_makes_no_reading(watts: float) -> None:
    run = run_of(CAPPED, "vector", 20.0)
    assert held_by_cap(msgspec.structs.replace(run, power_w=watts)) is None


def test_a_run_that_no_cap_holds_is_as_it_was() -> None:
    run = run_of(msgspec.structs.replace(CAPPED, temperature_cap_c=95.0, sustained_power_w=90.0), "vector", 20.0)
    assert held_by_cap(run) is None
    read = heat_readings([(run, "")], ("case", "cooler"), ())
    assert (float(read.power_w[0]), float(read.rise_k[0])) == (run.power_w, run.rise_k)


@pytest.mark.parametrize(("watts", "duty"), [(45.0, 40.0), (55.0, 80.0), (60.0, 60.0)])
def test_short_runs_of_a_mixed_load_say_how_far_off_they_may_be(watts: float, duty: float) -> None:
    """After ten minutes the case of a passive machine is still warming: the interval holds where it settles."""
    setting = Setting(sustained_power_w=watts, fan_duty={"case": duty}, temperature_cap_c=100.0)
    run = run_of(setting, "mixed", 10.0, "wren")
    rig = SimulatedRig(shipped_file("wren"), seed=5)
    true = rig.true_settled(setting.over(rig.describe().stock), "mixed", run.settled.room_c, 6.0)
    rig.close()
    assert run.settled.known
    assert abs(run.settled.value_c - true.hottest_c) < run.settled.half_width_k


def test_other_heat_counts_by_its_share_and_fades() -> None:
    rig = SimulatedRig(shipped_file("wren"), seed=5)
    card = rig.describe()
    rig.close()
    settled = Settled(70.0, 0.5, 23.0)

    def half_width(package_w: float, graphics_w: float, seconds: int) -> float:
        values = np.full((seconds, len(card.channels)), 20.0)
        values[:, card.index("package_power_w")] = package_w
        values[:, card.index("graphics_power_w")] = graphics_w
        return warmed_late(settled, card, np.arange(seconds, dtype=float), values).half_width_k

    assert half_width(50.0, 0.0, 600) == pytest.approx(0.5)
    assert half_width(50.0, 50.0, 600) > half_width(90.0, 10.0, 600) > 0.5
    assert half_width(50.0, 50.0, 600) > half_width(50.0, 50.0, 1800) > 0.5
    assert half_width(50.0, math.nan, 600) == pytest.approx(0.5)
    assert half_width(100.0, -99.9, 600) == pytest.approx(0.5)
