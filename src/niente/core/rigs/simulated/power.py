"""What a processor draws: each core's voltage from its curve and offsets, C V^2 f, leakage, uncore; and the wall."""

import math
from typing import NamedTuple

import numpy as np

from niente.core.rigs.simulated.machine import Processor, Supply
from niente.core.science.arrays import Array, Vector
from niente.core.science.compiled import compiled

IDLE_ACTIVITY = 0.012
"""What a core switches that has nothing to do."""


class Power(NamedTuple):
    """One sample of a processor. ``stock_v`` ``(cores, points)`` is each core's curve as it was fused."""

    curve_mhz: Vector
    stock_v: Array
    leakage_w: Vector
    switched_nf: float
    leakage_per_v: float
    leakage_per_k: float
    idle_leak: float
    uncore_w: float
    load_line_ohm: float
    supply_rated_w: float
    supply_share: Vector
    supply_efficiency: Vector


def power_of(processor: Processor, supply: Supply, rng: np.random.Generator) -> Power:
    """Return one sample of a processor, on its supply."""
    nominal = np.array(processor.curve_v, float)
    fused = processor.curve_spread_mv / 1000.0 * rng.standard_normal(processor.cores)
    return Power(
        curve_mhz=np.array(processor.curve_mhz, float),
        stock_v=nominal[None, :] + fused[:, None] * np.linspace(0.3, 1.0, nominal.shape[0])[None, :],
        leakage_w=processor.leakage_w * (1.0 + 0.08 * rng.standard_normal(processor.cores)),
        switched_nf=processor.switched_nf / processor.cores,
        leakage_per_v=processor.leakage_per_v,
        leakage_per_k=processor.leakage_per_k,
        idle_leak=processor.idle_leak,
        uncore_w=processor.uncore_w,
        load_line_ohm=processor.load_line_mohm / 1000.0,
        supply_rated_w=supply.rated_w,
        supply_share=np.array([share for share, _ in supply.efficiency], float),
        supply_efficiency=np.array([efficiency for _, efficiency in supply.efficiency], float),
    )


@compiled
def on_curve(curve_mhz: Vector, clock_mhz: float) -> tuple[int, float]:
    """Return the piece of the curve that a clock lies on, and how far along; beyond its ends the last pieces go on."""
    piece = curve_mhz.shape[0] - 2
    for k in range(curve_mhz.shape[0] - 1):
        if clock_mhz < curve_mhz[k + 1]:
            piece = k
            break
    return piece, max((clock_mhz - curve_mhz[piece]) / (curve_mhz[piece + 1] - curve_mhz[piece]), 0.0)


@compiled
def cores_power(
    c: Power,
    clock_mhz: float,
    asked_v: Array,
    fixed_v: float,
    current_a: float,
    activity: Vector,
    cores_c: Vector,
    each_w: Vector,
) -> tuple[float, float]:
    """Return the cores' power in W and the mean voltage of those at work, and fill ``each_w`` ``(cores,)``.

    P = sum of a C V^2 f + leakage(V, T); the load line lowers every voltage by the current drawn.
    ``asked_v`` ``(cores, points)`` is what the setting asks for along the curve.
    """
    piece, along = on_curve(c.curve_mhz, clock_mhz)
    ghz = clock_mhz / 1000.0
    volts = working = 0.0
    total = 0.0
    for i in range(cores_c.shape[0]):
        at = asked_v[i, piece] + along * (asked_v[i, piece + 1] - asked_v[i, piece])
        if fixed_v > 0.0:
            at = fixed_v
        volt = at - c.load_line_ohm * current_a
        works = activity[i] > IDLE_ACTIVITY
        leak = c.leakage_w[i] * volt * math.exp(c.leakage_per_v * (volt - 1.0) + c.leakage_per_k * (cores_c[i] - 60.0))
        each_w[i] = c.switched_nf * activity[i] * volt * volt * ghz + leak * (1.0 if works else c.idle_leak)
        total += each_w[i]
        if works:
            volts += volt
            working += 1.0
    mean = volts / working if working > 0.0 else asked_v[0, piece]
    return total, mean


@compiled
def uncore_power(c: Power, activity: float) -> float:
    """Return what the package draws beside its cores, at their mean activity."""
    return c.uncore_w * (0.45 + 0.55 * min(1.0, 1.2 * activity))


@compiled
def wall_power(c: Power, drawn_w: float) -> float:
    """Return what the wall gives for a supply's output."""
    return drawn_w / np.interp(drawn_w / c.supply_rated_w, c.supply_share, c.supply_efficiency)
