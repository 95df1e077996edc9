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
MAX_W = 16384.0
SCANS = (8, 64)
"""Steps in which the first balance is looked for, so that the stable one is found and not the unstable one above it; finer
ones for settings in which none was found, since near a runaway the two lie close together."""

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
    if fans_follow:
        limited_c[limited], _ = _balance(lambda core, at: rise(limit_w[at], core, at), room_c, every[limited])
    else:
        limited_c[limited] = room_c[limited] + rise(limit_w[limited], room_c[limited], every[limited])
    # power rises with temperature: what draws too much in a core as cool as the room is surely limited
    open_to = every[~(power(top_mhz, room_c, every) > limit_w)]
    free_c, balanced = np.full(room_c.shape, HOTTEST_C), np.zeros(room_c.shape, dtype=bool)
    free_c[open_to], balanced[open_to] = _balance(
        lambda core, at: rise(power(top_mhz[at], core, at), core, at), room_c, open_to
    )
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


def _balance(rise_at: Callable[[Vector, Indices], Vector], room_c: Vector, indices: Indices) -> tuple[Vector, Mask]:
    """Return the lowest temperature that makes the rise that belongs to it ``(m,)``, and whether there is one below 160 °C."""
    low = room_c[indices].astype(float)
    start, span = low.copy(), HOTTEST_C - low
    high = np.full(low.shape, HOTTEST_C)
    found = np.zeros(low.shape, dtype=bool)
    for steps in SCANS:
        low[~found] = start[~found]
        for step in range(1, steps + 1):
            open_to = np.flatnonzero(~found)
            if not open_to.shape[0]:
                break
            at = start[open_to] + span[open_to] * step / steps
            below = start[open_to] + rise_at(at, indices[open_to]) <= at
            high[open_to[below]], low[open_to[~below]] = at[below], at[~below]
            found[open_to[below]] = True
    return _root(lambda core, at: core - room_c[at] - rise_at(core, at), low, high, indices), found


def _power_at(rise: Rise, room_c: Vector, cap_c: Vector, indices: Indices) -> Vector:
    """Return the power whose rise brings the core to its cap ``(m,)``."""
    low, high = np.zeros(indices.shape), np.full(indices.shape, MAX_W)
    return _root(lambda watts, at: room_c[at] + rise(watts, cap_c[at], at) - cap_c[at], low, high, indices)


def _clock_at(power: Power, wanted_w: Vector, core_c: Vector, top_mhz: Vector, indices: Indices) -> Vector:
    """Return the clock at which a power is drawn at a temperature ``(m,)``, between the slowest and the highest."""
    low, high = SLOWEST * top_mhz[indices], top_mhz[indices].astype(float)
    return _root(lambda clock, at: power(clock, core_c[at], at) / wanted_w[at] - 1.0, low, high, indices)
