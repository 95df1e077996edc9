"""Case air in one piece: streams that fans drive and warmth lifts, each by itself (machine files of the first format)."""

import math
from typing import NamedTuple

import numpy as np

from niente.core.rigs.simulated.air import AIR_DENSITY, GRAVITY, HOUR_S
from niente.core.rigs.simulated.fan_curves import STOPPED_SHARE, fan_flow, fan_pressure
from niente.core.rigs.simulated.machine import ROOM, Machine
from niente.core.science.arrays import Array, Indices, Vector
from niente.core.science.compiled import compiled

HALVINGS = 44
MOVED = 2e-4
"""By how much of its full speed a fan changes before its flow is found again."""


class Streams(NamedTuple):
    """The streams of a machine. Fans ``(f,)``: pressure at no flow (Pa), free flow (m3/s) of all side by side, bend.

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


def streams_of(machine: Machine, index: dict[str, int]) -> Streams:
    """Return the streams of a machine; ``index`` gives each node's index."""
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
    return Streams(
        pressure=np.array([fan.pressure_pa for fan in machine.fans.values()]),
        free_flow=np.array([fan.count * fan.flow_m3h / HOUR_S for fan in machine.fans.values()]),
        bend=np.array([fan.bend for fan in machine.fans.values()]),
        first_stage=np.array(first_stage),
        first_member=np.array(first_member),
        members=np.array(members, dtype=np.int64),
        impedance=np.array(impedance, dtype=float),
        reference=np.array([stream.reference_m3h / HOUR_S for stream in known], dtype=float),
        chimney=np.array([stream.chimney_m for stream in known], dtype=float),
        warm=np.array([index[stream.sink if stream.source == ROOM else stream.source] for stream in known], dtype=np.int64),
        helped=np.array([[stream.helped_by.get(other, 0.0) for other in streams] for stream in known]).reshape(
            len(known), len(known)
        ),
    )


@compiled
def stage_pressure(air: Streams, stage: int, speeds: Vector, flow: float) -> float:
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
def driven_flow(air: Streams, stream: int, speeds: Vector) -> float:
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
def stopped_impedance(air: Streams, stream: int) -> float:
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
def lifted_flow(air: Streams, stream: int, warm_c: float, room_c: float, impedance: float) -> float:
    """Return the flow in m3/s that warm air drives by itself over the stream's height: rho g h dT/T against its way."""
    if air.chimney[stream] <= 0.0 or warm_c <= room_c or impedance <= 0.0:
        return 0.0
    lift = AIR_DENSITY * GRAVITY * air.chimney[stream] * (warm_c - room_c) / (warm_c + 273.15)
    return math.sqrt(lift / impedance)


@compiled
def stream_flows(air: Streams, nodes: Vector, speeds: Vector, solved: Vector, driven: Vector, flows: Vector) -> None:
    """Fill every stream's flow ``(s,)`` in m3/s: driven by its fans, lifted by warmth, helped by others. ``driven`` keeps what
    the fans give at the speeds in ``solved``, and is found again where a fan has changed its speed."""
    moved = False
    for f in range(speeds.shape[0]):
        if abs(speeds[f] - solved[f]) > MOVED:
            moved = True
    if moved:
        solved[:] = speeds
    room = nodes[nodes.shape[0] - 1]
    for stream in range(flows.shape[0]):
        if moved:
            driven[stream] = driven_flow(air, stream, speeds)
        lifted = 0.0
        if air.chimney[stream] > 0.0:
            lifted = lifted_flow(air, stream, nodes[air.warm[stream]], room, stopped_impedance(air, stream))
        flows[stream] = math.sqrt(driven[stream] ** 2 + lifted**2)
    for stream in range(flows.shape[0]):
        help_ = 0.0
        for other in range(flows.shape[0]):
            help_ += air.helped[stream, other] * flows[other]
        if help_ > 0.0:
            flows[stream] = math.sqrt(flows[stream] ** 2 + help_**2)
