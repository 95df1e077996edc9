"""The heat network: nodes, links and currents of air as arrays, and how fast every node warms."""

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from niente.core.rigs.simulated.air import AIR_HEAT, HOUR_S, taken_per_kelvin
from niente.core.rigs.simulated.machine import ROOM, AirWay, Heat, Machine, Stream
from niente.core.science.air_density import density_ratio
from niente.core.science.arrays import Indices, Vector
from niente.core.science.compiled import compiled

Unsigned = NDArray[np.uint64]
"""Indices; unsigned, so that compiled code need not ask whether they count from the end."""


class Network(NamedTuple):
    """Nodes ``(n,)``: cores first, then those of the file, the room last (its temperature is given). ``per_joule`` is
    one over their capacity.

    Links ``(l,)`` and free convection ``(c,)`` between two nodes. Currents of air ``(s,)`` are the streams, then the ways
    between places: where they begin and end while they flow forth, their reference flow (m3/s), and whether the room makes
    up for what a stream takes from where it begins. Current ``s`` meets the passes ``first_pass[s]`` to ``first_pass[s + 1]``
    of ``(p,)``: the node whose temperature meets the air, the one that the heat is drawn from, the coolant's capacity flow
    and the share of the air that goes along the fins. ``of_package`` ``(n,)`` are shares of the package power that go into a
    node.
    """

    per_joule: Vector
    link_a: Unsigned
    link_b: Unsigned
    link_w: Vector
    pumped: Vector
    free_a: Unsigned
    free_b: Unsigned
    free_w: Vector
    free_power: Vector
    first_pass: Indices
    pass_node: Unsigned
    pass_from: Unsigned
    pass_ua: Vector
    pass_power: Vector
    pass_coolant: Vector
    pass_along: Vector
    source: Unsigned
    sink: Unsigned
    reference: Vector
    made_up: Vector
    recirculation: Vector
    of_package: Vector
    base: int


def node_indices(machine: Machine) -> dict[str, int]:
    """Return each node's index: ``core.1`` first, the room last."""
    names = [f"core.{i}" for i in range(1, machine.processor.cores + 1)] + list(machine.heat.nodes) + [ROOM]
    return {name: index for index, name in enumerate(names)}


def currents_of(heat: Heat) -> dict[str, Stream | AirWay]:
    """Return the currents of air by name: streams, then the ways between places."""
    return {**heat.streams, **(heat.air.ways if heat.air is not None else {})}


Link = tuple[int, int, float, float]


def _links(machine: Machine, index: dict[str, int], rng: np.random.Generator) -> tuple[list[Link], list[Link]]:
    """Return what conducts between two nodes, ``(a, b, W/K, pumped)``, and what convects freely, ``(a, b, W/K, exponent)``."""
    heat = machine.heat
    cores, onto = heat.cores, index[heat.cores.onto]
    links: list[Link] = [(i, onto, conductance, False) for i, conductance in enumerate(_core_conductances(machine, rng))]
    links += [(a, b, cores.neighbour, False) for a, b in _neighbours(machine.processor.cores, cores.rows)]
    free: list[Link] = []
    for link in heat.links:
        a, b = (index[node] for node in link.between)
        if link.conductance:
            links.append((a, b, link.conductance, link.pumped))
        if link.natural:
            free.append((a, b, link.natural, link.exponent))
    per_m3h = AIR_HEAT * density_ratio(machine.room.altitude_m) / HOUR_S
    for mixing in heat.air.mixing if heat.air is not None else ():
        a, b = (index[place] for place in mixing.between)
        links.append((a, b, per_m3h * mixing.m3h, False))
    return links, free


def network_of(machine: Machine, index: dict[str, int], rng: np.random.Generator) -> Network:
    """Return the network of one sample of a machine: how its cores differ is drawn from ``rng``."""
    heat = machine.heat
    cores, onto = heat.cores, index[heat.cores.onto]
    links, free = _links(machine, index, rng)
    link_a, link_b, link_w, pumped = zip(*links, strict=True)
    free_a, free_b, free_w, free_power = zip(*free, strict=True) if free else ((), (), (), ())
    currents = list(currents_of(heat).values())
    passes = [one for current in currents for one in current.passes]
    ends_of = [(one.source, one.sink) if isinstance(one, Stream) else (one.start, one.end) for one in currents]
    of_package = np.zeros(len(index))
    for source in heat.sources:
        of_package[index[source.node]] += source.of_package
    nodes = [cores.capacity] * machine.processor.cores + list(heat.nodes.values())
    return Network(
        per_joule=1.0 / np.array([*nodes, np.inf]),
        link_a=np.array(link_a, dtype=np.uint64),
        link_b=np.array(link_b, dtype=np.uint64),
        link_w=np.array(link_w, dtype=float),
        pumped=np.array(pumped, dtype=float),
        free_a=np.array(free_a, dtype=np.uint64),
        free_b=np.array(free_b, dtype=np.uint64),
        free_w=np.array(free_w, dtype=float),
        free_power=np.array(free_power, dtype=float),
        first_pass=np.cumsum([0, *(len(current.passes) for current in currents)]).astype(np.int64),
        pass_node=np.array([index[one.node] for one in passes], dtype=np.uint64),
        pass_from=np.array([index[one.returns or one.node] for one in passes], dtype=np.uint64),
        pass_ua=np.array([one.ua for one in passes], dtype=float),
        pass_power=np.array([one.exponent for one in passes], dtype=float),
        pass_coolant=np.array([one.coolant for one in passes], dtype=float),
        pass_along=np.array([one.along for one in passes], dtype=float),
        source=np.array([index[node] for node, _ in ends_of], dtype=np.uint64),
        sink=np.array([index[node] for _, node in ends_of], dtype=np.uint64),
        reference=np.array([current.reference_m3h / HOUR_S for current in currents], dtype=float),
        made_up=np.array([float(isinstance(one, Stream) and one.source != one.sink) for one in currents], dtype=float),
        recirculation=np.array([one.recirculation if isinstance(one, Stream) else 0.0 for one in currents], dtype=float),
        of_package=of_package,
        base=onto,
    )


def _core_conductances(machine: Machine, rng: np.random.Generator) -> Vector:
    """Return each core's conductance in W/K; those in the middle of their row stand worst."""
    cores, count = machine.heat.cores, machine.processor.cores
    per_row = -(-count // cores.rows)
    across = np.array([(i % per_row) / max(per_row - 1, 1) for i in range(count)])
    worse = 1.0 + cores.spread * np.cos(2.0 * np.pi * (across - 0.5)) - 0.02 * rng.standard_normal(count)
    conductances: Vector = cores.conductance / worse
    return conductances


def _neighbours(count: int, rows: int) -> list[tuple[int, int]]:
    """Return the pairs of cores side by side, along their rows and across."""
    per_row = -(-count // rows)
    along = [(i, i + 1) for i in range(count - 1) if (i + 1) % per_row]
    across = [(i, i + per_row) for i in range(count - per_row)]
    return along + across


@compiled
def take_flows(net: Network, flows: Vector, density: float, pump: float, taken: Vector, carried: Vector) -> None:
    """Fill what each pass takes, W/K, and what each current carries, W/K, at flows ``(s,)`` in m3/s: below 0 where it flows
    back."""
    for s in range(flows.shape[0]):
        carried[s] = AIR_HEAT * density * flows[s]
        for p in range(net.first_pass[s], net.first_pass[s + 1]):
            met = net.pass_along[p] * abs(flows[s])
            coolant = net.pass_coolant[p] * pump
            if met <= 0.0 or (net.pass_coolant[p] > 0.0 and coolant <= 0.0):
                taken[p] = 0.0
                continue
            surface = net.pass_ua[p] * (density * met / net.reference[s]) ** net.pass_power[p]
            taken[p] = taken_per_kelvin(surface, net.pass_along[p] * abs(carried[s]), coolant)


@compiled
def warming(  # noqa: C901 - one compiled pass over nodes, links and currents: a call in it would cost the pace
    net: Network,
    taken: Vector,
    carried: Vector,
    pump: float,
    nodes: Vector,
    returning: Vector,
    heat_w: Vector,
    rate: Vector,
) -> None:
    """Fill ``rate`` ``(n,)`` with K/s: what goes into a node over its capacity. The room's stays 0.

    ``heat_w`` ``(n,)`` are the sources; ``returning`` ``(s,)`` is how warm each current's air left what it passed last, for
    its own breath.
    """
    room = nodes.shape[0] - 1
    for n in range(room):
        rate[n] = heat_w[n]
    for i in range(net.link_w.shape[0]):
        a, b = net.link_a[i], net.link_b[i]
        w = net.link_w[i] * (pump if net.pumped[i] > 0.0 else 1.0) * (nodes[a] - nodes[b])
        rate[a] -= w
        rate[b] += w
    for i in range(net.free_w.shape[0]):
        a, b = net.free_a[i], net.free_b[i]
        apart = nodes[a] - nodes[b]
        share = max(abs(apart), 0.05) / 20.0
        if net.free_power[i] == 0.25:
            grown = math.sqrt(math.sqrt(share))
        elif net.free_power[i] == 0.5:
            grown = math.sqrt(share)
        else:
            grown = share ** net.free_power[i]
        w = net.free_w[i] * grown * apart
        rate[a] -= w
        rate[b] += w
    for s in range(carried.shape[0]):
        source, sink, first, step = net.source[s], net.sink[s], net.first_pass[s], 1
        flow = carried[s]
        if flow < 0.0:
            source, sink, first, step, flow = sink, source, net.first_pass[s + 1] - 1, -1, -flow
        if flow == 0.0:
            returning[s] = nodes[source]
            continue
        again = net.recirculation[s]
        breath = (1.0 - again) * nodes[source] + again * returning[s]
        for i in range(net.first_pass[s + 1] - net.first_pass[s]):
            p = first + step * i
            w = taken[p] * (nodes[net.pass_node[p]] - breath)
            rate[net.pass_from[p]] -= w
            breath += w / flow
        returning[s] = breath
        fresh = (1.0 - again) * flow
        rate[sink] += fresh * (breath - nodes[sink])
        if net.made_up[s] > 0.0:
            rate[source] += fresh * (nodes[room] - nodes[source])
    for n in range(room):
        rate[n] *= net.per_joule[n]
    rate[room] = 0.0
