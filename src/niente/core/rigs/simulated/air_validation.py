"""What cannot be about the air of a machine, with the path of the field and the reason: streams, or places and ways."""

from collections.abc import Iterator

from niente.core.rigs.simulated.machine import FORMAT, ROOM, STREAMS_FORMAT, AirNetwork, Heat, Machine, Pass, Stream

MIN_TAKEN_PA = 1e-4
"""A way that takes less at its reference flow is none: nothing could be told of the air in it."""


def air_problems(machine: Machine) -> Iterator[str]:
    """Yield what cannot be about a machine's air."""
    heat = machine.heat
    if heat.air is not None and heat.streams:
        yield "heat.streams: the air has places (heat.air); it is one or the other"
    if heat.air is not None and machine.format == STREAMS_FORMAT:
        yield f"heat.air: a file with places has the format {FORMAT!r}"
    for name, stream in heat.streams.items():
        yield from _stream(f"heat.streams.{name}", name, stream, machine)
    if heat.air is not None:
        yield from _places(heat.air, heat, machine)
    placed = [fan for stream in heat.streams.values() for stage in stream.stages for fan in stage]
    where = "heat.streams"
    if heat.air is not None:
        placed, where = placed + [fan for way in heat.air.ways.values() for fan in way.fans], "heat.air.ways"
    yield from (f"{where}: {fan!r} stands there twice" for fan in sorted({fan for fan in placed if placed.count(fan) > 1}))
    kind = "way" if heat.air is not None else "stream"
    yield from (f"fans.{name}: it stands in no {kind}" for name in machine.fans if name not in placed)


def nodes_named(heat: Heat) -> Iterator[tuple[str, str]]:
    """Yield every heat node that the air names, each with its path."""
    for name, stream in heat.streams.items():
        at = f"heat.streams.{name}"
        yield from ((f"{at}.source", stream.source), (f"{at}.sink", stream.sink))
        yield from _passed(at, stream.passes)
    if heat.air is None:
        return
    yield from ((f"heat.air.places.{name}", name) for name in heat.air.places)
    for name, way in heat.air.ways.items():
        yield from _passed(f"heat.air.ways.{name}", way.passes)


def _passed(at: str, passes: tuple[Pass, ...]) -> Iterator[tuple[str, str]]:
    for i, one in enumerate(passes):
        yield f"{at}.passes[{i}].node", one.node
        if one.returns:
            yield f"{at}.passes[{i}].returns", one.returns


def _radiators(at: str, passes: tuple[Pass, ...]) -> Iterator[str]:
    for i, one in enumerate(passes):
        if (one.coolant > 0) != bool(one.returns):
            yield f"{at}.passes[{i}].returns: a radiator names both its coolant flow and the node it returns to"


def _stream(at: str, name: str, stream: Stream, machine: Machine) -> Iterator[str]:
    """Yield what is wrong with one stream by itself."""
    yield from _radiators(at, stream.passes)
    for other in stream.helped_by:
        if other not in machine.heat.streams or other == name:
            yield f"{at}.helped_by.{other}: there is no other stream of that name"
    if stream.stages and not stream.impedance_pa:
        yield f"{at}.impedance_pa: fans without anything to blow against never find their flow"
    for stage in stream.stages:
        yield from (f"{at}.stages: there is no fan {fan!r}" for fan in stage if fan not in machine.fans)


def _places(air: AirNetwork, heat: Heat, machine: Machine) -> Iterator[str]:
    """Yield what is wrong with places and ways."""
    known = {*air.places, ROOM}
    if ROOM in air.places:
        yield f"heat.air.places.{ROOM}: the room is always there"
    for name, way in air.ways.items():
        at = f"heat.air.ways.{name}"
        yield from _radiators(at, way.passes)
        for field, place in (("from", way.start), ("to", way.end)):
            if place not in known:
                yield f"{at}.{field}: there is no place {place!r}"
        if way.start == way.end:
            what = "a fan" if way.fans else "a way"
            yield f"{at}.to: {what} between {way.end!r} and itself moves nothing"
        if sum(way.takes_pa.values()) < MIN_TAKEN_PA:
            yield f"{at}.takes_pa: without any resistance there is no telling what flows"
        yield from (f"{at}.fans: there is no fan {fan!r}" for fan in way.fans if fan not in machine.fans)
    yield from _mixing(air, known)
    yield from _ways_out(air, machine)
    yield from _sources(air, heat)


def _mixing(air: AirNetwork, known: set[str]) -> Iterator[str]:
    """Yield eddies between places that are not there, or one and the same."""
    for i, mixing in enumerate(air.mixing):
        at = f"heat.air.mixing[{i}].between"
        yield from (f"{at}: there is no place {place!r}" for place in mixing.between if place not in known)
        if mixing.between[0] == mixing.between[1]:
            yield f"{at}: {mixing.between[0]!r} exchanges nothing with itself"


def _ways_out(air: AirNetwork, machine: Machine) -> Iterator[str]:
    """Yield places that air cannot pass through."""
    reached = _reached({ROOM}, [(way.start, way.end) for way in air.ways.values()])
    for place in air.places:
        at = f"heat.air.places.{place}"
        ways = [way for way in air.ways.values() if place in (way.start, way.end)]
        if place not in reached:
            yield f"{at}: no way leads from it to the room"
        elif len(ways) < 2:
            yield f"{at}: air comes in or goes out by one way only, so that none passes; another way has to lead out"
        elif all(way.fans and way.end == place for way in ways) or all(way.fans and way.start == place for way in ways):
            lifted = [sum(machine.fans[fan].pressure_pa for fan in way.fans if fan in machine.fans) for way in ways]
            equal = len(ways) == 2 and lifted[0] == lifted[1]
            how = "two fans against each other at equal pressure" if equal else "all of its ways have fans against each other"
            yield f"{at}: {how}; a way without a fan has to lead out"


def _sources(air: AirNetwork, heat: Heat) -> Iterator[str]:
    """Yield sources whose heat never comes to a place or the room."""
    pairs = [link.between for link in heat.links]
    for way in air.ways.values():
        met = [way.start, *(node for one in way.passes for node in (one.node, one.returns) if node), way.end]
        pairs += [(met[0], node) for node in met[1:]]
    within = _reached({*air.places, ROOM}, pairs)
    for i, source in enumerate(heat.sources):
        if source.node == ROOM:
            yield f"heat.sources[{i}].node: the room is outside of every place"
        elif source.node in heat.nodes and source.node not in within:
            yield f"heat.sources[{i}].node: {source.node!r} lies outside of every place: no link or way takes its heat"


def _reached(begun: set[str], pairs: list[tuple[str, str]]) -> set[str]:
    """Return what can be reached from where it is begun, along pairs in either direction."""
    found, more = set(begun), True
    while more:
        more = False
        for a, b in pairs:
            if (a in found) != (b in found):
                found |= {a, b}
                more = True
    return found
