"""Readings that come round, against cycles whose means follow from arithmetic, and noise that has none."""

import numpy as np
import pytest

from niente.core.science.cycles import cycle_length, whole_cycle_means
from niente.core.science.statistics import mean_by_work, mean_with_error


def bursts(length: float, samples: int, begins: float) -> np.ndarray:
    """Return work that is full for 0.7 of each cycle and 0.3 in the rest, each reading the mean over its sample, so that the
    mean over whole cycles is 0.7 + 0.3 x 0.3 = 0.79."""

    def done(at: np.ndarray) -> np.ndarray:
        turns, part = np.divmod(at, length)
        return 0.79 * length * turns + np.minimum(part, 0.7 * length) + 0.3 * np.maximum(part - 0.7 * length, 0.0)

    return np.diff(done(begins + np.arange(samples + 1.0)))


@pytest.mark.parametrize("length", [7.0, 9.0, 13.3, 14.0, 25.7])
def test_the_length_of_a_cycle_is_found_between_the_samples(length: float) -> None:
    noise = 0.01 * np.random.default_rng(4).normal(size=150)
    found = cycle_length(bursts(length, 150, 3.0) + noise)
    assert found == pytest.approx(length, abs=0.03)


@pytest.mark.parametrize("length", [7.0, 13.3, 14.0, 22.0])
def test_a_swing_that_comes_round_is_no_doubt_about_the_mean(length: float) -> None:
    rng = np.random.default_rng(5)
    held, errors = 0, []
    for _ in range(200):
        values = bursts(length, 150, float(rng.uniform(0.0, length))) + 0.05 * rng.normal(size=150)
        mean, error = mean_with_error(values)
        held += abs(mean - 0.79) <= 1.96 * error
        errors.append(error)
    assert held >= 176  # 95 % of 200 are 190; less four standard deviations, since a dozen cycles are few
    assert np.median(errors) == pytest.approx(0.05 / np.sqrt(150), rel=0.15)  # of white noise alone


@pytest.mark.parametrize("creeps", [0.0, 0.5, 0.95])
def test_noise_has_no_cycle(creeps: float) -> None:
    rng = np.random.default_rng(6)
    found = 0
    for _ in range(200):
        values = np.zeros(150)
        for index in range(1, 150):
            values[index] = creeps * values[index - 1] + rng.normal()
        found += cycle_length(values) is not None
    assert found <= 2


def test_what_comes_round_too_seldom_or_never_has_no_cycle() -> None:
    assert cycle_length(bursts(60.0, 150, 0.0)) is None
    assert cycle_length(np.full(150, 7.0)) is None
    assert cycle_length(np.linspace(0.0, 1.0, 150)) is None
    assert cycle_length(np.array([1.0, 2.0])) is None


def test_any_readings_have_a_mean_with_its_error() -> None:
    """Cycles of any length, in any noise, cut off anywhere: none ends in an error."""
    rng = np.random.default_rng(9)
    for _ in range(1500):
        samples, length = int(rng.integers(2, 260)), float(rng.uniform(1.5, 60.0))
        values = bursts(length, samples, float(rng.uniform(0.0, length))) + rng.choice([0.0, 0.02, 0.3]) * rng.normal(
            size=samples
        )
        mean, error = mean_with_error(np.round(values, int(rng.integers(0, 4))))
        assert np.isfinite(mean)
        assert error >= 0.0


def test_cycles_are_whole_and_the_latest() -> None:
    values = np.array([9.0, 9.0, 0.0, 1.0, 2.0, 0.0, 1.0, 2.0])
    assert whole_cycle_means(values, 3.0).tolist() == [1.0, 1.0]
    assert whole_cycle_means(np.array([4.0, 0.0, 1.0, 3.0, 5.0]), 2.5) == pytest.approx([4.5 / 2.5, 8.5 / 2.5])


def test_a_clock_counts_where_work_is_done() -> None:
    work = np.tile([9.0, 9.0, 9.0, 3.0], 40)
    clock = np.tile([3000.0, 3000.0, 3000.0, 4000.0], 40)
    assert mean_by_work(clock, work) == pytest.approx((27 * 3000.0 + 3 * 4000.0) / 30)
    assert mean_by_work(clock, np.full(160, 9.0)) == pytest.approx(3250.0)  # steady work: all count alike
    assert mean_by_work(clock, np.where(np.arange(160) == 7, np.nan, work)) == pytest.approx(3250.0)
    assert np.isnan(mean_by_work(np.full(160, np.nan), work))
