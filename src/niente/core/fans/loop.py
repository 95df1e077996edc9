"""A day of a machine under its fan curves, compiled: one second after the other.

Every second the curves look at the temperature, duties move by their ramps, speeds follow, the parts of the rise follow what
they would settle at, and the firmware draws power back where a temperature cap is reached.
"""

from typing import NamedTuple

import numpy as np

from niente.core.rigs.curve_controller import CurveLaws, duty_on_curve, moved_duty, sensed, stands_now
from niente.core.science.arrays import Array, Indices, Vector
from niente.core.science.compiled import compiled

SPEED_FOLLOWS_S, STILL_RPM = 3.0, 30.0
"""Within about this a fan comes to its speed. Common practice, no source."""
PULLED_BACK, GIVEN_BACK, LEAST_DRAWN = 0.02, 0.01, 0.1
"""By which share of its power a second a machine is pulled back for each kelvin over its cap, and given it back below."""


class HeatTables(NamedTuple):
    """What the parts of the rise would settle at, over a grid of powers ``(a,)`` in W and of speeds ``(g, b)`` in rpm.

    ``settled_k`` (loads, a, b^g, p) is for the package's heat alone and ``with_others_k`` with the other sources of the load;
    ``keeps`` (b^g, p) is what is left of a distance after a second; ``others`` is 0 where no load has
    other sources. The last group turns fastest through ``b^g``.
    """

    power_w: Vector
    rpm: Array
    settled_k: Array
    with_others_k: Array
    keeps: Array
    others: int


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


class SensorTables(NamedTuple):
    """What sensors beside the core see: the share of each part of the rise ``(s, p)``, what a watt of the package adds in K
    ``(s,)``, and what the other sources of each load add at full work in K ``(loads, s)``."""

    of_parts: Array
    k_per_w: Vector
    added_k: Array


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


class Following(NamedTuple):
    """Where groups stand on their curves, all ``(g,)``: what their sensors come to once it is averaged, and once it is held by
    the hysteresis; whether they are let go; duties in %, and speeds in rpm."""

    seen_c: Vector
    held_c: Vector
    stands: Vector
    duty: Vector
    rpm: Vector


@compiled
def read_sensors(
    sensors: SensorTables, parts: Vector, room_c: float, power_w: float, load: int, works: float, readings: Vector
) -> None:
    """Fill in what the sensors beside the core read ``(s,)`` in °C, with the parts of the rise ``(p,)`` as they are and a load
    at some share of its work."""
    for s in range(readings.shape[0]):
        above = works * sensors.added_k[load, s] + power_w * sensors.k_per_w[s]
        for p in range(parts.shape[0]):
            above += sensors.of_parts[s, p] * parts[p]
        readings[s] = room_c + above


@compiled
def begin(
    laws: CurveLaws,
    fans: FanTables,
    fixed: Vector,
    begins: Vector,
    readings: Vector,
    core_c: float,
    power_w: float,
    f: Following,
) -> None:
    """Let all groups stand at the duties ``begins`` (g,) in %, or where that is NaN where their curves want them."""
    for g in range(f.duty.shape[0]):
        f.duty[g] = fixed[g]
        if laws.last[g] > laws.first[g]:
            f.seen_c[g] = f.held_c[g] = sensed(laws, g, readings, core_c)
            f.stands[g] = stands_now(laws, g, f.held_c[g], f.seen_c[g], power_w, 1.0)
            f.duty[g] = 0.0 if f.stands[g] > 0.0 else duty_on_curve(laws, g, f.held_c[g])
        if begins[g] == begins[g]:
            f.duty[g] = begins[g]
        f.rpm[g] = interpolate(fans.rpm[g], 1.0, f.duty[g])


@compiled
def move_groups(
    laws: CurveLaws,
    fans: FanTables,
    dead: Indices,
    readings: Vector,
    core_c: float,
    power_w: float,
    seconds: int,
    f: Following,
) -> None:
    """Move duties along their curves and speeds after them by some seconds; ``dead`` groups stand."""
    follows = 1.0 - np.exp(-seconds / SPEED_FOLLOWS_S)
    for g in range(f.duty.shape[0]):
        if laws.last[g] > laws.first[g]:
            f.seen_c[g] += (sensed(laws, g, readings, core_c) - f.seen_c[g]) * min(seconds / max(laws.smooth_s[g], 1.0), 1.0)
            f.held_c[g] = min(max(f.held_c[g], f.seen_c[g]), f.seen_c[g] + laws.hysteresis_k[g])
            f.stands[g] = stands_now(laws, g, f.held_c[g], f.seen_c[g], power_w, f.stands[g])
            wanted = 0.0 if f.stands[g] > 0.0 else duty_on_curve(laws, g, f.held_c[g])
            f.duty[g] = moved_duty(laws, g, f.duty[g], np.round(wanted), seconds)
        aim = interpolate(fans.rpm[g], 1.0, f.duty[g])
        if dead[g] or (f.rpm[g] < STILL_RPM and f.duty[g] < fans.start[g]):
            aim = 0.0
        f.rpm[g] += (aim - f.rpm[g]) * follows


@compiled
def warm(
    heat: HeatTables,
    rpm: Vector,
    power_w: float,
    load: int,
    works: float,
    seconds: int,
    parts: Vector,
    rows: Indices,
    weights: Vector,
) -> None:
    """Move the parts of the rise ``(p,)`` on by some seconds towards what they would settle at; ``rows`` and ``weights`` are
    room to work in."""
    count = corners(heat, rpm, rows, weights)
    place = (power_w - heat.power_w[0]) / (heat.power_w[1] - heat.power_w[0])
    below = min(max(int(place), 0), heat.power_w.shape[0] - 2)
    along = min(max(place - below, 0.0), 1.0)
    for p in range(parts.shape[0]):
        target, keeps = 0.0, 0.0
        for c in range(count):
            row = rows[c]
            settled, above = heat.settled_k[load, below, row, p], heat.settled_k[load, below + 1, row, p]
            settled += along * (above - settled)
            if heat.others:
                more, beyond = heat.with_others_k[load, below, row, p], heat.with_others_k[load, below + 1, row, p]
                settled += works * (more + along * (beyond - more) - settled)
            target += weights[c] * settled
            keeps += weights[c] * heat.keeps[row, p]
        parts[p] = target + (parts[p] - target) * keeps**seconds


@compiled
def live_a_day(
    heat: HeatTables,
    fans: FanTables,
    sensors: SensorTables,
    laws: CurveLaws,
    fixed: Vector,
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
    begins: Vector,
    every: int,
) -> None:
    """Move a machine through a day; ``parts`` (p,) is where its rise begins and, at the end, stands.

    Power goes from ``idle_w`` at no activity to ``full_w`` (loads,) at a core of ``at_c``, and ``per_k`` (loads,) more for each
    kelvin above; groups without a curve stand at ``fixed`` (g,) in %, ``dead`` ones stand still; they begin at ``begins`` (g,)
    in %, NaN: where their curves want them. ``out`` (n, 4 + g + s): core in °C, level in dBA, power in W, the share of power
    that was left, duties in %, and what the sensors beside the core read (s,) in °C. ``background`` (n,) is the energy of the
    room's sound; a step is ``every`` seconds.
    """
    groups = fans.rpm.shape[0]
    rows, weights = np.zeros(2**groups, dtype=np.int64), np.zeros(2**groups)
    readings = np.zeros(sensors.of_parts.shape[0])
    f = Following(np.zeros(groups), np.zeros(groups), np.zeros(groups), np.zeros(groups), np.zeros(groups))
    core = room_c[0] + parts.sum()
    left, power = 1.0, idle_w
    read_sensors(sensors, parts, room_c[0], power, load[0], activity[0], readings)
    begin(laws, fans, fixed, begins, readings, core, power, f)
    f.rpm[:] *= 1 - dead
    for n in range(0, activity.shape[0], every):
        kind, works = load[n], activity[n]
        read_sensors(sensors, parts, room_c[n], power, kind, works, readings)
        move_groups(laws, fans, dead, readings, core, power, every, f)
        full = full_w[kind] + per_k[kind] * (core - at_c[kind])
        power = (idle_w + works * max(full - idle_w, 0.0)) * left
        warm(heat, f.rpm, power, kind, works, every, parts, rows, weights)
        core = room_c[n] + parts.sum()
        left = (
            max(left - PULLED_BACK * every * (core - cap_c), LEAST_DRAWN)
            if core > cap_c
            else min(left + GIVEN_BACK * every, 1.0)
        )
        for r in range(readings.shape[0]):
            out[n, 4 + groups + r] = readings[r]
        energy = background[n] + interpolate(fans.watt_energy, fans.step_w, power)
        for g in range(groups):
            energy += interpolate(fans.energy[g], fans.step_rpm[g], f.rpm[g])
            out[n, 4 + g] = f.duty[g]
        out[n, 0], out[n, 1], out[n, 2], out[n, 3] = core, 10.0 * np.log10(energy), power, left
        for later in range(n + 1, min(n + every, activity.shape[0])):
            out[later] = out[n]
