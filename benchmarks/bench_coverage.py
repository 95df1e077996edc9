"""Coverage: how often 95 % intervals hold at settings that nobody ran, on the shipped machines and on made-up ones.

Each machine runs its default plan to the end, as a person would have it run; settings between its runs are then predicted, in
the room as it was and in a design room, under both loads that count, and held against the truth. Beside the models, on the
same settings: the nearest run, which is what is read off without a model. Books and truths are kept in ``build/coverage``, so
that a long draw goes on where it stopped.
"""

import math
from collections.abc import Sequence
from pathlib import Path

import msgspec
import numpy as np

from benchmarks.made_machines import made_machine
from benchmarks.result import Result
from benchmarks.size import draws
from benchmarks.study import TruePlace, measured, places_of
from niente.core.analysis.evidence import evidence_in
from niente.core.analysis.models import Models, fit_models
from niente.core.analysis.point_prediction import Figure, predict_point
from niente.core.model.errors import NotEnoughError
from niente.core.rigs.simulated.machine_files import MachineFile, shipped_file, shipped_machines

SHIPPED, MADE = draws(least=0, small=1, full=2), draws(least=1, small=6, full=240)
"""Samples of every shipped machine, and made-up machines."""
FOLDER = Path("build") / "coverage"
WANTED, WIDEST = (0.94, 0.98), 1.3
QUANTITIES = {
    "temperature": ("core_c", "core_c", "K"),
    "noise in the room": ("in_room_dba", "in_room_dba", "dB"),
    "noise, machine alone": ("alone_dba", "alone_dba", "dB"),
    "throughput": ("throughput_percent", "percent", "points"),
    "power": ("power_w", "power_w", "%"),
    "clock": ("clock_mhz", "clock_mhz", "%"),
}
"""What is judged: the prediction's field, the truth's, and the unit; errors of power and clock are shares."""
BOOTSTRAPS = 400


class Judged(msgspec.Struct, frozen=True):
    """One figure at one place: which machine it is of, by how much it was off, its half width, and how far off the nearest run
    lies; ``bound`` is by how much the truth kept under a one-sided bound, NaN where the figure is none."""

    machine: str
    off: float
    half_width: float
    nearest_off: float
    bound: float = math.nan


def _machines() -> list[tuple[str, MachineFile, int]]:
    names = shipped_machines() if SHIPPED else ()
    found = [(f"{name}-{seed}", shipped_file(name), seed) for seed in range(1, SHIPPED + 1) for name in names]
    return found + [(f"made-{seed}", made_machine(seed), seed) for seed in range(1, MADE + 1)]


def _places(name: str, file: MachineFile, seed: int) -> tuple[Models, list[TruePlace]] | None:
    """Return a machine's models and the truth about settings that it did not run; ``None`` where its runs are too few."""
    book, kept = FOLDER / f"{name}.niente", FOLDER / f"{name}.json"
    rig = measured(file, seed, book)
    evidence = evidence_in(book)
    if evidence is None:
        return None
    try:
        models = fit_models(evidence)
    except NotEnoughError:
        return None
    if not kept.exists():
        kept.write_bytes(msgspec.json.encode(places_of(rig, models, seed)))
    return models, msgspec.json.decode(kept.read_bytes(), type=list[TruePlace])


def _judge(name: str, models: Models, places: Sequence[TruePlace]) -> dict[str, list[Judged]]:
    found: dict[str, list[Judged]] = {what: [] for what in QUANTITIES}
    for place in places:
        said = predict_point(models, place.setting, place.load, place.room_c)
        if not said.inside:
            continue
        near = _nearest(models, place)
        for what, (field, true, unit) in QUANTITIES.items():
            judged = _one(name, getattr(said, field), getattr(place, true), near.get(what, math.nan), unit)
            if judged is not None:
                found[what].append(judged)
    return found


def _one(name: str, figure: Figure, true: float, near: float, unit: str) -> Judged | None:
    if figure.value is None:
        return None
    if figure.at_most:
        return Judged(name, math.nan, math.nan, math.nan, figure.value - true)
    scale = 100.0 / true if unit == "%" else 1.0
    return Judged(name, (figure.value - true) * scale, (figure.half_width or 0.0) * scale, abs(near - true) * scale)


def _nearest(models: Models, place: TruePlace) -> dict[str, float]:
    """Return what the nearest run under the same load read, its temperature carried to the room one for one."""
    runs = [run for run in models.usable() if run.load == place.load and run.settled.known and math.isfinite(run.power_w)]
    if not runs:
        return {}

    def apart(index: int) -> float:
        at = runs[index].setting
        watts = math.log((at.sustained_power_w or 1.0) / (place.setting.sustained_power_w or 1.0))
        return math.hypot(watts, (at.fan_duty.get(models.lead, 0.0) - place.setting.fan_duty.get(models.lead, 0.0)) / 100.0)

    run = runs[min(range(len(runs)), key=apart)]
    stock = models.stock_work(place.load) or math.nan
    return {
        "temperature": place.room_c + run.rise_k,
        "noise in the room": run.noise_dba,
        "throughput": 100.0 * run.throughput_per_s / stock,
        "power": run.power_w,
        "clock": run.clock_mhz,
    }


def bootstrapped(machines: Sequence[object], held: Sequence[bool]) -> tuple[float, float, float]:
    """Return the share of intervals that hold and its own 95 % interval, machines drawn anew (Efron 1979; from memory); of each
    interval the machine that it is of, and whether it holds."""
    by: dict[object, list[bool]] = {}
    for machine, one in zip(machines, held, strict=True):
        by.setdefault(machine, []).append(one)
    good, many = np.array([sum(each) for each in by.values()], float), np.array([len(each) for each in by.values()], float)
    drawn = np.random.default_rng(1).integers(0, good.shape[0], (BOOTSTRAPS, good.shape[0]))
    shares = good[drawn].sum(axis=1) / many[drawn].sum(axis=1)
    return float(good.sum() / many.sum()), float(np.percentile(shares, 2.5)), float(np.percentile(shares, 97.5))


def _results(group: str, judged: dict[str, list[Judged]]) -> list[Result]:
    found = []
    for what, every in judged.items():
        told = [one for one in every if math.isfinite(one.off)]
        if not told:
            continue
        unit = QUANTITIES[what][2]
        off = np.abs([one.off for one in told])
        wide, most = float(np.median([one.half_width for one in told])), float(np.percentile(off, 95))
        near = float(np.nanmedian([one.nearest_off for one in told])) if what != "noise, machine alone" else math.nan
        held, low, high = bootstrapped([one.machine for one in told], [abs(one.off) <= one.half_width for one in told])
        words = f"{what}, {group}, {len(told)} places"
        met = "met" if low <= WANTED[1] and high >= WANTED[0] else "not met"
        interval = f"{100 * WANTED[0]:.0f} to {100 * WANTED[1]:.0f} %: {met} by {100 * low:.1f} to {100 * high:.1f}"
        middle = float(np.median(off))
        found += [
            Result(f"{words}: intervals that hold", 100 * held, "%", interval, held / 0.95),
            Result("off, median", middle, unit, "the nearest run", middle / near if near == near else None),
            Result("off at 95 %", most, unit, "", None),
            Result("half width, median", wide, unit, "1.3 times what is off at 95 %", wide / most / WIDEST),
        ]
    bounds = [one.bound for one in judged["noise, machine alone"] if math.isfinite(one.bound)]
    if bounds:
        kept = float(np.mean(np.array(bounds) >= 0.0))
        found.append(
            Result(f"machine alone, upper bounds that hold, {group}, {len(bounds)}", 100 * kept, "%", "95 %", kept / 0.95)
        )
    return found


def results() -> list[Result]:
    """Measure."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    groups: dict[str, dict[str, list[Judged]]] = {}
    short = 0
    for name, file, seed in _machines():
        found = _places(name, file, seed)
        if found is None:
            short += 1
            continue
        group = groups.setdefault("made up" if name.startswith("made") else "shipped", {what: [] for what in QUANTITIES})
        for what, judged in _judge(name, *found).items():
            group[what] += judged
    told = [result for group, judged in groups.items() for result in _results(group, judged)]
    return [*told, Result("machines whose plan ended with too few runs", float(short), "", "", None)]
