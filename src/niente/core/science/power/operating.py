"""Where a machine comes to rest: clock, power and temperature under any combination of power limit, temperature cap and clock
cap, the heat's own feedback through leakage included.

Power and temperature both rise with the clock, so each limit by itself gives a highest clock, and the lowest of the three
holds. The temperature that belongs to a power, or to a clock, is found by halving an interval (textbook bisection): with
leakage in it, the equation T = room + rise(P(f, T)) has no answer where each kelvin brings more than a kelvin's worth of
leakage. That is a runaway, and it is said, never extrapolated.
"""

from collections.abc import Callable
from enum import IntEnum

import msgspec
import numpy as np
from numpy.typing import NDArray

Vector = NDArray[np.float64]

HALVINGS = 26
HOTTEST_C = 160.0
"""Beyond this no silicon settles: a machine that has not come to rest below it runs away."""
SLOWEST = 0.1
"""The least clock that is looked at, as a share of the highest."""

Rise = Callable[[Vector, Vector], Vector]
"""The rise over the room in K for package powers ``(n,)`` in W at core temperatures ``(n,)`` in °C, which fans on a curve
follow."""
Power = Callable[[Vector, Vector], Vector]
"""The package power in W at clocks ``(n,)`` in MHz and core temperatures ``(n,)`` in °C."""


class Holds(IntEnum):
    """What holds the clock at rest."""

    CLOCK = 0
    POWER = 1
    HEAT = 2


class AtRest(msgspec.Struct, frozen=True):
    """Where it comes to rest, all arrays ``(n,)``: clock (MHz), power (W), core temperature (°C), what holds it (``Holds``).

    ``runaway`` where nothing holds it and no temperature below 160 °C balances; temperature and power are then infinite.
    """

    clock_mhz: Vector
    power_w: Vector
    core_c: Vector
    holds: NDArray[np.int8]
    runaway: NDArray[np.bool_]


def at_rest(power: Power, rise: Rise, room_c: Vector, limit_w: Vector, cap_c: Vector, top_mhz: Vector) -> AtRest:
    """Solve for ``n`` settings at once; limits that are not in force are infinite.

    ``limit_w`` is what the package draws where its limit holds it, ``top_mhz`` the highest clock that the setting allows.
    """
    slow = SLOWEST * top_mhz
    free_c, balanced = _balance(lambda core: rise(power(top_mhz, core), core), room_c)
    limited_c, _ = _balance(lambda core: rise(_finite(limit_w), core), room_c)
    by_limit = _clock_at(power, limit_w, np.where(np.isfinite(limit_w), limited_c, room_c), slow, top_mhz)
    in_heat_w = _power_at(rise, room_c, cap_c)
    by_heat = _clock_at(power, in_heat_w, np.where(np.isfinite(cap_c), cap_c, room_c), slow, top_mhz)
    free_w = power(top_mhz, free_c)
    is_free = balanced & (free_w <= limit_w) & (free_c <= cap_c)
    heat_first = ~is_free & np.isfinite(cap_c) & ((limited_c > cap_c) | ~np.isfinite(limit_w)) & (in_heat_w < limit_w)
    by_power = ~is_free & ~heat_first & np.isfinite(limit_w)
    runaway = ~is_free & ~heat_first & ~by_power
    endless = np.where(runaway, np.inf, 1.0)
    return AtRest(
        clock_mhz=np.where(heat_first, by_heat, np.where(by_power, by_limit, top_mhz)),
        power_w=np.where(heat_first, in_heat_w, np.where(by_power, limit_w, free_w)) * endless,
        core_c=np.where(heat_first, cap_c, np.where(by_power, limited_c, free_c)) * endless,
        holds=np.where(heat_first, Holds.HEAT, np.where(by_power, Holds.POWER, Holds.CLOCK)).astype(np.int8),
        runaway=runaway,
    )


def _finite(limit_w: Vector) -> Vector:
    finite: Vector = np.where(np.isfinite(limit_w), limit_w, 1.0)
    return finite


def _balance(rise_at: Callable[[Vector], Vector], room_c: Vector) -> tuple[Vector, NDArray[np.bool_]]:
    """Return the lowest temperature that makes the rise that belongs to it, and whether there is one below 160 °C.

    Steps of an eighth of the way find the first change of sign, so that the stable balance is found and not the unstable one
    above it.
    """
    low = room_c.astype(float)
    high = np.full_like(low, HOTTEST_C)
    found = np.zeros(low.shape, dtype=bool)
    for eighth in range(1, 9):
        at = room_c + (HOTTEST_C - room_c) * eighth / 8.0
        below = room_c + rise_at(at) <= at
        new = below & ~found
        high = np.where(new, at, high)
        found |= below
        low = np.where(~found, at, low)
    for _ in range(HALVINGS):
        middle = 0.5 * (low + high)
        below = room_c + rise_at(middle) <= middle
        high, low = np.where(below, middle, high), np.where(below, low, middle)
    return 0.5 * (low + high), found


def _power_at(rise: Rise, room_c: Vector, cap_c: Vector) -> Vector:
    """Return the power whose rise brings the core to its cap, infinite where there is no cap."""
    core = np.where(np.isfinite(cap_c), cap_c, HOTTEST_C)
    low, high = np.zeros(core.shape), np.full(core.shape, 1.0)
    for _ in range(14):  # up to 16 kW
        short = room_c + rise(high, core) < core
        high = np.where(short, 2.0 * high, high)
    for _ in range(HALVINGS):
        middle = 0.5 * (low + high)
        below = room_c + rise(middle, core) <= core
        low, high = np.where(below, middle, low), np.where(below, high, middle)
    found: Vector = np.where(np.isfinite(cap_c), 0.5 * (low + high), np.inf)
    return found


def _clock_at(power: Power, wanted_w: Vector, core_c: Vector, slow_mhz: Vector, top_mhz: Vector) -> Vector:
    """Return the clock at which a power is drawn at a temperature, between the slowest and the highest."""
    low, high = slow_mhz.astype(float), top_mhz.astype(float)
    for _ in range(HALVINGS):
        middle = 0.5 * (low + high)
        below = power(middle, core_c) <= wanted_w
        low, high = np.where(below, middle, low), np.where(below, high, middle)
    clock: Vector = 0.5 * (low + high)
    return clock
