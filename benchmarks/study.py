"""A machine studied from end to end: the default plan is run on it into a book, and the truth is kept about settings that no
run had, for predictions to be held against."""

import threading
from pathlib import Path

import msgspec
import numpy as np

from niente.core.acquisition.opening import open_bench
from niente.core.analysis.models import Models
from niente.core.model.limits import Limits
from niente.core.model.question import Approach
from niente.core.model.records import BenchFailed, HandCardShown, PlanEnded, Record
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.model.setting import Setting
from niente.core.planning.templates import default_project, plan_for
from niente.core.rigs.simulated.machine_files import MachineFile
from niente.core.rigs.simulated.rig import SimulatedRig

SETTINGS, HOURS = 10, 6.0
DESIGN_ROOM_C = 28.0
PATIENCE_S = 900.0


class TruePlace(msgspec.Struct, frozen=True):
    """One setting under one load in one room (as its sensor reads it), and what is true there. ``percent`` is of stock in the
    same room; ``alone_dba`` is without the room, ``in_room_dba`` over its mean background by night, both settled under the
    load."""

    setting: Setting
    load: str
    room_c: float
    core_c: float
    power_w: float
    clock_mhz: float
    percent: float
    in_room_dba: float
    alone_dba: float
    rpm: dict[str, float]


def measured(
    file: MachineFile, seed: int, book: Path, approach: Approach = Approach.GRID, limits: Limits | None = None
) -> SimulatedRig:
    """Run the default plan of a machine into a book, over its grid or as runs tell; return the rig. A book that is there
    already is taken as it is. ``limits`` stand in for those that a project begins with."""
    rig = SimulatedRig(file, seed=seed)
    if book.exists():
        return rig
    over = threading.Event()

    def hear(record: Record) -> None:
        if isinstance(record, PlanEnded | BenchFailed):
            over.set()
        if isinstance(record, HandCardShown) and record.card is not None:
            threading.Timer(0.05, lambda: bench.confirm()).start()  # hands do what they are asked to, at once

    begun = book.with_suffix(".part")
    begun.unlink(missing_ok=True)
    bench = open_bench(rig, begun, hear)
    try:
        project = default_project(bench.card)
        question = msgspec.structs.replace(project.question, approach=approach)
        bench.start(plan_for(bench.card, question), limits or project.limits)
        over.wait(PATIENCE_S)
    finally:
        bench.close()
    begun.rename(book)
    return SimulatedRig(file, seed=seed)


def places_of(rig: SimulatedRig, models: Models, seed: int) -> list[TruePlace]:
    """Return settings between those that were run, under both loads that count, with the truth about them."""
    rng = np.random.default_rng([seed, 4])
    card = rig.describe()
    spans = {control: _span(models, control) for control in ("sustained_power_w", models.fans)}
    loads = dict.fromkeys((models.heavy_load, models.count_load))
    off_k = _room_offset(rig)
    stock = {
        (load, room): rig.true_settled(card.stock, load, room - off_k, HOURS).readings["throughput_per_s"]
        for load in loads
        for room in (models.room_c, DESIGN_ROOM_C)
    }
    found = []
    for index in range(SETTINGS):
        setting = models.base
        for control, (low, high) in spans.items():
            setting = setting.replaced(control, _on_step(card, control, rng.uniform(low, high)))
        room = (models.room_c, DESIGN_ROOM_C)[index % 2]
        for load in loads:
            true = rig.true_settled(setting, load, room - off_k, HOURS)
            read = true.readings
            alone = rig.true_alone_dba(setting, load, room - off_k)
            found.append(
                TruePlace(
                    setting,
                    load,
                    room,
                    true.hottest_c,
                    read["package_power_w"],
                    read["effective_clock_mhz"],
                    100.0 * read["throughput_per_s"] / stock[load, room],
                    read["noise_dba"],
                    alone,
                    {name: value for name, value in read.items() if name.startswith("fan_speed_rpm")},
                )
            )
    return found


def _span(models: Models, control: str) -> tuple[float, float]:
    values = [run.setting.value(control) for run in models.usable() if run.load == models.heavy_load]
    known = [value for value in values if value is not None]
    return min(known), max(known)


def _on_step(card: RigCard, control: str, value: float) -> float:
    known = card.control(control)
    return value if known is None else known.low + round((value - known.low) / known.step) * known.step


def _room_offset(rig: SimulatedRig) -> float:
    """Return by how much the room's sensor reads too high."""
    card = rig.describe()
    heavy = card.load_of(LoadKind.HEAVY)
    assert heavy is not None
    return rig.true_settled(card.stock, heavy.name, 20.0, 0.1).readings["room_temperature_c"] - 20.0
