"""The plant: a simulated machine's heat, power, firmware, fans, silicon and sound, stepped second by second in compiled code.

It knows effects that no fit of Niente's knows (fins in several stacks, fans against the way they blow through, air that
comes back, panels as slow mass, several resonances, cores that differ, failures in clusters), so that accuracy against it
means something.
"""

import math
from typing import NamedTuple

import numpy as np

from niente.core.rigs.curve_controller import CurveLaws, duty_on_curve, moved_duty, sensed, stands_now
from niente.core.rigs.simulated import silicon as sil
from niente.core.rigs.simulated.acoustics import Sound, machine_level_db
from niente.core.rigs.simulated.flow_network import Ways, solve_flows, way_lifts
from niente.core.rigs.simulated.network import Network, take_flows, warming
from niente.core.rigs.simulated.power import (
    IDLE_ACTIVITY,
    Power,
    cores_power,
    on_curve,
    uncore_power,
    wall_power,
)
from niente.core.rigs.simulated.sensors import Sensors, read
from niente.core.rigs.simulated.streams import Streams, stream_flows
from niente.core.rigs.simulated.throughput import busy_share, work_at, work_done
from niente.core.rigs.simulated.validation import STEP_S
from niente.core.science.arrays import Array, Indices, Vector
from niente.core.science.compiled import compiled

STEPS = round(1.0 / STEP_S)
BURST_GAIN = 6.0
"""How steeply the budget falls from the burst to the sustained limit as the moving average comes near it."""

CLOCK, HEAT_CLOCK, AVERAGE_W, POWER, VOLT, RESTLESS, HOTTEST = range(7)
"""Places in the firmware's state."""
OUT_POWER, OUT_GRAPHICS, OUT_WALL, OUT_CLOCK, OUT_VOLT, OUT_WORK, OUT_LEVEL = range(7)
OUTPUTS = 7
"""Places, behind the nodes, in what is true of one second; the groups' speeds follow."""


class Board(NamedTuple):
    """What a board's own controller does to every curve it follows: duties in whole steps of ``step_percent``, a hysteresis
    beside the curve's, a start at no less than ``start_boost_percent``, and sensors that lag and are off."""

    step_percent: float
    hysteresis_k: float
    start_boost_percent: float
    lag_s: float
    offset_k: float


class Constants(NamedTuple):
    """What does not change while a machine runs."""

    net: Network
    streams: Streams
    ways: Ways
    power: Power
    silicon: sil.Silicon
    sound: Sound
    sensors: Sensors
    fan_group: Indices
    fan_start: Vector
    fan_stall: Vector
    fan_bend: Vector
    fan_follows: Vector
    speaks_for: Indices
    pump_group: int
    pump_least: float
    pump_rpm: float
    density: float
    idle_mhz: float
    package_share: float
    pick: Indices
    board: Board


class Demand(NamedTuple):
    """What a setting and a load ask of the machine.

    Cores: activity, the voltage asked for along the curve ``(cores, points)``. Sources ``(n,)``: heat that does not follow the
    package, and the shares that follow the supply's loss. Groups: their duty, or the curve that they follow over nodes (sensor
    -1: the hottest core). ``stuck`` fans stand; ``supplied`` scales each fan's speed.
    """

    activity: Vector
    asked_v: Array
    fixed_v: float
    sustained_w: float
    burst_w: float
    ceiling_mhz: float
    average_s: float
    cap_c: float
    shut_down_c: float
    graphics_w: float
    other_w: float
    heat_w: Vector
    of_supply: Vector
    per_ghz: float
    clock_exponent: float
    waits: float
    size: float
    checks: bool
    deadlines: bool
    works: bool
    duty: Vector
    curves: CurveLaws
    stuck: Vector
    supplied: Vector


class PlantState(NamedTuple):
    """Where a machine stands; every array is moved on in place."""

    nodes: Vector
    firmware: Vector
    speeds: Vector
    duty: Vector
    seen_c: Vector
    held_c: Vector
    stands: Vector
    solved: Vector
    driven: Vector
    flows: Vector
    pressures: Vector
    lifts: Vector
    taken: Vector
    carried: Vector
    returning: Vector
    lagged: Vector

    def copy(self) -> "PlantState":
        """Return a state that can be moved on by itself."""
        return PlantState(*(part.copy() for part in self))

    def take(self, other: "PlantState") -> None:
        """Stand where another state stands."""
        for own, part in zip(self, other, strict=True):
            own[:] = part


def idle_state(c: Constants, room_c: float, groups: int) -> PlantState:
    """Return a machine that has stood cold in a room."""
    nodes, streams = c.net.per_joule.shape[0], c.streams.reference.shape[0]
    currents, ways = c.net.reference.shape[0], c.ways.start.shape[0]
    fans = c.fan_group.shape[0]
    firmware = np.zeros(7)
    firmware[[CLOCK, HEAT_CLOCK]] = c.idle_mhz
    return PlantState(
        nodes=np.full(nodes, room_c),
        firmware=firmware,
        speeds=np.zeros(fans),
        duty=np.zeros(groups),
        seen_c=np.full(groups, room_c),
        held_c=np.full(groups, -100.0),
        stands=np.zeros(groups),
        solved=np.full(fans, -1.0),
        driven=np.zeros(streams),
        flows=np.zeros(currents),
        pressures=np.zeros(c.ways.node.shape[0]),
        lifts=np.zeros(ways),
        taken=np.zeros(c.net.pass_ua.shape[0]),
        carried=np.zeros(currents),
        returning=np.full(currents, room_c),
        lagged=np.full(c.pick.shape[0], np.nan),
    )


@compiled
def move_fans(c: Constants, d: Demand, s: PlantState) -> float:
    """Move duties along their curves and speeds towards their duties by one second; return the pump's share of its speed."""
    laws, board = d.curves, c.board
    for g in range(s.duty.shape[0]):
        if laws.last[g] <= laws.first[g]:
            s.duty[g] = d.duty[g]
            continue
        reads = sensed(laws, g, s.nodes, s.firmware[HOTTEST]) + board.offset_k
        s.seen_c[g] += (reads - s.seen_c[g]) / max(laws.smooth_s[g] + board.lag_s, 1.0)
        s.held_c[g] = min(max(s.held_c[g], s.seen_c[g]), s.seen_c[g] + laws.hysteresis_k[g] + board.hysteresis_k)
        s.stands[g] = stands_now(laws, g, s.held_c[g], s.seen_c[g], s.firmware[POWER], s.stands[g])
        wanted = 0.0 if s.stands[g] > 0.0 else duty_on_curve(laws, g, s.held_c[g])
        if board.step_percent > 0.0:
            wanted = np.round(wanted / board.step_percent) * board.step_percent
        if s.duty[g] <= 0.0 and wanted > 0.0:
            s.duty[g] = board.start_boost_percent
        s.duty[g] = moved_duty(laws, g, s.duty[g], wanted, 1.0)
    for f in range(s.speeds.shape[0]):
        duty = s.duty[c.fan_group[f]] if c.fan_group[f] >= 0 else 100.0
        least = c.fan_stall[f] if s.speeds[f] > 0.1 else c.fan_start[f]
        turns = duty * d.supplied[f] >= least and d.stuck[f] <= 0.0
        aim = (duty / 100.0) ** c.fan_bend[f] * d.supplied[f] if turns else 0.0
        s.speeds[f] += (aim - s.speeds[f]) * c.fan_follows[f]
        if aim <= 0.0 and s.speeds[f] < 0.01:
            s.speeds[f] = 0.0
    if c.pump_group < 0:
        return 1.0
    share: float = max(s.duty[c.pump_group], c.pump_least) / 100.0
    return share


@compiled
def move_air(c: Constants, s: PlantState, pump: float) -> None:
    """Find the flow of every current of air, and what it can take along."""
    streams = s.driven.shape[0]
    if streams > 0:
        stream_flows(c.streams, s.nodes, s.speeds, s.solved, s.driven, s.flows[:streams])
    if s.lifts.shape[0] > 0:
        way_lifts(c.ways, s.nodes, s.returning[streams:], s.lifts)
        solve_flows(c.ways, s.speeds, s.lifts, s.pressures, s.flows[streams:])
    take_flows(c.net, s.flows, c.density, pump, s.taken, s.carried)


@compiled
def hold_clock(
    firmware: Vector,
    hottest: float,
    power: float,
    cap_c: float,
    ceiling_mhz: float,
    idle_mhz: float,
    sustained_w: float,
    burst_w: float,
    average_s: float,
    works: bool,
) -> None:
    """Let the firmware set the clock: pulled down by heat, and to the power that the moving average leaves."""
    if hottest > cap_c:
        firmware[HEAT_CLOCK] -= 9.0 * (hottest - cap_c) + 1.0
    else:
        firmware[HEAT_CLOCK] += min(12.0, 3.0 * (cap_c - hottest))
    firmware[HEAT_CLOCK] = min(max(firmware[HEAT_CLOCK], idle_mhz), ceiling_mhz)
    budget = sustained_w + max(0.0, sustained_w - firmware[AVERAGE_W]) * BURST_GAIN
    budget = min(budget, burst_w)
    firmware[CLOCK] *= 1.0 + min(0.05, max(-0.08, 0.35 * (budget - power) / max(power, 1.0)))
    firmware[CLOCK] = min(max(firmware[CLOCK], idle_mhz), firmware[HEAT_CLOCK] if works else idle_mhz)
    firmware[AVERAGE_W] += STEP_S / average_s * (power - firmware[AVERAGE_W])


@compiled
def margin_of_core(c: Constants, d: Demand, s: PlantState, factor: float, i: int) -> float:
    """Return how far a core stands above the voltage it needs, in mV."""
    clock = s.firmware[CLOCK]
    piece, along = on_curve(c.power.curve_mhz, clock)
    stock = c.power.stock_v[i, piece] + along * (c.power.stock_v[i, piece + 1] - c.power.stock_v[i, piece])
    asked = d.asked_v[i, piece] + along * (d.asked_v[i, piece + 1] - d.asked_v[i, piece])
    over = 1000.0 * ((d.fixed_v if d.fixed_v > 0.0 else asked) - stock)
    margin: float = sil.margin_left_mv(c.silicon, i, over, clock, d.activity[i] * factor, s.nodes[i])
    return margin


@compiled
def failing_core(c: Constants, d: Demand, s: PlantState, factor: float, share: float) -> int:
    """Return the core at which a failure happens: ``share``, 0 to 1, of the sum of the cores' rates lies before it."""
    total, last = 0.0, 0
    for turn in range(2):
        passed = 0.0
        for i in range(d.activity.shape[0]):
            if d.activity[i] <= IDLE_ACTIVITY:
                continue
            passed += sil.failures_per_s(c.silicon, i, margin_of_core(c, d, s, factor, i))
            last = i
            if turn == 1 and passed >= share * total:
                return i
        total = passed
    return last


@compiled
def event_of(
    c: Constants, d: Demand, s: PlantState, factor: float, late: bool, rate: float, deepest: float, chance: Vector
) -> int:
    """Return what a second brings at a rate of failures, or where the work came late; a wrong result says which core it comes
    from."""
    fails = -math.expm1(-rate)
    if chance[0] >= fails:
        return sil.DROP_OUT if late else sil.NOTHING
    event: int = sil.outcome(deepest, c.silicon.deadly_mv, d.checks, d.deadlines, chance[1])
    if event == sil.WRONG_RESULT:  # a failure has come: where in its chance it fell is even
        event += sil.NAMES_CORE * (1 + failing_core(c, d, s, factor, chance[0] / fails))
    return event


@compiled
def look_at_silicon(c: Constants, d: Demand, s: PlantState, factor: float) -> tuple[float, float, float]:
    """Return the machine's rate of failures in 1/s, its deepest margin under the threshold (mV), and the clock it works at
    (MHz, the mean of its working cores)."""
    clock = s.firmware[CLOCK]
    rate, deepest, work, working = 0.0, -1e9, 0.0, 0
    for i in range(d.activity.shape[0]):
        if d.activity[i] <= IDLE_ACTIVITY:
            continue
        margin = margin_of_core(c, d, s, factor, i)
        rate += sil.failures_per_s(c.silicon, i, margin)
        deepest = max(deepest, -margin)
        work += clock * (1.0 - sil.work_lost(c.silicon, margin))
        working += 1
    return rate, deepest, work / working if working else clock


@compiled
def live_a_second(
    c: Constants, d: Demand, s: PlantState, factor: float, pump: float, scratch: Array
) -> tuple[float, float, float]:
    """Move heat, power and clock on by a second; return the means of package power, clock and voltage over it."""
    each_w, heat_w, rate, activity, steady_w = scratch[0], scratch[1], scratch[2], scratch[3], scratch[4]
    net, chip, firmware, nodes = c.net, c.power, s.firmware, s.nodes
    of_package, base, returning, taken, carried = c.net.of_package, c.net.base, s.returning, s.taken, s.carried
    asked_v, fixed_v, cap_c, sustained_w, burst_w = d.asked_v, d.fixed_v, d.cap_c, d.sustained_w, d.burst_w
    idle_mhz, average_s = c.idle_mhz, d.average_s
    ceiling_mhz, works = d.ceiling_mhz, d.works
    cores, count = d.activity.shape[0], nodes.shape[0]
    power_sum = clock_sum = volt_sum = 0.0
    for i in range(cores):
        activity[i] = d.activity[i] * factor if d.activity[i] > IDLE_ACTIVITY else d.activity[i]
    busy, temperatures = activity[:cores], nodes[:cores]
    uncore_w = uncore_power(chip, busy.mean())
    drawn = firmware[POWER] * (1.0 + c.package_share) + d.graphics_w + d.other_w
    lost = wall_power(chip, drawn) - drawn
    for n in range(count):
        steady_w[n] = d.heat_w[n] + d.of_supply[n] * lost
    steady_w[base] += uncore_w
    for _ in range(STEPS):
        hottest = nodes[0]
        for i in range(1, cores):
            hottest = max(hottest, nodes[i])
        firmware[HOTTEST] = hottest
        current = firmware[POWER] / max(firmware[VOLT], 0.3)
        power, volt = cores_power(chip, firmware[CLOCK], asked_v, fixed_v, current, busy, temperatures, each_w)
        power += uncore_w
        firmware[POWER], firmware[VOLT] = power, volt
        hold_clock(firmware, hottest, power, cap_c, ceiling_mhz, idle_mhz, sustained_w, burst_w, average_s, works)
        for n in range(count):
            heat_w[n] = steady_w[n] + of_package[n] * power
        for i in range(cores):
            heat_w[i] += each_w[i]
        warming(net, taken, carried, pump, nodes, returning, heat_w, rate)
        for n in range(count):
            nodes[n] += STEP_S * rate[n]
        power_sum += power
        clock_sum += firmware[CLOCK]
        volt_sum += volt
    return power_sum / STEPS, clock_sum / STEPS, volt_sum / STEPS


@compiled
def advance(
    c: Constants,
    d: Demand,
    s: PlantState,
    room_c: Vector,
    background_dba: Vector,
    factor: Vector,
    normal: Array,
    chance: Array,
    rows: Array,
    true: Array,
) -> tuple[int, int]:
    """Move the machine on second by second until something happens or the arrays are at their end.

    Arrays have a row a second: room, background, what the load's activity is times, standard normal and uniform (3) draws;
    ``rows`` are filled with readings, ``true`` with the truth behind them. Returns how many seconds went by, and what
    the last of them brought.
    """
    nodes = s.nodes.shape[0]
    scratch = np.zeros((5, nodes))
    rpm = np.zeros(s.speeds.shape[0])
    for second in range(room_c.shape[0]):
        s.nodes[nodes - 1] = room_c[second]
        pump = move_fans(c, d, s)
        move_air(c, s, pump)
        could = work_at(s.firmware[CLOCK], d.per_ghz, d.clock_exponent, d.waits)
        busy = busy_share(d.size, could, factor[second])
        power, clock, volt = live_a_second(c, d, s, busy, pump, scratch)
        rate, deepest, work = look_at_silicon(c, d, s, busy)

        outputs = true[second]
        outputs[:nodes] = s.nodes
        drawn = power * (1.0 + c.package_share) + d.graphics_w + d.other_w
        for f in range(rpm.shape[0]):
            rpm[f] = s.speeds[f] * c.sound.full_rpm[f]
        level = machine_level_db(c.sound, rpm, pump if c.pump_group >= 0 else 0.0, power + d.graphics_w)
        level = 10.0 ** (0.1 * level) + 10.0 ** (0.1 * background_dba[second]) + 10.0 ** (0.1 * c.sensors.floor_dba)
        outputs[nodes + OUT_POWER] = power
        outputs[nodes + OUT_GRAPHICS] = d.graphics_w
        outputs[nodes + OUT_WALL] = wall_power(c.power, drawn)
        outputs[nodes + OUT_CLOCK] = clock
        outputs[nodes + OUT_VOLT] = volt
        could = work_at(clock * work / s.firmware[CLOCK], d.per_ghz, d.clock_exponent, d.waits) if d.works else 0.0
        outputs[nodes + OUT_WORK], late = work_done(d.size, could, factor[second])
        outputs[nodes + OUT_LEVEL] = 10.0 * math.log10(level)
        for g in range(s.duty.shape[0]):
            fan = c.speaks_for[g]
            outputs[nodes + OUTPUTS + g] = rpm[fan] if fan >= 0 else pump * c.pump_rpm
        readings = outputs[c.pick]
        if math.isnan(s.lagged[0]):
            s.lagged[:] = readings
        read(c.sensors, readings, s.lagged, normal[second], rows[second])

        event = sil.NOTHING
        restless = s.firmware[RESTLESS] > 0.0
        leave = sil.LEAVES_RESTLESS_PER_S if restless else sil.LEAVES_QUIET_PER_S
        if chance[second, 2] < leave:
            s.firmware[RESTLESS] = 0.0 if restless else 1.0
        if d.works:
            rate *= sil.RESTLESS if restless else sil.QUIET
            event = event_of(c, d, s, busy, late, rate, deepest, chance[second])
        if s.firmware[HOTTEST] > d.shut_down_c:
            event = sil.SHUT_DOWN
        if event != sil.NOTHING:
            return second + 1, event
    return room_c.shape[0], sil.NOTHING
