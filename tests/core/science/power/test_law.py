"""Power and work over voltage, clock and temperature: against the textbook's law, and made-up machines."""

import numpy as np
import pytest

from niente.core.science.power.law import (
    AT_FULL,
    LEAK,
    LEAK_PER_K,
    LEAK_PER_V,
    LOAD_LINE,
    SHARED,
    UNCORE,
    PowerReadings,
    fit_power,
    law,
)


def values(**known: float) -> np.ndarray:
    found = np.full(SHARED + 1, -40.0)
    found[AT_FULL:SHARED] = 0.0
    for name, value in known.items():
        index = {"leak": LEAK, "per_k": LEAK_PER_K, "per_v": LEAK_PER_V, "uncore": UNCORE, "ohm": LOAD_LINE}[name]
        found[index] = np.log(value)
    return found


def test_dynamic_power() -> None:
    """P = a C V^2 f: 20 nF at 1.2 V and 4 GHz give 115.2 W (Weste and Harris, ch. 5; derived from the equation)."""
    at = values()
    at[AT_FULL], at[SHARED] = 1.2, np.log(20.0)
    one = np.array([4000.0]), np.array([60.0]), np.array([0.0]), np.array([0.0])
    assert law(at, 0, 4000.0, *one)[0][0] == pytest.approx(115.2, abs=1e-6)
    fixed = law(at, 0, 4000.0, one[0], one[1], one[2], np.array([0.6]))[0][0]
    assert fixed == pytest.approx(115.2 / 4.0, abs=1e-6)


@pytest.mark.parametrize(("percent", "saved"), [(5.0, 0.0975), (10.0, 0.19)])
def test_an_undervolt_saves_by_the_square(percent: float, saved: float) -> None:
    """1 - (1 - x)^2 of the switching power at the same clock (derived from the equation)."""
    at = values()
    at[AT_FULL], at[SHARED], at[AT_FULL + 3] = 1.2, np.log(20.0), 1.0
    clock, core = np.array([4000.0, 4000.0]), np.array([60.0, 60.0])
    offset = np.array([0.0, -12.0 * percent])
    power, _ = law(at, 0, 4000.0, clock, core, offset, np.zeros(2))
    assert 1.0 - power[1] / power[0] == pytest.approx(saved, abs=1e-9)


def test_leakage_grows_with_temperature_and_voltage() -> None:
    """e^(0.015 x 40) = 1.822 from 60 to 100 °C (definition)."""
    at = values(leak=10.0, per_k=0.015, per_v=4.0)
    at[AT_FULL] = 1.0
    core = np.array([60.0, 100.0])
    power, _ = law(at, 0, 4000.0, np.full(2, 4000.0), core, np.zeros(2), np.zeros(2))
    assert power.tolist() == pytest.approx([10.0, 18.2212], abs=1e-3)


def machine(rng: np.random.Generator, many: int, offset: np.ndarray, load: np.ndarray) -> PowerReadings:
    """Another processor: a curve of points with corners, leakage by voltage squared, work that memory holds back."""
    clock = rng.uniform(3200.0, 4900.0, many)
    core = rng.uniform(45.0, 92.0, many)
    curve = np.interp(clock, [3000.0, 3800.0, 4400.0, 5000.0], [0.88, 1.0, 1.14, 1.33]) + offset / 1000.0
    charge = np.where(load == 0, 21.0, 15.0)
    power = charge * curve**2 * clock / 1000.0 + 9.0 * curve**2 * np.exp(0.016 * (core - 60.0)) + 13.0
    work = np.where(load == 0, 5.0 * clock**0.93, 7.0 * clock**0.8)
    names = tuple("heavy" if one == 0 else "realistic" for one in load.tolist())
    return PowerReadings(
        clock,
        curve + 0.001 * rng.standard_normal(many),
        offset,
        np.zeros(many),
        core,
        power * (1 + 0.001 * rng.standard_normal(many)),
        work * (1 + 0.0004 * rng.standard_normal(many)),
        names,
        np.full(many, 0.0004),
    )


def test_clocks_and_watts_that_were_not_run_are_foreseen() -> None:
    """Eight machines whose curve has corners that no bent line has, 20 runs each."""
    inside, off, work_off = [], [], []
    for seed in range(8):
        rng = np.random.default_rng(seed)
        told = machine(rng, 20, np.where(np.arange(20) % 3 == 0, -50.0, 0.0), np.array([0, 0, 0, 1] * 5))
        found = fit_power(told)
        asked = machine(rng, 60, np.full(60, -25.0), np.zeros(60, dtype=int))
        within = (asked.clock_mhz > told.clock_mhz.min()) & (asked.clock_mhz < told.clock_mhz.max())
        power = found.power_w("heavy", asked.clock_mhz, asked.core_c, asked.offset_mv, asked.fixed_v)
        error = found.error("heavy", asked.clock_mhz, asked.core_c, asked.offset_mv, asked.fixed_v)
        apart = np.abs(np.log(power / asked.power_w))[within]
        off += apart.tolist()
        inside += (apart <= 1.96 * np.hypot(error[within], 0.001)).tolist()
        work, _ = found.work["heavy"].throughput(asked.clock_mhz / found.ref_mhz, asked.offset_mv, np.zeros(60))
        work_off += np.abs(work / asked.throughput_per_s - 1.0).tolist()
        assert found.work["realistic"].beta == pytest.approx(0.8, abs=0.03)
        assert set(found.seen_mhz) == {"heavy", "realistic"}
    assert np.median(off) < 0.005
    assert np.mean(inside) > 0.7
    assert np.max(work_off) < 0.005


def test_without_a_voltage_reading_clocks_are_foreseen_too() -> None:
    rng = np.random.default_rng(3)
    told = machine(rng, 14, np.zeros(14), np.zeros(14, dtype=int))
    blind = fit_power(
        PowerReadings(
            told.clock_mhz, np.full(14, np.nan), *(getattr(told, name) for name in PowerReadings.__struct_fields__[2:])
        )
    )
    power = blind.power_w("heavy", told.clock_mhz, told.core_c, told.offset_mv, told.fixed_v)
    assert np.median(np.abs(power / told.power_w - 1.0)) < 0.004


def test_three_runs_are_the_least() -> None:
    two = machine(np.random.default_rng(4), 2, np.zeros(2), np.zeros(2, dtype=int))
    with pytest.raises(ValueError, match="three runs"):
        fit_power(two)


def test_the_load_line_lowers_the_voltage_by_the_current() -> None:
    """1.2 V set and 0.5 mOhm: V = 1.2 - R P/1.2 with P = 0.096 V^2 kW; by hand V = 1.15266 V and P = 127.55 W at 96 nF GHz."""
    at = values(ohm=0.0005)
    at[AT_FULL], at[SHARED] = 1.2, np.log(24.0)
    power, volt = law(at, 0, 4000.0, np.array([4000.0]), np.array([60.0]), np.zeros(1), np.zeros(1))
    set_v = 1.2
    by_hand = set_v
    for _ in range(50):
        by_hand = set_v - 0.0005 * (24.0 * by_hand**2 * 4.0) / set_v
    assert volt[0] == pytest.approx(by_hand, abs=1e-5)
    assert volt[0] < set_v
    assert power[0] == pytest.approx(24.0 * by_hand**2 * 4.0, rel=1e-4)


def test_a_voltage_never_falls_with_the_clock() -> None:
    """A curve that is bent strongly is level below its lowest point: less clock never draws more."""
    at = values(uncore=10.0)
    at[AT_FULL], at[AT_FULL + 1], at[AT_FULL + 2], at[SHARED] = 1.2, 0.5, 2.0, np.log(20.0)
    clock = np.linspace(400.0, 4000.0, 50)
    power, volt = law(at, 0, 4000.0, clock, np.full(50, 60.0), np.zeros(50), np.zeros(50))
    assert np.all(np.diff(volt) >= -1e-12)
    assert np.all(np.diff(power) > 0.0)


def test_a_run_whose_power_cannot_be_is_left_out() -> None:
    rng = np.random.default_rng(5)
    told = machine(rng, 20, np.zeros(20), np.zeros(20, dtype=int))
    told.power_w[4] *= 1.6
    found = fit_power(told)
    assert found.rejected == (4,)
    told.power_w[4] /= 1.6
    clean = fit_power(told)
    at = told.clock_mhz[8:12], told.core_c[8:12], told.offset_mv[8:12], told.fixed_v[8:12]
    assert found.power_w("heavy", *at).tolist() == pytest.approx(clean.power_w("heavy", *at).tolist(), rel=0.004)
