"""The stand-in behaves as such machines do. Figures marked so are common practice and have no source."""

import math
import time

import numpy as np
import pytest

from niente.core.model.errors import RigError
from niente.core.model.frame import Frame
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.rig import SimulatedRig
from tests.conftest import larkspur_rig


def run(rig: SimulatedRig, setting: Setting, load: str, seconds: int) -> np.ndarray:
    rig.apply(setting)
    rig.start(load)
    frames = [rig.frame(1.0) for _ in range(seconds)]
    return np.array([frame.values for frame in frames if isinstance(frame, Frame)])


def reading(card: RigCard, values: np.ndarray, name: str) -> np.ndarray:
    index = card.index(name)
    assert index is not None
    return values[..., index]


def test_a_slow_fan_is_worth_much(larkspur: SimulatedRig) -> None:
    """A slow fan on such a cooler is worth 10 K and more even at 75 W (common practice, no source)."""
    at = Setting(sustained_power_w=75.0, temperature_cap_c=95.0, fan_duty={"cooler": 0.0, "case": 30.0})
    still = larkspur.true_settled_core_c(at, "vector", 25.0)
    turning = larkspur.true_settled_core_c(at.replaced("fan_duty.cooler", 35.0), "vector", 25.0)
    assert still - turning > 10.0


def test_speed_follows_duty_and_flow_follows_speed(larkspur: SimulatedRig, card: RigCard) -> None:
    """Q ~ N (fan affinity laws, AMCA 201 from memory): half the duty is half the speed."""
    full = run(larkspur, Setting(fan_duty={"case": 100.0}), "idle", 30)[-5:]
    half = run(larkspur, Setting(fan_duty={"case": 50.0}), "idle", 30)[-5:]
    name = "fan_speed_rpm.case"
    assert reading(card, half, name).mean() / reading(card, full, name).mean() == pytest.approx(0.5, abs=0.01)


def test_fans_have_inertia_start_and_stall(larkspur: SimulatedRig, card: RigCard) -> None:
    speeds = reading(card, run(larkspur, Setting(fan_duty={"case": 100.0}), "idle", 3), "fan_speed_rpm.case")
    assert speeds[0] < speeds[1] < speeds[2]  # on its way, not there
    run(larkspur, Setting(fan_duty={"case": 0.0}), "idle", 40)
    assert reading(card, run(larkspur, Setting(fan_duty={"case": 14.0}), "idle", 30), "fan_speed_rpm.case")[-1] == 0.0
    run(larkspur, Setting(fan_duty={"case": 30.0}), "idle", 30)
    assert reading(card, run(larkspur, Setting(fan_duty={"case": 14.0}), "idle", 30), "fan_speed_rpm.case")[-1] > 100.0


def test_the_power_limit_holds_after_a_burst(larkspur: SimulatedRig, card: RigCard) -> None:
    values = run(larkspur, Setting(sustained_power_w=100.0), "vector", 120)
    power = reading(card, values, "package_power_w") / 1.02  # the meter's gain
    assert power[:10].max() > 110.0
    assert power[-20:].mean() == pytest.approx(100.0, abs=1.5)


def test_the_temperature_cap_holds(larkspur: SimulatedRig, card: RigCard) -> None:
    hot = Setting(sustained_power_w=200.0, temperature_cap_c=70.0, fan_duty={"cooler": 30.0, "case": 20.0})
    values = run(larkspur, hot, "vector", 900)
    cores = values[-60:, list(card.indices("core_temperature_c"))]
    assert cores.mean(axis=0).max() == pytest.approx(70.0, abs=2.0)
    assert reading(card, values, "package_power_w")[-60:].mean() < 150.0


def test_lower_voltage_gives_more_clock_under_the_limit(larkspur: SimulatedRig, card: RigCard) -> None:
    stock = reading(
        card, run(larkspur, Setting(sustained_power_w=110.0, voltage_offset_mv=0.0), "vector", 120), "effective_clock_mhz"
    )
    under = reading(
        card, run(larkspur, Setting(sustained_power_w=110.0, voltage_offset_mv=-50.0), "vector", 120), "effective_clock_mhz"
    )
    assert under[-20:].mean() - stock[-20:].mean() > 80.0


def test_the_same_seed_is_the_same_machine() -> None:
    setting = Setting(sustained_power_w=120.0)
    one, two, other = larkspur_rig(), larkspur_rig(), larkspur_rig(seed=4)
    a, b, c = (run(rig, setting, "dome", 90) for rig in (one, two, other))
    assert np.array_equal(a, b)
    assert not np.array_equal(a, c)


def test_sensors_are_quantised_and_noisy(larkspur: SimulatedRig, card: RigCard) -> None:
    values = run(larkspur, Setting(), "idle", 60)
    core = reading(card, values, "core_temperature_c.1")
    assert np.allclose(core * 2, np.round(core * 2))
    assert np.unique(core).shape[0] > 1
    assert np.all(np.isfinite(values))


def test_the_pace_is_kept_and_can_be_changed() -> None:
    rig = larkspur_rig(pace=50.0)
    rig.frame(1.0)
    start = time.monotonic()
    for _ in range(30):
        assert rig.frame(1.0) is not None
    assert time.monotonic() - start > 0.35  # thirty rig seconds at fifty a second, less what a slow reader may catch up
    rig.set_pace(0.5)
    assert rig.frame(0.05) is None  # the next instant is two seconds off, and the timeout is kept
    rig.set_pace(None)
    assert rig.pace is None
    assert all(rig.frame(0.0) is not None for _ in range(100))


def test_what_is_asked_wrongly_is_refused(larkspur: SimulatedRig) -> None:
    with pytest.raises(RigError, match="no load called 'juggling'"):
        larkspur.start("juggling")
    with pytest.raises(RigError, match="outside"):
        larkspur.apply(Setting(sustained_power_w=4000.0))


def test_the_shut_down_comes_at_the_makers_temperature(larkspur: SimulatedRig, card: RigCard) -> None:
    assert 95.0 <= card.limits.shut_down_c <= 105.0  # common practice, no source
    assert math.isfinite(card.limits.core_temperature_c)
