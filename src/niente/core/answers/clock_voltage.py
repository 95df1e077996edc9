"""Clock and voltage: the least voltage that a clock runs at, its watts and kelvin, and what a fixed clock loses."""

import math
from collections.abc import Sequence

from niente.core.analysis.evidence import RunSummary
from niente.core.answers.framing import framed, known_figures
from niente.core.answers.material import (
    AnswerMaterial,
    against,
    by_load,
    clock_of,
    hottest_settled,
    load_card,
    noise_of_run,
    pooled_over,
    power_in,
    share_of,
    wall_in,
    work_of,
)
from niente.core.answers.wording import amount, bare, load_title, signed
from niente.core.model.answer_document import (
    AnswerCurve,
    AnswerDocument,
    AnswerFigure,
    Column,
    CurvePoint,
    Curves,
    Remark,
    Table,
    TableRow,
    Value,
    value_of,
)
from niente.core.model.plan import Search
from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import LoadKind
from niente.core.planning.progress import RunStatus
from niente.core.selection.proof_words import CORRUPTS

CLOCKS = ("fixed_clock_mhz", "clock_cap_mhz")


class _Rung:
    """One clock: what its search found, and what was measured there under each load."""

    def __init__(self, of: AnswerMaterial, search: Search) -> None:
        self.of, self.search = of, search
        self.control = next(name for name in CLOCKS if search.setting.value(name))
        self.clock_mhz = float(search.setting.value(self.control) or 0.0)
        taken = of.taken(search.name)
        settings = [row.step.setting for row in taken]
        self.depth = settings[0].value(search.controls[0]) if settings else None
        self.runs: dict[str, list[RunSummary]] = {}
        for row in taken:
            if row.run is not None and row.status == RunStatus.DONE:
                self.runs.setdefault(row.run.load, []).append(row.run)
        entries = [index for index, entry in enumerate(of.plan.entries) if entry is search]
        self.tries = [row.run for row in of.rows if row.entry in entries and row.run is not None]

    def of_load(self, load: str) -> list[RunSummary]:
        """Return the runs under a load at what was found."""
        return self.runs.get(load, [])

    @property
    def depth_text(self) -> str:
        """What the search found, in words."""
        return quantity_of(self.search.controls[0]).with_unit(self.depth) if self.depth is not None else "not known yet"

    @property
    def failures(self) -> int:
        """How often the search failed."""
        return sum(run.failures > 0 for run in self.tries)


def clock_answer(of: AnswerMaterial) -> AnswerDocument:
    """Return the least voltage of each clock, and what it is worth."""
    rungs = [
        _Rung(of, entry)
        for entry in of.plan.entries
        if isinstance(entry, Search) and any(entry.setting.value(name) for name in CLOCKS)
    ]
    stock = {load: runs for load, runs in by_load(of.stage("baseline")).items() if runs[0].load_kind != LoadKind.IDLE}
    heavy = next((load for load in stock if any(rung.of_load(load) for rung in rungs)), next(iter(stock), ""))
    known = [rung for rung in rungs if rung.depth is not None]
    return framed(
        of,
        ["each clock at the least voltage that its search found"],
        _sentence(known, rungs, heavy, stock),
        f"{len(known)} of {len(rungs)} clocks",
        consequence=_consequence(of, known, heavy, stock),
        figures=[figure for rung in known for figure in _figures(of, rung, stock)],
        table=_table(of, rungs, stock),
        picture=_picture(known, heavy),
        remarks=_remarks(known),
        cautions=(
            CORRUPTS,
            "A fixed voltage is in force under every load: stay under the maker's limit, and watch the first minutes.",
        ),
    )


def _against(rung: _Rung, load: str, stock: dict[str, list[RunSummary]]) -> dict[str, Value]:
    """Return what a rung comes to under a load, against stock."""
    here, there = rung.of_load(load), stock.get(load, [])
    work = share_of(pooled_over(work_of, here), pooled_over(work_of, there))
    if not work.known:
        work = share_of(pooled_over(clock_of, here), pooled_over(clock_of, there))
    return {
        "throughput_percent": work,
        "power_w": pooled_over(power_in, here),
        "saved_w": against(power_in, here, there),
        "wall_w": against(wall_in, here, there),
        "core_c": pooled_over(hottest_settled, here),
        "noise_dba": pooled_over(noise_of_run, here),
    }


def _single_core(of: AnswerMaterial, rung: _Rung, stock: dict[str, list[RunSummary]]) -> Value:
    """Return what work on one core comes to, in per cent of stock: as measured, or by the clock that it has at stock."""
    light = next((load.name for load in of.card.loads if load.kind == LoadKind.LIGHT), None)
    if light is None or not stock.get(light):
        return Value()
    here = rung.of_load(light)
    if here:
        return share_of(pooled_over(work_of, here), pooled_over(work_of, stock[light]))
    top = pooled_over(clock_of, stock[light])
    if not top.value:
        return Value()
    return value_of(100.0 * min(rung.clock_mhz / top.value, 1.0), forecast=True)


def _sentence(known: list[_Rung], rungs: list[_Rung], heavy: str, stock: dict[str, list[RunSummary]]) -> str:
    if not rungs:
        return "The question names no clock"
    if not known:
        return "No search has found a voltage yet"
    top = known[-1]
    return f"{bare(top.clock_mhz, 0, 'MHz')} runs at {top.depth_text}"


def _consequence(of: AnswerMaterial, known: list[_Rung], heavy: str, stock: dict[str, list[RunSummary]]) -> str:
    words = []
    for rung in reversed(known):
        told = _against(rung, heavy, stock)
        if told["saved_w"].known and told["throughput_percent"].known:
            at = f"At {bare(rung.clock_mhz, 0, 'MHz')} {load_title(load_card(of.card, heavy)).lower()} keeps"
            words.append(f"{at} {amount(told['throughput_percent'], 1, '%')} at {signed(told['saved_w'], 0, 'W')}.")
        one = _single_core(of, rung, stock)
        if rung is known[-1] and one.value is not None:
            words.append(f"Work on one core comes to {amount(one, 0, '%')} of stock.")
    return " ".join(words[:3])


def _figures(of: AnswerMaterial, rung: _Rung, stock: dict[str, list[RunSummary]]) -> list[AnswerFigure]:
    name = f"{rung.clock_mhz:g}"
    tries = tuple(run.run_id for run in rung.tries)
    control = quantity_of(rung.search.controls[0])
    value = Value(rung.depth)
    found = [
        AnswerFigure(
            f"{name}.{control.name}", f"{name} MHz: {control.title.lower()}", control.unit, control.digits, value, tries
        )
    ]
    for load in stock:
        ids = tuple(run.run_id for run in (*rung.of_load(load), *stock[load]))
        if not rung.of_load(load):
            continue
        told = _against(rung, load, stock)
        words = f"{name} MHz, {load_title(load_card(of.card, load)).lower()}"
        figures = (
            ("throughput_percent", "throughput of stock", "%", 1, told["throughput_percent"]),
            ("power_w", "package", "W", 1, told["power_w"]),
            ("saved_w", "package against stock", "W", 1, told["saved_w"]),
            ("wall_w", "wall against stock", "W", 0, told["wall_w"]),
            ("core_c", "hottest core", "°C", 1, told["core_c"]),
        )
        found += known_figures(f"{name}.{load}", words, figures, ids)
    one = _single_core(of, rung, stock)
    if one.known:
        found.append(AnswerFigure(f"{name}.single_core_percent", f"{name} MHz: work on one core", "%", 1, one))
    return found


def _table(of: AnswerMaterial, rungs: Sequence[_Rung], stock: dict[str, list[RunSummary]]) -> Table | None:
    rows = []
    for rung in rungs:
        for load in [load for load in stock if rung.of_load(load)] or list(stock)[:1]:
            told = _against(rung, load, stock)
            rows.append(
                TableRow(
                    bare(rung.clock_mhz, 0, "MHz"),
                    (
                        Value(words=rung.depth_text),
                        value_of(float(rung.failures)),
                        *(told[name] for name in ("throughput_percent", "power_w", "saved_w", "wall_w", "core_c", "noise_dba")),
                        _single_core(of, rung, stock),
                    ),
                    load_title(load_card(of.card, load)),
                    tuple(run.run_id for run in rung.of_load(load)),
                    open=rung.depth is None,
                )
            )
    columns = (
        Column("found", "Least voltage"),
        Column("failures", "Failed", "", 0),
        Column("throughput_percent", "Throughput", "%", 1),
        Column("power_w", "Package", "W", 1),
        Column("saved_w", "Against stock", "W", 1),
        Column("wall_w", "Wall", "W", 0),
        Column("core_c", "Hottest", "°C", 1),
        Column("noise_dba", "Noise", "dBA", 1),
        Column("single_core_percent", "One core", "%", 0),
    )
    return Table("Clock by clock", columns, tuple(rows)) if rows else None


def _picture(known: Sequence[_Rung], heavy: str) -> Curves | None:
    """Return the least voltage over the clock; where voltages were read, those, and the offset's depth elsewhere."""
    if not known:
        return None
    read = [(rung, [run.voltage_v for run in rung.of_load(heavy) if math.isfinite(run.voltage_v)]) for rung in known]
    curves = []
    if all(volts for _, volts in read):
        points = tuple(CurvePoint(rung.clock_mhz, value_of(sum(volts) / len(volts)), rung.depth_text) for rung, volts in read)
        curves.append(AnswerCurve("core voltage", points, leads=True))
        y = Column("core_voltage_v", "Core voltage", "V", 3)
    else:
        quantity = quantity_of(known[0].search.controls[0])
        points = tuple(
            CurvePoint(rung.clock_mhz, value_of(rung.depth if rung.depth is not None else math.nan)) for rung in known
        )
        curves.append(AnswerCurve(quantity.title.lower(), points, leads=True))
        y = Column(quantity.name, quantity.title, quantity.unit, quantity.digits)
    return Curves(Column("clock_mhz", "Clock", "MHz", 0), y, tuple(curves))


def _remarks(known: Sequence[_Rung]) -> tuple[Remark, ...]:
    if any(rung.control == "fixed_clock_mhz" for rung in known):
        words = "A clock that is fixed for all cores is one core's too: work on one core loses what it would have boosted to."
        return (Remark("What a fixed clock loses", words),)
    return ()
