"""What anybody sees of a simulated machine's air who opens its case: places, ways, fans, and what warms which of them."""

from niente.core.model.case_air import GRAPHICS, OTHER, PACKAGE, CaseAir, CasePlace, CaseWay
from niente.core.rigs.simulated.machine import AirNetwork, AirWay, Heat, Machine, Source

ROOM_NODES = frozenset({"room", "panels"})
"""Nodes that heat ends in; nothing behind them warms the air."""


def case_air_of(machine: Machine) -> CaseAir | None:
    """Return the places and ways of a machine's air; ``None`` for one whose air has no places."""
    heat, air = machine.heat, machine.heat.air
    if air is None:
        return None
    heights = [place.height_m for place in air.places.values()]
    low, span = min(heights), max(max(heights) - min(heights), 1e-9)
    carried = {name: _carried_by(heat, air, way) for name, way in air.ways.items()}
    places = tuple(
        CasePlace(
            name,
            place.title,
            place.depth,
            (place.height_m - low) / span,
            heat.readings.get(name, ""),
            _warmed_at(heat, air, name),
        )
        for name, place in air.places.items()
    )
    ways = tuple(
        CaseWay(
            name,
            way.start,
            way.end,
            tuple(dict.fromkeys(group for fan in way.fans if (group := machine.fans[fan].group))),
            sum(machine.fans[fan].count for fan in way.fans),
            tuple(way.takes_pa),
            carried[name],
            way.opening,
        )
        for name, way in air.ways.items()
    )
    return CaseAir(places, ways, _taken_in(air, carried))


def _taken_in(air: AirNetwork, carried: dict[str, tuple[str, ...]]) -> str:
    """Return the place whose air meets the processor's cooler first; empty where that is the room's."""
    for name, way in air.ways.items():
        if PACKAGE in carried[name] and way.start in air.places:
            return way.start
    return ""


def _carried_by(heat: Heat, air: AirNetwork, way: AirWay) -> tuple[str, ...]:
    """Return what warms the air on a way: what reaches the surfaces that it meets."""
    found = [kind for one in way.passes for kind in _reaching(heat, air, one.node)]
    return tuple(dict.fromkeys(found))


def _warmed_at(heat: Heat, air: AirNetwork, place: str) -> tuple[str, ...]:
    """Return what warms a place beside what the ways bring: sources in it, and parts that it cools without a stream."""
    found = [kind for source in heat.sources if source.node == place for kind in _kinds_of(source)]
    for link in heat.links:
        if place in link.between:
            (part,) = {*link.between} - {place}
            if part not in air.places and part not in ROOM_NODES:
                found += _reaching(heat, air, part)
    return tuple(dict.fromkeys(found))


def _reaching(heat: Heat, air: AirNetwork, node: str) -> list[str]:
    """Return what makes the heat of a part: whatever hangs together with it."""
    together = _together(heat, air, node)
    found = [PACKAGE] if heat.cores.onto in together else []
    for source in heat.sources:
        if source.node in together:
            found += _kinds_of(source)
    return found


def _together(heat: Heat, air: AirNetwork, part: str) -> set[str]:
    """Return the parts that conduct into each other without air between, the one itself among them."""
    ends = {*air.places, *ROOM_NODES}
    found, ahead = {part}, [part]
    while ahead:
        here = ahead.pop()
        for link in heat.links:
            if here in link.between:
                (other,) = {*link.between} - {here}
                if other not in found and other not in ends:
                    found.add(other)
                    ahead.append(other)
    return found


def _kinds_of(source: Source) -> list[str]:
    """Return what makes a source's heat. What the board loses on the way to the package is not in the package's own watts."""
    others = source.watts + source.of_supply + source.of_package
    return [GRAPHICS] * (source.of_graphics > 0.0) + [OTHER] * (others > 0.0)
