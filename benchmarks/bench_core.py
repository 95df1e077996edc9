"""The core: how fast a sweep runs, what it saves, how fast a book is read."""

import tempfile
import threading
import time
from pathlib import Path

import msgspec
import numpy as np

from benchmarks.result import Result
from benchmarks.size import draws
from niente.core.acquisition.opening import open_bench
from niente.core.analysis.evidence import gather
from niente.core.model.frame import Frame
from niente.core.model.limits import Limits
from niente.core.model.plan import Plan
from niente.core.model.records import BenchFailed, FrameTaken, PlanEnded, Record
from niente.core.model.runs import RunKind
from niente.core.planning.cost import naive_runs
from niente.core.planning.templates import grid_project, plan_for
from niente.core.rigs.registry import open_rig
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.storage.reader import BookReader
from niente.core.storage.writer import BookWriter

HOURS = draws(least=1, small=8, full=8)


def run_sweep(plan: Plan, rig: SimulatedRig, book: Path) -> tuple[int, float]:
    """Run a plan on a bench of its own, its book with it; return its samples and the seconds it took."""
    samples, over = 0, threading.Event()

    def count(event: Record) -> None:
        nonlocal samples
        samples += isinstance(event, FrameTaken)
        if isinstance(event, PlanEnded | BenchFailed):
            over.set()

    bench = open_bench(rig, book, count)
    try:
        start, samples = time.perf_counter(), 0
        bench.start(plan, Limits())
        over.wait()
        return samples, time.perf_counter() - start
    finally:
        bench.close()


def open_simulated() -> SimulatedRig:
    """Return the machine that is swept."""
    rig = open_rig("larkspur", seed=3)
    assert isinstance(rig, SimulatedRig)
    return rig


def results() -> list[Result]:
    """Measure."""
    found = []
    with tempfile.TemporaryDirectory() as folder:
        rig = open_simulated()
        question = grid_project(rig.describe()).question
        plan = plan_for(rig.describe(), question)
        first = msgspec.structs.replace(plan, entries=plan.entries[:7])
        run_sweep(first, open_simulated(), Path(folder) / "warm.niente")
        samples, seconds = run_sweep(plan, open_simulated(), Path(folder) / "sweep.niente")
        speed = samples / seconds
        found.append(Result("engine and book, Larkspur at 1 Hz, warm", speed, "rig s/s", "real time", speed))
        found.append(Result("the same", speed, "rig s/s", "goal of 5000", speed / 5000.0))

        rig_alone = open_rig("larkspur", seed=3)
        rig_alone.start("vector")
        start = time.perf_counter()
        for _ in range(5000):
            rig_alone.frame(1.0)
        alone = 5000 / (time.perf_counter() - start)
        found.append(Result("engine and book, share of the rig alone", speed, "rig s/s", "the rig alone", speed / alone))

        book = BookReader(Path(folder) / "sweep.niente")
        start = time.perf_counter()
        evidence = gather(book)
        found.append(Result("summing up the sweep", (time.perf_counter() - start) * 1000, "ms", "", None))
        assert evidence is not None
        book.close()
        hours = sum(run.seconds for run in evidence.runs) / 3600
        naive = naive_runs(rig.describe(), question) * 0.5
        found.append(Result("bench hours of the sweep", hours, "h", "full factorial by half hours", hours / naive))
        heavy = [run for run in evidence.runs if run.load == "vector" and run.settled.known and not run.heat_limited]
        off = [run.settled.value_c - rig.true_settled_core_c(run.setting, run.load, run.settled.room_c) for run in heavy]
        inside = np.mean([abs(error) <= run.settled.half_width_k for error, run in zip(off, heavy, strict=True)])
        found.append(
            Result(
                "settled temperature, share of 95 % intervals that hold", 100 * float(inside), "%", "95 %", float(inside) / 0.95
            )
        )
        found.append(_read_a_night(Path(folder) / "night.niente", rig))
    return found


def _read_a_night(path: Path, rig: SimulatedRig) -> Result:
    """A night at 2 Hz, read back as arrays, against reading the same numbers from one flat file."""
    card = rig.describe()
    writer = BookWriter(path)
    plan = writer.add_document("plan", plan_for(card, grid_project(card).question))
    run_id = writer.open_run(plan, 0, RunKind.STEP, card.stock, "idle", card, 0.0)
    values = np.arange(float(len(card.channels)))
    for sample in range(2 * HOURS * 3600):
        writer.add_frame(run_id, Frame(sample / 2, values), at_once=False)
    writer.close()
    flat = path.with_suffix(".flat")
    book = BookReader(path)
    np.column_stack(book.frames(book.runs()[0])).tofile(flat)
    start = time.perf_counter()
    book.frames(book.runs()[0])
    seconds = time.perf_counter() - start
    book.close()
    start = time.perf_counter()
    np.fromfile(flat)
    flat_s = time.perf_counter() - start
    return Result(f"reading {HOURS} h at 2 Hz from the book", seconds * 1000, "ms", "one flat file", seconds / flat_s)
