"""The plant: heat, power, firmware and fans of a simulated machine, stepped in compiled code.

It knows effects that no fit of Niente's knows (two fin stacks, warm air drawn in again, panels as slow mass, natural
convection by a power of the difference, cores that differ), so that accuracy against it means something.
"""

from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from niente.core.rigs.simulated.machine import Machine

Vector = NDArray[np.float64]

STEP_S = 0.1
"""Inner step of the explicit integration; the fastest node (a core) answers in about 2 s."""

# Places of the nodes behind the cores.
SPREADER, BASE, NEAR_FINS, FAR_FINS, AIR, PANEL, BOARD = range(7)
NODES_BEHIND = 7

# Places in the state of the firmware.
CLOCK, HEAT_CLOCK, AVERAGE_W = range(3)

# Places in what one second leaves behind.
OUT_POWER, OUT_CLOCK, OUT_VOLTAGE, OUT_BOARD_W, OUT_HOTTEST = range(5)


class Constants(NamedTuple):
    """What does not change while a machine runs; names as in ``machine``, arrays one entry a core or curve point."""

    cores: int
    core_capacity: float
    core_conductance: Vector
    neighbour: float
    spreader_capacity: float
    spreader_base: float
    base_capacity: float
    base_fins: float
    fins_capacity: float
    fins_forced: float
    fins_natural: float
    fins_exponent: float
    recirculation: float
    air_capacity: float
    air_forced: float
    air_natural: float
    panel_capacity: float
    air_panel: float
    panel_room: float
    board_capacity: float
    board_air: float
    filter_loss: float
    curve_mhz: Vector
    curve_v: Vector
    switched_nf: float
    leakage_w: Vector
    leakage_per_v: float
    leakage_per_k: float
    uncore_w: float
    load_line_ohm: float
    board_loss: float
    board_idle_w: float
    other_heat_w: float
    average_s: float
    burst_ratio: float
    idle_mhz: float


class Demand(NamedTuple):
    """What is asked of the machine during one second: the setting, the load and the room."""

    activity: float
    offset_v: float
    sustained_w: float
    clock_cap_mhz: float
    cap_c: float
    room_c: float
    case_flow: float
    cooler_flow: float


def constants(machine: Machine, rng: np.random.Generator) -> Constants:
    """Return the constants of one sample of a machine: its cores' spread is drawn from ``rng``."""
    heat, power = machine.thermal, machine.electrical
    n = machine.cores
    middle_out = 1.0 + heat.core_spread * np.cos(np.linspace(-np.pi, np.pi, n)) - 0.02 * rng.standard_normal(n)
    own = {name: getattr(heat, name) for name in heat.__struct_fields__ if name in Constants._fields}
    own |= {name: getattr(power, name) for name in power.__struct_fields__ if name in Constants._fields}
    own |= {
        "cores": n,
        "core_conductance": heat.core_conductance / middle_out,
        "neighbour": heat.neighbour_conductance,
        "curve_mhz": np.array(power.curve_mhz, float),
        "curve_v": np.array(power.curve_v, float),
        "leakage_w": power.leakage_w * (1.0 + 0.08 * rng.standard_normal(n)),
        "load_line_ohm": power.load_line_mohm / 1000.0,
    }
    return Constants(**own)


@njit(cache=True, nogil=True)
def package_power(c: Constants, clock_mhz: float, offset_v: float, activity: float, cores_c: Vector, each_w: Vector) -> float:
    """Return package power in W at a clock, and fill ``each_w`` with the power of each core, shape ``(cores,)``.

    P = sum of a C V^2 f + leakage(V, T), plus the uncore; the load line lowers the voltage by the current drawn.
    """
    stock_v = np.interp(clock_mhz, c.curve_mhz, c.curve_v)
    ghz = clock_mhz / 1000.0
    # One pass for the load line: the current of the previous guess is close enough.
    guess_w = c.switched_nf * activity * stock_v * stock_v * ghz
    volt = stock_v + offset_v - c.load_line_ohm * guess_w / stock_v
    dynamic = c.switched_nf * activity * volt * volt * ghz / c.cores
    total = c.uncore_w * (0.45 + 0.55 * min(1.0, activity * 1.2))
    for i in range(c.cores):
        leak = c.leakage_w[i] * volt * np.exp(c.leakage_per_v * (volt - 1.0) + c.leakage_per_k * (cores_c[i] - 60.0))
        each_w[i] = dynamic + leak
        total += each_w[i]
    return total


@njit(cache=True, nogil=True)
def advance(c: Constants, d: Demand, nodes: Vector, control: Vector, out: Vector, seconds: float) -> None:
    """Move the plant on by ``seconds``; ``nodes`` (cores first), ``control`` and ``out`` are changed in place."""
    n = c.cores
    steps = round(seconds / STEP_S)
    each_w = np.empty(n)
    power_sum = clock_sum = volt_sum = board_sum = 0.0
    hottest = -1e9
    forced_fins = c.fins_forced * d.cooler_flow**c.fins_exponent
    forced_air = c.air_forced * d.case_flow / (1.0 + c.filter_loss * d.case_flow)
    for _ in range(steps):
        cores = nodes[:n]
        top = cores[0]
        for i in range(1, n):
            top = max(top, cores[i])
        hottest = max(hottest, top)

        # Firmware: one clock for all cores, pulled down by heat and by the moving average of power.
        if top > d.cap_c:
            control[HEAT_CLOCK] -= 9.0 * (top - d.cap_c) + 1.0
        else:
            control[HEAT_CLOCK] += min(12.0, 3.0 * (d.cap_c - top))
        control[HEAT_CLOCK] = min(max(control[HEAT_CLOCK], c.idle_mhz), d.clock_cap_mhz)
        ceiling = min(d.clock_cap_mhz, control[HEAT_CLOCK])
        if d.activity < 0.05:
            ceiling = c.idle_mhz
        power = package_power(c, control[CLOCK], d.offset_v, d.activity, cores, each_w)
        budget = d.sustained_w + max(0.0, d.sustained_w - control[AVERAGE_W]) * 0.8
        budget = min(budget, d.sustained_w * c.burst_ratio)
        control[CLOCK] *= 1.0 + min(0.05, max(-0.08, 0.35 * (budget - power) / max(power, 1.0)))
        control[CLOCK] = min(max(control[CLOCK], c.idle_mhz), ceiling)
        control[AVERAGE_W] += STEP_S / c.average_s * (power - control[AVERAGE_W])

        spreader, base = nodes[n + SPREADER], nodes[n + BASE]
        near, far = nodes[n + NEAR_FINS], nodes[n + FAR_FINS]
        air, panel, board = nodes[n + AIR], nodes[n + PANEL], nodes[n + BOARD]
        into_spreader = 0.0
        for i in range(n):
            flow = c.core_conductance[i] * (cores[i] - spreader)
            into_spreader += flow
            side = 0.0
            if i > 0:
                side += c.neighbour * (nodes[i - 1] - nodes[i])
            if i < n - 1:
                side += c.neighbour * (nodes[i + 1] - nodes[i])
            each_w[i] = each_w[i] - flow + side
        for i in range(n):
            nodes[i] += STEP_S / c.core_capacity * each_w[i]
        uncore = c.uncore_w * (0.45 + 0.55 * min(1.0, d.activity * 1.2))
        to_base = c.spreader_base * (spreader - base)
        nodes[n + SPREADER] += STEP_S / c.spreader_capacity * (into_spreader + uncore - to_base)
        to_near = c.base_fins * (base - near)
        to_far = 0.35 * c.base_fins * (near - far)
        nodes[n + BASE] += STEP_S / c.base_capacity * (to_base - to_near)
        # The air that meets the fins is partly their own, and the far stack gets what the near one warmed.
        breath = air + c.recirculation * (near - air)
        near_g = 0.55 * forced_fins + c.fins_natural * (max(near - air, 0.1) / 20.0) ** 0.25
        far_g = 0.45 * forced_fins + 0.8 * c.fins_natural * (max(far - air, 0.1) / 20.0) ** 0.25
        from_near, from_far = near_g * (near - breath), far_g * (far - breath)
        nodes[n + NEAR_FINS] += STEP_S / (0.55 * c.fins_capacity) * (to_near - to_far - from_near)
        nodes[n + FAR_FINS] += STEP_S / (0.45 * c.fins_capacity) * (to_far - from_far)
        board_w = c.board_idle_w + c.board_loss * power
        from_board = c.board_air * (board - air)
        nodes[n + BOARD] += STEP_S / c.board_capacity * (board_w - from_board)
        to_room = (forced_air + c.air_natural * (max(air - d.room_c, 0.1) / 10.0) ** 0.5) * (air - d.room_c)
        to_panel = c.air_panel * (air - panel)
        nodes[n + AIR] += STEP_S / c.air_capacity * (from_near + from_far + from_board + c.other_heat_w - to_room - to_panel)
        nodes[n + PANEL] += STEP_S / c.panel_capacity * (to_panel - c.panel_room * (panel - d.room_c))

        power_sum += power
        clock_sum += control[CLOCK]
        volt_sum += np.interp(control[CLOCK], c.curve_mhz, c.curve_v) + d.offset_v
        board_sum += board_w
    out[OUT_POWER] = power_sum / steps
    out[OUT_CLOCK] = clock_sum / steps
    out[OUT_VOLTAGE] = volt_sum / steps
    out[OUT_BOARD_W] = board_sum / steps
    out[OUT_HOTTEST] = hottest
