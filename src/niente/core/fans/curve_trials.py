"""Curves tried on a book's machine at a point: days under fixed duties, under the curves as found, and under new ones."""

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

import msgspec

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.models import Models, fit_models
from niente.core.analysis.sensor_shares import SensorShare, sensor_shares
from niente.core.analysis.warming import told_runs
from niente.core.fans.day import DayOfLoad, standard_day
from niente.core.fans.drawing import CurveSearch, quietest_curves
from niente.core.fans.hunting import CurveLoop, loop_of
from niente.core.fans.machine import OF_CORE, MachineAtPoint, machine_at
from niente.core.fans.rehearsal import rehearse
from niente.core.fans.told import FULL_PERCENT, DayFigures, WorstCase
from niente.core.model.errors import NotEnoughError, PlanError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.limits import Limits
from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.science.heat.response import HeatResponse, fit_response
from niente.core.selection.pick import choose
from niente.core.storage.reader import BookReader

FIXED, FOUND, OWN = "fixed duties", "curves as found", "the point's curves"
GIVEN, DRAWN = "curves as given", "curves as drawn"
CAUTION = (
    "A curve must go to full speed where its sensor is lost, and leave the board's supply and the drives some air; a rehearsal "
    "knows what was read, and no more. The makers' limits come first: watch the first hours of a new curve."
)


class CurveTrial(msgspec.Struct, frozen=True):
    """One set of curves by group (none: fixed duties), what each day came to, the first of them with something gone wrong, and
    the groups' loops at full work."""

    name: str
    curves: dict[str, FanCurve]
    days: tuple[DayFigures, ...]
    worst: tuple[WorstCase, ...] = ()
    loops: tuple[CurveLoop, ...] = ()


class CurveTrials(msgspec.Struct, frozen=True):
    """What was tried on a point: the rehearsed days by name, the room in °C, the point's setting, the trials, and in words what
    the rehearsal does not know."""

    days: tuple[str, ...]
    room_c: float
    setting: Setting
    trials: tuple[CurveTrial, ...]
    doubts: tuple[str, ...]


def try_curves(
    book: Path,
    evidence: Evidence,
    limits: Limits,
    setting: Setting | None,
    days: Sequence[str],
    room_c: float | None = None,
    given: Mapping[str, FanCurve] | None = None,
    dead: str = "",
    *,
    draw: bool = False,
    progress: Callable[[str], None] = lambda text: None,
) -> CurveTrials:
    """Rehearse days of a book's machine at a setting (none: the pick) with its fans fixed, on the curves as found, on curves
    that are given, and on those that are drawn for it.

    Raises ``PlanError`` for a curve that the machine cannot follow or a group that it has not, ``NotEnoughError`` where its
    runs do not tell how it warms, sounds or turns.
    """
    models = fit_models(evidence)
    progress("Working out how fast the machine warms …")
    response, shares = responses(book, models)
    at = setting if setting is not None else choose(models, limits).pick.setting
    room = room_c if room_c is not None else models.room_c
    machine = machine_at(models, response, at, room, shares)
    _insist_on(machine, given or {}, dead)
    found, own = models.card.stock.fan_curve, at.fan_curve
    wanted = {
        FIXED: {},
        FOUND: _known(machine, found),
        OWN: _known(machine, own) if own != found else {},
        GIVEN: dict(given or {}),
    }
    if draw:
        search = CurveSearch(
            machine, drawn_groups(models.card, machine), [standard_day(day) for day in days], (room, limits.design_room_c),
            limits.min_headroom_k, usual_source(models.card),
        )  # fmt: skip
        wanted[DRAWN] = quietest_curves(search, progress)
    trials = [
        CurveTrial(
            name,
            curves,
            tuple(rehearse(machine, curves, standard_day(day), room, dead=dead).figures for day in days),
            tuple(
                worst_case(models.card, machine, one, standard_day(days[0]))
                for one in mishaps(machine, curves, (room, limits.design_room_c))
            ),
            tuple(loop_of(machine, curves, group, 1.0, room) for group in curves),
        )
        for name, curves in wanted.items()
        if curves or name == FIXED
    ]
    left_out = [(group, curve) for group, curve in {**found, **own}.items() if not machine.knows(curve)]
    words = (*_under_start(machine, given or {}), *doubts(machine, response, shares, left_out))
    return CurveTrials(tuple(days), room, at, tuple(trials), words)


def _known(machine: MachineAtPoint, curves: Mapping[str, FanCurve]) -> dict[str, FanCurve]:
    """Return the curves that a rehearsal knows the sources of."""
    return {group: curve for group, curve in curves.items() if machine.knows(curve)}


class Mishap(msgspec.Struct, frozen=True):
    """Something that goes wrong on a day: what, in words; the curves and the room in °C then; and the group that stands."""

    name: str
    curves: dict[str, FanCurve]
    room_c: float
    dead: str = ""


def mishaps(machine: MachineAtPoint, curves: Mapping[str, FanCurve], rooms_c: tuple[float, float]) -> list[Mishap]:
    """Return what may go wrong: the hot room, each group's fans dead, and the curves' sensor lost (fans at full speed)."""
    room_c, design_c = rooms_c
    full = {group: FanCurve(curve.source, ((0.0, 100.0),)) for group, curve in curves.items()}
    found = [Mishap(f"room of {design_c:g} °C", dict(curves), design_c)]
    found += [Mishap(f"{group} fans dead", dict(curves), room_c, group) for group in machine.groups]
    return found + ([Mishap("sensor lost", full, room_c)] if curves else [])


def worst_case(card: RigCard, machine: MachineAtPoint, mishap: Mishap, day: DayOfLoad) -> WorstCase:
    """Return what a day comes to with something gone wrong."""
    came = rehearse(machine, mishap.curves, day, mishap.room_c, dead=mishap.dead).figures
    highest_c = card.limits.core_temperature_c
    warning = ""
    if came.hottest_c >= highest_c:
        warning = f"With {mishap.name} the core comes to {came.hottest_c:.0f} °C: the maker's limit is {highest_c:g} °C."
    return WorstCase(mishap.name, came.hottest_c, came.throttled_s, came.loudest_dba, warning)


def responses(book: Path, models: Models) -> tuple[HeatResponse, dict[str, SensorShare]]:
    """Return how fast the machine of a book warms, and what its sensors beside the core see of it. Raises ``NotEnoughError``
    where no run tells."""
    reader = BookReader(book)
    try:
        told = told_runs(reader, models)
    finally:
        reader.close()
    response = fit_response(models.heat, [run.warming for run in told])
    if response is None:
        raise NotEnoughError(
            "No run with fixed fans tells how fast this machine warms.",
            remedy="A quiet point, or any run of ten minutes with fixed duties, does.",
        )
    return response, sensor_shares(models, response, told)


def _insist_on(machine: MachineAtPoint, given: Mapping[str, FanCurve], dead: str) -> None:
    """Raise ``PlanError`` for curves that cannot be rehearsed."""
    if dead and dead not in machine.groups:
        raise PlanError(
            f"This machine has no fan group {dead!r}.", safe="Nothing was run.", remedy=f"It has {', '.join(machine.groups)}."
        )
    for group, curve in given.items():
        insist_on_curve(machine, group, curve)


def insist_on_curve(machine: MachineAtPoint, group: str, curve: FanCurve) -> None:
    """Raise ``PlanError`` for a curve that cannot be rehearsed."""
    problems = curve.problems()
    if group not in machine.groups:
        problems = [f"this machine has no such group; it has {', '.join(machine.groups)}"]
    elif not machine.knows(curve):
        known = ", ".join((OF_CORE[0], *machine.sources))
        problems = [f"no run of this machine tells what {', '.join(curve.sources)} reads; it knows {known}"]
    if problems:
        raise PlanError(
            f"The curve of the {group} fans cannot be followed: {'; '.join(problems)}.",
            safe="Nothing was run.",
            remedy="Give points in rising order, as in case=40:25,65:50,85:100.",
        )


def drawn_groups(card: RigCard, machine: MachineAtPoint) -> list[str]:
    """Return the groups whose curves are drawn: those with a control, but for a pump, which never stands."""
    controls = {group: card.control(f"fan_duty.{group}") for group in machine.groups}
    return [group for group, control in controls.items() if control is not None and control.low <= 0.0]


def usual_source(card: RigCard) -> str:
    """Return what curves follow on a machine: its own source for them where that is the core's."""
    return next((source for source in card.curve_sources if source.startswith(OF_CORE)), OF_CORE[0])


def _under_start(machine: MachineAtPoint, curves: Mapping[str, FanCurve]) -> list[str]:
    """Return in words which curves have duties at which their fans were not seen to turn."""
    least = {group: float(machine.fans.start[machine.groups.index(group)]) for group in curves}
    return [
        f"The {group} fans were seen to turn from {least[group]:g} %: at the {duty:g} % of their curve they may stand."
        for group, curve in curves.items()
        if 0.0 < (duty := max(curve.points[0][1], curve.floor_percent)) < least[group] <= FULL_PERCENT
    ]


def doubts(
    machine: MachineAtPoint,
    response: HeatResponse,
    shares: Mapping[str, SensorShare],
    left_out: Sequence[tuple[str, FanCurve]],
) -> tuple[str, ...]:
    """Return in words what a rehearsal does not know."""
    parts = [
        "silicon and spreader",
        "the body behind it",
        "what all fans blow through",
        *(f"{one} fans" for one in machine.groups),
    ]
    unknown = [part for part, taught in zip(parts, response.taught, strict=True) if not taught]
    words = [f"How fast it warms was told by {response.runs} runs, to {response.residual_sd_k:.1f} K."]
    if unknown:
        words.append(f"No run tells the heat capacity of {', '.join(unknown)}: half an hour from cold would.")
    words.append("Speeds under the least duty that was run are not known: there a group is taken to stand.")
    words += [
        f"{quantity_of(name).title}: what its sensor reads is known to {share.residual_sd_k:.1f} K."
        for name, share in shares.items()
    ]
    words += [
        f"The {group} fans' own curve follows the {curve.source_words}, which a rehearsal does not know: it is left out."
        for group, curve in left_out
    ]
    words.append(CAUTION)
    return tuple(words)
