"""The burst: how fast short work is from rest, while the firmware lets more power through and after."""

import math

import numpy as np

from niente.core.analysis.evidence import RunSummary
from niente.core.answers.framing import framed, known_figures
from niente.core.answers.material import AnswerMaterial, load_card, pooled
from niente.core.answers.wording import amount, load_title
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
from niente.core.model.quantities import duration_text
from niente.core.model.rig_card import LoadKind
from niente.core.model.setting import Setting
from niente.core.science.arrays import Vector
from niente.core.science.statistics import Z95, mean_with_error
from niente.core.selection.setting_words import values_text

FIRST_S, MINUTE_S = 15.0, 60.0
SETTLES_S = 10.0
"""Seconds after a window that are counted to neither side."""
BURST_CONTROLS = ("burst_power_w", "burst_time_s", "sustained_power_w")
EVEN = 0.02
"""Work and power that fall by less than this share hold their pace."""
BEGUN = 0.9


class _Burst:
    """One setting from rest under one load: work in the first seconds, in the first minute, and after the window."""

    def __init__(self, of: AnswerMaterial, setting: Setting, load: str, runs: list[RunSummary]) -> None:
        self.of, self.setting, self.load, self.runs = of, setting, load, runs
        pieces = [self._pieces(run) for run in runs]
        self.first = pooled([first for first, _, _, _ in pieces])
        self.minute = pooled([minute for _, minute, _, _ in pieces])
        self.after = pooled([after for _, _, after, _ in pieces])
        lasts = [last for _, _, _, last in pieces if math.isfinite(last)]
        self.lasts_s = sum(lasts) / len(lasts) if lasts else math.nan

    def _pieces(self, run: RunSummary) -> tuple[Value, Value, Value, float]:
        time_s, work = self.of.samples(run, "throughput_per_s")
        _, power = self.of.samples(run, "package_power_w")
        begins = _begins(work)
        since = time_s[begins:] - time_s[begins] if begins < time_s.size else time_s[:0]
        work, power = work[begins:], power[begins:]
        if since.size < 3:
            return Value(), Value(), Value(), math.nan
        if not self.outlasts:  # it ends by itself, and what is read after its end is none of it
            busy = work > 0.5 * np.max(work, initial=0.0, where=np.isfinite(work))
            return _mean(work[(since < FIRST_S) & busy]), Value(), Value(), math.nan
        lasts = _window_s(since, power)
        end = lasts if math.isfinite(lasts) else (self.setting.burst_time_s or MINUTE_S)
        return (
            _mean(work[since < FIRST_S]),
            _mean(work[since < MINUTE_S]) if since[-1] >= MINUTE_S else Value(),
            _mean(work[since >= end + SETTLES_S]) if since[-1] >= end + 3.0 * SETTLES_S else Value(),
            lasts,
        )

    @property
    def outlasts(self) -> bool:
        """Whether the load goes on for longer than a burst."""
        return load_card(self.of.card, self.load).kind != LoadKind.BURST

    @property
    def words(self) -> str:
        """The setting, by what a burst depends on."""
        values = [(name, value) for name in BURST_CONTROLS if (value := self.setting.value(name)) is not None]
        return ", ".join(values_text(values))

    @property
    def gain(self) -> Value:
        """How much more work the first seconds do than what is left after the window, in per cent."""
        if self.first.value is None or not self.after.value:
            return Value()
        ratio = self.first.value / self.after.value
        widths = (self.first.half_width or 0.0) / self.first.value, (self.after.half_width or 0.0) / self.after.value
        return value_of(100.0 * (ratio - 1.0), 100.0 * ratio * math.hypot(*widths))


def _mean(work: Vector) -> Value:
    mean, error = mean_with_error(work)
    return value_of(mean, Z95 * error)


def _begins(work: Vector) -> int:
    """Return the first sample in which a load does most of what it does in its first seconds: readings come a little late."""
    known = np.where(np.isfinite(work), work, 0.0)
    if not known.size or known[: int(FIRST_S)].max() <= 0.0:
        return int(known.size)
    return int(np.argmax(known >= BEGUN * known[: int(FIRST_S)].max()))


def _window_s(since: Vector, power: Vector) -> float:
    """Return for how long more power was let through than at the end; NaN where none was, or to the end."""
    from scipy.ndimage import median_filter

    known = np.isfinite(power)
    if np.count_nonzero(known) < 3 * SETTLES_S:
        return math.nan
    smooth, at = median_filter(power[known], 5, mode="nearest"), since[known]
    high, low = float(np.median(smooth[at < SETTLES_S])), float(np.median(smooth[at > at[-1] - 3.0 * SETTLES_S]))
    if high < (1.0 + EVEN) * low:
        return math.nan
    return float(at[np.flatnonzero(smooth > 0.5 * (high + low))[-1]])


def burst_answer(of: AnswerMaterial) -> AnswerDocument:
    """Return what a burst is worth at each of its settings."""
    bursts = _bursts(of)
    long = [one for one in bursts if one.outlasts]
    top = max(long or bursts, key=lambda one: one.gain.value if one.gain.value is not None else -math.inf, default=None)
    return framed(
        of,
        ["each from rest"],
        _sentence(top),
        amount(top.gain, 0, "%") if top is not None and top.gain.known else "not measured yet",
        consequence=_consequence(bursts, top),
        figures=[figure for one in bursts for figure in _figures(one)],
        table=_table(of, bursts),
        picture=_picture(of, bursts),
        remarks=_remarks(bursts),
        cautions=("A burst is hot for seconds: keep the maker's temperature limit and the guard on it in force.",),
    )


def _bursts(of: AnswerMaterial) -> list[_Burst]:
    found: dict[tuple[object, ...], tuple[Setting, str, list[RunSummary]]] = {}
    for row in of.stage("burst"):
        if row.run is not None:
            found.setdefault((row.step.load, row.run.setting.key()), (row.run.setting, row.step.load, []))[2].append(row.run)
    return [_Burst(of, setting, load, runs) for setting, load, runs in found.values()]


def _sentence(top: "_Burst | None") -> str:
    if top is None:
        return "No burst has been run yet"
    if not top.after.known:
        return "No run outlasted the firmware's window: what a burst is worth is not known yet"
    if top.gain.value is not None and top.gain.value < 100.0 * EVEN:
        return "Short work is no faster than long work: nothing is let through"
    lasts = f" for {duration_text(top.lasts_s)}" if math.isfinite(top.lasts_s) else ""
    return f"The first {FIRST_S:g} s are {amount(top.gain, 0, '%')} faster{lasts}"


def _consequence(bursts: list[_Burst], top: "_Burst | None") -> str:
    if top is None or not top.after.known:
        return ""
    words = [f"With {top.words}."]
    others = [one for one in bursts if one is not top and one.gain.known and one.load == top.load]
    words += [f"With {one.words}: {amount(one.gain, 0, '%')}." for one in others[:2]]
    return " ".join(words)


def _figures(one: _Burst) -> list[AnswerFigure]:
    ids = tuple(run.run_id for run in one.runs)
    told = (
        ("first_15_s", "work in the first 15 s", "1/s", 2, one.first),
        ("first_60_s", "work in the first 60 s", "1/s", 2, one.minute),
        ("after", "work after the window", "1/s", 2, one.after),
        ("gain_percent", "the first 15 s over what is left", "%", 1, one.gain),
        ("window_s", "how long it lasts", "s", 0, value_of(one.lasts_s)),
    )
    return known_figures(f"{one.load}.{one.words}", one.words, told, ids)


def _table(of: AnswerMaterial, bursts: list[_Burst]) -> Table | None:
    rows = tuple(
        TableRow(
            one.words,
            (one.first, one.minute, one.after, one.gain, value_of(one.lasts_s), value_of(_peak(one))),
            load_title(load_card(of.card, one.load)),
            tuple(run.run_id for run in one.runs),
        )
        for one in bursts
    )
    columns = (
        Column("first_15_s", "First 15 s", "1/s", 2),
        Column("first_60_s", "First 60 s", "1/s", 2),
        Column("after", "After", "1/s", 2),
        Column("gain_percent", "Gain", "%", 1),
        Column("window_s", "Lasts", "s", 0),
        Column("peak_c", "Peak", "°C", 1),
    )
    return Table("From rest", columns, rows) if rows else None


def _peak(one: _Burst) -> float:
    return max((run.highest.get("core_temperature_c", math.nan) for run in one.runs), default=math.nan)


def _picture(of: AnswerMaterial, bursts: list[_Burst]) -> Curves | None:
    """Return the power of the longest run of each setting over the time since its load started."""
    curves: list[AnswerCurve] = []
    for one in bursts:
        run = max(one.runs, key=lambda own: own.seconds)
        time_s, power = of.samples(run, "package_power_w")
        if not time_s.size:
            continue
        since = time_s - time_s[0] + 1.0
        at = np.unique(np.clip(np.searchsorted(since, np.geomspace(1.0, max(since[-1], 2.0), 60)), 0, since.size - 1))
        points = tuple(CurvePoint(float(since[i]), value_of(float(power[i]))) for i in at if np.isfinite(power[i]))
        curves.append(AnswerCurve(one.words, points, leads=not curves))
    x, y = Column("time_s", "Since the load started", "s", 0), Column("power_w", "Package power", "W", 0)
    return Curves(x, y, tuple(curves), by_ratio=True) if curves else None


def _remarks(bursts: list[_Burst]) -> tuple[Remark, ...]:
    long = [one for one in bursts if one.outlasts]
    short = [one for one in long if not one.after.known]
    if short:
        return (Remark("Too short", f"{len(short)} of {len(long)} settings were not run past their window."),)
    hot = [one for one in bursts if any(run.heat_limited for run in one.runs)]
    if hot:
        words = f"With {len(hot)} of the settings heat ends the burst before its time does."
        return (Remark("Heat ends it", words),)
    return ()
