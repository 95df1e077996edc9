"""Gain and phase margins, against a loop whose margins stand in textbooks, and against scipy's simulation of it."""

import math

import numpy as np
import pytest
from scipy import signal

from niente.core.science.loop_margins import loop_margins

ONE = np.array([1.0])
TWO_LAGS = np.array([1.0, 1.0])


def test_three_equal_lags_have_a_gain_margin_of_eight() -> None:
    """1 / (s + 1)^3 turns by 180 degrees at sqrt(3), where it is 1/8 (any text on linear control)."""
    margins = loop_margins(1.0, ONE, ONE, TWO_LAGS, 0.0)
    assert margins.gain == pytest.approx(8.0, rel=0.005)
    assert margins.period_s == pytest.approx(2 * math.pi / math.sqrt(3), rel=0.005)
    assert math.isinf(margins.phase_deg)  # its gain is one at rest, and less beyond


def test_the_phase_margin_follows_from_arithmetic() -> None:
    """4 / (s + 1)^3 is one where (1 + w^2)^1.5 = 4, and has turned by 3 atan w there."""
    omega = math.sqrt(4 ** (2 / 3) - 1)
    margins = loop_margins(4.0, ONE, ONE, TWO_LAGS, 0.0)
    assert margins.phase_deg == pytest.approx(180 - 3 * math.degrees(math.atan(omega)), abs=0.1)
    assert margins.gain == pytest.approx(2.0, rel=0.005)


@pytest.mark.parametrize(("gain", "grows"), [(7.2, False), (8.8, True)])
def test_a_loop_beyond_its_margin_swings_on_in_a_simulation(gain: float, grows: bool) -> None:
    """The closed loop gain / ((s + 1)^3 + gain), by scipy.signal."""
    closed = signal.TransferFunction([gain], [1.0, 3.0, 3.0, 1.0 + gain])
    _, response = signal.step(closed, T=np.linspace(0.0, 60.0, 6001))
    late, early = np.ptp(response[-500:]), np.ptp(response[1000:1500])
    assert (late > early) == grows
    assert loop_margins(gain, ONE, ONE, TWO_LAGS, 0.0).swings == grows


def test_a_delay_takes_phase_and_a_slow_sensor_takes_gain() -> None:
    at_once = loop_margins(4.0, ONE, ONE, TWO_LAGS, 0.0)
    late = loop_margins(4.0, ONE, ONE, TWO_LAGS, 0.3)
    assert late.phase_deg < at_once.phase_deg - 15.0
    assert late.gain < at_once.gain
    assert loop_margins(4.0, np.array([0.5, 0.5]), np.array([1.0, 1.0]), TWO_LAGS, 0.0).gain == pytest.approx(at_once.gain)


def test_a_flat_curve_has_no_loop() -> None:
    margins = loop_margins(0.0, ONE, ONE, TWO_LAGS, 1.0)
    assert margins.calm
    assert not margins.swings
