"""What a sensor is off by, from a reference: against the GUM's thermometer, and by hand."""

import math

import numpy as np
import pytest

from niente.core.science.calibration import calibrate


def test_the_thermometer_of_the_gum() -> None:
    """JCGM 100:2008, H.3: y1 -0.1712 ± 0.0029, y2 0.00218 ± 0.00067 (data and results from memory; reproduced by statsmodels).
    There the correction is fitted over the reading; turned about, a sensor that reads t + b."""
    t = np.array([1.521, 2.012, 2.512, 3.003, 3.507, 3.999, 4.513, 5.002, 5.503, 6.01, 6.511])
    b = np.array([-0.171, -0.169, -0.166, -0.159, -0.164, -0.165, -0.156, -0.157, -0.159, -0.161, -0.160])
    found = calibrate(10.0 * t, 10.0 * t + b)  # tenfold, so that the references lie far enough apart
    assert found.offset == pytest.approx(-0.1712, abs=5e-5)
    assert 10.0 * (found.gain - 1.0) == pytest.approx(0.00218, abs=1e-5)
    assert found.offset_hw == pytest.approx(2.262 * 0.0029, rel=0.02)  # t(0.975, 9) = 2.262 (table, from memory)
    assert 10.0 * found.gain_hw == pytest.approx(2.262 * 0.00067, rel=0.02)
    assert found.residual_sd == pytest.approx(0.0035, abs=5e-5)


def test_a_board_sensor_that_under_reads_by_a_gain() -> None:
    """P13: one that under-reads rises by 30 % when put right (common practice, no source): 0.77 of the truth."""
    rng = np.random.default_rng(1)
    truth = np.array([35.0, 50.0, 65.0, 80.0, 95.0])
    found = calibrate(truth, truth / 1.3 + 0.2 * rng.standard_normal(5))
    assert 1.0 / found.gain == pytest.approx(1.3, abs=0.03)
    assert abs(found.gain - 1.0 / 1.3) <= found.gain_hw
    assert found.corrected(60.0 / 1.3) == pytest.approx(60.0, abs=0.5)


def test_one_cap_tells_an_offset_and_two_tell_a_gain() -> None:
    once = calibrate(np.array([90.0]), np.array([92.5]))
    assert (once.gain, once.offset) == (1.0, 2.5)
    assert math.isnan(once.offset_hw)
    alike = calibrate(np.array([90.0, 90.0, 90.0]), np.array([92.4, 92.6, 92.5]))
    assert alike.gain == 1.0
    assert alike.offset == pytest.approx(2.5)
    assert 0.0 < alike.offset_hw < 0.5
    two = calibrate(np.array([70.0, 90.0]), np.array([60.0, 76.0]))
    assert two.gain == pytest.approx(0.8)
    assert two.offset == pytest.approx(4.0)


def test_what_tells_nothing_is_refused() -> None:
    with pytest.raises(ValueError, match="no pair"):
        calibrate(np.zeros(0), np.zeros(0))
    with pytest.raises(ValueError, match="do not rise"):
        calibrate(np.array([40.0, 60.0, 80.0]), np.array([50.0, 50.0, 45.0]))


def test_an_offset_is_known_to_the_root_of_n() -> None:
    """Three readings that scatter by 0.1 K: t(0.975, 2) = 4.303 times 0.1 over the root of 3 (table, from memory); the
    reading stands above its reference, and not the other way about."""
    three = calibrate(np.array([90.0, 90.0, 90.0]), np.array([92.4, 92.5, 92.6]))
    assert three.offset == pytest.approx(2.5)
    assert three.offset_hw == pytest.approx(4.303 * 0.1 / 3.0**0.5, rel=1e-3)
    assert three.corrected(92.5) == pytest.approx(90.0)
    six = calibrate(np.full(6, 90.0), np.array([92.4, 92.5, 92.6] * 2))
    assert six.offset_hw == pytest.approx(2.571 * np.std([92.4, 92.5, 92.6] * 2, ddof=1) / 6.0**0.5, rel=1e-3)
