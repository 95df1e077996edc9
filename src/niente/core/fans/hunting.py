"""Whether a group's curve swings by itself at an operating point of a day, by the fitted response, and in words."""

import math
from collections.abc import Mapping

import msgspec
import numpy as np

from niente.core.fans.loop import SPEED_FOLLOWS_S
from niente.core.fans.machine import MachineAtPoint
from niente.core.fans.rehearsal import settled_on
from niente.core.model.fan_curve import Combined, FanCurve
from niente.core.science.arrays import Vector
from niente.core.science.loop_margins import LoopMargins, loop_margins

CONTROLLER_S = 1.0
"""A controller acts once a second. Common practice, no source."""
STEP_PERCENT = 2.0
FAR = 20.0
"""With this much gain to spare it says nothing to count it."""


class CurveLoop(msgspec.Struct, frozen=True):
    """A group's loop where it would settle: what its sensors read in °C, the group's duty and the curve's slope there in %/K,
    and its margins."""

    group: str
    reads_c: float = msgspec.field(name="core_c")  # as it is called in files; it was the core's once
    duty: float
    slope: float
    margins: LoopMargins

    @property
    def words(self) -> str:
        """What that means."""
        at = f"The {self.group} fans at {self.reads_c:.0f} °C ({self.slope:.1f} %/K)"
        if self.slope <= 0.0 or math.isinf(self.margins.gain):
            return f"{at} have no loop that could swing."
        if self.margins.swings:
            return f"{at} swing by themselves, about every {self.margins.period_s:.0f} s: flatten the curve, or average longer."
        if not self.margins.calm:
            return f"{at} settle, but swing at first: {self.margins.gain:.1f} times as steep they would go on swinging."
        if self.margins.gain > FAR:
            return f"{at} settle calmly, and are far from swinging."
        return f"{at} settle calmly: {self.margins.gain:.0f} times as steep they would swing."


def loop_of(
    machine: MachineAtPoint, curves: Mapping[str, FanCurve], group: str, activity: float, room_c: float, load: int = 1
) -> CurveLoop:
    """Return a group's loop where a machine settles at an activity of a load; the others stand still. Raises ``KeyError`` for a
    group that is on no curve."""
    curve, index = curves[group], machine.groups.index(group)
    core, duty, parts = settled_on(machine, curves, activity, room_c, load)
    reads_c, of_parts = sensed_at(machine, curve, core, parts, activity, load)
    points = np.array(curve.points)
    warmer, cooler = np.interp([reads_c + 0.5, reads_c - 0.5], points[:, 0], points[:, 1])
    slope = float(warmer - cooler)
    up, down = duty.copy(), duty.copy()
    up[index], down[index] = min(duty[index] + STEP_PERCENT, 100.0), max(duty[index] - STEP_PERCENT, 0.0)
    power = machine.power_w(activity, core, load)
    lowers = machine.parts_k(power, machine.rpm(down), activity, load) - machine.parts_k(power, machine.rpm(up), activity, load)
    lags = np.array([SPEED_FOLLOWS_S, *([curve.smoothing_s] if curve.smoothing_s > 0.0 else [])])
    a_percent = of_parts * np.maximum(lowers, 0.0) / max(up[index] - down[index], 1e-9)
    margins = loop_margins(slope, a_percent, machine.taus_s(machine.rpm(duty)), lags, CONTROLLER_S)
    return CurveLoop(group, reads_c, float(duty[index]), slope, margins)


def sensed_at(
    machine: MachineAtPoint, curve: FanCurve, core_c: float, parts: Vector, activity: float, load: int = 1
) -> tuple[float, Vector]:
    """Return what a curve's sensors come to in °C where a machine has settled, and which share of each part of the rise
    ``(p,)`` they see: those of the warmest, or the mean of all."""
    rise, numbers = float(parts.sum()), [machine.sensor(one) for one in curve.sources]
    shares = np.array([np.ones(parts.shape) if one < 0 else machine.sensors.of_parts[one] for one in numbers])
    added = np.array([0.0 if one < 0 else machine.added_k(one, activity, core_c, load) for one in numbers])
    reads = core_c - rise + shares @ parts + added
    counts = slice(None) if curve.combined == Combined.MEAN else slice(int(reads.argmax()), int(reads.argmax()) + 1)
    of_parts: Vector = shares[counts].mean(axis=0)
    return float(reads[counts].mean()), of_parts
