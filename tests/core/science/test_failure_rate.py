"""Bounds from exposure alone: exact Poisson, and the rule of three that it comes to without a failure."""

import math

import pytest

from niente.core.science.failure_rate import rate_upper_bound_per_s


@pytest.mark.parametrize(("failures", "rate_times_time"), [(0, 2.995732), (1, 4.743865), (2, 6.295794)])
def test_the_bound_is_garwoods(failures: int, rate_times_time: float) -> None:
    """Exact one-sided 95 % Poisson bounds (Garwood 1936, chi-squared form; derived from the equation): -ln 0.05 for none."""
    assert rate_upper_bound_per_s(failures, 1.0) == pytest.approx(rate_times_time, abs=1e-5)


def test_a_clean_day_leaves_one_failure_in_eight_hours_possible() -> None:
    """24 h without an error: at most 0.124822 an hour at 95 % (rule of three; derived from the equation)."""
    assert 3600.0 * rate_upper_bound_per_s(0, 86400.0) == pytest.approx(0.124822, abs=1e-5)
    days = rate_upper_bound_per_s(0, 298.0 * 86400.0) * 86400.0
    assert days == pytest.approx(0.01, rel=0.01)  # 298 clean days for one in a hundred a day


def test_without_exposure_nothing_is_bounded() -> None:
    assert rate_upper_bound_per_s(0, 0.0) == math.inf
    assert rate_upper_bound_per_s(0, 100.0, 0.99) > rate_upper_bound_per_s(0, 100.0, 0.95)
    with pytest.raises(ValueError, match="between 0 and 1"):
        rate_upper_bound_per_s(0, 100.0, 1.0)
