"""Power and work over voltage, clock and temperature: against the textbook's law, NIST's growth data, and made-up machines."""

from pathlib import Path

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

MISRA = Path(__file__).parents[3] / "data" / "Misra1a.dat"


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


def test_the_search_that_the_fits_use_agrees_with_nist_misra1a() -> None:
    """NIST StRD, Misra1a, y = b1 (1 - e^(-b2 x)): certified values in the data file, lines 41 to 47. The same
    least-squares search as the fits', with logarithms of the parameters as there."""
    from scipy.optimize import least_squares

    rows = np.array([line.split() for line in MISRA.read_text().splitlines()[60:74]], dtype=float)
    y, x = rows[:, 0], rows[:, 1]
    found = least_squares(
        lambda at: np.exp(at[0]) * (1.0 - np.exp(-np.exp(at[1]) * x)) - y,
        np.log([250.0, 5e-4]),
        x_scale=[1.0, 1.0],
        ftol=1e-15,
        xtol=1e-15,
        gtol=1e-15,
    )
    b1, b2 = np.exp(found.x)
    assert b1 == pytest.approx(238.94212918, rel=1e-6)
    assert b2 == pytest.approx(5.5015643181e-4, rel=1e-6)
    residual_sd = np.sqrt(np.sum(found.fun**2) / 12)
    sds = np.sqrt(np.diag(np.linalg.inv(found.jac.T @ found.jac))) * residual_sd * np.array([b1, b2])
    assert sds[0] == pytest.approx(2.7070075241, rel=1e-4)
    assert sds[1] == pytest.approx(7.2668688436e-06, rel=1e-4)
