"""Quiet points to their end: whether the pick truly keeps its limits and lasts its day, how loud it is, in how many
hours; as runs tell, against every point of a grid, and against a careful person who changes one thing at a time.

Each machine's book stands in build/picks and is taken as it is where it was made before.
"""

import math
from collections.abc import Sequence
from pathlib import Path
from statistics import median

import msgspec
import numpy as np

from benchmarks.result import Result
from benchmarks.size import draws
from benchmarks.study import DESIGN_ROOM_C, HOURS, measured
from niente.core.analysis.evidence import evidence_in
from niente.core.analysis.models import fit_models
from niente.core.model.errors import NotEnoughError
from niente.core.model.limits import Limits
from niente.core.model.question import Approach
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.model.setting import Setting
from niente.core.planning.builders import limits_below
from niente.core.rigs.simulated.machine_files import shipped_file, shipped_machines
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.science.statistics import share_interval
from niente.core.selection.pick import Standing, choose

FOLDER = Path("build") / "picks"
DAY_S, ALLOWED = 86400.0, 0.01
HALF_HOUR_H = 0.5
PERSONS_SHARES = (0.5, 0.6, 0.7, 0.8, 0.9)
PERSONS_DUTIES = (20.0, 30.0, 40.0, 60.0, 80.0)
"""What somebody tries who changes one thing at a time: common practice, no source."""


class TruePick(msgspec.Struct, frozen=True):
    """One pick and what is true of it in the design room: the chance of a failure in a day under the worst load, throughput in
    per cent of stock, headroom, level in the room; how it stood, and what its plan took."""

    chance: float
    throughput_percent: float
    headroom_k: float
    in_room_dba: float
    standing: Standing
    bench_h: float
    confirmed_h: float
    crashes: int
    failures: int

    @property
    def holds(self) -> bool:
        """Whether it truly keeps all limits."""
        limits = Limits()
        return (
            self.chance <= ALLOWED
            and self.throughput_percent >= limits.min_throughput_percent
            and self.headroom_k >= limits.min_headroom_k
        )


class Truth:
    """What is true of settings of one machine in the design room."""

    def __init__(self, rig: SimulatedRig) -> None:
        self.rig, self.card = rig, rig.describe()
        kinds = (LoadKind.HEAVY, LoadKind.REALISTIC)
        loads = [load.name for kind in kinds if (load := self.card.load_of(kind)) is not None]
        self.loads, self.heavy, self.counted = loads, loads[0], loads[-1]
        self._stock = self._work(self.card.stock)

    def _work(self, setting: Setting) -> float:
        return self.rig.true_settled(setting, self.counted, DESIGN_ROOM_C, HOURS).readings["throughput_per_s"]

    def of(self, setting: Setting) -> tuple[float, float, float, float]:
        """Return chance of a failure in a day, throughput in per cent of stock, headroom and level in the room."""
        there = [self.rig.true_settled(setting, load, DESIGN_ROOM_C, HOURS) for load in self.loads]
        rate = max(one.failures_per_s for one in there)
        headroom = self.card.temperature_ceiling_c(setting) - there[0].hottest_c
        work = 100.0 * there[-1].readings["throughput_per_s"] / self._stock
        return -math.expm1(-rate * DAY_S), work, headroom, there[0].readings["noise_dba"]


def true_pick(name: str, seed: int, approach: Approach) -> TruePick | None:
    """Run a quiet point of one sample to its end, and hold its pick against the truth; ``None`` where it comes to no pick."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    book = FOLDER / f"{name}-{seed}-{approach.name.lower()}.niente"
    rig = measured(shipped_file(name), seed, book, approach)
    evidence = evidence_in(book)
    assert evidence is not None
    try:
        choice = choose(fit_models(evidence), Limits())
    except NotEnoughError:
        return None
    hours = np.cumsum([run.seconds for run in evidence.runs]) / 3600.0
    at = [run.setting == choice.pick.setting and run.seconds >= 1200.0 for run in evidence.runs]
    return TruePick(
        *Truth(rig).of(choice.pick.setting),
        standing=choice.standing,
        bench_h=float(hours[-1]),
        confirmed_h=float(hours[at.index(True)]) if any(at) and choice.confirmed else math.inf,
        crashes=sum(run.crashed for run in evidence.runs),
        failures=sum(run.failures > 0 for run in evidence.runs),
    )


def careful_person(name: str, seed: int) -> TruePick | None:
    """One thing at a time, half an hour each, without noise in any reading: the power limit first, then each group of fans, at
    stock voltage; the quietest that kept the limits as they were read."""
    rig = SimulatedRig(shipped_file(name), seed=seed)
    truth, tried = Truth(rig), 0
    setting = truth.card.stock

    stock = rig.true_settled(setting, truth.counted, DESIGN_ROOM_C, HALF_HOUR_H).readings["throughput_per_s"]

    def reads(one: Setting) -> tuple[float, float, float]:
        there = [rig.true_settled(one, load, DESIGN_ROOM_C, HALF_HOUR_H) for load in truth.loads]
        work = 100.0 * there[-1].readings["throughput_per_s"] / stock
        return work, truth.card.temperature_ceiling_c(one) - there[0].hottest_c, there[0].readings["noise_dba"]

    for ways in _ways(truth.card):
        options = [setting, *(setting.replaced(control, value) for control, value in ways)]
        tried += len(ways)
        read = [reads(one) for one in options]
        kept = [index for index, (work, headroom, _) in enumerate(read) if work >= 90.0 and headroom >= 8.0]
        if kept:
            best = min(kept, key=lambda index: (round(read[index][2], 1), -read[index][1]))
            setting = options[best]
    hours = HALF_HOUR_H * tried * len(truth.loads)
    return TruePick(*truth.of(setting), Standing.CONFIRMED, hours, hours, 0, 0)


def _ways(card: RigCard) -> list[list[tuple[str, float]]]:
    power = [("sustained_power_w", limit) for limit in limits_below(card, PERSONS_SHARES)]
    fans = [[(f"fan_duty.{group}", duty) for duty in PERSONS_DUTIES] for group in card.fan_groups()]
    known = {control.name: control for control in card.controls}
    return [power, *([(name, value) for name, value in ways if known[name].takes(value)] for ways in fans)]


def results() -> list[Result]:
    """Return bench hours, the share of picks that hold, and how loud they are, as runs tell, over a grid, and by hand."""
    names = shipped_machines()
    count = draws(least=1, small=3, full=len(names) * 10)
    samples = [(names[index % len(names)], index // len(names)) for index in range(count)]
    adaptive = [true_pick(name, seed, Approach.ADAPTIVE) for name, seed in samples]
    grid = [true_pick(name, seed, Approach.GRID) for name, seed in samples]
    person = [careful_person(name, seed) for name, seed in samples]
    found: list[Result] = []
    for title, picks in (("as runs tell", adaptive), ("every point", grid), ("by hand", person)):
        found += _told(title, picks)
    quieter = [a.in_room_dba - b.in_room_dba for a, b in zip(adaptive, grid, strict=True) if a is not None and b is not None]
    by_hand = [a.in_room_dba - b.in_room_dba for a, b in zip(adaptive, person, strict=True) if a is not None and b is not None]
    hours = {result.name.partition(":")[0]: result.value for result in found if "bench time" in result.name}
    mine = hours["as runs tell"]
    found += [Result("as runs tell: bench time", mine, "h", by, mine / hours[by]) for by in ("every point", "by hand")]
    found.append(Result("as runs tell against every point (median)", median(quieter or [math.nan]), "dB", "", None))
    found.append(Result("as runs tell against by hand (median)", median(by_hand or [math.nan]), "dB", "", None))
    return found


def _told(title: str, every: Sequence[TruePick | None]) -> list[Result]:
    picks = [pick for pick in every if pick is not None]
    holding = sum(pick.holds for pick in picks)
    proven = [pick for pick in picks if pick.standing == Standing.PROVEN]
    confirmed = [pick.confirmed_h for pick in picks if math.isfinite(pick.confirmed_h)] or [math.nan]
    unconfirmed = len(every) - sum(math.isfinite(pick.confirmed_h) for pick in picks)
    return [
        Result(f"{title}: samples", float(len(every)), "", "", None),
        Result(f"{title}: picks that truly hold", 100.0 * holding / len(every), "%", "", None),
        Result(f"{title}: the same, at least (95 %)", 100.0 * share_interval(holding, len(every))[0], "%", "", None),
        Result(f"{title}: proven", float(len(proven)), "", "", None),
        Result(f"{title}: proven that do not hold", float(sum(not pick.holds for pick in proven)), "", "", None),
        Result(f"{title}: not confirmed", float(unconfirmed), "", "", None),
        Result(f"{title}: to a confirmed pick (median)", median(confirmed), "h", "", None),
        Result(
            f"{title}: the same (95 %)", float(np.quantile(confirmed, 0.95)), "h", "", None
        ),
        Result(f"{title}: bench time (median)", median(pick.bench_h for pick in picks), "h", "", None),
        Result(f"{title}: crashes (median)", median(pick.crashes for pick in picks), "", "", None),
    ]  # fmt: skip
