"""Where a machine settles: clock, power and temperature under any combination of power limit, temperature cap and clock
cap, the heat's own feedback through leakage included.

Power and temperature both rise with the clock, so each limit by itself gives a highest clock, and the lowest of the three
holds. The temperature that belongs to a clock is a root of T = room + rise(P(f, T)); with leakage in it, that equation has no
answer where each kelvin brings more than a kelvin's worth of leakage. That is a runaway, and it is said, never extrapolated.
"""

from collections.abc import Callable
from enum import IntEnum

import msgspec
import numpy as np

from niente.core.science.arrays import Codes, Indices, Mask, Vector

HOTTEST_C = 160.0
"""Beyond this no silicon settles: a machine that has not settle below it runs away."""
SLOWEST = 0.1
"""The least clock that is looked at, as a share of the highest."""
MAX_W, SOME_W = 16384.0, 100.0
SCANS = (8, 64)
"""Steps in which the first balance is looked for, so that the stable one is found and not the unstable one above it; finer
ones for settings in which none was found, since near a runaway the two lie close together."""

SECANTS, FOUND = 12, 1e-8
"""Secants are drawn so often at most; a share by which a balance may be missed."""
ABOUT = 0.4
"""By so much of a share of power the clock is first taken to move: power goes with about the clock to the 2.5."""

Rise = Callable[[Vector, Vector, Indices], Vector]
"""The rise over the room in K for package powers ``(m,)`` in W at core temperatures ``(m,)`` in °C, which fans on a curve
follow; ``(m,)`` indices say which of the settings they belong to."""
Power = Callable[[Vector, Vector, Indices], Vector]
"""The package power in W at clocks ``(m,)`` in MHz and core temperatures ``(m,)`` in °C, for settings by their indices."""


class SettingLimiter(IntEnum):
    """What limits the clock in steady state."""

    CLOCK = 0
    POWER = 1
    HEAT = 2


class SteadyState(msgspec.Struct, frozen=True):
    """Where it settles, all arrays ``(n,)``: clock (MHz), power (W), core temperature (°C), what limits it.

    ``runaway`` where nothing holds it: no temperature below 160 °C balances, or the slowest clock that is looked at is too much
    for the limiter; temperature and power are then infinite.
    """

    clock_mhz: Vector
    power_w: Vector
    core_c: Vector
    limiter: Codes
    runaway: Mask


def steady_state(
    power: Power,
    rise: Rise,
    room_c: Vector,
    limit_w: Vector,
    cap_c: Vector,
    top_mhz: Vector,
    *,
    fans_follow: bool = True,
) -> SteadyState:
    """Solve for ``n`` settings at once; limits that are not in force are infinite.

    ``limit_w`` is what the package draws where its limit is in force, ``top_mhz`` the highest clock that the setting allows.
    Where no fan follows the core (not ``fans_follow``) the rise at a power is known without solving for it.
    """
    every = np.arange(room_c.shape[0])
    limited = np.isfinite(limit_w)
    limited_c = np.full(room_c.shape, np.inf)
    balance = _scanned_balance if fans_follow else _balance  # there a hotter core may rise less: no secant is sure then
    if fans_follow:
        limited_c[limited], _ = balance(lambda core, at: rise(limit_w[at], core, at), room_c, every[limited])
    else:
        limited_c[limited] = room_c[limited] + rise(limit_w[limited], room_c[limited], every[limited])
    # power rises with temperature: what draws too much in a core as cool as the room is surely limited
    open_to = every[~(power(top_mhz, room_c, every) > limit_w)]
    free_c, balanced = np.full(room_c.shape, HOTTEST_C), np.zeros(room_c.shape, dtype=bool)
    free_c[open_to], balanced[open_to] = balance(lambda core, at: rise(power(top_mhz[at], core, at), core, at), room_c, open_to)
    free_w = power(top_mhz, free_c, every)
    is_free = balanced & (free_w <= limit_w) & (free_c <= cap_c)
    hot = ~is_free & np.isfinite(cap_c) & (limited_c > cap_c)
    by_power = ~is_free & ~hot & limited
    runaway = ~is_free & ~hot & ~by_power
    clock, watts, core = top_mhz.copy(), free_w.copy(), free_c.copy()
    capped = every[hot]
    watts[capped] = _power_at(rise, room_c, cap_c, capped)
    core[capped] = cap_c[capped]
    capped = every[by_power]
    watts[capped], core[capped] = limit_w[capped], limited_c[capped]
    capped = every[hot | by_power]
    runaway[capped] = power(SLOWEST * top_mhz[capped], core[capped], capped) >= watts[capped]
    capped = every[(hot | by_power) & ~runaway]
    clock[capped] = _clock_at(power, watts, core, top_mhz, capped)
    watts[runaway] = core[runaway] = np.inf
    limiter = np.where(hot, SettingLimiter.HEAT, np.where(by_power, SettingLimiter.POWER, SettingLimiter.CLOCK)).astype(np.int8)
    return SteadyState(clock, watts, core, limiter, runaway)


def _root(function: Callable[[Vector, Indices], Vector], low: Vector, high: Vector, indices: Indices) -> Vector:
    """Return where functions that rise from ``low`` to ``high`` cross zero ``(m,)``; at the nearer end where they do not."""
    from scipy.optimize.elementwise import find_root

    if not indices.shape[0]:
        return low
    at_low, at_high = function(low, indices), function(high, indices)
    inside = (at_low < 0.0) & (at_high > 0.0)
    found = np.where(at_low >= 0.0, low, high)
    if inside.any():
        bracket = low[inside], high[inside]
        solved = find_root(function, bracket, args=(indices[inside],), tolerances={"xrtol": 1e-7, "fatol": 1e-6})
        found[inside] = solved.x
    return found


def _secant(
    function: Callable[[Vector, Indices], Vector],
    start: tuple[Vector, Vector],
    second: Vector,
    within: tuple[float, Vector],
    indices: Indices,
) -> tuple[Vector, Mask]:
    """Return where functions are zero by the secant method, and for which that was found while they rose ``(m,)``.

    ``start`` is a first place with the values there, ``second`` another one (infinite: it is nowhere); ``within`` how closely
    zero is wanted, and the most that a place may come to: what would lie beyond it is taken to be nowhere, and infinite.
    """
    (before, was), at, (enough, most) = start, second.copy(), within
    before, was = before.copy(), was.copy()
    found = np.isposinf(at)
    open_to = np.flatnonzero(np.isfinite(at))
    for _ in range(SECANTS):
        here = at[open_to]
        value = function(here, indices[open_to])
        with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
            slope = (value - was[open_to]) / (here - before[open_to])
            following = here - value / slope
        known = np.abs(value) <= enough
        found[open_to[known]] = ~(slope[known] <= 0.0)  # a start that is one already has no slope
        beyond = ~known & (slope > 0.0) & (following > most[open_to])
        at[open_to[beyond]], found[open_to[beyond]] = np.inf, True
        goes_on = ~known & (slope > 0.0) & (following <= most[open_to])
        open_to = open_to[goes_on]
        if not open_to.shape[0]:
            break
        before[open_to], was[open_to], at[open_to] = here[goes_on], value[goes_on], following[goes_on]
    return at, found


def _balance(rise_at: Callable[[Vector, Indices], Vector], room_c: Vector, indices: Indices) -> tuple[Vector, Mask]:
    """Return the lowest temperature that makes the rise that belongs to it ``(m,)``, and whether there is one below 160 °C; the
    rise grows with the core.

    Secants from below find it where the rise bends upwards only, since none of them then goes beyond it; where they come to
    nothing, as near a runaway, it is looked for step by step.
    """
    room = room_c[indices].astype(float)
    first = rise_at(room, indices)
    core, known = _secant(
        lambda core, at: core - room_c[at] - rise_at(core, at),
        (room, -first),
        np.where(room + first <= HOTTEST_C, room + first, np.inf),  # the balance lies no lower than that
        (FOUND * HOTTEST_C, np.full(room.shape, HOTTEST_C)),
        indices,
    )
    found = known & (core <= HOTTEST_C)
    core[~found] = HOTTEST_C
    rest = np.flatnonzero(~known)
    if rest.shape[0]:
        core[rest], found[rest] = _scanned_balance(rise_at, room_c, indices[rest])
    return core, found


def _scanned_balance(rise_at: Callable[[Vector, Indices], Vector], room_c: Vector, indices: Indices) -> tuple[Vector, Mask]:
    """Return the same for any rise, looked for in steps from the room up."""
    low, high = (np.full(indices.shape, HOTTEST_C) for _ in range(2))
    found = np.zeros(indices.shape, dtype=bool)
    for steps in SCANS:
        rest = np.flatnonzero(~found)
        room = room_c[indices[rest]].astype(float)[:, None]
        at = room + (HOTTEST_C - room) * np.arange(steps + 1) / steps
        rises = rise_at(at[:, 1:].ravel(), np.repeat(indices[rest], steps)).reshape(-1, steps)
        below = room + rises <= at[:, 1:]
        found[rest] = below.any(axis=1)
        first, some = np.argmax(below, axis=1), np.flatnonzero(found[rest])
        low[rest[some]], high[rest[some]] = at[some, first[some]], at[some, first[some] + 1]
    return _root(lambda core, at: core - room_c[at] - rise_at(core, at), low, high, indices), found


def _power_at(rise: Rise, room_c: Vector, cap_c: Vector, indices: Indices) -> Vector:
    """Return the power whose rise brings the core to its cap ``(m,)``."""
    none = np.zeros(indices.shape)

    def over(watts: Vector, at: Indices) -> Vector:
        over_k: Vector = room_c[at] + rise(watts, cap_c[at], at) - cap_c[at]
        return over_k

    cool = over(none, indices)
    watts, known = _secant(over, (none, cool), none + SOME_W, (FOUND * HOTTEST_C, none + MAX_W), indices)
    watts[cool >= 0.0] = 0.0
    rest = np.flatnonzero((cool < 0.0) & ~(known & (watts >= 0.0) & (watts <= MAX_W)))
    watts[rest] = _root(over, none[rest], none[rest] + MAX_W, indices[rest])
    return watts


def _clock_at(power: Power, wanted_w: Vector, core_c: Vector, top_mhz: Vector, indices: Indices) -> Vector:
    """Return the clock at which a power is drawn at a temperature ``(m,)``, between the slowest and the highest."""
    low, high = SLOWEST * top_mhz[indices], top_mhz[indices].astype(float)
    if not indices.shape[0]:
        return high

    def over(log_mhz: Vector, at: Indices) -> Vector:
        with np.errstate(over="ignore", divide="ignore"):
            log: Vector = np.log(power(np.exp(log_mhz), core_c[at], at) / wanted_w[at])
        return log

    first = np.log(high)
    top = over(first, indices)
    log_mhz, known = _secant(over, (first, top), first - ABOUT * top, (FOUND, first), indices)
    found = np.where(top <= 0.0, high, np.exp(log_mhz))
    rest = np.flatnonzero((top > 0.0) & ~(known & (found >= low) & (found <= high)))
    found[rest] = _bracketed_clock(power, wanted_w, core_c, (low[rest], high[rest]), indices[rest])
    return found


def _bracketed_clock(power: Power, wanted_w: Vector, core_c: Vector, ends: tuple[Vector, Vector], indices: Indices) -> Vector:
    """Return the same, between two clocks."""
    low, high = ends
    return _root(lambda clock, at: power(clock, core_c[at], at) / wanted_w[at] - 1.0, low, high, indices)
