"""The cap sweep: what each temperature cap costs in throughput, and what it saves in watts, kelvin and noise."""

from collections.abc import Sequence

import numpy as np

from niente.core.analysis.evidence import RunSummary
from niente.core.answers.framing import framed, known_figures
from niente.core.answers.material import (
    AnswerMaterial,
    against,
    by_load,
    clock_of,
    hottest_settled,
    load_card,
    minus,
    noise_of_run,
    pooled_over,
    power_in,
    share_of,
    wall_in,
    work_of,
)
from niente.core.answers.wording import amount, bare, known_differences, listed, load_title
from niente.core.model.answer_document import (
    AnswerCurve,
    AnswerDocument,
    AnswerFigure,
    Column,
    CurvePoint,
    Curves,
    MakesSurer,
    Ruled,
    Table,
    TableRow,
    Value,
    value_of,
)
from niente.core.model.plan import Step
from niente.core.model.quantities import duration_text

CAP = "temperature_cap_c"
NOTHING_LOST = 1.0
"""A cap costs nothing where it takes less than this, in per cent of the throughput as found."""


def cap_answer(of: AnswerMaterial) -> AnswerDocument:
    """Return what each temperature cap costs in throughput and saves in watts, kelvin and noise."""
    stock = by_load(of.stage("baseline"))
    capped = by_load(of.stage("cap sweep"))
    loads = [load for load in capped if load in stock]
    rungs = {load: _rungs(capped[load], stock[load]) for load in loads}
    first = loads[0] if loads else ""
    knee = _knee(rungs[first]) if first else None
    return framed(
        of,
        ["the firmware chooses the clock"],
        _cap_sentence(of, rungs, first, knee),
        f"knee at {bare(knee, 0, '°C')}" if knee is not None else "no cap yet",
        consequence=_cap_consequence(of, rungs, first, knee),
        figures=[figure for load in loads for figure in _cap_figures(of, load, rungs[load], knee if load == first else None)],
        table=_cap_table(of, rungs),
        picture=_cap_picture(of, rungs, knee),
        surer=_between_caps(of, first, rungs.get(first, []), knee),
        cautions=("A cap is held by the firmware: keep it under the maker's limit, and what it protects in place.",),
    )


class _CapRung:
    """One cap under one load, against the cap as found."""

    def __init__(self, cap_c: float, runs: Sequence[RunSummary], stock: Sequence[RunSummary]) -> None:
        self.cap_c, self.runs = cap_c, runs
        self.work = share_of(pooled_over(work_of, runs), pooled_over(work_of, stock))
        if not self.work.known:  # what is not read is judged by the clock
            self.work = share_of(pooled_over(clock_of, runs), pooled_over(clock_of, stock))
        self.clock = pooled_over(clock_of, runs)
        self.saved_w = against(power_in, runs, stock)
        self.wall_w = against(wall_in, runs, stock)
        self.core = pooled_over(hottest_settled, runs)
        self.cooler_k = minus(self.core, pooled_over(hottest_settled, stock))
        self.quieter_db = against(noise_of_run, runs, stock)
        self.holds = any(run.heat_limited for run in runs)


def _rungs(capped: Sequence[RunSummary], stock: Sequence[RunSummary]) -> list[_CapRung]:
    found: dict[float, list[RunSummary]] = {}
    for run in capped:
        if run.setting.temperature_cap_c is not None:
            found.setdefault(run.setting.temperature_cap_c, []).append(run)
    return [_CapRung(cap, found[cap], stock) for cap in sorted(found)]


def _knee(rungs: Sequence[_CapRung]) -> float | None:
    """Return the cap below which each degree costs most more: the point farthest over the chord of throughput against cap
    (Satopää and others 2011, "Finding a kneedle in a haystack"; from memory). Caps that hold nothing back cost nothing."""
    known = [(rung.cap_c, rung.work.value) for rung in rungs if rung.work.value is not None]
    if len(known) < 3:
        return known[-1][0] if known else None
    caps, works = np.array([cap for cap, _ in known]), np.array([work for _, work in known], float)
    free = np.flatnonzero(works >= 100.0 - NOTHING_LOST)
    last = int(free[0]) if free.size else len(known) - 1
    if last == 0:
        return float(caps[0])
    chord = works[0] + (works[last] - works[0]) * (caps[: last + 1] - caps[0]) / (caps[last] - caps[0])
    over = works[: last + 1] - chord
    return float(caps[last] if np.max(over) < NOTHING_LOST else caps[int(np.argmax(over))])


def _cap_sentence(of: AnswerMaterial, rungs: dict[str, list[_CapRung]], first: str, knee: float | None) -> str:
    if not first:
        return "A cap and the cap as found have not both been run under one load yet"
    rung = next(one for one in rungs[first] if one.cap_c == knee) if knee is not None else rungs[first][-1]
    lost = Value() if rung.work.value is None else value_of(100.0 - rung.work.value, rung.work.half_width)
    if lost.value is not None and lost.value < NOTHING_LOST:
        return f"A cap of {bare(rung.cap_c, 0, '°C')} costs nothing"
    return f"A cap of {bare(rung.cap_c, 0, '°C')} costs {amount(lost, 1, '%')}"


def _cap_consequence(of: AnswerMaterial, rungs: dict[str, list[_CapRung]], first: str, knee: float | None) -> str:
    if not first or knee is None:
        return ""
    words = []
    rung = next(one for one in rungs[first] if one.cap_c == knee)
    wins = known_differences([(rung.saved_w, 0, "W"), (rung.cooler_k, 1, "K")])
    if rung.quieter_db.value is not None and abs(rung.quieter_db.value) >= 0.2:
        wins += known_differences([(rung.quieter_db, 1, "dB")])
    if wins:
        words.append(f"There {load_title(load_card(of.card, first)).lower()} stands at {listed(wins)} against stock.")
    lowest = rungs[first][0]
    if lowest.cap_c < knee and lowest.work.value is not None:
        words.append(f"{bare(lowest.cap_c, 0, '°C')} would cost {bare(100.0 - lowest.work.value, 0, '%')}.")
    for load in rungs:
        if load != first and (own := _knee(rungs[load])) is not None:
            words.append(f"Under {load_title(load_card(of.card, load)).lower()} the knee lies at {bare(own, 0, '°C')}.")
    return " ".join(words[:3])


def _cap_figures(of: AnswerMaterial, load: str, rungs: Sequence[_CapRung], knee: float | None) -> list[AnswerFigure]:
    title = load_title(load_card(of.card, load))
    found = []
    for rung in rungs:
        ids = tuple(run.run_id for run in rung.runs)
        at = f"{title}, {rung.cap_c:g} °C"
        told = (
            ("throughput_percent", "throughput of stock", "%", 1, rung.work),
            ("saved_w", "package against stock", "W", 1, rung.saved_w),
            ("wall_w", "wall against stock", "W", 0, rung.wall_w),
            ("cooler_k", "hottest core against stock", "K", 1, rung.cooler_k),
            ("quieter_db", "noise against stock", "dB", 1, rung.quieter_db),
        )
        found += known_figures(f"{load}.{rung.cap_c:g}", at, told, ids)
    if knee is not None:
        found.append(AnswerFigure("knee_c", "The knee", "°C", 0, Value(knee)))
    return found


def _cap_table(of: AnswerMaterial, rungs: dict[str, list[_CapRung]]) -> Table | None:
    rows = [
        TableRow(
            f"{bare(rung.cap_c, 0, '°C')}",
            (rung.work, rung.clock, rung.core, rung.saved_w, rung.wall_w, rung.cooler_k, rung.quieter_db),
            load_title(load_card(of.card, load)),
            tuple(run.run_id for run in rung.runs),
        )
        for load, own in rungs.items()
        for rung in reversed(own)
    ]
    columns = (
        Column("throughput_percent", "Throughput", "%", 1),
        Column("clock_mhz", "Clock", "MHz", 0),
        Column("core_c", "Hottest", "°C", 1),
        Column("saved_w", "Package", "W", 1),
        Column("wall_w", "Wall", "W", 0),
        Column("cooler_k", "Core", "K", 1),
        Column("quieter_db", "Noise", "dB", 1),
    )
    return Table("Against the cap as found", columns, tuple(rows)) if rows else None


def _cap_picture(of: AnswerMaterial, rungs: dict[str, list[_CapRung]], knee: float | None) -> Curves | None:
    curves = tuple(
        AnswerCurve(
            load_title(load_card(of.card, load)),
            tuple(CurvePoint(rung.cap_c, rung.work, "" if rung.holds else "holds nothing back") for rung in own),
            leads=index == 0,
        )
        for index, (load, own) in enumerate(rungs.items())
        if own
    )
    ruled = (Ruled("knee", x=knee),) if knee is not None else ()
    x, y = Column("cap_c", "Temperature cap", "°C", 0), Column("throughput_percent", "Throughput of stock", "%", 0)
    return Curves(x, y, curves, ruled) if curves else None


def _between_caps(of: AnswerMaterial, load: str, rungs: Sequence[_CapRung], knee: float | None) -> MakesSurer | None:
    """Return a cap between the knee and the one under it."""
    control = of.card.control(CAP)
    if knee is None or control is None or len(rungs) < 2:
        return None
    under = max((rung.cap_c for rung in rungs if rung.cap_c < knee), default=None)
    if under is None or knee - under <= control.step:
        return None
    cap = round((knee + under) / 2.0 / control.step) * control.step
    last = rungs[-1].runs[-1]
    row = next(row for row in of.rows if row.step.load == load and row.step.stage == "cap sweep")
    step = Step(last.setting.replaced(CAP, cap), load, row.step.exposure, "cap sweep", "Between the knee and the cap under it")
    return MakesSurer(f"A cap of {bare(cap, 0, '°C')}, {duration_text(last.seconds)}.", last.seconds / 3600.0, (step,))
