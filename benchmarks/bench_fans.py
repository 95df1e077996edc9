"""Days under fan curves: a rehearsal against the machine itself, and curves that are drawn against the limit, against fixed
fans, against a curve drawn by feel, and against the best five-point curve that a search on the machine itself finds.

The machine lives the day; what it drew is then the day that is rehearsed, as a recorded one would be.
"""

import math
import time
from collections.abc import Callable
from pathlib import Path
from statistics import median
from typing import TypeVar

import msgspec
import numpy as np

from benchmarks.result import Result
from benchmarks.size import draws
from benchmarks.study import measured
from benchmarks.true_pick import Sample
from niente.core.analysis.evidence import evidence_in
from niente.core.analysis.models import fit_models
from niente.core.fans.curve_trials import drawn_groups, responses, usual_source
from niente.core.fans.day import STANDARD_DAYS, DayOfLoad, standard_day
from niente.core.fans.drawing import CurveSearch, quietest_curves
from niente.core.fans.machine import machine_at
from niente.core.fans.rehearsal import ramps_heard, rehearse
from niente.core.model.errors import NienteError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.question import Approach
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.machine_files import shipped_file, shipped_machines
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.rigs.simulated.truth import TrueDay
from niente.core.science.settling import binned
from niente.core.selection.pick import choose

FOLDER = Path("build") / "fans"
"""What was drawn and lived is kept here, so that a long draw goes on where it ended."""
ROOM_C, SEEDS, COMPARED = 23.0, 10, 6
MEAN_S = 300
"""Headroom is of settled temperatures: the firmware's own burst after an idle minute is let go by."""
KEEPS_K = 0.5
BY_FEEL = ((40.0, 25.0), (65.0, 50.0), (85.0, 100.0))
"""What people draw by feel; common practice, no source."""
POINTS, GRID, SPAN_K = 5, 5.0, 32.0
MOST_ROUNDS, FEW_RAMPS = 4, 2
Made = TypeVar("Made")


class Lived(msgspec.Struct, frozen=True):
    """A day that a machine lived and one that was rehearsed: how far apart they are (95 % of seconds, in K; of the mean level,
    in dB), the hottest five minutes of the core, ramps, and the mean level in dBA as it was lived."""

    apart_k: float
    apart_db: float
    hottest_c: float
    ramps: int
    mean_dba: float


class LivedDay(msgspec.Struct, frozen=True):
    """A sample's day under drawn curves, a curve by feel and fixed duties, in the room; and under the drawn ones in the design
    room, with the hottest that it may become there in °C."""

    drawn: Lived
    by_feel: Lived
    fixed: Lived
    august: Lived
    may_c: float


class Drawn(msgspec.Struct, frozen=True):
    """A sample's drawn curves (none: it has none), and how long a rehearsed day took in s."""

    curves: dict[str, FanCurve] | None
    day_s: float


class BestFound(msgspec.Struct, frozen=True):
    """The mean level in dBA of the drawn curves and of the best five-point curves that a search on the machine found, and how
    many days that lived."""

    drawn_dba: float
    best_dba: float
    days: int


class Life:
    """One sample: the machine itself, and what its book knows of it."""

    def __init__(self, sample: Sample) -> None:
        self.sample = sample
        book = sample.file("adaptive", "niente")
        book.parent.mkdir(parents=True, exist_ok=True)
        self.rig: SimulatedRig = measured(shipped_file(sample.name), sample.seed, book, Approach.ADAPTIVE, sample.limits)
        evidence = evidence_in(book)
        assert evidence is not None
        models = fit_models(evidence)
        response, shares = responses(book, models)
        pick = choose(models, sample.limits).pick.setting
        self.machine = machine_at(models, response, pick, ROOM_C, shares)
        self.moved, self.source = drawn_groups(models.card, self.machine), usual_source(models.card)
        self.may_c = self.machine.ceiling_c - sample.limits.min_headroom_k

    def live(self, curves: dict[str, FanCurve], day: DayOfLoad, room_c: float) -> Lived:
        """Let the machine live a day under curves, rehearse what it drew, and hold one against the other."""
        machine, setting = self.machine, self.machine.setting
        for group, curve in curves.items():
            setting = setting.on_curve(group, curve)
        true = self._true_day(setting, day, room_c)
        idle_w, full_w = machine.drawn.idle_w, machine.drawn.full_w[day.load]
        drew = DayOfLoad(day.name, day.load, np.clip((true.power_w - idle_w) / (full_w - idle_w), 0.0, 1.4))
        told = rehearse(machine, curves, drew, room_c)
        mean = 10.0 * np.log10(np.mean(10.0 ** (0.1 * true.level_dba)))
        return Lived(
            float(np.quantile(np.abs(told.core_c - true.core_c), 0.95)),
            float(told.figures.mean_dba - mean),
            float(binned(true.core_c, MEAN_S).max()),
            len(ramps_heard(true.level_dba)),
            float(mean),
        )

    def _true_day(self, setting: Setting, day: DayOfLoad, room_c: float) -> TrueDay:
        which = np.where(day.activity > 0.0, day.load, 2)
        works = np.where(day.activity > 0.0, day.activity, 1.0)
        return self.rig.true_day(setting, (*self.machine.loads, ""), which, works, room_c)


def results() -> list[Result]:
    """Return how well days are foretold, and what drawn curves are worth."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    names = shipped_machines()
    samples = [Sample(name, seed) for seed in range(draws(least=1, small=1, full=SEEDS)) for name in names]
    samples = samples[: draws(least=1, small=len(names), full=len(samples))]
    days = [standard_day(day.name) for day in STANDARD_DAYS[: draws(least=1, small=2, full=len(STANDARD_DAYS))]]
    last: list[Life] = []

    def life(sample: Sample) -> Life:
        """Return a sample's life; the last one is kept."""
        if not last or last[0].sample != sample:
            last[:] = [Life(sample)]
        return last[0]

    lived: list[LivedDay] = []
    took: list[float] = []
    without = 0
    for sample in samples:
        drawn = _kept(sample, "drawn", Drawn, lambda sample=sample: _drawn(life(sample), days))  # type: ignore[misc]
        took.append(drawn.day_s)
        if drawn.curves is None:
            without += 1
            continue
        for day in days:
            make = lambda sample=sample, day=day, drawn=drawn: _day(life(sample), drawn.curves or {}, day)  # noqa: E731
            lived.append(_kept(sample, f"day-{day.name}", LivedDay, make))
    if not lived:
        return []
    return [*_told(lived, took, without), *_against_the_best(samples[: draws(least=0, small=0, full=COMPARED)], days[0], life)]


def _kept(sample: Sample, what: str, kind: type[Made], make: Callable[[], Made]) -> Made:
    """Return what was made of a sample before, or make it now and keep it."""
    path = FOLDER / f"{sample.name}-{sample.seed}-{what}.json"
    if not path.exists():
        path.write_bytes(msgspec.json.encode(make()))
    return msgspec.json.decode(path.read_bytes(), type=kind)


def _drawn(life: Life, days: list[DayOfLoad]) -> Drawn:
    limits = life.sample.limits
    begun = time.perf_counter()
    rehearse(life.machine, {}, days[0], ROOM_C)
    day_s = time.perf_counter() - begun
    try:
        rooms_c = (ROOM_C, limits.design_room_c)
        curves = quietest_curves(CurveSearch(life.machine, life.moved, days, rooms_c, limits.min_headroom_k, life.source))
    except NienteError:
        return Drawn(None, day_s)
    return Drawn(curves, day_s)


def _day(life: Life, curves: dict[str, FanCurve], day: DayOfLoad) -> LivedDay:
    feel = dict.fromkeys(life.moved, FanCurve(life.source, BY_FEEL))
    fixed = life.live({}, day, ROOM_C)
    august = life.live(curves, day, life.sample.limits.design_room_c)
    return LivedDay(life.live(curves, day, ROOM_C), life.live(feel, day, ROOM_C), fixed, august, life.may_c + KEEPS_K)


def _told(lived: list[LivedDay], took: list[float], without: int) -> list[Result]:
    every = [one for day in lived for one in (day.drawn, day.by_feel, day.fixed)]
    calm = [one for day in lived for one in (day.drawn, day.fixed)]
    kept = sum(day.august.hottest_c <= day.may_c for day in lived)
    louder = (
        [day.drawn.mean_dba - day.fixed.mean_dba for day in lived],
        [day.by_feel.mean_dba - day.fixed.mean_dba for day in lived],
    )
    heard = sum(day.drawn.ramps for day in lived), sum(day.by_feel.ramps for day in lived)
    apart = [one.apart_k for one in calm]
    off = [abs(one.apart_db) for one in calm]
    return [
        Result("fans: days that were lived and rehearsed", float(len(every)), "", "", None),
        Result("fans: machines without a curve", float(without), "", "", None),
        Result("a day rehearsed (median)", median(took), "s", "", None),
        Result("rehearsed temperature, 95 % of seconds (median of days)", median(apart), "K", "", None),
        Result("the same (95 % of days)", float(np.quantile(apart, 0.95)), "K", "", None),
        Result("the same under a curve by feel (median)", median(day.by_feel.apart_k for day in lived), "K", "", None),
        Result("rehearsed mean level, off by (95 % of days)", float(np.quantile(off, 0.95)), "dB", "", None),
        Result("drawn curves: days at the design room that keep the headroom", 100.0 * kept / len(lived), "%", "", None),
        Result("drawn curves: louder than fixed fans (median)", median(louder[0]), "dB", "", None),
        Result("a curve by feel: louder than fixed fans (median)", median(louder[1]), "dB", "", None),
        Result("drawn curves: ramps heard", float(heard[0]), "", "a curve by feel", heard[0] / max(heard[1], 1)),
    ]


def _against_the_best(samples: list[Sample], day: DayOfLoad, life: Callable[[Sample], Life]) -> list[Result]:
    """Return how much louder drawn curves are than the best that a search on the machines themselves finds."""
    found: list[BestFound] = []
    for sample in samples:
        drawn = _kept(sample, "drawn", Drawn, lambda: Drawn(None, math.nan))
        if drawn.curves is not None:
            make = lambda sample=sample, drawn=drawn: _best(life(sample), drawn.curves or {}, day)  # noqa: E731
            found.append(_kept(sample, "best", BestFound, make))
    if not found:
        return []
    louder = [one.drawn_dba - one.best_dba for one in found]
    return [
        Result("five-point curves: samples searched on the machine", float(len(found)), "", "", None),
        Result("drawn curves: louder than the best of those (mean)", float(np.mean(louder)), "dB", "", None),
        Result("the same (worst)", max(louder), "dB", "", None),
    ]


def _best(life: Life, drawn: dict[str, FanCurve], day: DayOfLoad) -> BestFound:
    """Search five-point curves on the machine itself: from the drawn ones on a grid, one duty of one group after the other, as
    long as that is quieter in the room, keeps the headroom in the design room, and is heard no more often."""
    at = {group: _gridded(curve) for group, curve in drawn.items()}
    begins = life.live(drawn, day, ROOM_C)
    lives, most_ramps = 1, max(begins.ramps, FEW_RAMPS)
    best = math.inf

    def tried(points: dict[str, tuple[tuple[float, float], ...]]) -> float:
        nonlocal lives
        curves = {group: msgspec.structs.replace(drawn[group], points=one, floor_percent=0.0) for group, one in points.items()}
        here = life.live(curves, day, ROOM_C)
        lives += 1
        if here.mean_dba >= best or here.ramps > most_ramps:
            return math.inf
        lives += 1
        there = life.live(curves, day, life.sample.limits.design_room_c)
        return here.mean_dba if there.hottest_c <= life.may_c + KEEPS_K else math.inf

    best = tried(at)
    for _ in range(MOST_ROUNDS):
        before = best
        for group in drawn:
            for index in range(POINTS):
                for way in (-GRID, GRID):
                    moved = _with_duty(at[group], index, at[group][index][1] + way)
                    if moved is not None and (mean := tried({**at, group: moved})) < best:
                        best, at = mean, {**at, group: moved}
        if best == before:
            break
    return BestFound(begins.mean_dba, min(best, begins.mean_dba), lives)


def _gridded(curve: FanCurve) -> tuple[tuple[float, float], ...]:
    """Return five points of a curve, evenly over its range, duties up to the grid."""
    last = curve.points[-1][0]
    places = np.linspace(min(curve.points[0][0], last - SPAN_K), last, POINTS)
    duties = np.minimum(np.ceil(curve.duty(places) / GRID) * GRID, 100.0)
    return tuple(zip(places.tolist(), duties.tolist(), strict=True))


def _with_duty(points: tuple[tuple[float, float], ...], index: int, duty: float) -> tuple[tuple[float, float], ...] | None:
    """Return points with another duty; ``None`` where a hotter point would have less."""
    changed = (*points[:index], (points[index][0], duty), *points[index + 1 :])
    duties = [one for _, one in changed]
    return changed if duties == sorted(duties) and 0.0 <= duty <= 100.0 else None
