"""Air with places: the pressures at which every place passes on as much air as comes in, and the flows that they drive.

A network of places joined by ways, as building ventilation computes it (Walton and Dols, CONTAM user guide, NISTIR 7251, and
Feustel 1999; from memory). A way takes ``k Q |Q| + b Q``, its fans lift, columns of warm air lift; the room is at 0 Pa. The
sum of what all ways take is convex in the pressures, so that there is one solution, and Newton's steps, halved where
they go too far, find it.
"""

import math
from typing import NamedTuple

import numpy as np

from niente.core.rigs.simulated.air import HOUR_S, lift_pa
from niente.core.rigs.simulated.fan_curves import STOPPED_SHARE
from niente.core.rigs.simulated.machine import ROOM, AirNetwork, Machine
from niente.core.science.arrays import Array, Indices, Vector
from niente.core.science.compiled import compiled

LINEAR_SHARE = 0.05
"""What a way takes in proportion to its flow rather than to its square, as a share at its reference flow (slow air creeps)."""
CLOSE_M3_PER_S = 1e-11
"""Every place passes on what comes in to within this."""
NEWTON_STEPS, MAX_HALVINGS = 60, 30
OVERSHOT = 0.2
"""A step is halved where, along it, the imbalance has turned round by more than this share of what it was."""


class Ways(NamedTuple):
    """The ways of the air ``(w,)`` between places ``(j,)``; a way's flow counts from ``start`` to ``end``, which are places or,
    for the room, ``j``.

    ``square`` Pa/(m3/s)2 and ``linear`` Pa/(m3/s) is what a way takes, fans apart; ``height`` m is where it stands, ``rises``
    m how far it leads up past what warms it. Fans of way ``w``, one behind the other: ``fan[first_fan[w] :
    first_fan[w + 1]]``, indices into ``pressure`` (Pa), ``free_flow`` (m3/s) and ``bend``. ``node`` and ``level`` (m) are the
    heat node and the height of each place.
    """

    start: Indices
    end: Indices
    square: Vector
    linear: Vector
    height: Vector
    rises: Vector
    first_fan: Indices
    fan: Indices
    pressure: Vector
    free_flow: Vector
    bend: Vector
    node: Indices
    level: Vector


def ways_of(machine: Machine, index: dict[str, int]) -> Ways:
    """Return the ways of a machine's air, none where it has no places; ``index`` gives each heat node's index."""
    air = machine.heat.air or AirNetwork({}, {})
    place = {name: at for at, name in enumerate([*air.places, ROOM])}
    fans = list(machine.fans)
    ways = list(air.ways.values())
    square = [sum(way.takes_pa.values()) / (way.reference_m3h / HOUR_S) ** 2 for way in ways]
    linear = [LINEAR_SHARE * k * way.reference_m3h / HOUR_S for k, way in zip(square, ways, strict=True)]
    return Ways(
        start=np.array([place[way.start] for way in ways], dtype=np.int64),
        end=np.array([place[way.end] for way in ways], dtype=np.int64),
        square=np.array(square, dtype=float),
        linear=np.array(linear, dtype=float),
        height=np.array([way.height_m for way in ways], dtype=float),
        rises=np.array([way.rises_m for way in ways], dtype=float),
        first_fan=np.cumsum([0, *(len(way.fans) for way in ways)]).astype(np.int64),
        fan=np.array([fans.index(name) for way in ways for name in way.fans], dtype=np.int64),
        pressure=np.array([fan.pressure_pa for fan in machine.fans.values()], dtype=float),
        free_flow=np.array([fan.count * fan.flow_m3h / HOUR_S for fan in machine.fans.values()], dtype=float),
        bend=np.array([fan.bend for fan in machine.fans.values()], dtype=float),
        node=np.array([index[name] for name in air.places], dtype=np.int64),
        level=np.array([one.height_m for one in air.places.values()], dtype=float),
    )


@compiled
def way_flow(ways: Ways, w: int, speeds: Vector, driven_pa: float) -> tuple[float, float]:
    """Return the flow of a way in m3/s and how it grows with the pressure that drives it, m3/(s Pa).

    ``fan_pressure`` of every fan and the way's own law are together a parabola on either side of no flow, each solved at once.
    """
    linear, forth, back = ways.linear[w], ways.square[w], ways.square[w]
    lifted, slope = driven_pa, linear
    for i in range(ways.first_fan[w], ways.first_fan[w + 1]):
        f = ways.fan[i]
        free, speed = ways.free_flow[f], speeds[f]
        back += STOPPED_SHARE * ways.pressure[f] / (free * free)
        if speed <= 0.0:
            forth += STOPPED_SHARE * ways.pressure[f] / (free * free)
            continue
        lifted += ways.pressure[f] * speed * speed
        slope += ways.pressure[f] * (1.0 - ways.bend[f]) * speed / free
        forth += ways.pressure[f] * ways.bend[f] / (free * free)
    if lifted >= 0.0:
        root = math.sqrt(slope * slope + 4.0 * forth * lifted)
        return 2.0 * lifted / (slope + root), 1.0 / root
    root = math.sqrt(linear * linear - 4.0 * back * lifted)
    return 2.0 * lifted / (linear + root), 1.0 / root


@compiled
def _passed_on(
    ways: Ways, speeds: Vector, pressures: Vector, lifts: Vector, flows: Vector, growth: Vector, over: Vector
) -> float:
    """Fill every way's flow and its growth, and by how much more comes into each place than leaves it; return the largest."""
    room = over.shape[0]
    over[:] = 0.0
    for w in range(flows.shape[0]):
        a, b = ways.start[w], ways.end[w]
        driven = lifts[w]
        if a < room:
            driven += pressures[a]
        if b < room:
            driven -= pressures[b]
        flows[w], growth[w] = way_flow(ways, w, speeds, driven)
        if a < room:
            over[a] -= flows[w]
        if b < room:
            over[b] += flows[w]
    most = 0.0
    for j in range(room):
        most = max(most, abs(over[j]))
    return most


@compiled
def _newton_step(ways: Ways, growth: Vector, over: Vector, step: Vector) -> None:
    """Fill the change of every place's pressure that would balance it, were flows straight lines."""
    room = over.shape[0]
    matrix = np.zeros((room, room))
    for w in range(growth.shape[0]):
        a, b = ways.start[w], ways.end[w]
        if a < room:
            matrix[a, a] += growth[w]
        if b < room:
            matrix[b, b] += growth[w]
        if a < room and b < room:
            matrix[a, b] -= growth[w]
            matrix[b, a] -= growth[w]
    step[:] = over
    _eliminate(matrix, step)


@compiled
def _eliminate(matrix: Array, step: Vector) -> None:
    """Solve a symmetric, positive definite system in place, without pivots: ``step`` comes in as its right side."""
    room = step.shape[0]
    for j in range(room):
        for i in range(j + 1, room):
            share = matrix[i, j] / matrix[j, j]
            if share == 0.0:
                continue
            for k in range(j + 1, room):
                matrix[i, k] -= share * matrix[j, k]
            step[i] -= share * step[j]
    for j in range(room - 1, -1, -1):
        for k in range(j + 1, room):
            step[j] -= matrix[j, k] * step[k]
        step[j] /= matrix[j, j]


@compiled
def way_lifts(ways: Ways, nodes: Vector, left_c: Vector, lifts: Vector) -> None:
    """Fill what columns of warm air lift along every way, Pa: those of the places at its ends, between their own height and
    the way's, and the one that it leads up itself, as warm as its air left it last ``(w,)``."""
    room_c = nodes[nodes.shape[0] - 1]
    room = ways.node.shape[0]
    for w in range(lifts.shape[0]):
        a, b = ways.start[w], ways.end[w]
        lifts[w] = 0.0
        if a < room:
            lifts[w] += lift_pa(ways.height[w] - ways.level[a], nodes[ways.node[a]], room_c)
        if b < room:
            lifts[w] -= lift_pa(ways.height[w] - ways.level[b], nodes[ways.node[b]], room_c)
        if ways.rises[w] != 0.0:
            lifts[w] += lift_pa(ways.rises[w], left_c[w], room_c)


@compiled
def solve_flows(ways: Ways, speeds: Vector, lifts: Vector, pressures: Vector, flows: Vector) -> float:
    """Find the pressures ``(j,)`` of all places, from where they stand, and the flows ``(w,)`` in m3/s; return how far the
    worst place is from passing on what comes in (m3/s)."""
    places = pressures.shape[0]
    growth, over, step, tried = np.empty(flows.shape[0]), np.empty(places), np.empty(places), np.empty(places)
    off = _passed_on(ways, speeds, pressures, lifts, flows, growth, over)
    for _ in range(NEWTON_STEPS):
        if off <= CLOSE_M3_PER_S:
            break
        _newton_step(ways, growth, over, step)
        begun, length = np.dot(over, step), 1.0
        for _ in range(MAX_HALVINGS):
            for j in range(places):
                tried[j] = pressures[j] + length * step[j]
            off = _passed_on(ways, speeds, tried, lifts, flows, growth, over)
            if np.dot(over, step) >= -OVERSHOT * begun:
                break
            length *= 0.5
        pressures[:] = tried
    return off
