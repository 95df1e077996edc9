"""Air with places: pressures and flows against cases solved by hand, a handbook's vents and a general-purpose root finder; and
nothing is lost on the way, neither air nor heat."""

import math

import numpy as np
import pytest
from scipy.optimize import root

from niente.core.model.rig_card import LoadKind
from niente.core.rigs.simulated.air import AIR_DENSITY, AIR_HEAT
from niente.core.rigs.simulated.flow_network import Ways, solve_flows, way_flow, way_lifts
from niente.core.rigs.simulated.machine_files import shipped_file, shipped_machines
from niente.core.rigs.simulated.network import warming
from niente.core.science.arrays import Vector
from tests.core.rigs.benches import stand_in

P0, Q0, K = 20.0, 0.03, 20000.0
"""A fan of 20 Pa and 0.03 m3/s against a way of 20 000 Pa/(m3/s)2."""


def network(
    ends: list[tuple[int, int]],
    square: list[float],
    fans: list[list[int]] | None = None,
    *,
    bend: float = 1.0,
    height: list[float] | None = None,
    level: list[float] | None = None,
    count: int = 1,
) -> Ways:
    """Ways between places and the room (the last index), fans alike."""
    fans = fans or [[] for _ in ends]
    places = max(max(pair) for pair in ends)
    return Ways(
        start=np.array([a for a, _ in ends]),
        end=np.array([b for _, b in ends]),
        square=np.array(square),
        linear=1e-8 * np.array(square),  # hardly any, so that flows are what squares alone give
        height=np.array(height or [0.0] * len(ends)),
        rises=np.zeros(len(ends)),
        first_fan=np.cumsum([0, *(len(one) for one in fans)]),
        fan=np.array([fan for one in fans for fan in one], dtype=np.int64),
        pressure=np.full(count, P0),
        free_flow=np.full(count, Q0),
        bend=np.full(count, bend),
        node=np.arange(places),
        level=np.array(level or [0.0] * places),
    )


def solved(ways: Ways, speeds: list[float], warm_c: list[float] | None = None) -> tuple[Vector, Vector]:
    """The flows of all ways, and the pressures of all places."""
    places, many = ways.node.shape[0], ways.start.shape[0]
    nodes = np.array([*(warm_c or [25.0] * places), 25.0])
    lifts, flows, pressures = np.zeros(many), np.zeros(many), np.zeros(places)
    way_lifts(ways, nodes, np.full(many, 25.0), lifts)
    assert solve_flows(ways, np.array(speeds), lifts, pressures, flows) < 1e-9
    return flows, pressures


@pytest.mark.parametrize(
    ("bend", "ends", "fans", "expected"),
    [
        (1.0, [(1, 0), (0, 1)], [[0], []], 0.02176429),
        (0.0, [(1, 0), (0, 1)], [[0], []], 0.01907935),
        (1.0, [(1, 0), (1, 0), (0, 1)], [[0], [1], []], 0.02797514),
        (1.0, [(1, 0), (0, 1)], [[0, 1], []], 0.02491364),
        (0.0, [(1, 0), (1, 0), (0, 1)], [[0], [1], []], 0.02436903),
        (0.0, [(1, 0), (0, 1)], [[0, 1], []], 0.022444),
    ],
)
def test_fans_side_by_side_and_behind_one_another(
    bend: float, ends: list[tuple[int, int]], fans: list[list[int]], expected: float
) -> None:
    """Fan curve and system curve, in parallel and in series (ASHRAE Handbook, ch. Fans; AMCA 201; derived). The fans blow into
    a place that air leaves by a way of K."""
    square = [1e-6] * (len(ends) - 1) + [K]
    flows, _ = solved(network(ends, square, fans, bend=bend, count=2), [1.0, 1.0])
    assert flows[-1] == pytest.approx(expected, abs=1e-6)


def test_ways_in_series_and_side_by_side_by_hand() -> None:
    """Resistances add in series; side by side, flows go as one over the root of each (any handbook of ventilation)."""
    ways = network([(2, 0), (0, 1), (0, 1), (1, 2)], [9e4, 4e4, 1e4, 1.6e5], [[0], [], [], []])
    flows, pressures = solved(ways, [1.0])
    assert flows[1] / flows[2] == pytest.approx(0.5, rel=1e-5)
    beside = (1.0 / math.sqrt(4e4) + 1.0 / math.sqrt(1e4)) ** -2
    whole = 9e4 + beside + 1.6e5
    by_hand = math.sqrt(P0 / (whole + P0 / Q0**2))
    assert flows[0] == pytest.approx(by_hand, rel=1e-5)
    assert pressures[1] == pytest.approx(1.6e5 * by_hand**2, rel=1e-5)


def test_fans_against_each_other() -> None:
    """Two equal fans that blow into one place: each gives half of what leaves it; where the one is faster, air goes back
    through the other as through a resistance."""
    ways = network([(1, 0), (1, 0), (0, 1)], [1e4, 1e4, 5e5], [[0], [1], []], count=2)
    flows, _ = solved(ways, [1.0, 1.0])
    assert flows[0] == pytest.approx(flows[1], rel=1e-9)
    flows, pressures = solved(ways, [1.0, 0.4])
    assert pressures[0] > 0.4**2 * P0
    assert flows[1] < 0.0
    assert flows[0] > flows[2]  # what comes back goes round again


def test_a_leak_beside_a_fan_lets_air_go_round() -> None:
    """A fan with a gap of 4 K beside it and a way of K out: of what it moves, the share that comes back is
    1/(1 + sqrt(k_gap/(k_in + k_out))), for both see the same pressure."""
    ways = network([(0, 1), (1, 0), (2, 0), (1, 2)], [1e-6, 4 * K, 0.5 * K, 0.5 * K], [[0], [], [], []])
    flows, _ = solved(ways, [1.0])
    assert flows[1] / flows[0] == pytest.approx(1.0 / (1.0 + 2.0), rel=1e-6)
    assert flows[2] == pytest.approx(flows[3], rel=1e-9)


def test_vents_of_a_warm_place() -> None:
    """Two equal openings a height H apart: Q = Cd A sqrt(2 g (H/2) (Ti - To)/Ti) (ASHRAE Handbook Fundamentals, ch.
    Ventilation and Infiltration, stack effect with the neutral level half way up; from memory). Cd 0.65, 40 cm2, 0.4 m, 45
    against 25 °C."""
    opening, height = 0.65 * 0.004, 0.4
    square = AIR_DENSITY / (2.0 * opening**2)
    ways = network([(1, 0), (0, 1)], [square, square], height=[0.0, height], level=[0.5 * height])
    flows, pressures = solved(ways, [0.0], [45.0])
    expected = opening * math.sqrt(2.0 * 9.80665 * 0.5 * height * 20.0 / 318.15)
    assert flows == pytest.approx([expected, expected], rel=1e-4)
    assert pressures[0] == pytest.approx(0.0, abs=1e-6)  # at its own height, half way up, it is neutral


def test_the_fan_laws_hold_for_a_whole_network() -> None:
    """Q ~ N, p ~ N^2 (AMCA 201): half the speed of all fans is half of every flow, and a quarter of every pressure."""
    ends = [(2, 0), (0, 1), (1, 0), (1, 2), (0, 2)]
    ways = network(ends, [K, K, 3 * K, K, 9 * K], [[0], [1], [], [], []], bend=0.4, count=2)
    full, pressures = solved(ways, [1.0, 0.7])
    half, quarter = solved(ways, [0.5, 0.35])
    assert half == pytest.approx(0.5 * full, rel=1e-4)
    assert quarter == pytest.approx(0.25 * pressures, rel=1e-4)


def drawn(rng: np.random.Generator) -> Ways:
    """A network at random: every place is reached, and the last leads out."""
    places = int(rng.integers(1, 7))
    ends = [(places if j == 0 else int(rng.integers(0, j)), j) for j in range(places)] + [(places - 1, places)]
    for _ in range(int(rng.integers(1, 7))):
        a, b = rng.integers(0, places + 1, 2)
        if a != b:
            ends.append((int(a), int(b)))
    fans = [[int(rng.integers(0, 4)) for _ in range(int(rng.choice([0, 0, 1, 2])))] for _ in ends]
    square = 10.0 ** rng.uniform(2.0, 5.5, len(ends))
    drawn_ways = network(ends, square.tolist(), fans, count=4)
    return drawn_ways._replace(
        linear=0.0005 * square,
        height=rng.uniform(0.0, 0.5, len(ends)),
        level=rng.uniform(0.0, 0.5, places),
        pressure=rng.uniform(2.0, 30.0, 4),
        free_flow=rng.uniform(0.01, 0.06, 4),
        bend=rng.uniform(0.0, 1.0, 4),
    )


@pytest.mark.parametrize("seed", range(60))
def test_a_root_finder_finds_the_same(seed: int) -> None:
    """scipy's hybrid method (MINPACK), from near by, on the same balance; 400 more only have to balance."""
    rng = np.random.default_rng(seed)
    ways = drawn(rng)
    places = ways.node.shape[0]
    speeds = np.where(rng.random(4) < 0.3, 0.0, rng.uniform(0.1, 1.0, 4)).tolist()
    warm: list[float] = np.asarray(25.0 + rng.uniform(0.0, 30.0, places)).tolist()
    flows, pressures = solved(ways, speeds, warm)
    lifts = np.zeros(flows.shape[0])
    way_lifts(ways, np.array([*warm, 25.0]), np.full(flows.shape[0], 25.0), lifts)

    def over(at: Vector) -> Vector:
        here, left = np.append(at, 0.0), np.zeros(places + 1)
        for w in range(flows.shape[0]):
            a, b = ways.start[w], ways.end[w]
            flow, _ = way_flow(ways, w, np.array(speeds), lifts[w] + here[a] - here[b])
            left[a] -= flow
            left[b] += flow
        return 1e3 * left[:-1]

    found = root(over, pressures * (1.0 + 0.02 * rng.standard_normal(places)), tol=1e-13)
    assert np.max(np.abs(over(pressures))) < 1e-6
    if found.success:
        assert pressures == pytest.approx(found.x, rel=1e-5, abs=1e-6)
    if seed < 10:
        for _ in range(40):
            many = drawn(rng)
            solved(
                many, rng.uniform(0.0, 1.0, 4).tolist(), np.asarray(25.0 + rng.uniform(0.0, 40.0, many.node.shape[0])).tolist()
            )


BUILT = [(name, None) for name in shipped_machines()] + [
    (name, build.name) for name in shipped_machines() for build in shipped_file(name).machine.variants
]


@pytest.mark.parametrize(("name", "variant"), BUILT)
def test_neither_air_nor_heat_is_lost(name: str, variant: str | None) -> None:
    """At any moment: what comes into a place leaves it, and the sources' watts warm nodes or go to the room, to 1e-9."""
    rig = stand_in(name, variant)
    heavy = rig.describe().load_of(LoadKind.HEAVY)
    assert heavy is not None
    rig.start(heavy.name)
    rig.record(900)
    life = rig._life
    net, ways, state = life.constants.net, life.constants.ways, life._state
    places = ways.node.shape[0]
    over = np.zeros(places + 1)
    np.add.at(over, ways.start, -state.flows)
    np.add.at(over, ways.end, state.flows)
    assert np.max(np.abs(over)) < 1e-9

    heat: Vector = np.asarray(np.random.default_rng(1).uniform(0.0, 20.0, state.nodes.shape[0]))
    heat[-1] = 0.0
    rate, left = np.zeros(state.nodes.shape[0]), state.returning.copy()
    warming(net, state.taken, state.carried, 1.0, state.nodes, left, heat, rate)
    stored = float(np.sum(rate[:-1] / net.per_joule[:-1]))
    room, last = state.nodes[-1], state.nodes.shape[0] - 1
    out = 0.0
    for a, b, w in zip(net.link_a, net.link_b, net.link_w, strict=True):
        out += w * (state.nodes[a] - state.nodes[b]) * ((b == last) * 1.0 - (a == last) * 1.0)
    for i in range(net.free_w.shape[0]):
        a, b = int(net.free_a[i]), int(net.free_b[i])
        apart = state.nodes[a] - state.nodes[b]
        w = net.free_w[i] * (max(abs(apart), 0.05) / 20.0) ** net.free_power[i] * apart
        out += w * ((b == last) * 1.0 - (a == last) * 1.0)
    for s in range(state.flows.shape[0]):
        into = net.sink[s] if state.flows[s] > 0.0 else net.source[s]
        out += abs(state.carried[s]) * (left[s] - room) * (into == last)
    assert stored + out == pytest.approx(float(heat.sum()), rel=1e-9)
    assert float(AIR_HEAT * np.abs(state.flows).sum()) > 0.0
