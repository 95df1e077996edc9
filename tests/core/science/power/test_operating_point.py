"""Where a machine settles: against Lambert's W, and against what each limit alone would give."""

import numpy as np
import pytest
from scipy.optimize import brentq
from scipy.special import lambertw

from niente.core.science.power.operating_point import Power, Rise, SettingLimiter, steady_state

NEVER = np.array([np.inf])


def leaking(leak_w: float) -> tuple[Power, Rise]:
    """80 W and leakage of e^(0.02 (T - 25)) behind 0.5 K/W, at any clock."""
    return (
        lambda clock, core, at: 80.0 + leak_w * np.exp(0.02 * (core - 25.0)),
        lambda watts, core, at: 0.5 * watts,
    )


def test_leakage_feeds_back_as_lambert_says() -> None:
    """T = u - W(-b theta P0 e^(b (u - T0)))/b: 80.02978 °C for 10 W of leakage (computed with scipy; derived)."""
    steady = steady_state(*leaking(10.0), np.array([25.0]), NEVER, NEVER, np.array([4000.0]))
    assert steady.core_c[0] == pytest.approx(80.02978, abs=1e-4)
    u = 25.0 + 0.5 * 80.0
    assert steady.core_c[0] == pytest.approx(
        u - float(np.real(lambertw(-0.02 * 0.5 * 10.0 * np.exp(0.02 * (u - 25.0))))) / 0.02
    )
    assert steady.limiter[0] == SettingLimiter.CLOCK
    assert not steady.runaway[0]


@pytest.mark.parametrize(("leak_w", "runs_away"), [(16.0, False), (16.4, False), (16.54, True), (25.0, True)])
def test_a_runaway_is_said(leak_w: float, runs_away: bool) -> None:
    """The critical leakage is 16.52989 W (where the argument of W falls below -1/e; derived)."""
    steady = steady_state(*leaking(leak_w), np.array([25.0]), NEVER, NEVER, np.array([4000.0]))
    assert bool(steady.runaway[0]) is runs_away
    assert np.isinf(steady.core_c[0]) == runs_away


@pytest.mark.parametrize(("watts", "runs_away"), [(265.0, False), (275.0, True)])
def test_beyond_160_degrees_nothing_settles(watts: float, runs_away: bool) -> None:
    """At 0.5 K/W over 25 °C, 270 W are 160 °C: no processor is read as settled beyond (common practice, no source)."""
    steady = steady_state(
        lambda clock, core, at: np.full(clock.shape, watts), half, np.array([25.0]), NEVER, NEVER, np.array([4000.0])
    )
    assert bool(steady.runaway[0]) is runs_away


def test_a_cap_holds_what_would_run_away() -> None:
    steady = steady_state(
        lambda clock, core, at: (80.0 + 25.0 * np.exp(0.02 * (core - 25.0))) * clock / 4000.0,
        leaking(25.0)[1],
        np.array([25.0]),
        NEVER,
        np.array([90.0]),
        np.array([4000.0]),
    )
    assert steady.limiter[0] == SettingLimiter.HEAT
    assert steady.core_c[0] == 90.0
    assert steady.power_w[0] == pytest.approx((90.0 - 25.0) / 0.5)


@pytest.mark.parametrize(("beside_k", "held"), [(0.0, True), (4.0, False), (12.0, False)])
def test_a_cap_that_no_clock_keeps_is_not_taken_for_kept(beside_k: float, held: bool) -> None:
    """A graphics card's heat alone leaves hardly a kelvin or none below the cap: the slowest clock still draws 8 W."""
    steady = steady_state(
        lambda clock, core, at: 80.0 * clock / 4000.0,
        lambda watts, core, at: 0.5 * watts + beside_k,
        np.array([25.0]),
        NEVER,
        np.array([31.0]),
        np.array([4000.0]),
    )
    assert steady.limiter[0] == SettingLimiter.HEAT
    assert bool(steady.runaway[0]) is not held
    assert (steady.core_c[0] == 31.0) == held
    assert np.isfinite(steady.power_w[0]) == held


def plain(clock: np.ndarray, core: np.ndarray, at: np.ndarray) -> np.ndarray:
    return 100.0 * (clock / 4000.0) ** 2.5


def half(watts: np.ndarray, core: np.ndarray, at: np.ndarray) -> np.ndarray:
    return 0.5 * watts


def test_the_lowest_of_the_limits_holds() -> None:
    """One setting a limit: none but the clock, the power limit, the temperature cap, and a cap above what power allows."""
    limit = np.array([np.inf, 70.0, np.inf, 70.0])
    cap = np.array([np.inf, np.inf, 60.0, 90.0])
    steady = steady_state(plain, half, np.full(4, 25.0), limit, cap, np.full(4, 4000.0))
    assert steady.limiter.tolist() == [SettingLimiter.CLOCK, SettingLimiter.POWER, SettingLimiter.HEAT, SettingLimiter.POWER]
    assert steady.power_w.tolist() == pytest.approx([100.0, 70.0, 70.0, 70.0], abs=1e-3)
    assert steady.core_c.tolist() == pytest.approx([75.0, 60.0, 60.0, 60.0], abs=1e-3)
    expected = 4000.0 * 0.7**0.4
    assert steady.clock_mhz.tolist() == pytest.approx([4000.0, expected, expected, expected], rel=1e-5)


def test_more_power_is_never_less_clock_and_a_hotter_room_never_more() -> None:
    limits = np.linspace(20.0, 140.0, 40)
    steady = steady_state(plain, half, np.full(40, 25.0), limits, np.full(40, 65.0), np.full(40, 4000.0))
    assert np.all(np.diff(steady.clock_mhz) >= -1e-6)
    assert np.all(np.diff(steady.core_c) >= -1e-6)
    warm = steady_state(plain, half, np.full(40, 35.0), limits, np.full(40, 65.0), np.full(40, 4000.0))
    assert np.all(warm.clock_mhz <= steady.clock_mhz + 1e-6)


def test_a_rise_that_does_not_follow_the_core_needs_no_solving_and_is_the_same() -> None:
    """Drawn at random: limits, caps, rooms and leakage; clock, power, temperature and limiter agree both ways."""
    rng = np.random.default_rng(11)
    count = 400
    leak, limit = rng.uniform(1.0, 20.0, count), np.where(rng.random(count) < 0.3, np.inf, rng.uniform(15.0, 180.0, count))
    cap, room = np.where(rng.random(count) < 0.4, np.inf, rng.uniform(45.0, 95.0, count)), rng.uniform(15.0, 35.0, count)

    def power(clock: np.ndarray, core: np.ndarray, at: np.ndarray) -> np.ndarray:
        watts: np.ndarray = plain(clock, core, at) + leak[at] * np.exp(0.015 * (core - 25.0))
        return watts

    ways = [steady_state(power, half, room, limit, cap, np.full(count, 4000.0), fans_follow=follow) for follow in (True, False)]
    slow, quick = ways
    assert np.array_equal(slow.limiter, quick.limiter)
    assert len(set(slow.limiter.tolist())) == 3
    assert np.array_equal(slow.runaway, quick.runaway)
    settled = ~slow.runaway
    for name in ("clock_mhz", "power_w", "core_c"):
        assert getattr(quick, name)[settled] == pytest.approx(getattr(slow, name)[settled], rel=1e-5)


def test_fans_on_a_curve_share_the_room_with_the_core() -> None:
    """A fan that speeds up with the core lets it follow the room less than one for one (P12; common practice, no source)."""

    def curved(watts: np.ndarray, core: np.ndarray, at: np.ndarray) -> np.ndarray:
        return watts * (0.3 + 0.3 / (0.2 + np.clip((core - 40.0) / 40.0, 0.0, 1.0)))

    cool, warm = (
        steady_state(plain, curved, np.array([room]), np.array([80.0]), NEVER, np.array([4000.0])) for room in (22.0, 32.0)
    )
    assert 0.0 < (warm.core_c[0] - cool.core_c[0]) / 10.0 < 0.8


def test_many_settings_settle_where_a_root_finder_says() -> None:
    """120 settings of any size and limit against SciPy's Brent, one after the other, along the definition: the highest clock
    that keeps every limit, and the lowest temperature at which power and rise agree."""
    rng = np.random.default_rng(5)
    n, top = 120, 4500.0
    dynamic, leak, per_k = rng.uniform(40.0, 160.0, n), rng.uniform(0.0, 12.0, n), rng.uniform(0.005, 0.025, n)
    theta, free = rng.uniform(0.15, 0.7, n), rng.uniform(0.0, 0.1, n)
    limit = np.where(rng.random(n) < 0.6, rng.uniform(30.0, 150.0, n), np.inf)
    cap = np.where(rng.random(n) < 0.5, rng.uniform(60.0, 100.0, n), np.inf)
    room = rng.uniform(15.0, 40.0, n)

    def power(clock: np.ndarray, core: np.ndarray, at: np.ndarray) -> np.ndarray:
        found: np.ndarray = dynamic[at] * (clock / top) ** 2.4 + leak[at] * np.exp(per_k[at] * (core - 40.0)) * (clock / top)
        return found

    def rise(watts: np.ndarray, core: np.ndarray, at: np.ndarray) -> np.ndarray:
        found: np.ndarray = theta[at] * watts + free[at] * watts**0.85
        return found

    steady = steady_state(power, rise, room, limit, cap, np.full(n, top), fans_follow=False)
    kinds = set()
    for index in range(n):
        at = np.array([index])

        def settled(clock: float, at: np.ndarray = at, index: int = index) -> float:
            def left(core: float) -> float:
                return float(core - room[index] - rise(power(np.array([clock]), np.array([core]), at), np.array([core]), at)[0])

            grid = np.linspace(room[index], 160.0, 800)
            crossed = next((core for core in grid if left(core) >= 0.0), None)
            return np.inf if crossed is None else float(brentq(left, max(crossed - 1.0, room[index]), crossed))

        def spare(clock: float, at: np.ndarray = at, index: int = index) -> float:
            core = settled(clock)
            if not np.isfinite(core):
                return -1.0
            watts = float(power(np.array([clock]), np.array([core]), at)[0])
            return float(min(1.0 - watts / limit[index], (cap[index] - core) / 100.0, 1.0))

        clock = top if spare(top) >= 0.0 else brentq(spare, 0.1 * top, top, xtol=1e-6)
        kinds.add(int(steady.limiter[index]))
        if np.isfinite(settled(clock)) and not steady.runaway[index]:
            assert steady.clock_mhz[index] == pytest.approx(clock, rel=2e-5)
            assert steady.core_c[index] == pytest.approx(settled(clock), abs=2e-3)
    assert kinds == {0, 1, 2}
    assert steady.runaway.sum() < 0.2 * n
