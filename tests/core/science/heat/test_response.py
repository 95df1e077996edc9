"""How fast a machine warms, against an exact solution of scipy's, and made-up machines whose capacities are known."""

import msgspec
import numpy as np
import pytest
from scipy import signal

from niente.core.science.heat.path import HeatPath, typical
from niente.core.science.heat.response import Warming, fit_response, parts_following

J_PER_K = np.array([25.0, 300.0, 5000.0, 900.0, 700.0])
BEHIND = 0.3
GROUPS, FULL = ("case", "cooler"), (1200.0, 1500.0)


def test_a_part_follows_as_a_first_order_lag_does() -> None:
    """scipy.signal.lsim on 1 / (tau s + 1), the input held from sample to sample."""
    target = np.repeat([0.0, 20.0, 5.0], 120)
    mine = parts_following(target[:, None], np.array([40.0]), 1.0)[:, 0]
    at_s = np.arange(361.0)
    held = signal.StateSpace([[-1 / 40.0]], [[1 / 40.0]], [[1.0]], [[0.0]])
    _, theirs, _ = signal.lsim(held, np.append(target, target[-1]), at_s, interp=False)
    assert mine == pytest.approx(theirs[1:], abs=1e-9)


def warmings(path: HeatPath, noise_k: float = 0.2) -> list[Warming]:
    """Runs of a machine with these capacities, one after the other: idle from cold, loads at several speeds, idle again."""
    rng = np.random.default_rng(8)
    stands = np.zeros(5)
    found: list[Warming] = []
    begins = 0.0
    for watts, rpm, seconds in (
        (10.0, (600.0, 700.0), 600),
        (120.0, (600.0, 700.0), 1500),
        (80.0, (1100.0, 400.0), 900),
        (120.0, (350.0, 1300.0), 900),
        (10.0, (350.0, 1300.0), 600),
    ):
        power, speeds = np.full(seconds, watts), np.tile(rpm, (seconds, 1))
        parts = split(path.parts(power, speeds))
        reference = split(path.parts(np.array([120.0]), np.array([rpm])))[0]
        kept = np.exp(-1.0 / np.maximum(reference / 120.0 * J_PER_K, 0.5))
        rise = np.empty(seconds)
        for second in range(seconds):
            stands = parts[second] + (stands - parts[second]) * kept
            rise[second] = stands.sum()
        found.append(Warming(begins, 1.0, rise + noise_k * rng.normal(size=seconds), power, rpm, (), ""))
        begins += seconds
    return found


def split(parts: np.ndarray) -> np.ndarray:
    return np.concatenate([(1.0 - BEHIND) * parts[:, :1], BEHIND * parts[:, :1], parts[:, 1:]], axis=1)


def test_known_capacities_are_found_within_their_intervals() -> None:
    path = typical(GROUPS, FULL)
    response = fit_response(path, warmings(path))
    assert response is not None
    assert response.residual_sd_k == pytest.approx(0.2, rel=0.1)
    rpm = np.array([[600.0, 700.0]])
    true = split(path.parts(np.array([120.0]), rpm)) / 120.0 * J_PER_K
    low, high = response.taus_interval_s(path, rpm)
    inside = (low <= 1.15 * true) & (true <= 1.15 * high)  # resistances are taken at the median power, not at 120 W
    assert np.count_nonzero(inside) >= 4
    assert response.taught[0]
    assert response.taught[2]


def test_a_slower_fan_lets_its_own_part_warm_more_slowly() -> None:
    path = typical(GROUPS, FULL)
    response = fit_response(path, warmings(path))
    assert response is not None
    slow, fast = response.taus_s(path, np.array([[600.0, 400.0], [600.0, 1400.0]]))
    assert slow[4] > 1.3 * fast[4]
    assert slow[0] == pytest.approx(fast[0])


def test_a_day_that_was_not_fitted_is_told() -> None:
    """The whole of a warming from cold, from runs of others: within half a kelvin of what the made-up machine does."""
    path = typical(GROUPS, FULL)
    made = warmings(path, noise_k=0.0)
    response = fit_response(path, warmings(path))
    assert response is not None
    stands = np.zeros(5)
    for run in made[:2]:
        targets = response.parts(path, run.power_w, np.tile(run.rpm, (run.power_w.shape[0], 1)))
        kept = np.exp(-1.0 / response.taus_s(path, np.array([run.rpm]))[0])
        told = np.empty(run.power_w.shape[0])
        for second in range(told.shape[0]):
            stands = targets[second] + (stands - targets[second]) * kept
            told[second] = stands.sum()
        assert np.quantile(np.abs(told - run.rise_k), 0.95) < 0.5


def test_without_readings_nothing_is_told() -> None:
    path = typical(GROUPS, FULL)
    assert fit_response(path, []) is None
    short = Warming(0.0, 1.0, np.full(30, 5.0), np.full(30, 50.0), (600.0, 700.0), (), "")
    assert fit_response(path, [short]) is None
    unread = Warming(0.0, 1.0, np.full(300, np.nan), np.full(300, 50.0), (600.0, 700.0), (), "")
    assert fit_response(path, [unread]) is None


def test_a_clock_that_began_anew_between_runs_is_no_gap() -> None:
    """After a restart a machine's own time begins anew: the next run begins nobody knows where, and no number overflows."""
    path = typical(GROUPS, FULL)
    made = warmings(path)
    moved = [*made[:2], *(msgspec.structs.replace(one, begins_s=one.begins_s - made[2].begins_s) for one in made[2:])]
    response = fit_response(path, moved)
    assert response is not None
    assert np.all(np.isfinite(response.logs))
    assert response.residual_sd_k == pytest.approx(0.2, rel=0.15)


def test_watts_that_cannot_be_tell_nothing() -> None:
    path = typical(GROUPS, FULL)
    lying = [msgspec.structs.replace(one, power_w=-one.power_w) for one in warmings(path)]
    assert fit_response(path, lying) is None
