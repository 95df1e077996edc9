"""A day of a machine under its fan curves, compiled: one second after the other.

Every second the curves look at the temperature, duties move by their ramps, speeds follow, the parts of the rise follow what
they would settle at, and the firmware draws power back where a temperature cap is reached.
"""

from typing import NamedTuple

import numpy as np

from niente.core.science.arrays import Array, Indices, Vector
from niente.core.science.compiled import compiled

SPEED_FOLLOWS_S = 3.0
"""Within about this a fan comes to its speed. Common practice, no source."""
PULLED_BACK, GIVEN_BACK, LEAST_DRAWN = 0.02, 0.01, 0.1
"""By which share of its power a second a machine is pulled back for each kelvin over its cap, and given it back below."""
NEVER_C = -300.0


class HeatTables(NamedTuple):
    """What the parts of the rise would settle at, over a grid of powers ``(a,)`` in W and of speeds ``(g, b)`` in rpm.

    ``settled_k`` (loads, a, b^g, p) is for the package's heat alone and ``with_others_k`` with the other sources of the load;
    ``keeps`` (b^g, p) is what is left of a distance after a second. The last group turns fastest through ``b^g``.
    """

    power_w: Vector
    rpm: Array
    settled_k: Array
    with_others_k: Array
    keeps: Array


class FanTables(NamedTuple):
    """Each group's speed in rpm at whole per cents of duty ``(g, 101)``; the least duty at which it was seen to turn ``(g,)``,
    below which one that stands is not thought to start; and the energy of its sound over its speeds ``(g, e)``, every
    ``step_rpm`` ``(g,)``, and of the watts ``(w,)``, every ``step_w``."""

    rpm: Array
    start: Vector
    energy: Array
    step_rpm: Vector
    watt_energy: Vector
    step_w: float


class CurveTables(NamedTuple):
    """What each group follows: a fixed duty where it has no points. Points of all groups one after the other, between ``first``
    and ``last``; how long the temperature is averaged, hysteresis, ramps, the temperature below which it stands, and the least
    duty. All ``(g,)`` but the points."""

    fixed: Vector
    first: Indices
    last: Indices
    celsius: Vector
    duty: Vector
    smooth_s: Vector
    hysteresis_k: Vector
    ramp_up: Vector
    ramp_down: Vector
    off_below: Vector


@compiled
def interpolate(values: Array, step: float, at: float) -> float:
    """Return a table's value ``(n,)`` at a place that is counted in steps from 0, straight in between and flat outside."""
    place = at / step
    below = min(max(int(place), 0), values.shape[0] - 2)
    along = min(max(place - below, 0.0), 1.0)
    found: float = values[below] + along * (values[below + 1] - values[below])
    return found


@compiled
def corners(t: HeatTables, speeds: Vector, rows: Indices, weights: Vector) -> int:
    """Fill in the rows of the speeds' grid that a point lies between, and their weights; return how many there are."""
    groups, size = t.rpm.shape
    count = 1
    rows[0], weights[0] = 0, 1.0
    for g in range(groups):
        step = t.rpm[g, 1] - t.rpm[g, 0]
        place = (speeds[g] - t.rpm[g, 0]) / step
        below = min(max(int(place), 0), size - 2)
        along = min(max(place - below, 0.0), 1.0)
        for c in range(count):
            row, weight = rows[c] * size + below, weights[c]
            rows[c], weights[c] = row, weight * (1.0 - along)
            rows[count + c], weights[count + c] = row + 1, weight * along
        count *= 2
    return count


@compiled
def duty_of(c: CurveTables, g: int, held_c: float) -> float:
    """Return the duty that a group's curve wants at a temperature, straight between its points and flat outside."""
    first, last = c.first[g], c.last[g]
    if held_c < c.off_below[g]:
        return 0.0
    if held_c <= c.celsius[first]:
        return c.duty[first]  # type: ignore[no-any-return]
    for i in range(first + 1, last):
        if held_c <= c.celsius[i]:
            along = (held_c - c.celsius[i - 1]) / (c.celsius[i] - c.celsius[i - 1])
            found: float = c.duty[i - 1] + along * (c.duty[i] - c.duty[i - 1])
            return found
    return c.duty[last - 1]  # type: ignore[no-any-return]


@compiled
def live_a_day(
    heat: HeatTables,
    fans: FanTables,
    curves: CurveTables,
    load: Indices,
    activity: Vector,
    room_c: Vector,
    background: Vector,
    idle_w: float,
    full_w: Vector,
    per_k: Vector,
    at_c: Vector,
    cap_c: float,
    parts: Vector,
    out: Array,
    dead: Indices,
) -> None:
    """Move a machine through a day; ``parts`` (p,) is where its rise begins and, at the end, stands.

    Power goes from ``idle_w`` at no activity to ``full_w`` (loads,) at a core of ``at_c``, and ``per_k`` (loads,) more for each
    kelvin above; ``dead`` groups stand. ``out`` (n, 4 + g): core in °C, level in dBA, power in W, the share of power that was
    left, duties in %. ``background`` (n,) is the energy of the room's sound.
    """
    groups = fans.rpm.shape[0]
    rows, weights = np.zeros(2**groups, dtype=np.int64), np.zeros(2**groups)
    speeds, duty, held = np.zeros(groups), np.zeros(groups), np.zeros(groups)
    core = room_c[0] + parts.sum()
    seen = np.full(groups, core)
    follows = 1.0 - np.exp(-1.0 / SPEED_FOLLOWS_S)
    left = 1.0
    for g in range(groups):
        held[g] = core
        duty[g] = duty_of(curves, g, core) if curves.last[g] > curves.first[g] else curves.fixed[g]
        speeds[g] = 0.0 if dead[g] else interpolate(fans.rpm[g], 1.0, duty[g])
    for n in range(activity.shape[0]):
        kind, works = load[n], activity[n]
        for g in range(groups):
            if curves.last[g] > curves.first[g]:
                seen[g] += (core - seen[g]) / max(curves.smooth_s[g], 1.0)
                held[g] = min(max(held[g], seen[g]), seen[g] + curves.hysteresis_k[g])
                wanted = np.round(duty_of(curves, g, held[g]))
                duty[g] += min(max(wanted - duty[g], -curves.ramp_down[g]), curves.ramp_up[g])
            aim = interpolate(fans.rpm[g], 1.0, duty[g])
            if dead[g] or (speeds[g] < 30.0 and duty[g] < fans.start[g]):
                aim = 0.0
            speeds[g] += (aim - speeds[g]) * follows
        full = full_w[kind] + per_k[kind] * (core - at_c[kind])
        power = (idle_w + works * max(full - idle_w, 0.0)) * left
        count = corners(heat, speeds, rows, weights)
        step = heat.power_w[1] - heat.power_w[0]
        place = (power - heat.power_w[0]) / step
        below = min(max(int(place), 0), heat.power_w.shape[0] - 2)
        along = min(max(place - below, 0.0), 1.0)
        total = 0.0
        for p in range(parts.shape[0]):
            target, keeps = 0.0, 0.0
            for c in range(count):
                row = rows[c]
                own, above = heat.settled_k[kind, below, row, p], heat.settled_k[kind, below + 1, row, p]
                more, beyond = heat.with_others_k[kind, below, row, p], heat.with_others_k[kind, below + 1, row, p]
                own, more = own + along * (above - own), more + along * (beyond - more)
                target += weights[c] * (own + works * (more - own))
                keeps += weights[c] * heat.keeps[row, p]
            parts[p] = target + (parts[p] - target) * keeps
            total += parts[p]
        core = room_c[n] + total
        left = max(left - PULLED_BACK * (core - cap_c), LEAST_DRAWN) if core > cap_c else min(left + GIVEN_BACK, 1.0)
        energy = background[n] + interpolate(fans.watt_energy, fans.step_w, power)
        for g in range(groups):
            energy += interpolate(fans.energy[g], fans.step_rpm[g], speeds[g])
            out[n, 4 + g] = duty[g]
        out[n, 0], out[n, 1], out[n, 2], out[n, 3] = core, 10.0 * np.log10(energy), power, left
