"""Fits of exponentials, held against certified values and against responses whose constants are known."""

from pathlib import Path

import numpy as np
import pytest

from niente.core.science.exponentials import fit_exponentials, time_constants

DATA = Path(__file__).parents[2] / "data"


def nist(name: str) -> tuple[np.ndarray, np.ndarray]:
    """x and y of a data set: they begin at line 61 of the file."""
    lines = (DATA / f"{name}.dat").read_text().splitlines()[60:]
    rows = np.array([line.split() for line in lines if line.strip()], dtype=float)
    return rows[:, 1], rows[:, 0]


@pytest.mark.parametrize("start", [1.0, 0.75])
def test_box_bod(start: float) -> None:
    """NIST StRD, BoxBOD (higher difficulty): y = b1 (1 - exp(-b2 x)), from either of its starting values for b2."""
    x, y = nist("BoxBOD")
    found = fit_exponentials(x, y, (1.0 / start,), from_zero=True)
    b2, b2_se = 0.54723748542, 0.10455993237
    assert found.end == pytest.approx(213.80940889, rel=1e-7)
    assert found.end_se == pytest.approx(12.354515176, rel=1e-5)
    assert 1.0 / found.taus[0] == pytest.approx(b2, rel=1e-7)
    assert found.tau_ses[0] * b2**2 == pytest.approx(b2_se, rel=1e-5)  # the error of 1/tau
    assert found.residual_sd == pytest.approx(17.088072423, rel=1e-8)


@pytest.mark.parametrize("starts", [(0.01, 0.02), (0.005, 0.05)])
def test_mgh17(starts: tuple[float, float]) -> None:
    """NIST StRD, MGH17 (average difficulty): y = b1 + b2 exp(-x b4) + b3 exp(-x b5), from the second of its starting values
    for b4 and b5, and from others of that order. From the first (1 and 2) the exponentials are over before the second point."""
    x, y = nist("MGH17")
    found = fit_exponentials(x, y, (1.0 / starts[0], 1.0 / starts[1]))
    assert found.end == pytest.approx(3.7541005211e-1, rel=1e-6)
    assert found.end_se == pytest.approx(2.0723153551e-3, rel=1e-4)
    fast, slow = found.taus
    assert 1.0 / slow == pytest.approx(1.2867534640e-2, rel=1e-6)
    assert 1.0 / fast == pytest.approx(2.2122699662e-2, rel=1e-6)
    assert found.amplitudes == pytest.approx((-1.4646871366, 1.9358469127), rel=1e-6)
    assert found.amplitude_ses == pytest.approx((2.2175707739e-1, 2.2031669222e-1), rel=1e-4)
    assert found.tau_ses[1] / slow**2 == pytest.approx(4.4861358114e-4, rel=1e-4)
    assert found.tau_ses[0] / fast**2 == pytest.approx(8.9471996575e-4, rel=1e-4)
    assert found.residual_sd == pytest.approx(1.3970497866e-3, rel=1e-8)


def test_a_response_with_two_time_constants_gives_them_back() -> None:
    """y = 40 + 15 (1 - e^(-t/35)) + 20 (1 - e^(-t/420)): constants derived from the equation."""
    rng = np.random.default_rng(3)
    t = np.arange(0.0, 2400.0)
    y = 40.0 - 15.0 * np.expm1(-t / 35.0) - 20.0 * np.expm1(-t / 420.0) + 0.3 * rng.standard_normal(t.shape[0])
    fast, slow = time_constants(t, y, np.full(t.shape[0], 23.0))
    assert fast.seconds == pytest.approx(35.0, abs=max(fast.half_width_s, 1.5))
    assert slow.seconds == pytest.approx(420.0, abs=slow.half_width_s)
    assert slow.half_width_s < 30.0
    later = time_constants(t + 40000.0, y, np.full(t.shape[0], 23.0))  # only the time since it began counts
    assert [one.seconds for one in later] == pytest.approx([fast.seconds, slow.seconds], rel=1e-6)


def test_a_run_too_short_to_tell_tells_nothing() -> None:
    t = np.arange(0.0, 200.0)
    assert time_constants(t, np.full(200, 50.0), np.full(200, 23.0)) == ()
    t = np.arange(0.0, 400.0)
    y = 40.0 - 20.0 * np.expm1(-t / 900.0)
    assert all(one.seconds < 240.0 for one in time_constants(t, y, np.full(400, 23.0)))
    y[5] = np.nan
    assert time_constants(t, y, np.full(400, 23.0)) == ()
    with pytest.raises(ValueError, match="more than 3 points"):
        fit_exponentials(np.arange(3.0), np.arange(3.0), (1.0,))


def test_flat_and_wandering_readings_tell_no_constants_and_break_nothing() -> None:
    """A machine that is settled from the start, one that wanders, one that falls: whatever comes, nothing is raised."""
    t = np.arange(0.0, 3000.0)
    room = np.full(t.shape[0], 23.0)
    for seed in range(5):
        rng = np.random.default_rng(seed)
        noise = 0.3 * rng.standard_normal(t.shape[0])
        wander = np.cumsum(0.02 * rng.standard_normal(t.shape[0]))
        for y in (50.0 + noise, 50.0 + wander, 50.0 + 8.0 * np.exp(-t / 500.0) + noise, np.full(t.shape[0], 50.0)):
            for one in time_constants(t, y, room):
                assert np.isfinite(one.half_width_s)
                assert one.half_width_s < one.seconds


def test_misra1a() -> None:
    """NIST StRD, Misra1a (lower difficulty): y = b1 (1 - e^(-b2 x)), from the first of its starting values for b2."""
    x, y = nist("Misra1a")
    found = fit_exponentials(x, y, (1.0 / 1e-4,), from_zero=True)
    b2 = 5.5015643181e-4
    assert found.end == pytest.approx(238.94212918, rel=1e-7)
    assert found.end_se == pytest.approx(2.7070075241, rel=1e-5)
    assert 1.0 / found.taus[0] == pytest.approx(b2, rel=1e-7)
    assert found.tau_ses[0] * b2**2 == pytest.approx(7.2668688436e-6, rel=1e-5)
    assert found.residual_sd**2 * 12 == pytest.approx(0.12455138894, rel=1e-8)
