"""The work behind the curves of a point: its facts, days as pictures take them, mishaps."""

import math
from collections.abc import Mapping

import numpy as np

from niente.core.analysis.models import Models
from niente.core.analysis.sensor_shares import SensorShare
from niente.core.fans.curve_trials import doubts, drawn_groups, insist_on_curve, mishaps, usual_source, worst_case
from niente.core.fans.day import DayOfLoad
from niente.core.fans.hunting import loop_of
from niente.core.fans.loop import interpolate
from niente.core.fans.machine import MachineAtPoint, energy_of
from niente.core.fans.rehearsal import Rehearsal, fixed_at, rehearse
from niente.core.fans.told import DayTrace, GroupFacts, PointFacts, RehearsedDay, WorstCase, WorstCases
from niente.core.model.fan_curve import FanCurve
from niente.core.model.limits import Limits
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.science.arrays import Array
from niente.core.science.fan_speed import STANDS_RPM
from niente.core.science.heat.response import HeatResponse

PIECES = 720
"""A day is drawn in at most so many pieces: about one a pixel."""
QUICK_S = 4
"""The step of a rehearsal while a point is dragged."""


def rehearsed_day(
    machine: MachineAtPoint, facts: PointFacts, curves: Mapping[str, FanCurve], day: DayOfLoad, room_c: float, *, quick: bool
) -> RehearsedDay:
    """Return a day under curves as it is shown. Raises ``PlanError`` for a curve that cannot be followed."""
    for group, curve in curves.items():
        insist_on_curve(machine, group, curve)
    lived = rehearse(machine, curves, day, room_c, every_s=QUICK_S if quick else 1)
    loops, settles = {}, {}
    for group in () if quick else curves:
        there = [loop_of(machine, curves, group, 1.0, at_c) for at_c in (room_c, facts.design_c)]
        loops[group] = there[0].words
        settles[group] = (there[0].reads_c, there[1].reads_c)
    return RehearsedDay(dict(curves), day.name, room_c, lived.figures, trace_of(lived, day), loops, settles, quick)


def one_mishap_more(
    card: RigCard,
    machine: MachineAtPoint,
    curves: Mapping[str, FanCurve],
    day: DayOfLoad,
    rooms_c: tuple[float, float],
    so_far: tuple[WorstCase, ...],
) -> WorstCases:
    """Return what a day comes to with something gone wrong, one case more than ``so_far``."""
    every = mishaps(machine, curves, rooms_c)
    cases = (*so_far, worst_case(card, machine, every[len(so_far)], day))
    return WorstCases(dict(curves), cases, over=len(cases) == len(every))


def facts_of(
    models: Models,
    machine: MachineAtPoint,
    limits: Limits,
    setting: Setting,
    response: HeatResponse,
    shares: Mapping[str, SensorShare],
) -> PointFacts:
    """Return what is known of a point: its fans, its sensors, its rooms."""
    card = models.card
    found = {group: curve for group, curve in card.stock.fan_curve.items() if machine.knows(curve)}
    left_out = [(group, curve) for group, curve in card.stock.fan_curve.items() if not machine.knows(curve)]
    others = [name for name in card.curve_sources if name in shares]
    moved = drawn_groups(card, machine)
    return PointFacts(
        setting=setting,
        groups=tuple(_group_facts(models, machine, index, moved) for index in range(len(machine.groups))),
        sources=((usual_source(card), response.residual_sd_k), *((name, shares[name].residual_sd_k) for name in others)),
        room_c=models.room_c,
        design_c=limits.design_room_c,
        headroom_k=limits.min_headroom_k,
        ceiling_c=machine.ceiling_c,
        limit_c=card.limits.core_temperature_c,
        background_dba=machine.background_dba,
        full_w=float(machine.drawn.full_w[1]),
        found=found,
        doubts=doubts(machine, response, {name: shares[name] for name in others}, left_out),
    )


def _group_facts(models: Models, machine: MachineAtPoint, index: int, moved: list[str]) -> GroupFacts:
    group = machine.groups[index]
    control = models.card.control(f"fan_duty.{group}")
    stood = [duty for duty, rpm in models.speeds[group].pairs if rpm <= STANDS_RPM]
    rpm = machine.fans.rpm[index]
    energy = [interpolate(machine.fans.energy[index], machine.fans.step_rpm[index], float(one)) for one in rpm]
    level = np.array([10.0 * math.log10(one) if one > 0.0 else -math.inf for one in energy])
    return GroupFacts(
        name=group,
        low=control.low if control is not None else 0.0,
        moved=group in moved,
        start=float(machine.fans.start[index]),
        stall=max(stood, default=math.nan),
        fixed=float(fixed_at(machine)[index]),
        rpm=rpm,
        level_dba=level,
        in_room_dba=10.0 * np.log10(energy_of(level) + energy_of(np.array(machine.background_dba))),
    )


def piece_s_of(day: DayOfLoad) -> int:
    """Return how many seconds a piece of a day's picture has: about one a pixel."""
    return max(math.ceil(day.seconds / PIECES), 1)


def in_pieces(values: Array, piece_s: int) -> Array:
    """Return values by the second ``(n, …)`` in pieces ``(m, piece_s, …)``; what is left over at the end is dropped."""
    pieces = values.shape[0] // piece_s
    return values[: pieces * piece_s].reshape(pieces, piece_s, *values.shape[1:])


def trace_of(lived: Rehearsal, day: DayOfLoad) -> DayTrace:
    """Return the picture of a rehearsed day."""
    piece_s = piece_s_of(day)

    def cut(values: Array) -> Array:
        return in_pieces(values, piece_s)

    core, level = cut(lived.core_c), cut(lived.level_dba)
    return DayTrace(
        hour=np.arange(core.shape[0]) * piece_s / 3600.0,
        core_low_c=core.min(axis=1),
        core_high_c=core.max(axis=1),
        level_low_dba=level.min(axis=1),
        level_high_dba=level.max(axis=1),
        activity=cut(day.activity).mean(axis=1),
        heavy=cut(day.load.astype(float)).mean(axis=1),
    )
