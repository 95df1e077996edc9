"""A fan's speed at a duty: between the duties that were run, and with all that is not known beyond them."""

import numpy as np
import pytest

from niente.core.science.fan_speed import FanSpeeds

RUN = FanSpeeds(((20.0, 250.0), (40.0, 490.0), (60.0, 720.0), (80.0, 960.0)))


def test_between_the_duties_the_speed_is_known() -> None:
    speed, error = RUN.at(np.array([20.0, 30.0, 50.0, 80.0]))
    assert speed.tolist() == pytest.approx([250.0, 370.0, 605.0, 960.0], abs=4.0)
    assert np.all(error < 10.0)


@pytest.mark.parametrize("bend", [0.8, 1.2])
def test_fans_whose_speed_bends_are_within_the_interval(bend: float) -> None:
    duties = (20.0, 32.0, 52.0, 84.0)
    found = FanSpeeds(tuple((duty, 1200.0 * (duty / 100.0) ** bend) for duty in duties))
    at = np.linspace(20.0, 84.0, 60)
    speed, error = found.at(at)
    assert np.all(np.abs(speed - 1200.0 * (at / 100.0) ** bend) <= 1.96 * error + 1e-6)


def test_one_duty_says_little_of_any_other() -> None:
    """A group that ran at 75 % only does not turn as fast at 0 or 30 %, and nobody knows how fast exactly."""
    one = FanSpeeds(((75.0, 860.0),))
    speed, error = one.at(np.array([75.0, 30.0, 0.0, 100.0]))
    assert speed[0] == pytest.approx(860.0)
    assert error[0] < 5.0
    assert speed[1] == pytest.approx(344.0, abs=1.0)
    assert speed[2] == pytest.approx(0.0, abs=1e-9)
    assert error[1] > 100.0
    assert error[2] > 200.0
    assert speed[3] > 1000.0
    assert error[3] > 80.0


def test_where_a_fan_starts_is_not_known_between_standing_and_turning() -> None:
    found = FanSpeeds(((10.0, 0.0), (20.0, 300.0), (30.0, 430.0)))
    assert found.at(np.array([15.0]))[1][0] > 80.0
    assert found.at(np.array([25.0]))[1][0] < 10.0


def test_a_group_that_never_ran_is_anybodys_guess() -> None:
    speed, error = FanSpeeds().at(np.array([50.0]))
    assert error[0] >= 0.5 * speed[0]
    assert np.isnan(FanSpeeds().span[0])
