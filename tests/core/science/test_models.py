import numpy as np
import pytest
from niente.core.science.thermal import at_room, fit_rise, thermal_resistance_kpw

from niente.core.science.power import dynamic_power_w, fit_power_law


def test_thermal_resistance() -> None:
    """theta = (Tj - Ta)/P (JESD51, from memory): 85 and 25 °C at 65 W; 0.65 K/W carries 78 K at 120 W."""
    assert thermal_resistance_kpw(85.0 - 25.0, 65.0) == pytest.approx(0.923077, abs=1e-6)
    assert thermal_resistance_kpw(78.0, 120.0) == pytest.approx(0.65, abs=1e-12)


def test_dynamic_power() -> None:
    """P = a C V^2 f: 20 nF at 1.2 V and 4 GHz give 115.2 W (derived from the equation)."""
    assert dynamic_power_w(20.0, 1.2, 4.0) == pytest.approx(115.2, abs=1e-9)


def test_the_heat_path_is_found_with_honest_intervals() -> None:
    """Runs made from another form of law than the fit's (exponential fans), with scatter: unseen places stay inside."""
    rng = np.random.default_rng(9)

    def truth(p: np.ndarray, cooler: np.ndarray, case: np.ndarray) -> np.ndarray:
        return p * (0.22 + 0.25 * np.exp(-2.2 * cooler / 1500) + 0.16 * np.exp(-2.5 * case / 1150)) + 55 * 0.16 * np.exp(
            -2.5 * case / 1150
        )

    p, case = (grid.ravel() for grid in np.meshgrid([80.0, 105.0, 130.0, 150.0], [230.0, 370.0, 600.0, 960.0]))
    cooler = np.full(p.shape, 600.0)
    model = fit_rise(p, truth(p, cooler, case) + 0.2 * rng.standard_normal(p.shape), np.full(p.shape, 0.4), cooler, case)
    unseen_p, unseen_case = (grid.ravel() for grid in np.meshgrid([90.0, 120.0, 145.0], [280.0, 480.0, 800.0]))
    rise, half_width = model.rise(unseen_p, np.full(unseen_p.shape, 600.0), unseen_case)
    off = np.abs(rise - truth(unseen_p, np.full(unseen_p.shape, 600.0), unseen_case))
    assert np.mean(off <= half_width) >= 8 / 9
    assert np.max(half_width) < 2.0
    theta, theta_hw = model.resistance(600.0, 600.0)
    direct = truth(np.array(101.0), np.array(600.0), np.array(600.0)) - truth(np.array(100.0), np.array(600.0), np.array(600.0))
    assert theta == pytest.approx(float(direct), abs=max(theta_hw, 0.02))


def test_the_heat_path_needs_three_runs() -> None:
    two = np.array([1.0, 2.0])
    with pytest.raises(ValueError, match="three settled runs"):
        fit_rise(two, two, two, two, two)


def test_a_hotter_room_counts_a_little_more_than_one_for_one() -> None:
    """With fans fixed a core follows the room 1.03 to 1.07 for one (common practice, no source)."""
    change = float(at_room(np.array(40.0), 23.0, 28.0) - at_room(np.array(40.0), 23.0, 23.0))
    assert 1.03 * 5 <= change <= 1.07 * 5


def test_throughput_follows_the_limit_and_then_not() -> None:
    limit = np.array([80.0, 100.0, 125.0, 150.0, 165.0])
    held = np.array([True, True, True, False, False])
    x = np.minimum(10.0 * (limit / 80.0) ** 0.4, 12.2)
    law = fit_power_law(limit, np.minimum(limit, 140.0), x, held)
    found, half_width = law.throughput(np.array([90.0, 160.0]))
    assert found[0] == pytest.approx(10.0 * (90 / 80) ** 0.4, rel=0.005)
    assert found[1] == pytest.approx(12.2, rel=1e-6)
    assert np.all(half_width > 0)
    assert float(law.power_w(np.array([200.0]))[0]) == pytest.approx(140.0)
    with pytest.raises(ValueError, match="no run"):
        fit_power_law(limit, limit, x, np.zeros(5, dtype=bool))
