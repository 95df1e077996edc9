"""The real-time load: how many voices or streams still fit at each setting, and what a test of seconds would have said."""

import math
from collections.abc import Sequence

from niente.core.analysis.evidence import RunSummary
from niente.core.answers.framing import framed, known_figures
from niente.core.answers.material import (
    AnswerMaterial,
    against,
    clock_of,
    hottest_settled,
    load_card,
    main_limiter,
    names_limit,
    noise_of_run,
    pooled_over,
    power_in,
    share_of,
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
    Remark,
    Table,
    TableRow,
    Value,
    value_of,
)
from niente.core.model.names import kind_of, part_of
from niente.core.model.plan import Exposure, Search, Step
from niente.core.model.quantities import duration_text, quantity_of
from niente.core.planning.progress import RunStatus
from niente.core.selection.setting_words import differing, values_text

SIZE, FREE = "load_size", "all it gets"
FIRST_S = 15.0
"""What a test of seconds sees."""
FREE_SETTLES_S = 5.0
"""Readings of the first seconds come late and are left out."""
EVEN = 1.03
"""First seconds that do no more than this, as a ratio, overstate nothing."""
CLEARLY_LESS = 0.93
"""A size that drops out below this share of what the clock does was not too much for the clock."""
ASIDE = frozenset({SIZE, "fan_duty", "fan_supply_v"})
"""A setting is as found whatever the size, and however the fans were fixed for measuring."""
HOUR = Exposure(min_s=3600.0, max_s=3600.0)


class _Point:
    """One setting under one load: the sizes that were tried there, and what the load does where it takes all that it gets."""

    def __init__(self, of: AnswerMaterial, index: int, search: Search, varied: Sequence[str]) -> None:
        self.of, self.search, self.load = of, search, search.loads[0]
        rows = [row for row in of.rows if row.entry == index and row.run is not None]
        self.passed = [row.run for row in rows if row.status == RunStatus.DONE and row.run is not None]
        self.failed = [row.run for row in rows if row.status == RunStatus.FAILED and row.run is not None]
        self.over = not any(row.entry == index and not row.status.closed for row in of.rows)
        base = search.setting.over(of.card.stock)
        free = [
            (row.status, row.run)
            for row in of.rows
            if row.run is not None
            and row.step.stage == FREE
            and row.run.load == self.load
            and row.step.setting.over(of.card.stock) == base
        ]
        self.free = [run for status, run in free if status == RunStatus.DONE]
        self.broke = [run for status, run in free if status == RunStatus.FAILED]
        """Runs that failed although nothing was asked of the load but what it gets."""
        differs = [(name, value) for name, value in differing(base, of.card.stock) if kind_of(name) not in ASIDE]
        values = [(name, value) for name in varied if (value := base.value(name)) is not None] or differs
        self.values = dict(values)
        self.as_found = not differs and all(value == of.card.stock.value(name) for name, value in values)
        self.words = quantity_of(values[0][0]).with_unit(values[0][1]) if len(values) == 1 else ", ".join(values_text(values))

    @property
    def name(self) -> str:
        """Its public name: the values that are varied."""
        return "-".join(f"{value:g}" for value in self.values.values()) or "stock"

    @property
    def at(self) -> str:
        """Where it is, in a sentence: ``at 70 °C``."""
        return f"at {self.words}" if self.words else "as found"

    @property
    def counts(self) -> str:
        """What is counted: voices, streams."""
        return load_card(self.of.card, self.load).counts or part_of(self.search.controls[0])

    @property
    def drops_out(self) -> float | None:
        """The smallest size that dropped out."""
        return min((run.size for run in self.failed), default=None)

    @property
    def fits(self) -> Value:
        """The largest size that ran without a drop-out under the smallest that did, in its interval: what one clean run shows
        is known no finer than a step."""
        clean = [run.size for run in self.passed if self.drops_out is None or run.size < self.drops_out]
        if not clean:
            return Value()
        most, step = max(clean), self.search.fine
        return Value(most, most - step, max(self.drops_out, most + step) if self.drops_out is not None else None)

    @property
    def none_fits(self) -> bool:
        """Whether even the smallest size dropped out, or none was tried since the load failed without any."""
        return self.over and not self.fits.known and (self.drops_out is not None or bool(self.broke))

    @property
    def after_s(self) -> float:
        """After how long the smallest size that dropped out did so; NaN without one."""
        return min((run.seconds for run in self.failed if run.size == self.drops_out), default=math.nan)

    @property
    def first(self) -> Value:
        """What the load does in its first seconds, where the machine came from rest and does more then than later."""
        settled = pooled_over(work_of, self.free)
        found = [mean for run in self.free if math.isfinite(mean := self._first_of(run))]
        if not found or settled.value is None or max(found) < EVEN * settled.value:
            return Value()
        return value_of(max(found))

    def _first_of(self, run: RunSummary) -> float:
        time_s, work = self.of.samples(run, "throughput_per_s")
        since = time_s - time_s[0] if time_s.size else time_s
        early = work[(since >= FREE_SETTLES_S) & (since < FIRST_S)]
        return float(early.mean()) if early.size else math.nan

    @property
    def runs(self) -> list[RunSummary]:
        """The runs that tell of heat and power: where the load took all that it got, or else the largest size that fits."""
        return self.free or [run for run in self.passed if run.size == self.fits.value]

    @property
    def ids(self) -> tuple[int, ...]:
        """All runs behind it."""
        return tuple(run.run_id for run in (*self.free, *self.broke, *self.passed, *self.failed))

    @property
    def by_voltage(self) -> bool:
        """Whether a size dropped out that the clock would have done, or the load failed without one: it was the voltage."""
        if self.broke:
            return True
        does = pooled_over(work_of, self.free).value
        return does is not None and self.drops_out is not None and self.drops_out < CLEARLY_LESS * does


def real_time_answer(of: AnswerMaterial) -> AnswerDocument:
    """Return how many voices or streams fit at each setting of the question."""
    points = _points(of)
    lead = next((one for one in points if one.as_found and one.fits.known), None)
    lead = lead or max((one for one in points if one.fits.known), key=lambda one: one.fits.value or 0.0, default=None)
    minutes = duration_text(min((one.search.exposure.min_s for one in points), default=0.0))
    return framed(
        of,
        [f"a size fits that ran for {minutes} without a drop-out"] if points else [],
        _sentence(of, points, lead),
        f"{bare(lead.fits.value, 0, lead.counts)}" if lead is not None else "none found yet",
        consequence=_consequence(points, lead),
        figures=[figure for one in points for figure in _figures(one, lead)],
        table=_table(of, points, lead),
        picture=_picture(points),
        remarks=_remarks(of, points),
        surer=_surer(lead),
        cautions=(
            "A drop-out in use is heard or seen by others: keep some size in hand, and first run the whole chain for hours.",
        ),
    )


def _points(of: AnswerMaterial) -> list[_Point]:
    searches = [
        (index, entry)
        for index, entry in enumerate(of.plan.entries)
        if isinstance(entry, Search) and kind_of(entry.controls[0]) == SIZE
    ]
    wholes = [dict(entry.setting.over(of.card.stock).controls()) for _, entry in searches]
    names = dict.fromkeys(name for whole in wholes for name in whole)
    varied = [name for name in names if kind_of(name) != SIZE and len({whole.get(name) for whole in wholes}) > 1]
    return [_Point(of, index, entry, varied) for index, entry in searches]


def _sentence(of: AnswerMaterial, points: Sequence[_Point], lead: _Point | None) -> str:
    if not points:
        return "The question asks for no size of a load"
    if lead is None:
        none = next((one for one in points if one.none_fits), None)
        if none is not None and none.drops_out is None:
            return f"Nothing fits {none.at}: it failed with what it got by itself"
        if none is not None:
            return f"Not even {bare(none.drops_out, 0, none.counts)} fit"
        return "No size has come through its time yet"
    words = amount(lead.fits, 0, lead.counts)
    at_least = "" if lead.fits.high is not None else "At least "
    as_found = ", as found" if lead.as_found and lead.words else ""
    return f"{at_least}{words} fit {lead.at}{as_found}"


def _consequence(points: Sequence[_Point], lead: _Point | None) -> str:
    if lead is None:
        return ""
    words = []
    others = [one for one in points if one is not lead and one.load == lead.load]
    for one in others[:-3:-1]:
        if one.none_fits:
            fewest = f"not even {bare(one.drops_out, 0, one.counts)} fit" if one.drops_out is not None else "nothing fits"
            words.append(f"{_capital(one.at)} {fewest}.")
        elif one.fits.known:
            words.append(f"{_capital(one.at)}: {amount(one.fits, 0, one.counts)}{_gains(one, lead)}.")
    return " ".join(words)


def _gains(one: _Point, lead: _Point) -> str:
    """Return what another setting costs and wins, in words that follow its size."""
    lost = share_of(one.fits, lead.fits)
    told = [(against(power_in, one.runs, lead.runs), 0, "W"), (against(hottest_settled, one.runs, lead.runs), 0, "K")]
    wins = known_differences(told)
    return f", {bare(lost.value, 0, '%')} of that" + (f", with {listed(wins)}" if wins else "")


def _capital(words: str) -> str:
    return words[:1].upper() + words[1:]


def _figures(one: _Point, lead: _Point | None) -> list[AnswerFigure]:
    share = share_of(one.fits, lead.fits) if lead is not None and one is not lead else Value()
    told = (
        ("fits", "size that fits", one.counts, 0, one.fits),
        ("drops_out", "smallest size that dropped out", one.counts, 0, Value(one.drops_out)),
        ("after_s", "drops out after", "s", 0, value_of(one.after_s)),
        ("all_it_gets", "what it comes to at most", one.counts, 1, pooled_over(work_of, one.free)),
        ("first_15_s", f"what it does in its first {FIRST_S:g} s", one.counts, 1, one.first),
        ("share_percent", "size against the leading one", "%", 1, share),
        ("clock_mhz", "clock", "MHz", 0, pooled_over(clock_of, one.runs)),
        ("power_w", "package", "W", 1, pooled_over(power_in, one.runs)),
        ("core_c", "hottest core", "°C", 1, pooled_over(hottest_settled, one.runs)),
        ("noise_dba", "noise in the room", "dBA", 1, pooled_over(noise_of_run, one.runs)),
    )
    return known_figures(f"{one.load}.{one.name}", one.words or "as found", told, one.ids)


def _table(of: AnswerMaterial, points: Sequence[_Point], lead: _Point | None) -> Table | None:
    rows = tuple(
        TableRow(
            ", ".join(words for words in (one.words, "as found" if one.as_found else "") if words) or one.search.name,
            (
                Value(words="none") if one.none_fits else one.fits,
                Value(one.drops_out),
                value_of(one.after_s),
                one.first,
                pooled_over(clock_of, one.runs),
                pooled_over(power_in, one.runs),
                pooled_over(hottest_settled, one.runs),
                pooled_over(noise_of_run, one.runs),
            ),
            _limits(of, one),
            one.ids,
            leads=one is lead,
            open=not one.over,
        )
        for one in points
    )
    if not any(one.ids for one in points):
        return None
    counts = points[0].counts
    columns = (
        Column("fits", "Fits", counts, 0),
        Column("drops_out", "Drops out", counts, 0),
        Column("after_s", "After", "s", 0),
        Column("first_15_s", f"First {FIRST_S:g} s", counts, 0, brief=True),
        Column("clock_mhz", "Clock", "MHz", 0, brief=True),
        Column("power_w", "Package", "W", 1, brief=True),
        Column("core_c", "Hottest", "°C", 1, brief=True),
        Column("noise_dba", "Noise", "dBA", 1, brief=True),
    )
    return (
        Table(f"Setting by setting, under {load_title(load_card(of.card, points[0].load)).lower()}", columns, rows)
        if rows
        else None
    )


def _limits(of: AnswerMaterial, one: _Point) -> str:
    """Return what limits the clock there; what the searches of several loads are of."""
    limiter = next((words for run in one.runs if names_limit(words := main_limiter(run))), "")
    return "the voltage" if one.by_voltage else limiter


def _picture(points: Sequence[_Point]) -> Curves | None:
    """Return the size over what is varied: what fits, the first drop-outs as crosses, and what the first seconds did."""
    axis = _axis(points)
    shown = [(one.values[axis] if axis else float(number), one) for number, one in enumerate(points, 1) if one.ids]
    if not shown:
        return None
    shown.sort(key=lambda pair: pair[0])
    curves = [
        AnswerCurve("fits", tuple(CurvePoint(x, one.fits) for x, one in shown if one.fits.known), leads=True),
        AnswerCurve(
            "drops out",
            tuple(
                CurvePoint(x, Value(one.drops_out), _after(one), failed=True) for x, one in shown if one.drops_out is not None
            ),
            joined=False,
        ),
        AnswerCurve(
            f"first {FIRST_S:g} s", tuple(CurvePoint(x, one.first) for x, one in shown if one.first.known), joined=False
        ),
    ]
    quantity = quantity_of(axis) if axis else None
    x = (
        Column(axis, quantity.title, quantity.unit, quantity.digits)
        if quantity is not None
        else Column("setting", "Setting", "", 0)
    )
    counts = points[0].counts
    return Curves(x, Column("size", counts[:1].upper() + counts[1:], "", 0), tuple(curve for curve in curves if curve.points))


def _after(one: _Point) -> str:
    return f"after {duration_text(one.after_s)}" if math.isfinite(one.after_s) else ""


def _axis(points: Sequence[_Point]) -> str:
    """Return the one control that is varied; empty where there is none, or several."""
    names = list(points[0].values) if points else []
    return names[0] if len(names) == 1 else ""


def _remarks(of: AnswerMaterial, points: Sequence[_Point]) -> tuple[Remark, ...]:
    found = []
    first = next((one for one in points if one.first.known and one.fits.known), None)
    if first is not None:
        more = 100.0 * ((first.first.value or 0.0) / (first.fits.value or math.nan) - 1.0)
        does = f"{_capital(first.at)} its first {FIRST_S:g} s did {bare(first.first.value, 0, first.counts)}"
        found.append(Remark("In seconds", f"{does}: a test of seconds overstates by {bare(more, 0, '%')}."))
    voltage = [one.at for one in points if one.by_voltage]
    if voltage:
        words = f"{_capital(listed(voltage))} it failed at no more than what the clock does: that is the voltage's doing."
        found.append(Remark("Not the clock", words))
    warming = [one for one in points if any(run.size == one.fits.value and _comes_to_cap(of, run) for run in one.passed)]
    if warming:
        words = (
            f"{_capital(listed([one.at for one in warming]))} the size that fits was still on its way to the temperature cap."
        )
        found.append(Remark("Not warm yet", f"{words} A longer run may drop out."))
    high = [one for one in points if one.over and one.drops_out is None and one.fits.known]
    if high:
        words = f"{_capital(listed([one.at for one in high]))} nothing dropped out, up to the largest size that was asked for."
        found.append(Remark("More may fit", words))
    return tuple(found)


def _comes_to_cap(of: AnswerMaterial, run: RunSummary) -> bool:
    """Return whether a run ended below the temperature cap and settles at it."""
    ceiling = of.card.temperature_ceiling_c(run.setting)
    return not run.heat_limited and run.settled.known and run.settled.value_c > ceiling


def _surer(lead: _Point | None) -> MakesSurer | None:
    """Return an hour at the size that fits."""
    if lead is None or lead.fits.value is None:
        return None
    setting = lead.search.setting.replaced(lead.search.controls[0], lead.fits.value)
    step = Step(setting, lead.load, HOUR, lead.search.stage, "An hour at the size that fits")
    size = bare(lead.fits.value, 0, lead.counts)
    return MakesSurer(f"An hour with {size} {lead.at}.", 1.0, (step,))
