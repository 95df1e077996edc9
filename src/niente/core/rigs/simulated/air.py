"""Air: where fans meet the way they blow through, what lifts itself, and what it takes from the surfaces it passes."""

import math
from typing import NamedTuple

import numpy as np

from niente.core.rigs.simulated.compiled import compiled
from niente.core.rigs.simulated.machine import ROOM, Machine
from niente.core.science.arrays import Array, Indices, Vector

AIR_HEAT = 1191.8
"""Density times specific heat of dry air at 25 °C and 101 325 Pa in J/(m3 K) (Lemmon et al. 2000)."""
AIR_DENSITY = 1.184
GRAVITY = 9.80665
STOPPED_SHARE = 0.6
"""A fan that stands is a resistance: this share of its own pressure at its own flow."""
HOUR_S = 3600.0
HALVINGS = 44


class Air(NamedTuple):
    """The ways of the air. Fans ``(f,)``: pressure at no flow (Pa), free flow (m3/s) of all side by side, bend.

    Stream ``s`` has stages ``first_stage[s]`` to ``first_stage[s + 1]``, stage ``k`` the fans
    ``members[first_member[k] : first_member[k + 1]]``. ``impedance`` Pa/(m3/s)2, ``reference`` m3/s, ``chimney`` m, and
    the node whose warmth lifts it ``(s,)``; ``helped`` ``(s, s)`` are shares of other streams.
    """

    pressure: Vector
    free_flow: Vector
    bend: Vector
    first_stage: Indices
    first_member: Indices
    members: Indices
    impedance: Vector
    reference: Vector
    chimney: Vector
    warm: Indices
    helped: Array


def ways(machine: Machine, index: dict[str, int]) -> Air:
    """Return the ways of a machine's air; ``index`` gives each node's index."""
    fans = list(machine.fans)
    streams = list(machine.heat.streams)
    first_stage, first_member, members = [0], [0], []
    impedance = []
    for stream in machine.heat.streams.values():
        for stage in stream.stages:
            members += [fans.index(fan) for fan in stage]
            first_member.append(len(members))
        first_stage.append(len(first_member) - 1)
        impedance.append(sum(stream.impedance_pa.values()) / (stream.reference_m3h / HOUR_S) ** 2)
    known = list(machine.heat.streams.values())
    return Air(
        pressure=np.array([fan.pressure_pa for fan in machine.fans.values()]),
        free_flow=np.array([fan.count * fan.flow_m3h / HOUR_S for fan in machine.fans.values()]),
        bend=np.array([fan.bend for fan in machine.fans.values()]),
        first_stage=np.array(first_stage),
        first_member=np.array(first_member),
        members=np.array(members, dtype=np.int64),
        impedance=np.array(impedance),
        reference=np.array([stream.reference_m3h / HOUR_S for stream in known]),
        chimney=np.array([stream.chimney_m for stream in known]),
        warm=np.array([index[stream.sink if stream.source == ROOM else stream.source] for stream in known]),
        helped=np.array([[stream.helped_by.get(other, 0.0) for other in streams] for stream in known]),
    )


@compiled
def fan_pressure(pressure: float, bend: float, speed: float, flow: float) -> float:
    """Return what a fan lifts, Pa, at a share of its full speed and a flow over its free one.

    p = p0 (r^2 - (1 - b) r x - b x^2), which keeps the fan laws (flow as r, pressure as r^2) for every bend b; one that
    stands is a resistance.
    """
    if speed <= 0.0:
        return -STOPPED_SHARE * pressure * flow * abs(flow)
    return pressure * (speed * speed - (1.0 - bend) * speed * flow - bend * flow * flow)


@compiled
def fan_flow(pressure: float, bend: float, speed: float, against: float) -> float:
    """Return the flow over the free one at which a fan lifts ``against`` Pa: ``fan_pressure`` turned round.

    Against more than it can lift, air comes back through it.
    """
    short = against / pressure - speed * speed
    if short > 0.0:
        return -math.sqrt(short / STOPPED_SHARE)
    if speed <= 0.0:
        return math.sqrt(-short / STOPPED_SHARE)
    straight = (1.0 - bend) * speed
    if bend < 1e-9:
        return -short / straight
    return (-straight + math.sqrt(straight * straight - 4.0 * bend * short)) / (2.0 * bend)


@compiled
def stage_pressure(air: Air, stage: int, speeds: Vector, flow: float) -> float:
    """Return what the fans of a stage, side by side, lift together at a flow in m3/s."""
    first, last = air.first_member[stage], air.first_member[stage + 1]
    if last - first == 1:
        fan = air.members[first]
        return fan_pressure(air.pressure[fan], air.bend[fan], speeds[fan], flow / air.free_flow[fan])
    whole = 0.0
    for i in range(first, last):
        whole += air.free_flow[air.members[i]]
    low, high = 1e9, -1e9
    for i in range(first, last):
        fan = air.members[i]
        low = min(low, fan_pressure(air.pressure[fan], air.bend[fan], speeds[fan], flow / whole))
        high = max(high, air.pressure[fan] * speeds[fan] * speeds[fan])
    for _ in range(HALVINGS):
        middle = 0.5 * (low + high)
        moved = 0.0
        for i in range(first, last):
            fan = air.members[i]
            moved += air.free_flow[fan] * fan_flow(air.pressure[fan], air.bend[fan], speeds[fan], middle)
        if moved > flow:
            low = middle
        else:
            high = middle
    return 0.5 * (low + high)


@compiled
def driven_flow(air: Air, stream: int, speeds: Vector) -> float:
    """Return the flow in m3/s at which the fans of a stream, stage behind stage, lift what its way takes."""
    high, turning = 0.0, False
    for stage in range(air.first_stage[stream], air.first_stage[stream + 1]):
        own = 0.0
        for i in range(air.first_member[stage], air.first_member[stage + 1]):
            fan = air.members[i]
            own += air.free_flow[fan] * max(speeds[fan], 0.0)
            turning = turning or speeds[fan] > 0.0
        high += own
    if not turning:
        return 0.0
    low = 0.0
    for _ in range(HALVINGS):
        middle = 0.5 * (low + high)
        lifted = -air.impedance[stream] * middle * middle
        for stage in range(air.first_stage[stream], air.first_stage[stream + 1]):
            lifted += stage_pressure(air, stage, speeds, middle)
        if lifted > 0.0:
            low = middle
        else:
            high = middle
    return 0.5 * (low + high)


@compiled
def stopped_impedance(air: Air, stream: int) -> float:
    """Return what a stream's way takes with its fans stopped, in Pa/(m3/s)2."""
    total = air.impedance[stream]
    for stage in range(air.first_stage[stream], air.first_stage[stream + 1]):
        open_ = 0.0
        for i in range(air.first_member[stage], air.first_member[stage + 1]):
            fan = air.members[i]
            open_ += air.free_flow[fan] / math.sqrt(STOPPED_SHARE * air.pressure[fan])
        total += 1.0 / (open_ * open_)
    return float(total)


@compiled
def lifted_flow(air: Air, stream: int, warm_c: float, room_c: float, impedance: float) -> float:
    """Return the flow in m3/s that warm air drives by itself over the stream's height: rho g h dT/T against its way."""
    if air.chimney[stream] <= 0.0 or warm_c <= room_c or impedance <= 0.0:
        return 0.0
    lift = AIR_DENSITY * GRAVITY * air.chimney[stream] * (warm_c - room_c) / (warm_c + 273.15)
    return math.sqrt(lift / impedance)


@compiled
def taken_per_kelvin(surface: float, air_flow: float, coolant_flow: float) -> float:
    """Return the heat that a stream takes from what it passes, in W per K between the two as they come in.

    Effectiveness by NTU (Incropera, ch. 11). A surface: e = 1 - exp(-NTU). A radiator, cross flow with both sides
    unmixed: e = 1 - exp((NTU^0.22 / c)(exp(-c NTU^0.78) - 1)). ``surface`` and flows in W/K.
    """
    if air_flow <= 0.0 or surface <= 0.0:
        return 0.0
    if coolant_flow <= 0.0:
        return air_flow * (1.0 - math.exp(-surface / air_flow))
    least, most = min(air_flow, coolant_flow), max(air_flow, coolant_flow)
    units, ratio = surface / least, least / most
    return least * (1.0 - math.exp(units**0.22 / ratio * (math.exp(-ratio * units**0.78) - 1.0)))
