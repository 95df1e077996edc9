import numpy as np
import pytest

from niente.core.science.acoustics import add_levels, background_correction_db, level_mean, machine_alone
from niente.core.science.noise import NODES, NoiseModel


@pytest.mark.parametrize(
    ("levels", "total"),
    [
        ([40, 40], 43.0103),
        ([30] * 5, 36.9897),
        ([40, 35, 30], 41.5113),
        ([28.5, 31.2, 25.0, 33.7], 36.7086),
        ([50, 40], 50.4139),
    ],
)
def test_levels_add_as_energies(levels: list[float], total: float) -> None:
    """Energetic sum L = 10 lg sum 10^(Li/10): derived from the equation."""
    assert float(add_levels(np.array(levels, float))) == pytest.approx(total, abs=1e-4)


def test_two_equal_fans_are_three_decibels_louder() -> None:
    """Two equal fans are 3 dB louder than one, not twice the number (common practice, no source)."""
    for one in (19.0, 22.0, 29.0):
        assert float(add_levels(np.array([one, one]))) - one == pytest.approx(3.0, abs=0.02)


@pytest.mark.parametrize(
    ("per_decade", "ratio", "change"), [(50, 2.0, 15.0515), (55, 2.0, 16.5566), (50, 0.75, -6.2469), (50, 0.9, -2.2879)]
)
def test_fan_sound_law(per_decade: float, ratio: float, change: float) -> None:
    """dL = k lg(n2/n1), k 50 to 55 (an empirical range; values derived from the equation)."""
    straight = tuple(0.0 for _ in NODES)
    size = 3 + len(straight)
    model = NoiseModel(("case",), (1000.0,), 20.0, (40.0,), (float(per_decade),), (straight,), tuple([(0.0,) * size] * size))
    slow, fast = model.machine_alone(np.array([[500.0], [500.0 * ratio]]))
    assert fast - slow == pytest.approx(change, abs=1e-4)


@pytest.mark.parametrize(("difference", "k1"), [(3.01, 3.01), (6, 1.256), (10, 0.458), (15, 0.1396), (20, 0.0436)])
def test_background_correction(difference: float, k1: float) -> None:
    """K1 = -10 lg(1 - 10^(-0.1 dL)), ISO 3744 (clause from memory)."""
    assert background_correction_db(difference) == pytest.approx(k1, abs=5e-3)


@pytest.mark.parametrize("difference", [2.9, 0.0, -5.0])
def test_too_close_to_the_room_gives_no_number(difference: float) -> None:
    """Below 3 dB the reading is only an upper bound (ISO 3746, from memory)."""
    assert background_correction_db(difference) is None


@pytest.mark.parametrize(
    ("level", "room", "alone", "method"),
    [
        (40.0, 20.0, 39.9564, "ISO 3744"),
        (30.0, 24.0, 30.0 - 1.2563, "ISO 3744"),
        (28.0, 24.0, 28.0 - 2.2048, "ISO 3746"),
        (27.0, 24.0, 27.0 - 3.0206, "ISO 3746"),
    ],
)
def test_the_machine_alone_by_the_rules_of_the_standards(level: float, room: float, alone: float, method: str) -> None:
    """K1 = -10 lg(1 - 10^(-0.1 dL)) at 20, 6, 4 and 3 dB; from 6 dB on by ISO 3744, from 3 dB by ISO 3746 (from memory)."""
    found = machine_alone(level, 0.1, room, 0.1)
    assert found.dba == pytest.approx(alone, abs=1e-3)
    assert (found.bound, found.method) == (False, method)
    assert found.half_width_db >= 1.96 * 0.1


@pytest.mark.parametrize("level", [26.9, 24.0, 20.0])
def test_too_close_to_the_room_is_an_upper_bound_in_words(level: float) -> None:
    """Under 3 dB, at 0 dB and below it: at most 3 dB are taken off, and it is called a bound (ISO 3746, from memory)."""
    found = machine_alone(level, 0.1, 24.0, 0.1)
    assert found.bound
    assert found.dba == pytest.approx(level - 3.0206, abs=1e-3)
    assert "too close to the room to tell" in found.text()
    assert found.method == ""


def test_the_closer_to_the_room_the_wider_the_interval() -> None:
    widths = [machine_alone(24.0 + over, 0.2, 24.0, 0.2).half_width_db for over in (3.5, 6.0, 10.0, 20.0)]
    assert widths == sorted(widths, reverse=True)
    assert widths[-1] == pytest.approx(1.96 * 0.2, rel=0.02)


@pytest.mark.parametrize(
    ("levels", "mean"),
    [
        ([30.0, 32.0, 34.0, 38.0], 34.5509),  # ISO 3744:2010, 8.2.2: over positions
        ([40.0] * 5 + [30.0] * 55, 32.4304),  # IEC 61672-1:2013, 3.9: 5 min at 40 dB and 55 min at 30 dB
    ],
)
def test_levels_are_averaged_as_energies(levels: list[float], mean: float) -> None:
    """Derived from the equation; as numbers they would come to 33.5 and 30.83. Clauses from memory."""
    assert level_mean(np.array(levels))[0] == pytest.approx(mean, abs=0.001)
    assert level_mean(np.array([*levels, np.nan]))[0] == pytest.approx(mean, abs=0.001)


def test_half_the_time_silent_is_three_decibels_less() -> None:
    """10 lg(1/2) = -3.0103 dB (derived from the equation)."""
    level, _ = level_mean(np.array([60.0, -200.0] * 100))
    assert level - 60.0 == pytest.approx(-3.0103, abs=1e-4)


def test_the_error_of_a_mean_level_is_that_of_its_energy() -> None:
    """White scatter of 0.5 dB over 400 readings: 0.025 dB (root of n); one reading tells no error."""
    rng = np.random.default_rng(3)
    assert level_mean(30.0 + 0.5 * rng.standard_normal(400))[1] == pytest.approx(0.025, rel=0.15)
    assert level_mean(np.array([30.0]))[1] == np.inf
    assert level_mean(np.array([np.nan]))[1] == np.inf


def test_the_error_of_the_machine_alone_has_both_readings_in_it() -> None:
    """30 ± 0.2 dB over 26 ± 0.3 dB: dL = 0.2 / (1 - 10^-0.4) and 0.3 10^-0.4 / (1 - 10^-0.4) (derivatives of the energetic
    difference, by hand): 0.3323 and 0.1984 dB, together 0.3870, and 1.96 times that."""
    found = machine_alone(30.0, 0.2, 26.0, 0.3)
    assert found.half_width_db == pytest.approx(1.96 * 0.3870, abs=2e-3)
    louder = machine_alone(30.0, 0.0, 26.0, 0.3)
    assert louder.half_width_db == pytest.approx(1.96 * 0.1984, abs=2e-3)
