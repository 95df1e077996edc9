"""The curves of one point, as a person works on them: what its fans and sensors are, days rehearsed and drawn as a picture
takes them, what may go wrong, and a drawing that goes on step by step."""

import math
from collections.abc import Mapping
from pathlib import Path

import msgspec
import numpy as np

from niente.core.analysis.models import Models
from niente.core.analysis.sensor_shares import SensorShare
from niente.core.fans.curve_trials import (
    WorstCase,
    doubts,
    drawn_groups,
    insist_on_curve,
    mishaps,
    responses,
    usual_source,
    worst_case,
)
from niente.core.fans.day import DayOfLoad, standard_day
from niente.core.fans.drawing import CurveSearch, DrawingStands
from niente.core.fans.hunting import loop_of
from niente.core.fans.loop import interpolate
from niente.core.fans.machine import OF_CORE, MachineAtPoint, energy_of, machine_at
from niente.core.fans.rehearsal import DayFigures, Rehearsal, rehearse
from niente.core.model.errors import NotEnoughError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.limits import Limits
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.science.arrays import Array, Vector
from niente.core.science.fan_speed import STANDS_RPM
from niente.core.science.heat.response import HeatResponse

BIN_S = 120
"""A day is drawn in pieces of so many seconds: about one a pixel."""
QUICK_S = 4
"""The step of a rehearsal while a point is dragged."""
FULL_PERCENT = 100.0
FIRST_WIDTH_K, FULL_OVER_K = 22.0, 6.0
"""A first curve comes up over so many kelvin, and is at full speed so far over the point's temperature."""


class GroupFacts(msgspec.Struct, frozen=True):
    """One fan group: its name; the range and step of its control in %; whether curves are drawn for it (not for a pump); the
    least duty at which it was seen to turn and the most at which it stood (NaN: nobody knows), its duty at the point; and at
    whole per cents ``(101,)`` its speed in rpm, its own level in dBA, and that with the room's background."""

    name: str
    low: float
    high: float
    step: float
    moved: bool
    start: float
    stall: float
    fixed: float
    rpm: Vector
    level_dba: Vector
    in_room_dba: Vector

    @property
    def floor(self) -> float:
        """The least duty in whole per cents at which it is sure to turn; the control's least where nobody knows."""
        return float(math.ceil(self.start)) if self.start <= FULL_PERCENT else self.low

    def fitted(self, curve: FanCurve) -> FanCurve:
        """Return another group's curve for this one: nowhere under the duty at which it turns."""
        floor = max(self.floor, curve.floor_percent)
        points = tuple((celsius, max(duty, floor)) for celsius, duty in curve.points)
        return msgspec.structs.replace(curve, floor_percent=floor, points=points)


class PointFacts(msgspec.Struct, frozen=True):
    """What a curve of a point is drawn over: its setting; the groups; the sensors that a rehearsal knows, with how closely in
    K; the room as it was measured and the design room in °C; the headroom that is kept in K, under which temperature, the
    maker's limit and the temperature cap in °C; the room's background in dBA; the package's power at full work in W; the curves
    that the machine was found with; and in words what is not known."""

    setting: Setting
    groups: tuple[GroupFacts, ...]
    sources: tuple[tuple[str, float], ...]
    room_c: float
    design_c: float
    headroom_k: float
    ceiling_c: float
    limit_c: float
    cap_c: float
    background_dba: float
    full_w: float
    found: dict[str, FanCurve]
    doubts: tuple[str, ...]


class DayTrace(msgspec.Struct, frozen=True):
    """A day in pieces ``(m,)``: the hour that each begins at, the lowest and highest core in °C and level in dBA in it, the
    mean share of work, whether it was the heaviest load, and the mean duties ``(m, g)`` in %."""

    hour: Vector
    core_low_c: Vector
    core_high_c: Vector
    level_low_dba: Vector
    level_high_dba: Vector
    activity: Vector
    heavy: Vector
    duty: Array


class RehearsedDay(msgspec.Struct, frozen=True):
    """A day under curves as it is shown: which curves and which day, its figures and its picture, what each loop does in words,
    and where each group's sensors settle at full work, in the room and in the design room, in °C."""

    curves: dict[str, FanCurve]
    day: str
    room_c: float
    figures: DayFigures
    trace: DayTrace
    loops: dict[str, str]
    settles_c: dict[str, tuple[float, float]]
    quick: bool


class WorstCases(msgspec.Struct, frozen=True):
    """What a day under curves comes to with something gone wrong, as far as that is known; ``over`` says that it is all."""

    curves: dict[str, FanCurve]
    cases: tuple[WorstCase, ...]
    over: bool


class PointCurves:
    """Works on the curves of one point at a time; what takes long to work out is kept from one question to the next."""

    def __init__(self) -> None:
        self._response: tuple[tuple[Path, int], HeatResponse, dict[str, SensorShare]] | None = None
        self._machine: MachineAtPoint | None = None
        self._facts: PointFacts | None = None
        self._card: RigCard | None = None
        self._search: CurveSearch | None = None
        self._days: dict[str, DayOfLoad] = {}

    def point(self, book: Path, models: Models, limits: Limits, setting: Setting) -> PointFacts:
        """Take up a point, and return what is known of it. Raises ``NotEnoughError`` where the runs do not tell how the machine
        warms, sounds or turns."""
        key = (book, len(models.evidence.runs))
        if self._response is None or self._response[0] != key:
            self._response = (key, *responses(book, models))
        _, response, shares = self._response
        self._card, self._search = models.card, None
        self._machine = machine_at(models, response, setting, models.room_c, shares)
        self._facts = _facts(models, self._machine, limits, setting, response, shares)
        return self._facts

    def day(self, curves: Mapping[str, FanCurve], day: str, room_c: float, *, quick: bool = False) -> RehearsedDay:
        """Rehearse a standard day under curves; ``quick`` in coarse steps. Raises ``PlanError`` for a curve that cannot be
        followed."""
        machine, facts, _ = self._taken()
        for group, curve in curves.items():
            insist_on_curve(machine, group, curve)
        lived = rehearse(machine, curves, self._day(day), room_c, every_s=QUICK_S if quick else 1)
        loops, settles = {}, {}
        for group in () if quick else curves:
            there = [loop_of(machine, curves, group, 1.0, at_c) for at_c in (room_c, facts.design_c)]
            loops[group] = there[0].words
            settles[group] = (there[0].reads_c, there[1].reads_c)
        return RehearsedDay(dict(curves), day, room_c, lived.figures, _trace(lived, self._day(day)), loops, settles, quick)

    def worst(self, curves: Mapping[str, FanCurve], day: str, room_c: float, so_far: tuple[WorstCase, ...] = ()) -> WorstCases:
        """Return what a day comes to with something gone wrong: one case more than ``so_far``."""
        machine, facts, card = self._taken()
        every = mishaps(machine, curves, (room_c, facts.design_c))
        cases = (*so_far, worst_case(card, machine, every[len(so_far)], self._day(day)))
        return WorstCases(dict(curves), cases, over=len(cases) == len(every))

    def begin_drawing(self, days: tuple[str, ...], source: str = "") -> DrawingStands:
        """Begin to look for the quietest curves for some days. Raises ``NotEnoughError`` where the point keeps no headroom."""
        machine, facts, card = self._taken()
        self._search = CurveSearch(
            machine, drawn_groups(card, machine), [self._day(day) for day in days], (facts.room_c, facts.design_c),
            facts.headroom_k, source or usual_source(card),
        )  # fmt: skip
        return self._search.stands

    def draw_on(self) -> DrawingStands:
        """Try the next curves of the drawing that was begun, and return how it stands."""
        assert self._search is not None, "begin_drawing comes first"
        return self._search.go_on()

    def _taken(self) -> tuple[MachineAtPoint, PointFacts, RigCard]:
        if self._machine is None or self._facts is None or self._card is None:
            raise NotEnoughError("No point was taken up yet.", remedy="Choose one.")
        return self._machine, self._facts, self._card

    def _day(self, name: str) -> DayOfLoad:
        return self._days.setdefault(name, standard_day(name))


def _facts(
    models: Models,
    machine: MachineAtPoint,
    limits: Limits,
    setting: Setting,
    response: HeatResponse,
    shares: Mapping[str, SensorShare],
) -> PointFacts:
    card = models.card
    found = {group: curve for group, curve in card.stock.fan_curve.items() if machine.knows(curve)}
    left_out = [(group, curve) for group, curve in card.stock.fan_curve.items() if not machine.knows(curve)]
    core = next((name for name in card.curve_sources if name.startswith(OF_CORE)), OF_CORE[0])
    others = [name for name in card.curve_sources if name in shares]
    moved = drawn_groups(card, machine)
    return PointFacts(
        setting=setting,
        groups=tuple(_group_facts(models, machine, index, moved) for index in range(len(machine.groups))),
        sources=((core, response.residual_sd_k), *((name, shares[name].residual_sd_k) for name in others)),
        room_c=models.room_c,
        design_c=limits.design_room_c,
        headroom_k=limits.min_headroom_k,
        ceiling_c=machine.ceiling_c,
        limit_c=card.limits.core_temperature_c,
        cap_c=machine.cap_c,
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
        high=control.high if control is not None else 100.0,
        step=control.step if control is not None else 1.0,
        moved=group in moved,
        start=float(machine.fans.start[index]),
        stall=max(stood, default=math.nan),
        fixed=machine.setting.fan_duty.get(group, 0.0),
        rpm=rpm,
        level_dba=level,
        in_room_dba=10.0 * np.log10(energy_of(level) + energy_of(np.array(machine.background_dba))),
    )


def _trace(lived: Rehearsal, day: DayOfLoad) -> DayTrace:
    pieces = day.seconds // BIN_S

    def cut(values: Array) -> Array:
        return values[: pieces * BIN_S].reshape(pieces, BIN_S, *values.shape[1:])

    core, level = cut(lived.core_c), cut(lived.level_dba)
    return DayTrace(
        hour=np.arange(pieces) * BIN_S / 3600.0,
        core_low_c=core.min(axis=1),
        core_high_c=core.max(axis=1),
        level_low_dba=level.min(axis=1),
        level_high_dba=level.max(axis=1),
        activity=cut(day.activity).mean(axis=1),
        heavy=cut(day.load.astype(float)).mean(axis=1),
        duty=cut(lived.duty).mean(axis=1),
    )


def first_curve(facts: PointFacts, group: GroupFacts) -> FanCurve:
    """Return a curve to begin with: at the point's duty where the headroom just holds, from the least at which the group turns,
    and up to full speed."""
    top_c = float(math.floor(facts.ceiling_c - facts.headroom_k))
    duty = float(math.ceil(max(group.fixed, group.floor)))
    points = [(top_c - FIRST_WIDTH_K, group.floor), (top_c, duty), (top_c + FULL_OVER_K, FULL_PERCENT)]
    source, _ = facts.sources[0]
    return FanCurve(source, tuple(points), floor_percent=group.floor)
