"""The simulated rig: looked ahead and taken back, rebuilt in its variants, its fans on curves and their ways of failing."""

import time
from typing import Any

import numpy as np
import pytest
from benchmarks.fleet import record_all

from niente.core.model.errors import DocumentError, RigError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.frame import RigEventKind
from niente.core.model.setting import Setting
from niente.core.rigs.simulated import plant
from niente.core.rigs.simulated.faults import Fault, FaultKind
from niente.core.rigs.simulated.machine_files import shipped_file, shipped_machines
from niente.core.rigs.simulated.rig import SimulatedRig
from tests.conftest import larkspur_rig
from tests.core.rigs.benches import settled, stand_in


def frames(rig: SimulatedRig, seconds: int) -> np.ndarray:
    read = [rig.frame(1.0) for _ in range(seconds)]
    return np.array([frame.values for frame in read if frame is not None])


def channel(rig: SimulatedRig, rows: np.ndarray, name: str) -> np.ndarray:
    index = rig.describe().index(name)
    assert index is not None
    return rows[:, index]


def test_one_by_one_and_many_at_once_are_the_same() -> None:
    one, many = larkspur_rig(), larkspur_rig()
    for rig in (one, many):
        rig.apply(Setting(sustained_power_w=130.0))
        rig.start("dome")
    times, rows, _ = many.record(500)
    assert np.array_equal(frames(one, 500), rows)
    assert times[-1] == 500.0


def test_a_change_in_the_middle_of_what_was_looked_ahead_changes_nothing_before_it() -> None:
    """Every moment to change at gives the same past, and the present it would have had."""
    for moment in (1, 5, 37, 64, 130):
        looked, plain = larkspur_rig(), larkspur_rig()
        before = frames(looked, moment), plain.record(moment)[1]
        assert np.array_equal(*before)
        for rig in (looked, plain):
            rig.apply(Setting(sustained_power_w=90.0, fan_duty={"case": 33.0}))
            rig.start("vector")
        assert np.array_equal(frames(looked, 200), plain.record(200)[1])


def test_an_event_comes_with_its_own_second() -> None:
    events, rigs = [], (larkspur_rig(), larkspur_rig())
    for rig in rigs:
        rig.apply(Setting(voltage_offset_mv=-96.0))
        rig.start("vector")
    for _ in range(900):
        frame = rigs[0].frame(1.0)
        assert frame is not None
        events += [(frame.time_s, event) for event in frame.events]
    assert events
    assert rigs[1].record(900)[2] == events


def test_all_machines_share_what_is_compiled() -> None:
    """A setting of whole numbers, a machine without a pump or a second fan: none may make the plant compile anew."""
    for name in shipped_machines():
        rig = stand_in(name)
        watts = int(rig.describe().stock.sustained_power_w or 0)
        rig.apply(Setting(sustained_power_w=watts, temperature_cap_c=85, voltage_offset_mv=-10))
        rig.start("vector")
        rig.record(5)
    assert len(plant.advance.signatures) == 1  # type: ignore[attr-defined]


def test_a_variant_is_another_state_of_the_same_sample() -> None:
    rig = stand_in("larkspur")
    before = rig.describe()
    assert before.variant == "filter in"
    assert [variant.name for variant in before.variants][:2] == ["filter in", "filter out"]
    rig.record(100)
    rig.start("vector")
    rig.become("filter out")
    card = rig.describe()
    assert (card.variant, card.serial, card.name) == ("filter out", before.serial, before.name)
    assert rig.load == "idle"
    assert rig.setting == card.safe
    frame = rig.frame(1.0)
    assert frame is not None
    assert frame.time_s == 101.0  # its clock goes on
    rig.become("filter out")  # nothing to do
    with pytest.raises(DocumentError, match="no variant 'on fire'"):
        rig.become("on fire")
    fresh = stand_in("larkspur", "filter out")
    assert fresh.describe() == card
    at = Setting(sustained_power_w=100.0)
    assert fresh.true_settled_core_c(at, "vector", 23.0) == rig.true_settled_core_c(at, "vector", 23.0)


@pytest.mark.parametrize("name", shipped_machines())
def test_every_variant_of_every_machine_runs(name: str) -> None:
    rig = stand_in(name)
    for variant in rig.describe().variants:
        rig.become(variant.name)
        assert rig.describe().variant == variant.name
        rig.start("vector")
        assert np.all(np.isfinite(rig.record(20)[1]))
        assert variant.name == rig.describe().variants[0].name or (variant.words and variant.hands)


@pytest.mark.parametrize("name", shipped_machines())
def test_every_load_of_every_machine_runs(name: str) -> None:
    rig = stand_in(name)
    for load in rig.describe().loads:
        rig.start(load.name)
        rows = rig.record(30)[1]
        assert channel(rig, rows, "throughput_per_s").max() > 0.0 or load.name == "idle"


def test_tiles_come_in_bursts() -> None:
    rig = stand_in("larkspur")
    rig.start("tiles")
    power = channel(rig, rig.record(400)[1], "package_power_w")[-200:]
    assert np.percentile(power, 90) > 1.8 * np.percentile(power, 10)


CURVE = FanCurve("core_temperature_c", ((45.0, 25.0), (80.0, 95.0)), 4.0, 3.0, 1.0)


def test_a_curve_ramps_and_holds() -> None:
    rig = stand_in("larkspur")
    rig.apply(Setting(sustained_power_w=150.0, fan_curve={"case": CURVE}))
    quiet = channel(rig, rig.record(300)[1], "fan_speed_rpm.case")[-1] / 11.5
    rig.start("vector")
    up = channel(rig, rig.record(60)[1], "fan_speed_rpm.case") / 11.5
    assert np.max(np.diff(up[3:])) < 4.5  # 3 % a second, and what the sensor scatters
    assert up[-1] > quiet + 15.0
    rig.record(600)
    rig.stop()
    down = channel(rig, rig.record(400)[1], "fan_speed_rpm.case") / 11.5
    assert np.min(np.diff(down)) > -4.0
    assert down[5] > down[-1] + 10.0


def test_hysteresis_keeps_a_fan_from_hunting() -> None:
    """Under a load that comes and goes, a curve without hysteresis moves more."""
    moved = []
    for hysteresis in (0.0, 8.0):
        rig = stand_in("larkspur")
        curve = FanCurve("core_temperature_c", CURVE.points, hysteresis, 20.0, 20.0)
        rig.apply(Setting(sustained_power_w=150.0, fan_curve={"case": curve}))
        rig.start("tiles")
        speed = channel(rig, rig.record(900)[1], "fan_speed_rpm.case")[-300:]
        moved.append(float(np.abs(np.diff(speed)).sum()))
    assert moved[1] < 0.75 * moved[0]


def test_an_emergency_fan_stands_below_its_threshold() -> None:
    rig = stand_in("wren")
    rig.apply(rig.describe().stock)
    rig.start("desk")
    assert channel(rig, rig.record(1800)[1], "fan_speed_rpm.case")[120:].max() == 0.0  # it had been on for safety
    rig.apply(Setting(sustained_power_w=120.0))
    rig.start("mixed")
    assert channel(rig, rig.record(3600)[1], "fan_speed_rpm.case").max() > 200.0


def test_a_duty_takes_a_group_off_its_curve() -> None:
    at = Setting(fan_duty={"case": 40.0}).on_curve("case", CURVE)
    assert "case" not in Setting(fan_duty={"case": 50.0}).over(at).fan_curve
    assert Setting(fan_curve={"case": CURVE}).over(Setting(fan_duty={"case": 50.0})).fan_curve == {"case": CURVE}
    assert at.text() == "case on its curve"
    assert hash(at.key()) != hash(Setting(fan_duty={"case": 40.0}).key())


@pytest.mark.parametrize(
    ("curve", "words"),
    [
        (FanCurve("core_temperature_c", ()), "no points"),
        (FanCurve("core_temperature_c", ((50.0, 20.0), (50.0, 30.0))), "do not rise"),
        (FanCurve("core_temperature_c", ((50.0, 120.0),)), "outside 0 to 100"),
        (FanCurve("core_temperature_c", ((50.0, 20.0),), ramp_up_percent_per_s=0.0), "positive"),
        (FanCurve("moon_phase", ((50.0, 20.0),)), "cannot follow 'moon_phase'"),
        (FanCurve("core_temperature_c", ((50.0, 20.0),), more_sources=("moon_phase",)), "cannot follow 'moon_phase'"),
    ],
)
def test_a_curve_that_cannot_be_is_refused(curve: FanCurve, words: str) -> None:
    rig = stand_in("larkspur")
    with pytest.raises(RigError, match=words):
        rig.apply(Setting(fan_curve={"case": curve}))
    with pytest.raises(RigError, match="no fan group 'roof'"):
        rig.apply(Setting(fan_curve={"roof": CURVE}))


def test_a_fan_supply_is_another_way_to_set_a_fan() -> None:
    """7 V instead of 12 V: a little over half the speed; 5 V: a third; some fans do not start there."""
    control = {"name": "fan_supply_v.case", "low": 0, "high": 12, "step": 0.5, "set_by": "hands"}
    document, full = shipped_file("larkspur").document, {"fan_supply_v": {"case": 12}}
    changes: dict[str, Any] = {
        "controls": [*document["controls"], control],
        "stock": full,
        "safe": full,
    }
    rig = stand_in("larkspur", **changes)
    speeds = []
    for supply in (12.0, 7.0, 5.0, 2.0):
        rig.apply(Setting(fan_duty={"case": 100.0}, fan_supply_v={"case": supply}))
        speeds.append(channel(rig, rig.record(60)[1], "fan_speed_rpm.case")[-5:].mean())
    assert speeds[1] / speeds[0] == pytest.approx(5.8 / 10.8, abs=0.02)
    assert speeds[2] / speeds[0] == pytest.approx(3.8 / 10.8, abs=0.02)
    assert speeds[3] == 0.0


def test_one_stuck_fan_of_a_group_is_felt_and_not_seen_at_the_header() -> None:
    """The header reads its first fan; the air tells that another one stands."""
    rig = larkspur_rig(Fault(FaultKind.FAN_STALL, 5.0, "exhaust"))
    well = larkspur_rig()
    for one in (rig, well):
        one.apply(Setting(sustained_power_w=120.0, fan_duty={"case": 50.0}))
        one.start("vector")
    stuck, turning = frames(rig, 3600), frames(well, 3600)
    assert channel(rig, stuck, "fan_speed_rpm.case")[-1] > 400.0
    assert (
        channel(rig, stuck, "case_air_temperature_c")[-60:].mean()
        > channel(well, turning, "case_air_temperature_c")[-60:].mean() + 1.0
    )


def test_sensors_lag() -> None:
    read = []
    for lag in (0.0, 6.0):
        rig = stand_in("larkspur", sensors={"temperature_lag_s": lag})
        rig.apply(Setting(sustained_power_w=165.0))
        rig.record(60)
        rig.start("vector")
        read.append(channel(rig, rig.record(8)[1], "core_temperature_c.1")[3])
    assert read[0] - read[1] > 4.0


def test_a_step_of_the_room_is_read() -> None:
    rig = stand_in("larkspur", room={"cycle_k": 0.0, "drift_k": 0.0, "steps": [{"at_s": 100.0, "kelvin": 3.0}]})
    room = channel(rig, rig.record(200)[1], "room_temperature_c")
    assert room[:90].mean() == pytest.approx(23.0, abs=0.1)
    assert room[-60:].mean() == pytest.approx(26.0, abs=0.1)


def test_a_rig_can_hang_for_20_seconds() -> None:
    rig = larkspur_rig(Fault(FaultKind.HANG, 3.0, seconds=0.3))
    start = time.monotonic()
    assert len(frames(rig, 10)) == 10
    assert time.monotonic() - start > 0.25


def test_the_firmware_shuts_down_at_its_critical_temperature() -> None:
    rig = stand_in("plover", limits={"core_temperature_c": 95, "shut_down_c": 96.5})
    rig.apply(Setting(sustained_power_w=60.0, fan_duty={"cooler": 0.0}))
    rig.start("dome")
    _, rows, events = rig.record(3600)
    hot = rows[:, list(rig.describe().indices("core_temperature_c"))].max()
    assert {event.kind for _, event in events} == {RigEventKind.SHUT_DOWN}
    assert rig.load == "idle"
    assert hot < 104.0


def test_the_more_active_cores_the_hotter() -> None:
    few, many = settled("larkspur", "single", 23.0), settled("larkspur", "scalar", 23.0)
    assert few.hottest_c < many.hottest_c
    assert few.readings["package_power_w"] < 0.6 * many.readings["package_power_w"]


def test_many_samples_run_side_by_side_as_each_would_alone() -> None:
    rigs = [stand_in("larkspur", seed=seed) for seed in (1, 2, 3)]
    rows = record_all(rigs, 50)
    assert rows.shape == (3, 50, len(rigs[0].describe().channels))
    assert np.array_equal(rows[1], stand_in("larkspur", seed=2).record(50)[1])
    assert not np.array_equal(rows[0], rows[2])
    with pytest.raises(ValueError, match="of one kind"):
        record_all([rigs[0], stand_in("wren")], 10)
