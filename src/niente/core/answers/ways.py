"""Ways to hold a machine back, side by side: at equal throughput how loud each is, at equal noise how fast."""

from collections.abc import Sequence

import numpy as np

from niente.core.answers.framing import framed
from niente.core.answers.material import AnswerMaterial
from niente.core.answers.wording import amount, bare
from niente.core.model.answer_document import (
    AnswerCurve,
    AnswerDocument,
    AnswerFigure,
    Column,
    CurvePoint,
    Curves,
    Remark,
    Ruled,
    Table,
    TableRow,
    Value,
    value_of,
)
from niente.core.model.plan import Search
from niente.core.selection.methods import MethodStep, TuningMethod
from niente.core.selection.proof_words import CORRUPTS
from niente.core.selection.setting_words import differing, values_text

SAME_DB = 0.05
DEEPER = frozenset({TuningMethod.OFFSET, TuningMethod.BOTH})


def ways_answer(of: AnswerMaterial) -> AnswerDocument:
    """Return which way of holding back costs least, at equal throughput and at equal noise."""
    steps = of.findings.method_steps
    wanted = of.limits.min_throughput_percent
    ways = {way: tuple(one for one in steps if one.way == way) for way in TuningMethod}
    ways = {way: own for way, own in ways.items() if own}
    loud = {way: _at_least(own, wanted) for way, own in ways.items()}
    known = {way: value for way, value in loud.items() if value.value is not None}
    best = min(known, key=lambda way: known[way].value or 0.0) if known else None
    level = known[best].value if best is not None else None
    fast = {way: _within(own, level) if level is not None else Value() for way, own in ways.items()}
    return framed(
        of,
        [
            f"fans as low as {bare(of.limits.min_headroom_k, 0, 'K')} of headroom let them be",
            f"{bare(of.limits.design_room_c, 0, '°C')} design room",
        ],
        _sentence(of, best, loud, wanted),
        f"{best}, {bare(level, 1, 'dBA')}" if best is not None else "no way compared yet",
        consequence=_consequence(of, best, loud, fast, level),
        figures=_figures(loud, fast),
        table=_table(of, ways, loud, fast, wanted, level),
        picture=_picture(ways, wanted),
        remarks=_remarks(of, best, ways),
        cautions=(CORRUPTS,) if any(way in DEEPER for way in ways) else (),
    )


def _at_least(steps: Sequence[MethodStep], percent: float) -> Value:
    """Return the least noise of a way at so much throughput or more: straight between two of its rungs, or at one of them."""
    order = sorted(steps, key=lambda one: one.throughput_percent)
    works = [one.throughput_percent for one in order]
    levels, widths = [one.in_room_dba for one in order], [one.in_room_hw for one in order]
    found = [(level, width) for work, level, width in zip(works, levels, widths, strict=True) if work >= percent]
    if works[0] <= percent <= works[-1]:
        found.append((float(np.interp(percent, works, levels)), float(np.interp(percent, works, widths))))
    return value_of(*min(found), forecast=True) if found else Value()


def _within(steps: Sequence[MethodStep], level_dba: float) -> Value:
    """Return the most throughput of a way at so much noise or less, likewise."""
    order = sorted(steps, key=lambda one: one.in_room_dba)
    levels, works = [one.in_room_dba for one in order], [one.throughput_percent for one in order]
    found = [work for level, work in zip(levels, works, strict=True) if level <= level_dba + SAME_DB]
    if levels[0] <= level_dba <= levels[-1]:
        found.append(float(np.interp(level_dba, levels, works)))
    return value_of(max(found), forecast=True) if found else Value()


def _sentence(of: AnswerMaterial, best: TuningMethod | None, loud: dict[TuningMethod, Value], wanted: float) -> str:
    if best is None:
        if of.findings.method_steps:
            return f"No way was run on both sides of {bare(wanted, 0, '%')} of throughput yet"
        if of.stage(*TuningMethod):
            return "The ways have been run, and cannot be compared"
        return "No way of holding it back has been run yet"
    return f"{str(best).capitalize()} costs least: {amount(loud[best], 1, 'dBA')} at {bare(wanted, 0, '%')} of throughput"


def _consequence(
    of: AnswerMaterial,
    best: TuningMethod | None,
    loud: dict[TuningMethod, Value],
    fast: dict[TuningMethod, Value],
    level: float | None,
) -> str:
    if best is None or level is None:
        return of.findings.problem
    words = []
    for way, value in loud.items():
        if way != best and value.value is not None:
            words.append(f"{str(way).capitalize()} is {bare(value.value - level, 1, 'dB')} louder.")
    short = [way for way, value in loud.items() if value.value is None]
    if short:
        words.append(f"{', '.join(str(way) for way in short).capitalize()}: not run that far.")
    return " ".join(words[:3])


def _figures(loud: dict[TuningMethod, Value], fast: dict[TuningMethod, Value]) -> list[AnswerFigure]:
    found = []
    for way, value in loud.items():
        if value.known:
            found.append(AnswerFigure(f"{way}.noise_dba", f"{way}: noise at equal throughput", "dBA", 1, value))
    for way, value in fast.items():
        if value.known:
            found.append(AnswerFigure(f"{way}.throughput_percent", f"{way}: throughput at equal noise", "%", 1, value))
    return found


def _table(
    of: AnswerMaterial,
    ways: dict[TuningMethod, tuple[MethodStep, ...]],
    loud: dict[TuningMethod, Value],
    fast: dict[TuningMethod, Value],
    wanted: float,
    level: float | None,
) -> Table | None:
    rows = []
    for way, own in ways.items():
        rows.append(
            TableRow(str(way).capitalize(), (loud[way], fast[way], Value(), Value(), Value(), Value()), f"{len(own)} rungs")
        )
        for one in own:
            rows.append(
                TableRow(
                    ", ".join(values_text(differing(one.setting, of.card.stock), brief=True)),
                    (
                        Value(),
                        Value(),
                        value_of(one.throughput_percent),
                        value_of(one.in_room_dba, one.in_room_hw, forecast=not one.as_measured),
                        value_of(one.core_c, forecast=not one.as_measured),
                        value_of(one.headroom_k, forecast=not one.as_measured),
                    ),
                    "fans as measured" if one.as_measured else "",
                )
            )
    columns = (
        Column("equal_throughput_dba", f"At {wanted:g} %", "dBA", 1),
        Column("equal_noise_percent", f"At {level:.1f} dBA" if level is not None else "At equal noise", "%", 1),
        Column("throughput_percent", "Throughput", "%", 1),
        Column("noise_dba", "Noise", "dBA", 1),
        Column("core_c", "Core", "°C", 1),
        Column("headroom_k", "Headroom", "K", 1),
    )
    return Table("Way by way", columns, tuple(rows)) if rows else None


def _picture(ways: dict[TuningMethod, tuple[MethodStep, ...]], wanted: float) -> Curves | None:
    curves = tuple(
        AnswerCurve(
            str(way),
            tuple(
                CurvePoint(one.throughput_percent, value_of(one.in_room_dba, one.in_room_hw, forecast=not one.as_measured))
                for one in sorted(own, key=lambda one: one.throughput_percent)
            ),
        )
        for way, own in ways.items()
    )
    if not curves:
        return None
    x, y = Column("throughput_percent", "Throughput of stock", "%", 0), Column("noise_dba", "Noise in the room", "dBA", 0)
    return Curves(x, y, curves, (Ruled("wanted", x=wanted),))


def _remarks(
    of: AnswerMaterial, best: TuningMethod | None, ways: dict[TuningMethod, tuple[MethodStep, ...]]
) -> tuple[Remark, ...]:
    if best in DEEPER:
        return (
            Remark(
                "The margin in it",
                "Rungs with an offset stand at what their search handed out, its margin in it. Prove it before you keep it.",
            ),
        )
    if not any(way in DEEPER for way in ways):
        searched = any(isinstance(entry, Search) and not entry.skip for entry in of.plan.entries)
        found = "The search found no offset that is sure enough in its time." if searched else "No offset has been looked for."
        return (Remark("What is missing", f"{found} An offset together with a limit often costs least."),)
    return ()
