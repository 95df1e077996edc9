"""Days under fan curves: a rehearsal against the machine itself, and curves that are drawn against the limit, against fixed
fans and against a curve drawn by feel.

The machine lives the day; what it drew is then the day that is rehearsed, as a recorded one would be.
"""

from pathlib import Path
from statistics import median
from typing import NamedTuple

import numpy as np

from benchmarks.result import Result
from benchmarks.size import draws
from benchmarks.study import measured
from benchmarks.true_pick import FOLDER, Sample
from niente.core.analysis.evidence import evidence_in
from niente.core.analysis.models import fit_models
from niente.core.analysis.warming import response_in
from niente.core.fans.day import STANDARD_DAYS, DayOfLoad, standard_day
from niente.core.fans.drawing import quietest_curves
from niente.core.fans.machine import MachineAtPoint, machine_at
from niente.core.fans.rehearsal import ramps_heard, rehearse
from niente.core.model.errors import NienteError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.question import Approach
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.machine_files import shipped_file, shipped_machines
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.science.settling import binned
from niente.core.selection.pick import choose
from niente.core.storage.reader import BookReader

ROOM_C, SEEDS = 23.0, 10
MEAN_S = 300
"""Headroom is of settled temperatures: the firmware's own burst after an idle minute is let go by."""
BY_FEEL = ((40.0, 25.0), (65.0, 50.0), (85.0, 100.0))
"""What people draw by feel; common practice, no source."""


class Lived(NamedTuple):
    """A day that a machine lived and one that was rehearsed: how far apart they are (95 % of seconds, in K; of the mean level,
    in dB), the hottest five minutes of the core, ramps, and the mean level in dBA as it was lived."""

    apart_k: float
    apart_db: float
    hottest_c: float
    ramps: int
    mean_dba: float


def lived(rig: SimulatedRig, machine: MachineAtPoint, curves: dict[str, FanCurve], day: DayOfLoad, room_c: float) -> Lived:
    """Let the machine live a day under curves, rehearse what it drew, and hold one against the other."""
    setting: Setting = machine.setting
    for group, curve in curves.items():
        setting = setting.on_curve(group, curve)
    which = np.where(day.activity > 0.0, day.load, 2)
    true = rig.true_day(setting, (*machine.loads, ""), which, np.where(day.activity > 0.0, day.activity, 1.0), room_c)
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


def results() -> list[Result]:
    """Return how well days are foretold, and what drawn curves are worth."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    names = shipped_machines()
    samples = [Sample(name, seed) for seed in range(draws(least=1, small=1, full=SEEDS)) for name in names]
    days = [standard_day(day.name) for day in STANDARD_DAYS[: draws(least=1, small=2, full=len(STANDARD_DAYS))]]
    drawn: list[Lived] = []
    by_feel: list[Lived] = []
    fixed: list[Lived] = []
    kept, without = 0, 0
    for sample in samples[: draws(least=1, small=len(names), full=len(samples))]:
        book = sample.file("adaptive", "niente")
        rig = measured(shipped_file(sample.name), sample.seed, book, Approach.ADAPTIVE, sample.limits)
        try:
            machine = _machine(book, sample)
            moved = [group for group in machine.groups if group != "pump"]
            curves = quietest_curves(
                machine, moved, days[:1], (ROOM_C, sample.limits.design_room_c), sample.limits.min_headroom_k
            )
        except NienteError:
            without += 1
            continue
        feel = {group: FanCurve("core_temperature_c", BY_FEEL) for group in moved}
        for day in days:
            drawn.append(lived(rig, machine, curves.curves, day, ROOM_C))
            by_feel.append(lived(rig, machine, feel, day, ROOM_C))
            fixed.append(lived(rig, machine, {}, day, ROOM_C))
            august = lived(rig, machine, curves.curves, day, sample.limits.design_room_c)
            kept += august.hottest_c <= machine.ceiling_c - sample.limits.min_headroom_k + 0.5
    every = [*drawn, *by_feel, *fixed]
    if not every:
        return []
    found = [
        Result("fans: days that were lived and rehearsed", float(len(every)), "", "", None),
        Result("fans: machines without a curve", float(without), "", "", None),
        Result("rehearsed temperature, 95 % of seconds (median of days)", median(one.apart_k for one in every), "K", "", None),
        Result("the same (95 % of days)", float(np.quantile([one.apart_k for one in every], 0.95)), "K", "", None),
        Result("rehearsed mean level, off by (95 % of days)", _off(every), "dB", "", None),
        Result("drawn curves: days at the design room that keep the headroom", 100.0 * kept / len(drawn), "%", "", None),
        Result("drawn curves: louder than fixed fans (median)", _louder(drawn, fixed), "dB", "", None),
        Result("a curve by feel: louder than fixed fans (median)", _louder(by_feel, fixed), "dB", "", None),
    ]
    heard = sum(one.ramps for one in drawn), sum(one.ramps for one in by_feel)
    share = heard[0] / max(heard[1], 1)
    return [*found, Result("drawn curves: ramps heard", float(heard[0]), "", "a curve by feel", share)]


def _machine(book: Path, sample: Sample) -> MachineAtPoint:
    """Return a sample's machine at its pick, as its book knows it."""
    evidence = evidence_in(book)
    assert evidence is not None
    models = fit_models(evidence)
    reader = BookReader(book)
    try:
        response = response_in(reader, models)
    finally:
        reader.close()
    assert response is not None
    return machine_at(models, response, choose(models, sample.limits).pick.setting, ROOM_C)


def _off(days: list[Lived]) -> float:
    return float(np.quantile([abs(one.apart_db) for one in days], 0.95))


def _louder(these: list[Lived], those: list[Lived]) -> float:
    return median(one.mean_dba - other.mean_dba for one, other in zip(these, those, strict=True))
