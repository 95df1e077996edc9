"""Draw it for me: the curve a group that is quietest over the days it is for, and still keeps the headroom of its point.

At the point all fans stand where the headroom just holds in the design room, at the core's temperature there. A curve that
reaches those duties at that temperature keeps the headroom in every room up to it, at every power up to the point's: a core
that is cooler needs no more air. Below, it may sink to a floor; how deep, over how many kelvin, and how calmly is what is
looked for, by rehearsal.
"""

import itertools
import math
from collections.abc import Callable, Sequence

import msgspec
import numpy as np

from niente.core.fans.day import DayOfLoad
from niente.core.fans.machine import MachineAtPoint
from niente.core.fans.rehearsal import FIXED_DUTY, DayFigures, rehearse
from niente.core.model.errors import NotEnoughError
from niente.core.model.fan_curve import FanCurve

FLOORS = (0.0, 0.5, 1.0)
"""Floors that are tried, from where a group just turns (0) to its duty at the point (1)."""
WIDTHS_K = (8.0, 14.0, 22.0, 32.0)
CALMS = ((2.0, 1.0, 0.5), (15.0, 0.5, 0.2), (40.0, 0.25, 0.1))
"""Averaging in s and ramps up and down in %/s that are tried, from quick to calm."""
HYSTERESIS_K = 3.0
FULL_OVER_K = 6.0
"""So far over the point's temperature the fans are at full speed, or at the machine's limit where that comes first."""
RAMP_COSTS_DB, HUNT_COSTS_DB = 0.02, 5.0
"""What a ramp a day counts, and a swing, beside the mean level. A judgement, no source."""
KEEPS_K = 0.5
"""A rehearsal may come so near over the point's temperature: bursts are not yet averaged there."""
ROUND_C, ROUND_PERCENT = 1.0, 1.0
TOLD_EVERY = 6
SOURCE = "core_temperature_c"


class QuietestCurves(msgspec.Struct, frozen=True):
    """The curves by group, and how many sets of curves were tried."""

    curves: dict[str, FanCurve]
    tried: int


def quietest_curves(
    machine: MachineAtPoint,
    moved: Sequence[str],
    days: Sequence[DayOfLoad],
    rooms_c: tuple[float, float],
    headroom_k: float,
    source: str = SOURCE,
    progress: Callable[[str], None] = lambda text: None,
) -> QuietestCurves:
    """Return the quietest curves of the groups ``moved``; ``rooms_c`` are the room as it is and the design room. Raises
    ``NotEnoughError`` where the point itself does not keep ``headroom_k`` in the design room. ``progress`` is told in words
    how far it is; what it raises ends it."""
    room_c, design_c = rooms_c
    duty = np.array([machine.setting.fan_duty.get(group, FIXED_DUTY) for group in machine.groups])
    top_c = machine.steady_core_c(1.0, duty, design_c)
    if top_c > machine.ceiling_c - headroom_k + KEEPS_K:
        raise NotEnoughError(
            f"At this point {machine.ceiling_c - top_c:.1f} K of headroom are left in a room of {design_c:g} °C, "
            f"where {headroom_k:g} K are wanted.",
            remedy="Choose a point that keeps it, or lower the power limit.",
        )
    hard = (*days, _from_cold_to_full())
    limits_c = [_limit_c(machine, day, design_c, headroom_k) for day in hard]
    best: tuple[float, dict[str, FanCurve]] | None = None
    tried = 0
    for floor, width, calm in itertools.product(FLOORS, WIDTHS_K, CALMS):
        curves = {group: _curve(machine, group, top_c, (floor, width, calm), source) for group in moved}
        if tried % TOLD_EVERY == 0:
            progress(f"Trying curves: {tried} of {len(FLOORS) * len(WIDTHS_K) * len(CALMS)} …")
        there = [rehearse(machine, curves, day, design_c) for day in hard]
        tried += 1
        if any(one.figures.hottest_c > limit_c for one, limit_c in zip(there, limits_c, strict=True)):
            continue
        cost = float(np.mean([_cost(rehearse(machine, curves, day, room_c).figures) for day in days]))
        if best is None or cost < best[0]:
            best = cost, curves
    if best is None:
        raise NotEnoughError(
            "Every curve that was tried lets a burst of these days over the headroom.",
            safe="The fixed duties of the point keep it.",
            remedy="Leave the fans at those, or choose a point with a kelvin or two more.",
        )
    return QuietestCurves(best[1], tried)


def _limit_c(machine: MachineAtPoint, day: DayOfLoad, design_c: float, headroom_k: float) -> float:
    """Return how hot a day may become in the design room: as the headroom leaves it, or as it is with the point's own duties,
    where another load than the heaviest is let go nearer."""
    fixed_c = rehearse(machine, {}, day, design_c).figures.hottest_c
    return max(machine.ceiling_c - headroom_k, fixed_c) + KEEPS_K


def _from_cold_to_full() -> DayOfLoad:
    """Return two hours of the heaviest load after a quarter of an hour of nothing: the hardest that the point allows."""
    activity = np.repeat([0.0, 1.0], [900, 7200])
    return DayOfLoad("from cold to full", np.ones(activity.shape, dtype=np.int64), activity)


def _cost(figures: DayFigures) -> float:
    """Return what a day counts in dB."""
    return figures.mean_dba + RAMP_COSTS_DB * figures.ramps + HUNT_COSTS_DB * math.log1p(figures.hunts)


def _curve(
    machine: MachineAtPoint, group: str, top_c: float, shape: tuple[float, float, tuple[float, float, float]], source: str
) -> FanCurve:
    """Return one group's curve: from its floor up to its duty at the point, and on to full speed."""
    share, width, (smoothing_s, up, down) = shape
    index = machine.groups.index(group)
    duty = machine.setting.fan_duty.get(group, FIXED_DUTY)
    turns = min(float(machine.fans.start[index]), duty)
    floor = _rounded_up(turns + share * (duty - turns), ROUND_PERCENT)
    at_c = math.floor(top_c / ROUND_C) * ROUND_C  # reached no later than at the point
    full_c = max(min(at_c + FULL_OVER_K, math.floor(machine.ceiling_c)), at_c + 1.0)
    points = [(at_c - width, floor), (at_c, _rounded_up(duty, ROUND_PERCENT)), (full_c, 100.0)]
    if floor >= duty:
        points = points[1:]
    return FanCurve(source, tuple(points), HYSTERESIS_K, up, down, smoothing_s=smoothing_s)


def _rounded_up(value: float, step: float) -> float:
    return math.ceil(value / step - 1e-9) * step
