from pathlib import Path

import numpy as np
import pytest

from niente.core.science.statistics import autocorrelation, fit_line, mean_with_error, redescending, share_interval

NORRIS = Path(__file__).parents[2] / "data" / "Norris.dat"


def test_the_line_agrees_with_nist_norris() -> None:
    """NIST StRD, Norris: certified values in the data file, lines 31 to 46."""
    rows = np.array([line.split() for line in NORRIS.read_text().splitlines()[60:96]], dtype=float)
    line = fit_line(rows[:, 1], rows[:, 0])
    assert line.intercept == pytest.approx(-0.262323073774029, rel=1e-9)
    assert line.slope == pytest.approx(1.00211681802045, rel=1e-12)
    assert line.intercept_se == pytest.approx(0.232818234301152, rel=1e-8)
    assert line.slope_se == pytest.approx(0.429796848199937e-03, rel=1e-8)
    assert line.residual_sd == pytest.approx(0.884796396144373, rel=1e-9)
    assert line.degrees == 34
    at_500, mean_hw = line.at(
        500.0, of_mean=True
    )  # Norris at 95 %: computed with statsmodels 0.15.0, derived from the equation
    assert at_500 == pytest.approx(500.796086, abs=1e-5)
    assert at_500 - mean_hw == pytest.approx(500.488196, abs=1e-5)
    assert at_500 - line.at(500.0)[1] == pytest.approx(498.971794, abs=1e-5)
    assert sum(line.at(0.0)) == pytest.approx(1.597007, abs=1e-5)


def test_a_line_needs_points() -> None:
    with pytest.raises(ValueError, match="three points"):
        fit_line(np.array([1.0, 2.0]), np.array([1.0, 2.0]))
    with pytest.raises(ValueError, match="equal"):
        fit_line(np.ones(5), np.arange(5.0))


def test_autocorrelation_of_a_known_process() -> None:
    """An AR(1) process with coefficient 0.8 has that lag-one autocorrelation (definition)."""
    rng = np.random.default_rng(5)
    values = np.zeros(20000)
    for i in range(1, values.shape[0]):
        values[i] = 0.8 * values[i - 1] + rng.standard_normal()
    assert autocorrelation(values) == pytest.approx(0.8, abs=0.02)


def test_the_error_of_a_mean_grows_with_autocorrelation() -> None:
    rng = np.random.default_rng(6)
    white = rng.standard_normal(4000)
    slow = np.convolve(white, np.ones(20) / 20, mode="valid")
    assert mean_with_error(white)[1] == pytest.approx(1 / np.sqrt(4000), rel=0.1)
    assert mean_with_error(slow)[1] > 3 * np.std(slow) / np.sqrt(slow.shape[0])
    assert mean_with_error(np.array([np.nan, np.nan]))[1] == np.inf


@pytest.mark.parametrize("rho", [0.0, 0.5, 0.8])
def test_the_error_of_a_mean_of_a_known_process(rho: float) -> None:
    """AR(1): the variance of a mean is sd^2/n (1 + rho)/(1 - rho) for many readings (textbook)."""
    rng = np.random.default_rng(7)
    many = 40000
    values, shocks = np.zeros(many), rng.standard_normal(many)
    for i in range(1, many):
        values[i] = rho * values[i - 1] + shocks[i]
    expected = np.std(values) / np.sqrt(many) * np.sqrt((1 + rho) / (1 - rho))
    assert mean_with_error(values)[1] == pytest.approx(expected, rel=0.05)


def test_readings_far_off_count_less_and_then_not_at_all() -> None:
    """Full weight up to 2.5 standard deviations, (2.5/r)^2 beyond, none from 6 on."""
    assert redescending(np.array([0.0, 1.0, -2.5, 5.0, -5.0, 6.0, 60.0])).tolist() == [1.0, 1.0, 1.0, 0.25, 0.25, 0.0, 0.0]


@pytest.mark.parametrize(
    ("times", "of", "low", "high"),
    [
        (81, 263, 0.2527, 0.3676),
        (15, 148, 0.0578, 0.1617),
        (0, 20, 0.0, 0.1684),
        (1, 29, 0.0009, 0.1776),
        (0, 100, 0.0, 0.036217),
        (3, 40, 0.015742, 0.203865),
        (20, 20, 0.831567, 1.0),
    ],
)
def test_shares_have_the_exact_interval(times: int, of: int, low: float, high: float) -> None:
    """Clopper-Pearson, 95 %: the pairs of Newcombe, Statist. Med. 17 (1998) 857, Table I, and others, by the beta quantiles."""
    assert share_interval(times, of) == pytest.approx((low, high), abs=6e-5)


def test_a_share_of_nothing_is_refused() -> None:
    for times, of in ((3, 2), (0, 0), (-1, 4)):
        with pytest.raises(ValueError, match="wanted"):
            share_interval(times, of)
