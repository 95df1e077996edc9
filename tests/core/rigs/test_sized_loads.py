"""Loads of a size: they keep the cores busy for what they need, and drop out where the clock, or the voltage, does not do."""

import numpy as np

from niente.core.model.frame import RigEventKind
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig

CAPPED = Setting(temperature_cap_c=65.0, fan_duty={"case": 0.0})
WORK, POWER, CLOCK = "throughput_per_s", "package_power_w", "effective_clock_mhz"


def lived(size: float, seconds: int = 600, setting: Setting = CAPPED) -> tuple[dict[str, np.ndarray], list[tuple[float, str]]]:
    """Wren from rest with so many voices: its readings, and what happened when."""
    rig = SimulatedRig(shipped_file("wren"), seed=2)
    card = rig.describe()
    rig.apply(setting.replaced("load_size.voices", size).over(card.stock))
    rig.start("voices")
    times, rows, events = rig.record(seconds)
    read = {name: rows[:, card.index(name)] for name in (WORK, POWER, CLOCK)}
    return read, [(at - times[0] + 1.0, event.kind) for at, event in events]


def test_a_size_is_what_is_done_and_takes_less_power_than_all_that_there_is() -> None:
    some, dropped = lived(30.0)
    every, _ = lived(0.0)
    assert dropped == []
    assert abs(float(some[WORK][300:].mean()) - 30.0) < 0.5
    assert some[POWER][300:].mean() < 0.8 * every[POWER][300:].mean()
    assert some[CLOCK][300:].mean() >= every[CLOCK][300:].mean()


def test_too_large_a_size_drops_out_once_the_clock_has_come_down() -> None:
    """It passes for seconds and fails after minutes (common practice, no source)."""
    _, dropped = lived(100.0, 1800)
    assert dropped
    first_s, kind = dropped[0]
    assert kind == RigEventKind.DROP_OUT
    assert 30.0 < first_s < 1200.0
    _, dropped = lived(60.0, 1800)
    assert dropped == []


def test_a_shallow_voltage_drops_out_at_a_size_that_the_clock_would_do() -> None:
    deep = Setting(voltage_offset_mv=-140.0, fan_duty={"case": 0.0})
    _, dropped = lived(60.0, 600, deep)
    assert {RigEventKind.DROP_OUT, RigEventKind.CRASH} & {RigEventKind(kind) for _, kind in dropped}
    _, dropped = lived(60.0, 600, Setting(fan_duty={"case": 0.0}))
    assert dropped == []


def test_another_size_comes_up_anew_and_a_size_of_none_takes_all() -> None:
    rig = SimulatedRig(shipped_file("wren"), seed=2)
    card = rig.describe()
    work = card.index(WORK)
    assert work is not None
    assert card.stock.load_size == {"voices": 0.0}
    rig.apply(Setting(load_size={"voices": 40.0}))
    rig.start("voices")
    rig.record(60)
    rig.apply(Setting(load_size={"voices": 50.0}))
    _, rows, events = rig.record(60)
    assert events == []
    assert rows[2, work] < 12.0
    assert abs(rows[40:, work].mean() - 50.0) < 1.0
    rig.apply(Setting(load_size={"voices": 0.0}))
    _, rows, _ = rig.record(60)
    assert rows[30:, work].mean() > 60.0
