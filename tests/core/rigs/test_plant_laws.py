"""The plant's laws against handbooks, standards and a general-purpose solver."""

import math

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from niente.core.model.setting import Setting
from niente.core.rigs.simulated.acoustics import sound_of
from niente.core.rigs.simulated.air import AIR_HEAT, taken_per_kelvin
from niente.core.rigs.simulated.fan_curves import fan_flow, fan_pressure
from niente.core.rigs.simulated.machine_files import shipped_file, shipped_machines
from niente.core.rigs.simulated.network import Network, warming
from niente.core.rigs.simulated.streams import Streams, driven_flow
from niente.core.rigs.simulated.validation import STEP_S
from niente.core.science.air_density import density_ratio
from tests.core.rigs.benches import settled, stand_in

NONE = np.zeros(0)
NOWHERE = np.zeros(0, dtype=np.uint64)


def one_way(bend: float, stages: list[list[int]], fans: int) -> Streams:
    """A way of 20 000 Pa/(m3/s)2 with fans of 20 Pa and 0.03 m3/s."""
    members = [fan for stage in stages for fan in stage]
    return Streams(
        pressure=np.full(fans, 20.0),
        free_flow=np.full(fans, 0.03),
        bend=np.full(fans, bend),
        first_stage=np.array([0, len(stages)]),
        first_member=np.cumsum([0, *(len(stage) for stage in stages)]),
        members=np.array(members, dtype=np.int64),
        impedance=np.array([20000.0]),
        reference=np.array([0.02]),
        chimney=np.zeros(1),
        warm=np.zeros(1, dtype=np.int64),
        helped=np.zeros((1, 1)),
    )


@pytest.mark.parametrize(
    ("bend", "stages", "expected"),
    [
        (1.0, [[0]], 0.02176429),
        (0.0, [[0]], 0.01907935),
        (1.0, [[0, 1]], 0.02797514),
        (1.0, [[0], [1]], 0.02491364),
        (0.0, [[0, 1]], 0.02436903),
        (0.0, [[0], [1]], 0.022444),
    ],
)
def test_a_fan_meets_its_system(bend: float, stages: list[list[int]], expected: float) -> None:
    """Fan curve and system curve, in parallel and in series (ASHRAE Handbook, ch. Fans; AMCA 201; derived)."""
    fans = sum(len(stage) for stage in stages)
    assert driven_flow(one_way(bend, stages, fans), 0, np.ones(fans)) == pytest.approx(expected, abs=1e-6)


@pytest.mark.parametrize("bend", [0.0, 0.35, 0.6, 1.0])
@pytest.mark.parametrize("stages", [[[0]], [[0, 1]], [[0], [1]], [[0, 1], [2]]])
def test_the_fan_laws_hold_for_every_curve_and_way(bend: float, stages: list[list[int]]) -> None:
    """Q ~ N, p ~ N^2 (AMCA 201; ASHRAE Handbook): against a quadratic way half the speed is exactly half the flow."""
    fans = sum(len(stage) for stage in stages)
    air = one_way(bend, stages, fans)
    full, half = driven_flow(air, 0, np.ones(fans)), driven_flow(air, 0, np.full(fans, 0.5))
    assert half == pytest.approx(full / 2.0, rel=1e-6)


@pytest.mark.parametrize("bend", [0.0, 0.4, 1.0])
@pytest.mark.parametrize("speed", [0.0, 0.3, 1.0])
def test_pressure_and_flow_are_one_curve_read_both_ways(bend: float, speed: float) -> None:
    for against in (-5.0, 0.0, 0.5, 1.7, 12.0):
        flow = fan_flow(20.0, bend, speed, against)
        if flow >= 0.0:
            assert fan_pressure(20.0, bend, speed, flow) == pytest.approx(against, abs=1e-9)


def test_a_standing_fan_lets_the_others_air_out() -> None:
    """Of two side by side, one at rest leaks: less flow than one alone in a closed frame."""
    both = one_way(0.6, [[0, 1]], 2)
    alone = one_way(0.6, [[0]], 1)
    assert driven_flow(both, 0, np.array([1.0, 0.0])) < driven_flow(alone, 0, np.array([1.0]))


def test_air_takes_up_heat() -> None:
    """150 W into 30 CFM of air at 25 °C: 8.8895 K (ASHRAE Handbook Fundamentals, sensible heat; air from CoolProp 8.0.0)."""
    cubic_metres_per_s = 30.0 / 2118.88
    assert 150.0 / (AIR_HEAT * cubic_metres_per_s) == pytest.approx(8.8895, abs=0.003)


WATER_J_PER_L_K = 4169.1
"""rho cp of water at 25 °C: 997.048 kg/m3 times 4181.5 J/(kg K) (IAPWS-95)."""


@pytest.mark.parametrize(("pump", "litres_per_min"), [(100.0, 2.75), (50.0, 1.37)])
def test_coolant_takes_up_heat(pump: float, litres_per_min: float) -> None:
    """P/(rho Q cp): Cormorant's loop at full pump is about 2.75 L/min of water (a common loop; no source), at half of it half
    as much, so that the coolant comes back twice as much warmer."""
    one = settled("cormorant", "vector", 22.0, sustained_power_w=150.0, duty={"pump": pump})
    apart = one.nodes_c["hot coolant"] - one.nodes_c["cold coolant"]
    drawn = 150.0 * 0.98  # some of it leaves through the block
    assert apart == pytest.approx(drawn / (litres_per_min / 60.0 * WATER_J_PER_L_K), rel=0.04)


def test_a_sink_in_finite_air() -> None:
    """theta = 1/(mc e), e = 1 - exp(-NTU) (Incropera ch. 11, Cr = 0): hA 3 W/K in 10, 20, 40 CFM of air at 1191.98 J/(m3 K)."""
    for cfm, theta in ((10.0, 0.43008), (20.0, 0.37975), (40.0, 0.35605)):
        flow = 1191.98 * cfm / 2118.88
        assert 1.0 / taken_per_kelvin(3.0, flow, 0.0) == pytest.approx(theta, abs=1e-4)
    assert taken_per_kelvin(1.0, 1.0, 0.0) == pytest.approx(0.632121, abs=1e-6)
    assert taken_per_kelvin(3.0, 1e6, 0.0) == pytest.approx(3.0, rel=1e-5)


def test_a_radiator_is_a_cross_flow_of_two_streams() -> None:
    """Both unmixed (Incropera ch. 11, from memory): the limits are the single stream's, and neither side takes more than it
    carries. At NTU 1 and equal streams 0.476 (the book's chart reads 0.48)."""
    assert taken_per_kelvin(10.0, 10.0, 10.0) / 10.0 == pytest.approx(0.476, abs=0.01)
    assert taken_per_kelvin(30.0, 20.0, 1e6) == pytest.approx(taken_per_kelvin(30.0, 20.0, 0.0), rel=0.01)
    for surface in (1.0, 20.0, 400.0):
        assert taken_per_kelvin(surface, 15.0, 25.0) < 15.0


def test_air_thins_with_height() -> None:
    """The standard atmosphere (ISO 2533:1975): at 1500 m (geometric) 1.058104/1.225, at 3000 m geopotential 0.909122/1.225."""
    assert density_ratio(0.0) == 1.0
    assert density_ratio(1500.0) == pytest.approx(1.058104 / 1.225, abs=2e-6)
    geometric = 3000.0 * 6356766.0 / (6356766.0 - 3000.0)
    assert density_ratio(geometric) == pytest.approx(0.909122 / 1.225, abs=1e-5)


def test_a_machine_runs_hotter_in_thin_air() -> None:
    """The air's own rise goes as one over its density; surfaces lose less than that."""
    at = Setting(sustained_power_w=120.0)
    low, high = (stand_in("larkspur", room={"altitude_m": metres}) for metres in (0.0, 1500.0))
    rise = [rig.true_settled(at, "vector", 23.0).nodes_c["processor"] - 23.0 for rig in (low, high)]
    assert 1.05 < rise[1] / rise[0] < 1.0 / density_ratio(1500.0)


def ladder() -> Network:
    """Two nodes and the room: the Cauer form of R = 0.2 and 0.4 K/W, tau = 2 and 60 s."""
    return Network(
        per_joule=1.0 / np.array([9.375, 151.160077, np.inf]),
        link_a=np.array([0, 1], dtype=np.uint64),
        link_b=np.array([1, 2], dtype=np.uint64),
        link_w=1.0 / np.array([0.227051, 0.372949]),
        pumped=np.zeros(2),
        free_a=NOWHERE,
        free_b=NOWHERE,
        free_w=NONE,
        free_power=NONE,
        first_pass=np.zeros(1, dtype=np.int64),
        pass_node=NOWHERE,
        pass_from=NOWHERE,
        pass_ua=NONE,
        pass_power=NONE,
        pass_coolant=NONE,
        pass_along=NONE,
        source=NOWHERE,
        sink=NOWHERE,
        reference=NONE,
        made_up=NONE,
        recirculation=NONE,
        of_package=np.zeros(3),
        base=0,
    )


FOSTER = {
    0.5: 4.75593,
    1: 8.53053,
    2: 13.95377,
    5: 21.55652,
    10: 26.00597,
    30: 35.73877,
    60: 45.28482,
    120: 54.58659,
    300: 59.73048,
}
"""Step response to 100 W (JESD51-14:2010 annex; Szekely and Van Bien 1988; computed with a matrix exponential)."""


def test_two_time_constants() -> None:
    """The network's own rates, under a general-purpose solver, and under the plant's own step."""
    net, heat = ladder(), np.array([100.0, 0.0, 0.0])

    def rates(_: float, nodes: np.ndarray) -> np.ndarray:
        rate = np.zeros(3)
        warming(net, NONE, NONE, 1.0, nodes, NONE, heat, rate)
        return rate

    times = list(FOSTER)
    exact = solve_ivp(rates, (0.0, 300.0), np.zeros(3), method="LSODA", t_eval=times, rtol=1e-9, atol=1e-9)
    assert exact.y[0] == pytest.approx(list(FOSTER.values()), abs=2e-4)
    nodes, stepped = np.zeros(3), {}
    for step in range(1, 3001):
        nodes = nodes + STEP_S * rates(0.0, nodes)
        stepped[round(step * STEP_S, 3)] = float(nodes[0])
    assert [stepped[float(t)] for t in times] == pytest.approx(list(FOSTER.values()), abs=0.25)


@pytest.mark.parametrize("name", shipped_machines())
def test_heat_in_is_heat_out(name: str) -> None:
    """Settled, everything that the wall gives inside the machine goes to the room: no node warms any more."""
    rig = stand_in(name)
    setting = rig.describe().stock
    truth = rig.true_settled(setting, "vector", 22.0, hours=8.0)
    later = rig.true_settled(setting, "vector", 22.0, hours=10.0)
    for node, celsius in truth.nodes_c.items():
        assert later.nodes_c[node] == pytest.approx(celsius, abs=0.05), node


def test_the_network_settles_where_the_solver_says() -> None:
    """Larkspur's network with its power held: scipy's LSODA and the plant's own step agree."""
    rig = stand_in("larkspur")
    rig.apply(Setting(sustained_power_w=100.0))
    rig.start("vector")
    rig.record(3600)
    life = rig._life
    c, state = life.constants, life._state
    heat = np.zeros(state.nodes.shape)
    heat[:12] = 8.0
    start = state.nodes.copy()

    def rates(_: float, nodes: np.ndarray) -> np.ndarray:
        rate = np.zeros(nodes.shape)
        warming(c.net, state.taken, state.carried, 1.0, nodes, state.returning.copy(), heat, rate)
        return rate

    exact = solve_ivp(rates, (0.0, 600.0), start, method="LSODA", rtol=1e-8, atol=1e-8).y[:, -1]
    nodes, returning = start.copy(), state.returning.copy()
    for _ in range(round(600.0 / STEP_S)):
        rate = np.zeros(nodes.shape)
        warming(c.net, state.taken, state.carried, 1.0, nodes, returning, heat, rate)
        nodes += STEP_S * rate
    assert nodes == pytest.approx(exact, abs=1.5)
    assert nodes[:12] == pytest.approx(exact[:12], abs=0.8)


@pytest.mark.parametrize("name", shipped_machines())
def test_a_supply_loses_what_its_curve_says(name: str) -> None:
    """Wall power is between the best and the worst that its efficiency curve allows for what is drawn."""
    machine = shipped_file(name).machine
    read = settled(name, "vector", 22.0)
    gain = machine.sensors.gains.get("package_power_w", 1.0)
    package = read.readings["package_power_w"] / gain
    share = sum(source.of_package for source in machine.heat.sources)
    drawn = package * (1.0 + share) + sum(source.watts for source in machine.heat.sources)
    efficiency = [value for _, value in machine.supply.efficiency]
    assert drawn / max(efficiency) <= read.readings["wall_power_w"] <= drawn / min(efficiency)


def test_distance_and_panel_stand_in_the_sound() -> None:
    near = sound_of(shipped_file("sandpiper").machine)
    assert near.away_db > 0.0  # at 0.6 m the meter hears more than at 1 m
    assert math.isfinite(near.away_db)
