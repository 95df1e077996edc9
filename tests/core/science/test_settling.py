import numpy as np
import pytest

from niente.core.science.arrays import Vector
from niente.core.science.settling import lagged, learn, settle


def step_response(t: Vector, *parts: tuple[float, float]) -> Vector:
    risen: Vector = np.sum([rise * -np.expm1(-t / tau) for rise, tau in parts], axis=0)
    return risen


@pytest.mark.parametrize(("taus", "share"), [(1, 0.632121), (3, 0.950213), (5, 0.993262)])
def test_the_lag_is_a_first_order_step(taus: int, share: float) -> None:
    """T(t) = dT (1 - exp(-t/tau)): an RC step; values derived from the equation."""
    tau = 100.0
    time_s = np.arange(0.0, 700.0)
    values = np.where(time_s < 100, 0.0, 1.0)
    found = lagged(time_s, values, tau)
    assert found[99 + int(taus * tau)] == pytest.approx(share, abs=1e-4)


def test_one_gain_of_the_lag() -> None:
    """a = 1 - exp(-dt/tau) with dt = 1 s and tau = 28 s is 0.03508406 (derived from the equation)."""
    found = lagged(np.arange(0.0, 62.0), np.r_[np.zeros(60), 1.0, 1.0], 28.0)
    assert found[60] == pytest.approx(0.03508406, abs=1e-7)


@pytest.mark.parametrize("slow", [200.0, 480.0, 900.0])
def test_an_unfinished_rc_step_is_told_within_its_interval(slow: float) -> None:
    """A response of 15 K at 30 s and 20 K at a slow constant, seen for less than two of these."""
    rng = np.random.default_rng(int(slow))
    misses = 0
    for _ in range(20):
        t = np.arange(0.0, 1.8 * slow)
        y = 40 + step_response(t, (15, 30.0), (20, slow)) + 0.4 * rng.standard_normal(t.shape[0])
        found = settle(t, y, np.full(t.shape[0], 23.0))
        assert found.known
        misses += abs(found.value_c - 75.0) > found.half_width_k
    assert misses <= 2


def test_the_interval_closes_with_time() -> None:
    rng = np.random.default_rng(1)
    t = np.arange(0.0, 3600.0)
    y = 40 + step_response(t, (15, 30.0), (20, 420.0)) + 0.4 * rng.standard_normal(t.shape[0])
    room = np.full(t.shape[0], 23.0)
    widths = [settle(t[:n], y[:n], room[:n]).half_width_k for n in (180, 360, 720, 1800, 3600)]
    assert widths == sorted(widths, reverse=True)
    assert widths[-1] == pytest.approx(0.5, abs=0.05)  # never tighter than the floor


def test_what_cannot_be_told_says_why() -> None:
    t = np.arange(0.0, 60.0)
    flat = np.full(60, 50.0)
    assert "two minutes" in settle(t, flat, flat).reason
    assert not settle(t, flat, flat).known_to(5.0)
    assert "begun" in settle(t[:1], flat[:1], flat[:1]).reason
    t = np.arange(0.0, 300.0)
    broken, room = np.full(300, 50.0), np.full(300, 23.0)
    broken[100:110] = np.nan
    assert settle(t, broken, room).value_c == pytest.approx(50.0, abs=0.1)  # a short gap is bridged
    broken[100:180] = np.nan
    assert "missing" in settle(t, broken, room).reason
    assert "missing" in settle(t, np.full(300, 50.0), np.full(300, np.nan)).reason
    lost = np.where(t < 280.0, 50.0, np.nan)
    assert "missing" in settle(t, lost, room).reason  # what it does now is not known


def test_runs_teach_the_slow_constant() -> None:
    rng = np.random.default_rng(2)
    prior: tuple[float, ...] = ()
    t = np.arange(0.0, 1500.0)
    for _ in range(6):
        y = 40 + step_response(t, (15, 30.0), (20, 420.0)) + 0.4 * rng.standard_normal(t.shape[0])
        prior = learn(prior, settle(t, y, np.full(t.shape[0], 23.0), prior))
    assert sum(prior) == pytest.approx(1.0)
    y = 40 + step_response(t, (15, 30.0), (20, 420.0)) + 0.4 * rng.standard_normal(t.shape[0])
    early = slice(0, 420)
    room = np.full(420, 23.0)
    taught, untaught = settle(t[early], y[early], room, prior), settle(t[early], y[early], room)
    assert taught.half_width_k < untaught.half_width_k
    assert learn(prior, settle(t[:5], y[:5], room[:5])) == prior


def test_noise_that_hangs_together_tells_less() -> None:
    """A flat run under noise of one size: where each reading hangs on the one before, fewer of them are new (textbook)."""
    rng = np.random.default_rng(8)
    t, many = np.arange(0.0, 900.0), 30
    room = np.full(t.shape[0], 23.0)

    def half_width(slow_s: float) -> float:
        widths = []
        for _ in range(many):
            shocks = rng.standard_normal(t.shape[0])
            values = np.zeros(t.shape[0])
            keep = np.exp(-1.0 / slow_s) if slow_s else 0.0
            for i in range(1, values.shape[0]):
                values[i] = keep * values[i - 1] + np.sqrt(1 - keep**2) * shocks[i]
            widths.append(settle(t, 60.0 + 1.5 * values, room).half_width_k)
        return float(np.median(widths))

    assert half_width(60.0) > 7.0 * half_width(0.0)  # without counting that, it would be four times


@pytest.mark.parametrize("seconds", [1200, 1500])
def test_a_forecast_that_its_own_run_has_not_let_stand_is_not_believed(seconds: int) -> None:
    """A creep slower than any run of this length shows: what the first part of the run said is far from what all of it says, so
    that the temperature does not count as known to ±1 K; without the creep it does."""
    t = np.arange(0.0, float(seconds))
    room = np.full(t.shape[0], 23.0)
    noise = 0.2 * np.random.default_rng(9).standard_normal(t.shape[0])
    steady = 60.0 - 10.0 * np.exp(-t / 300.0) + noise
    assert settle(t, steady, room).known_to(0.8)
    assert not settle(t, steady - 12.0 * np.exp(-t / 3500.0), room).known_to(1.0)
