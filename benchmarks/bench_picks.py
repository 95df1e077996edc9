"""Quiet points to their end: whether the pick truly lasts its day under every load, in how many bench hours.

Each machine's book stands in build/picks and is taken as it is where it was made before.
"""

import math
from pathlib import Path
from statistics import median

import msgspec

from benchmarks.result import Result
from benchmarks.size import draws
from benchmarks.study import DESIGN_ROOM_C, HOURS, measured
from niente.core.analysis.evidence import evidence_in
from niente.core.analysis.models import fit_models
from niente.core.model.project import Limits
from niente.core.model.rig_card import LoadKind
from niente.core.rigs.simulated.machine_files import shipped_file, shipped_machines
from niente.core.science.statistics import share_interval
from niente.core.selection.pick import Standing, choose

FOLDER = Path("build") / "picks"
DAY_S, ALLOWED = 86400.0, 0.01


class TruePick(msgspec.Struct, frozen=True):
    """One pick: the true chance of a failure in a day under the worst load, how it stood, and what the plan took."""

    chance: float
    standing: Standing
    bench_h: float
    crashes: int
    failures: int
    offset_mv: float


def true_pick(name: str, seed: int) -> TruePick:
    """Run the default plan of one sample to its end, and hold its pick against the truth in the design room."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    book = FOLDER / f"{name}-{seed}.niente"
    rig = measured(shipped_file(name), seed, book)
    evidence = evidence_in(book)
    assert evidence is not None
    choice = choose(fit_models(evidence), Limits())
    loads = [load for load in evidence.card.loads if load.kind in (LoadKind.HEAVY, LoadKind.REALISTIC)]
    rates = [rig.true_settled(choice.pick.setting, load.name, DESIGN_ROOM_C, HOURS).failures_per_s for load in loads]
    return TruePick(
        chance=-math.expm1(-max(rates) * DAY_S),
        standing=choice.standing,
        bench_h=sum(run.seconds for run in evidence.runs) / 3600.0,
        crashes=sum(run.crashed for run in evidence.runs),
        failures=sum(run.failures > 0 for run in evidence.runs),
        offset_mv=choice.pick.setting.voltage_offset_mv or 0.0,
    )


def results() -> list[Result]:
    """Return the share of picks that last their day, how many are proven, and bench hours."""
    names = shipped_machines()
    count = draws(least=1, small=len(names), full=100)
    picks = [true_pick(names[index % len(names)], index // len(names)) for index in range(count)]
    lasting = [pick for pick in picks if pick.chance <= ALLOWED]
    proven = [pick for pick in picks if pick.standing == Standing.PROVEN]
    false = [pick for pick in proven if pick.chance > ALLOWED]
    return [
        Result("picks", float(len(picks)), "", "", None),
        Result("picks that last their day", 100.0 * len(lasting) / len(picks), "%", "", None),
        Result("the same, at least (95 %)", 100.0 * share_interval(len(lasting), len(picks))[0], "%", "", None),
        Result("picks called proven", 100.0 * len(proven) / len(picks), "%", "", None),
        Result("picks called proven that do not last", float(len(false)), "", "", None),
        Result("bench time (median)", median(pick.bench_h for pick in picks), "h", "", None),
        Result("failures (median)", median(pick.failures for pick in picks), "", "", None),
        Result("crashes (median)", median(pick.crashes for pick in picks), "", "", None),
        Result("offset handed out (median)", median(pick.offset_mv for pick in picks), "mV", "", None),
    ]
