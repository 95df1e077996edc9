"""Whether a group's curve swings by itself at an operating point of a day, by the fitted response, and in words."""

import math
from collections.abc import Mapping

import msgspec
import numpy as np

from niente.core.fans.loop import SPEED_FOLLOWS_S, duty_of
from niente.core.fans.machine import MachineAtPoint
from niente.core.fans.rehearsal import curves_of
from niente.core.model.setting import FanCurve
from niente.core.science.arrays import Vector
from niente.core.science.loop_margins import LoopMargins, loop_margins

CONTROLLER_S = 1.0
"""A controller acts once a second. Common practice, no source."""
STEP_PERCENT = 2.0
FAR = 20.0
"""With this much gain to spare it says nothing to count it."""
STEADY_STEPS = 60


class CurveLoop(msgspec.Struct, frozen=True):
    """A group's loop where it would settle: the core in °C, the group's duty and the curve's slope there in %/K, and its
    margins."""

    group: str
    core_c: float
    duty: float
    slope: float
    margins: LoopMargins

    @property
    def words(self) -> str:
        """What that means."""
        at = f"The {self.group} fans at {self.core_c:.0f} °C ({self.slope:.1f} %/K)"
        if self.slope <= 0.0 or math.isinf(self.margins.gain):
            return f"{at} have no loop that could swing."
        if self.margins.swings:
            return f"{at} swing by themselves, about every {self.margins.period_s:.0f} s: flatten the curve, or average longer."
        if not self.margins.calm:
            return f"{at} settle, but swing at first: {self.margins.gain:.1f} times as steep they would go on swinging."
        if self.margins.gain > FAR:
            return f"{at} settle calmly, and are far from swinging."
        return f"{at} settle calmly: {self.margins.gain:.0f} times as steep they would swing."


def steady_on_curves(
    machine: MachineAtPoint, curves: Mapping[str, FanCurve], activity: float, room_c: float, load: int = 1
) -> tuple[float, Vector]:
    """Return where a machine settles with its fans on curves: the core in °C and all duties ``(g,)``; by halving, since a
    hotter core never turns fans slower."""
    table = curves_of(machine, curves)

    def duties(core_c: float) -> Vector:
        on = [table.last[g] > table.first[g] for g in range(len(machine.groups))]
        return np.array([duty_of(table, g, core_c) if on[g] else table.fixed[g] for g in range(len(on))])

    low, high = room_c, room_c + 200.0
    for _ in range(STEADY_STEPS):
        middle = 0.5 * (low + high)
        if machine.steady_core_c(activity, duties(middle), room_c, load) > middle:
            low = middle
        else:
            high = middle
    return high, duties(high)


def loop_of(
    machine: MachineAtPoint, curves: Mapping[str, FanCurve], group: str, activity: float, room_c: float, load: int = 1
) -> CurveLoop:
    """Return a group's loop where a machine settles at an activity of a load; the others stand still. Raises ``KeyError`` for a
    group that is on no curve."""
    curve, index = curves[group], machine.groups.index(group)
    core, duty = steady_on_curves(machine, curves, activity, room_c, load)
    points = np.array(curve.points)
    warmer, cooler = np.interp([core + 0.5, core - 0.5], points[:, 0], points[:, 1])
    slope = float(warmer - cooler)
    up, down = duty.copy(), duty.copy()
    up[index], down[index] = min(duty[index] + STEP_PERCENT, 100.0), max(duty[index] - STEP_PERCENT, 0.0)
    power = machine.power_w(activity, core, load)
    lowers = machine.parts_k(power, machine.rpm(down), activity, load) - machine.parts_k(power, machine.rpm(up), activity, load)
    lags = np.array([SPEED_FOLLOWS_S, *([curve.smoothing_s] if curve.smoothing_s > 0.0 else [])])
    a_percent = np.maximum(lowers, 0.0) / max(up[index] - down[index], 1e-9)
    margins = loop_margins(slope, a_percent, machine.taus_s(machine.rpm(duty)), lags, CONTROLLER_S)
    return CurveLoop(group, core, float(duty[index]), slope, margins)
