"""The air of machines made up at random: what each way takes, where it leaks, which fan works against the stream."""

from collections.abc import Callable

import msgspec
import numpy as np

from niente.core.rigs.simulated.machine import ROOM, AirNetwork, AirWay, Mixing, Pass

changed = msgspec.structs.replace
Times = Callable[[float, float], float]
"""A value and a spread give that value times a log-normal factor."""

TURNED, LEAKS, GUIDED, EDDIES = 0.15, 0.5, 0.2, 0.4
"""Shares of the machines with a fan turned against the stream, with a leak more, with a leak closed, and with eddies more."""


def drawn_air(air: AirNetwork, rng: np.random.Generator, times: Times, a_pass: Callable[[Pass], Pass]) -> AirNetwork:
    """Return another network in the shape of one: ways, leaks, eddies and heights drawn anew."""
    ways = {name: _way(way, times, a_pass) for name, way in air.ways.items()}
    places = {name: changed(place, height_m=times(max(place.height_m, 0.02), 0.2)) for name, place in air.places.items()}
    fanned = [name for name, way in ways.items() if way.fans and not way.passes]
    if len(fanned) > 1 and rng.random() < TURNED:
        name = str(rng.choice(fanned))
        ways[name] = changed(ways[name], start=ways[name].end, end=ways[name].start)
    open_ = [name for name, way in ways.items() if not way.fans and not way.passes]
    if open_ and rng.random() < GUIDED:
        name = str(rng.choice(open_))
        ways[name] = changed(ways[name], takes_pa={part: 10.0 * pa for part, pa in ways[name].takes_pa.items()})
    ends = [*places, ROOM]
    if rng.random() < LEAKS:
        start, end = (str(place) for place in rng.choice(ends, 2, replace=False))
        reference = float(np.median([way.reference_m3h for way in ways.values()]))
        ways["leak"] = AirWay(
            start, end, reference, {"leak": float(rng.uniform(2.0, 20.0))}, height_m=float(rng.uniform(0.0, 0.4))
        )
    mixing = tuple(changed(one, m3h=times(one.m3h, 0.5)) for one in air.mixing)
    if len(places) > 1 and rng.random() < EDDIES:
        one, other = (str(place) for place in rng.choice(list(places), 2, replace=False))
        mixing += (Mixing((one, other), float(rng.uniform(1.0, 8.0))),)
    return AirNetwork(places, ways, mixing)


def _way(way: AirWay, times: Times, a_pass: Callable[[Pass], Pass]) -> AirWay:
    return changed(
        way,
        takes_pa={part: times(pa, 0.5) for part, pa in way.takes_pa.items()},
        passes=tuple(a_pass(one) for one in way.passes),
    )
