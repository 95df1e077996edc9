"""The hand-over card of a pick: its setting in the order of entry, what it comes to, the check of ten minutes, and the way
back."""

import math
from pathlib import Path

import msgspec
import numpy as np

from niente.core.analysis.evidence import RunSummary
from niente.core.analysis.models import Models
from niente.core.answers.against_stock import BY, ENTRY, against_stock, entry_order, loads_against_stock
from niente.core.answers.answering import RunSamples
from niente.core.answers.wording import bare, load_title
from niente.core.model.answer_document import AnswerFigure, Remark, value_of
from niente.core.model.errors import NotEnoughError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.hand_over_card import HAND_OVER_FORMAT, CurveRow, EntryStep, FanRow, HandOverCard, ShortCheck
from niente.core.model.kept_point import KeptPoint
from niente.core.model.names import kind_of, part_of
from niente.core.model.quantities import duration_text, quantity_of
from niente.core.model.rig_card import Control, RigCard
from niente.core.model.setting import FAN_DUTY, Setting
from niente.core.science.arrays import Vector
from niente.core.selection.answer import Answer
from niente.core.selection.explanation import candidate_text, confirmation_text, pick_reason
from niente.core.selection.opening import limit_words
from niente.core.selection.pick import Candidate, Choice
from niente.core.selection.points import chosen
from niente.core.selection.proof_words import CORRUPTS, headline

RISE = "core_rise_k"
FOR_THE_RISE = ("core_temperature_c", "package_temperature_c", "room_temperature_c")
CHECK_S, WINDOW_S = 600.0, 60.0
"""When the check of ten minutes reads, and over how long before."""
MAY_DIFFER = {
    RISE: (2.5, 0.0),
    "package_power_w": (0.5, 0.02),
    "effective_clock_mhz": (10.0, 0.007),
    "throughput_per_s": (0.0, 0.025),
    "fan_speed_rpm": (10.0, 0.03),
    "noise_dba": (2.5, 0.0),
}
"""By how much a reading of the check may differ, as an amount and as a share: the room, which is most of what is heard of a
quiet machine, and what was before move it. A judgement, no source."""
CAUTIONS = (
    "Keep within the limits of the makers of processor, board and fans; local rules and licensed people come first.",
    "Before the case is opened: mains off, unplugged, and hot parts left to cool.",
    CORRUPTS,
    "A passed run is evidence, not a guarantee. Keep a backup, and write the firmware's version beside this card: an update "
    "may change what an entry means.",
)

WITHOUT_SENSOR = (
    "See that the fans go to full speed where the curve's sensor is lost, and that board, drives and cards keep some air."
)


def hand_over_card(book: Path, findings: Answer, made_at: str, niente: str, point: KeptPoint | None = None) -> HandOverCard:
    """Return the card of the pick of a book, or of a kept point, made at a moment (UTC, ISO 8601) by a version of Niente.
    Raises ``NotEnoughError`` where there is no pick, or the point belongs to another variant of the machine."""
    models, evidence = findings.models, findings.evidence
    choice = findings.choice if point is None or models is None else _of_point(models, point)
    if choice is None or models is None or evidence is None:
        raise NotEnoughError(f"There is no pick to hand over. {findings.problem}", remedy="Run the plan to its end first.")
    pick, card, room_c = choice.pick, evidence.card, choice.limits.design_room_c
    loads = loads_against_stock(models, pick.setting, room_c)
    return HandOverCard(
        format=HAND_OVER_FORMAT,
        rig=card.name,
        machine=card.title,
        summary=card.summary,
        variant=card.variant,
        point="" if point is None else point.name,
        made_at=made_at,
        niente=niente,
        sentence=candidate_text(pick),
        standing=choice.standing.value,
        standing_words=confirmation_text(choice),
        steps=tuple(_entries(card, pick.setting)),
        fans=tuple(_fan_rows(models, pick.setting)),
        figures=tuple(_figures(pick)),
        loads=against_stock(card, loads),
        check=_short_check(RunSamples(book, evidence), models, pick.setting),
        evidence=tuple(_evidence(findings, choice, point)),
        back=tuple(_back(card, pick.setting)),
        cautions=(*CAUTIONS, *((WITHOUT_SENSOR,) if pick.setting.fan_curve else ())),
        curves=tuple(CurveRow(group, curve, curve.text) for group, curve in sorted(pick.setting.fan_curve.items())),
    )


def entered_words(card: RigCard, setting: Setting) -> list[str]:
    """Return what has to be entered on a machine to come to a whole setting, in words and in order; of fans on a curve the
    curve, and no duty."""
    return [
        *(step.words for step in _entries(card, setting)),
        *(f"Fan curve, {group}: {curve.text}" for group, curve in sorted(setting.fan_curve.items())),
    ]


def entry_step(control: Control, value: float, stock: float | None) -> EntryStep:
    """Return how a control is entered, in neutral words: ``Voltage offset −10 mV in the firmware (stock 0 mV)``."""
    quantity = quantity_of(control.name)
    sign = "+" if quantity.unit == "mV" and value > 0 else ""
    was = f" (stock {quantity.with_unit(stock)})" if stock is not None else ""
    words = f"{control.title} {sign}{quantity.with_unit(value)} {BY[control.set_by]}{was}"
    return EntryStep(control.name, control.title, control.set_by, value, quantity.unit, words, stock, control.file)


def _entries(card: RigCard, setting: Setting) -> list[EntryStep]:
    """Return what is entered, in order; fans that stock has on a curve are taken off it."""
    found = []
    for control, value, stock in entry_order(card.controls, setting, card.stock):
        step = entry_step(control, value, stock)
        if _stock_curve(card, control) is not None:
            words = f"{entry_step(control, value, None).words} (stock: on its curve)"
            step = msgspec.structs.replace(step, words=words)
        found.append(step)
    return found


def _stock_curve(card: RigCard, control: Control) -> FanCurve | None:
    return card.stock.fan_curve.get(part_of(control.name)) if kind_of(control.name) == FAN_DUTY else None


def _back(card: RigCard, setting: Setting) -> list[EntryStep]:
    """Return the way back: what is set while it runs first, and what needs the machine open last."""
    follow = {f"{FAN_DUTY}.{group}" for group in setting.fan_curve}
    entered = {control.name for control, _, _ in entry_order(card.controls, setting, card.stock)} | follow
    found = []
    for control in card.controls:
        stock, curve = card.stock.value(control.name), _stock_curve(card, control)
        if control.name not in entered or (stock is None and curve is None):
            continue
        step = entry_step(control, stock or 0.0, None)
        if curve is not None:
            step = msgspec.structs.replace(step, words=f"{control.title}: its curve again, {curve.text}")
        found.append(step)
    return sorted(found, key=lambda one: -ENTRY.index(one.set_by))


def _fan_rows(models: Models, setting: Setting) -> list[FanRow]:
    found = []
    for group, duty in setting.fan_duty.items():
        if group not in models.speeds or group in setting.fan_curve:
            continue
        rpm, error = models.speeds[group].at(np.array([duty]))
        speed = value_of(float(rpm[0]), 2.0 * float(error[0]), forecast=True)
        found.append(FanRow(group, duty, AnswerFigure(f"fan_speed_rpm.{group}", f"{group} fans", "rpm", 0, speed)))
    return found


def _figures(pick: Candidate) -> list[AnswerFigure]:
    return [
        AnswerFigure("noise_dba", "Noise in the room", "dBA", 1, value_of(pick.in_room_dba, pick.in_room_hw)),
        AnswerFigure(
            "throughput_percent", "Throughput of stock", "%", 1, value_of(pick.throughput_percent, pick.throughput_hw)
        ),
        AnswerFigure("headroom_k", "Headroom in the design room", "K", 1, value_of(pick.headroom_k, pick.core_hw)),
        AnswerFigure("core_c", "Core in the design room", "°C", 1, value_of(pick.core_c, pick.core_hw)),
        AnswerFigure("power_w", "Package power", "W", 1, value_of(pick.power_w, pick.power_hw)),
    ]


def _short_check(samples: RunSamples, models: Models, setting: Setting) -> ShortCheck | None:
    """Return the check by the latest run of the heaviest load at the setting that lasted long enough; ``None`` without one."""
    made = [
        run
        for run in models.usable()
        if run.setting == setting and run.load == models.heavy_load and not run.failures and run.seconds >= CHECK_S
    ]
    load = models.card.load(models.heavy_load)
    if not made or load is None:
        return None
    figures = check_figures(samples, models.card, made[-1])
    minutes = CHECK_S / 60.0
    words = (
        f"Run {load_title(load).lower()} for {minutes:.0f} minutes from a machine that was idle, at this setting, and read the "
        "means of the last minute; the core is told where it settles, and reads a few kelvins less ten minutes after a cold "
        "start. What lies outside of its interval has moved since; niente-cli card-check tells."
    )
    return ShortCheck(load.name, load_title(load), minutes, tuple(figures), words)


def check_figures(samples: RunSamples, card: RigCard, run: RunSummary) -> list[AnswerFigure]:
    """Return what a run read in its tenth minute under load, each with what it may differ by."""
    found = []
    for name, value in tenth_minute(samples, card, run).items():
        least, share = MAY_DIFFER[kind_of(name)]
        quantity, part = quantity_of(name), part_of(name)
        title = "Core over the room, settled" if name == RISE else quantity.title + (f", {part}" if part else "")
        told = value_of(value, least + share * abs(value))
        found.append(AnswerFigure(name, title, quantity.unit, quantity.digits, told, (run.run_id,)))
    return found


def tenth_minute(samples: RunSamples, card: RigCard, run: RunSummary) -> dict[str, float]:
    """Return the means of a run's tenth minute, of every channel that the check reads; the core over the room is where it
    settles, as far as that is known: what ten minutes read goes by how warm the machine was before."""
    names = [channel.name for channel in card.channels]
    read = {name: _mean(samples, run, name) for name in names if kind_of(name) in {*MAY_DIFFER, *FOR_THE_RISE}}
    cores = [value for name, value in read.items() if kind_of(name) == "core_temperature_c" and math.isfinite(value)]
    core = max(cores) if cores else read.get("package_temperature_c", math.nan)
    found = {RISE: run.rise_k if run.settled.known else core - read.get("room_temperature_c", math.nan)}
    found |= {name: value for name, value in read.items() if kind_of(name) in MAY_DIFFER}
    return {name: value for name, value in found.items() if math.isfinite(value)}


def _mean(samples: RunSamples, run: RunSummary, channel: str) -> float:
    time_s, values = samples.samples(run, channel)
    last: Vector = values[(time_s - time_s[0] > CHECK_S - WINDOW_S) & (time_s - time_s[0] <= CHECK_S)]
    known = last[np.isfinite(last)]
    return float(np.mean(known)) if known.shape[0] else math.nan


def _of_point(models: Models, point: KeptPoint) -> Choice:
    if point.variant and point.variant != models.card.variant:
        raise NotEnoughError(
            f"The point {point.name} was kept with {point.variant}; the machine is now with {models.card.variant}.",
            safe="The point is kept.",
            remedy="Put the machine back into that state, or keep a point of its present one.",
        )
    return chosen(models, point)


def _why(choice: Choice, point: KeptPoint | None) -> str:
    """Say why this setting: the reason of the pick, or that it was kept by hand, and whether it keeps its limits."""
    if point is None:
        return pick_reason(choice)
    kept = f"Kept as {point.name}{f' on {point.kept_at[:10]}' if point.kept_at else ''}."
    broken = [limit_words(limit, choice.limits) for limit in choice.pick.breaks]
    return (
        f"{kept} It does not surely keep {' and '.join(broken)}." if broken else f"{kept} It keeps every limit it was kept for."
    )


def _evidence(findings: Answer, choice: Choice, point: KeptPoint | None) -> list[Remark]:
    evidence = findings.evidence
    assert evidence is not None
    runs = evidence.usable()
    failed = sum(run.failures > 0 for run in evidence.runs)
    rooms = [run.room_c for run in runs if np.isfinite(run.room_c)]
    hours = duration_text(sum(run.seconds for run in evidence.runs))
    words = f"{len(evidence.runs)} runs in {hours}, {failed} with a failure"
    if rooms:
        words += f", in rooms of {bare(min(rooms), 1, '°C')} to {bare(max(rooms), 1, '°C')}"
    found = [Remark("What was run", f"{words}."), Remark("Why this setting", _why(choice, point))]
    if findings.proof is not None and point is None:
        found.append(Remark("How surely it lasts", headline(findings.proof)))
    return found
