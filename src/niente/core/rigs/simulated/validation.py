"""What cannot be about a machine: every finding names the path of its field and the reason."""

from collections.abc import Iterator
from itertools import pairwise

from niente.core.model.names import kind_of, part_of
from niente.core.model.quantities import QUANTITIES
from niente.core.model.rig_card import Control, LoadKind
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.air_validation import air_problems, nodes_named
from niente.core.rigs.simulated.card import channels_of, controls_of, filled
from niente.core.rigs.simulated.machine import ROOM, Heat, Machine

AIR_W_PER_M3H = 0.33
"""About what a cubic metre of air an hour carries, in W/K."""
STEP_S = 0.1
"""The plant's inner step; a node that answers faster than two of them cannot be followed."""


def impossible(machine: Machine) -> Iterator[str]:
    """Yield what cannot be about a machine; nothing where all of it can."""
    yield from _processor(machine)
    network = list(_network(machine))
    yield from network
    if not network:
        blown_m3h = sum(fan.count * fan.flow_m3h for fan in machine.fans.values())
        yield from _too_quick(machine.heat, machine.processor.cores, blown_m3h)
    yield from _fans(machine)
    yield from _limits(machine)
    yield from _loads(machine)
    yield from _settings(machine)
    yield from _readings(machine)
    yield from _twice("variants", [build.name for build in machine.variants])


def _twice(index: str, names: list[str]) -> Iterator[str]:
    yield from (f"{index}: {name!r} stands there twice" for name in sorted({name for name in names if names.count(name) > 1}))


def _rising(index: str, values: tuple[float, ...]) -> Iterator[str]:
    if any(b < a for a, b in pairwise(values)):
        yield f"{index}: it falls; a curve goes up"


def _processor(machine: Machine) -> Iterator[str]:
    made = machine.processor
    if len(made.curve_mhz) != len(made.curve_v) or len(made.curve_mhz) < 2:
        yield "processor.curve_v: as many voltages are wanted as processor.curve_mhz has clocks, and at least two"
    yield from _rising("processor.curve_mhz", made.curve_mhz)
    yield from _rising("processor.curve_v", made.curve_v)
    yield from _rising("supply.efficiency", tuple(share for share, _ in machine.supply.efficiency))
    if not machine.supply.efficiency:
        yield "supply.efficiency: at least one pair of load share and efficiency is wanted"


def _node_readings(heat: Heat) -> Iterator[str]:
    """Yield readings that are no temperature."""
    for node, name in heat.readings.items():
        if kind_of(name) not in QUANTITIES or not kind_of(name).endswith("temperature_c"):
            yield f"heat.readings.{node}: there is no temperature called {name!r}"


def _network(machine: Machine) -> Iterator[str]:
    """Yield links, streams and sources that name what is not there."""
    heat = machine.heat
    known = {*heat.nodes, ROOM}
    named = [("heat.cores.onto", heat.cores.onto)]
    for i, link in enumerate(heat.links):
        named += [(f"heat.links[{i}].between", node) for node in link.between]
    named += [(f"heat.sources[{i}].node", source.node) for i, source in enumerate(heat.sources)]
    named += [(f"heat.readings.{node}", node) for node in heat.readings]
    named += nodes_named(heat)
    yield from (f"{index}: there is no node {node!r}" for index, node in named if node not in known)
    yield from _node_readings(heat)
    yield from air_problems(machine)


def _too_quick(heat: Heat, cores: int, blown_m3h: float) -> Iterator[str]:
    """Yield nodes so small that the plant's step would run away with them; ``blown_m3h`` is what all fans move at most."""
    out = _conductance_out(heat, cores)
    for place, through in _through_places(heat, blown_m3h).items():
        out[place] += through
    for name, capacity in heat.nodes.items():
        if capacity < 2.0 * STEP_S * out[name]:
            yield f"heat.nodes.{name}: {capacity:g} J/K is too little for what is tied to it; it would answer within a step"
    around = heat.cores.conductance + 4.0 * heat.cores.neighbour
    if heat.cores.capacity < 2.0 * STEP_S * around:
        yield f"heat.cores.capacity: {heat.cores.capacity:g} J/K is too little for its conductance"


def _conductance_out(heat: Heat, cores: int) -> dict[str, float]:
    """Return about how much leads out of each node, in W/K."""
    out = dict.fromkeys(heat.nodes, 0.0)
    for link in heat.links:
        for node in link.between:
            if node in out:
                out[node] += link.conductance + 2.0 * link.natural
    for stream in heat.streams.values():
        for one in stream.passes:
            out[one.returns or one.node] += one.ua
        if stream.sink in out and stream.sink != stream.source:
            out[stream.sink] += AIR_W_PER_M3H * stream.reference_m3h
    for way in heat.air.ways.values() if heat.air is not None else ():
        for one in way.passes:
            out[one.returns or one.node] += one.ua
    out[heat.cores.onto] += cores * heat.cores.conductance
    out[ROOM] = 0.0
    return out


def _through_places(heat: Heat, blown_m3h: float) -> dict[str, float]:
    """Return about how much air carries out of each of its places, in W/K: all that fans move, or what its largest way takes,
    and eddies."""
    if heat.air is None:
        return {}
    found = {}
    for place in heat.air.places:
        ways = [way.reference_m3h for way in heat.air.ways.values() if place in (way.start, way.end)]
        eddies = sum(mixing.m3h for mixing in heat.air.mixing if place in mixing.between)
        found[place] = AIR_W_PER_M3H * (max([blown_m3h, *ways]) + eddies)
    return found


def _fans(machine: Machine) -> Iterator[str]:
    for name, fan in machine.fans.items():
        if fan.stall_duty > fan.start_duty:
            yield f"fans.{name}.stall_duty: {fan.stall_duty:g} % lies above start_duty = {fan.start_duty:g} %"
    names = {control.name for control in machine.controls}
    for group in machine.groups():
        if f"fan_duty.{group}" not in names:
            yield f"controls: nothing sets the fan group {group!r} (fan_duty.{group})"


def _limits(machine: Machine) -> Iterator[str]:
    limits, room = machine.limits, machine.room
    if limits.core_temperature_c >= limits.shut_down_c:
        yield "limits.core_temperature_c: it does not lie below limits.shut_down_c"
    if limits.core_temperature_c - limits.margin_k <= room.mean_c + room.cycle_k + room.drift_k:
        yield "limits.core_temperature_c: less its margin it does not lie above the room"
    if room.day_from_h > room.day_to_h:
        yield "room.day_from_h: the day begins after room.day_to_h"


def _loads(machine: Machine) -> Iterator[str]:
    kinds = [load.kind for load in machine.loads]
    yield from (f"loads: none of kind {kind.value!r}" for kind in (LoadKind.IDLE, LoadKind.HEAVY) if kind not in kinds)
    yield from _twice("loads", [load.name for load in machine.loads])
    for index, load in enumerate(machine.loads):
        if load.active_cores > machine.processor.cores:
            yield f"loads[{index}].active_cores: {load.active_cores} of {machine.processor.cores} cores"
        if load.burst_s and load.every_s and load.every_s < load.burst_s:
            yield f"loads[{index}].every_s: it comes back before it is over"


def _settings(machine: Machine) -> Iterator[str]:
    controls = {control.name: control for control in controls_of(machine)}
    groups = machine.groups()
    working = {load.name for load in machine.loads if load.per_ghz > 0.0}
    for control in controls.values():
        part = part_of(control.name)
        if control.name.startswith("load_size.") and part not in working:
            yield f"controls: {control.name}: there is no load {part!r} that does work"
        if control.name.startswith(("fan_duty.", "fan_supply_v.")) and part not in groups:
            yield f"controls: {control.name}: there is no fan group {part!r}"
    for at, setting in (("stock", filled(machine, machine.stock)), ("safe", filled(machine, machine.safe))):
        yield from _values(at, setting, controls)
        yield from _curves(at, setting, machine)


def _values(at: str, setting: Setting, controls: dict[str, Control]) -> Iterator[str]:
    """Yield values of controls that the machine lacks or does not take, and controls without a value."""
    for name, value in setting.controls():
        known = controls.get(name)
        if known is None:
            yield f"{at}.{name}: the machine has no such control"
        elif not known.takes(value):
            yield f"{at}.{name}: {value:g} lies outside {known.low:g} to {known.high:g}"
    yield from (f"{at}: {name} is not set" for name in controls if setting.value(name) is None)


def _curves(at: str, setting: Setting, machine: Machine) -> Iterator[str]:
    """Yield fan curves that cannot be followed."""
    for group, curve in setting.fan_curve.items():
        yield from (f"{at}.fan_curve.{group}: {problem}" for problem in curve.problems())
        if group not in machine.groups() or not set(curve.sources) <= set(machine.curve_sources):
            followed = ", ".join(repr(source) for source in curve.sources)
            yield f"{at}.fan_curve.{group}: the machine has no such group, or cannot follow {followed}"


def _readings(machine: Machine) -> Iterator[str]:
    """Yield what names a channel that the machine does not have."""
    channels = {channel.name for channel in channels_of(machine)}
    quantities = {kind_of(name) for name in channels}
    for table, values in (("gains", machine.sensors.gains), ("offsets", machine.sensors.offsets)):
        for name in values:
            if name not in channels | quantities:
                yield f"sensors.{table}.{name}: the machine has no such channel"
    for source in machine.curve_sources:
        if source not in channels | quantities:
            yield f"curve_sources: the machine has no channel {source!r}"
