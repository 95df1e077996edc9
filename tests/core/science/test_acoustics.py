import numpy as np
import pytest

from niente.core.science.acoustics import add_levels, background_correction_db, machine_alone
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
