"""The bench's process: whether a load is ever on with nobody looking, how soon a guard acts beside other work, how soon a
client is there, and what it costs that somebody looks on."""

import datetime
import math
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec

from benchmarks.bench_core import open_simulated, run_sweep
from benchmarks.bench_run import WIDE, night
from benchmarks.bench_window import stream
from benchmarks.result import Result
from benchmarks.size import draws
from niente.core.acquisition.opening import open_bench
from niente.core.model.frame import Frame
from niente.core.model.limits import Limits
from niente.core.model.plan import PLAN_FORMAT, Exposure, Guard, GuardAction, Plan, Step
from niente.core.model.question import TemplateName
from niente.core.model.records import BenchFailed, FrameTaken, PlanEnded, Record, RunOpened, SamplesTaken
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.planning.templates import first_question, grid_project, plan_for
from niente.core.rigs.registry import open_rig, shipped
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.serving.starting import BenchOptions, reach_bench
from niente.desktop.app.window import NAMES

PACE = 10.0
SAMPLE_S = 1.0 / PACE
"""A sample of the shipped machines at that pace, in seconds of the wall."""
RIGS = draws(least=1, small=2, full=len(shipped()))
TEMPLATES = list(TemplateName)[: draws(least=1, small=3, full=len(TemplateName))]
PLAN_S, TRIPS = float(draws(least=4, small=8, full=12)), draws(least=2, small=10, full=40)
HISTORY = draws(least=2, small=16, full=88)
BUSY = "import time\nend = time.time() + {seconds}\nwhile time.time() < end: pass"
FITS = """
import sys, time
from pathlib import Path
from niente.core.selection.answer import work_out
from niente.core.model.limits import Limits
end = time.time() + {seconds}
while time.time() < end: work_out(Path({book!r}), Limits())
"""


@contextmanager
def other_work(seconds: float, book: Path | None = None) -> Iterator[None]:
    """Keep the computer busy meanwhile: two processes that compute, and one that fits a book's runs again and again."""
    words = [BUSY.format(seconds=seconds)] * 2
    if book is not None:
        words.append(FITS.format(seconds=seconds, book=str(book)))
    running = [subprocess.Popen([sys.executable, "-c", one], stderr=subprocess.DEVNULL) for one in words]
    try:
        yield
    finally:
        for process in running:
            process.kill()
            process.wait()


class Arrivals:
    """Keeps when samples came, and waits for the end of a plan."""

    def __init__(self) -> None:
        self.over = threading.Event()
        self.opened = 0
        self._last: float | None = None
        self.longest_s = 0.0

    def hear(self, record: Record) -> None:
        """Take a record in, in the bench's own threads."""
        if isinstance(record, RunOpened):
            self.opened += 1
        if isinstance(record, FrameTaken) and self.opened:
            now = time.perf_counter()
            if self._last is not None:
                self.longest_s = max(self.longest_s, now - self._last)
            self._last = now
        if isinstance(record, PlanEnded | BenchFailed):
            self.over.set()


def hurried(plan: Plan) -> Plan:
    """The same plan with runs of some seconds, whatever was measured before."""
    now = datetime.datetime.now(datetime.UTC).isoformat()
    rule = Exposure(8.0, 8.0)
    entries = [msgspec.structs.replace(one, exposure=rule) if isinstance(one, Step) else one for one in plan.entries]
    return msgspec.structs.replace(plan, entries=tuple(entries), since=now)


def longest_gap(card: RigCard, template: TemplateName, rig: SimulatedRig, book: Path) -> float:
    """Return the longest time between two samples from a plan's first run on, in samples."""
    heard = Arrivals()
    bench = open_bench(rig, book, heard.hear)
    try:
        bench.start(hurried(plan_for(card, first_question(card, template))), Limits())
        heard.over.wait(PLAN_S)
    finally:
        bench.close()
    return heard.longest_s / SAMPLE_S


def _gaps(folder: Path, swept: Path) -> list[Result]:
    found: list[float] = []
    for name in shipped()[:RIGS]:
        for template in TEMPLATES:
            rig = open_rig(name, seed=3, pace=PACE)
            assert isinstance(rig, SimulatedRig)
            card = rig.describe()
            book = folder / f"{name}-{template}.niente"
            if name == "larkspur":  # where much was measured, deciding takes longest
                shutil.copyfile(swept, book)
            with other_work(PLAN_S + 2.0):
                found.append(longest_gap(card, template, rig, book))
    words = f"longest gap between samples, {len(found)} plans at x10, beside two busy processes"
    return [Result(words, max(found), "samples", "goal of 1.5", max(found) / 1.5)]


class Timed(SimulatedRig):
    """A machine that keeps how long it took from a sample that was too hot to its being made safe."""

    trip_c = math.inf
    delays: list[float]
    _hot_at: float | None = None

    def frame(self, timeout_s: float) -> Frame | None:
        frame = super().frame(timeout_s)
        if frame is not None and self.load != "idle" and self._hot_at is None:
            cores = self.describe().indices("core_temperature_c")
            if max(float(frame.values[core]) for core in cores) >= self.trip_c:
                self._hot_at = time.perf_counter()
        return frame

    def make_safe(self) -> None:
        super().make_safe()
        if self._hot_at is not None:
            self.delays.append(time.perf_counter() - self._hot_at)
            self._hot_at = None


def _guard(folder: Path, swept: Path) -> list[Result]:
    """From the sample that trips a guard to the load being off, beside a window's worth of work."""
    rig = Timed(shipped_file("larkspur"), seed=3, pace=PACE)
    rig.trip_c, rig.delays = 50.0, []
    card = rig.describe()
    guard = Guard("core_temperature_c", 50.0, 40.0, 0.0, GuardAction.SKIP, "Too warm for a benchmark.")
    step = Step(Setting(sustained_power_w=120.0), "vector", Exposure(600.0, 600.0))
    steps = tuple(msgspec.structs.replace(step, stage=str(index)) for index in range(TRIPS))
    heard = Arrivals()
    with other_work(40.0 * TRIPS, swept):
        bench = open_bench(rig, folder / "guard.niente", heard.hear)
        bench.start(Plan(PLAN_FORMAT, card.name, "test", steps, (guard,)), Limits())
        end = time.monotonic() + 30.0 * TRIPS
        while len(rig.delays) < TRIPS and not heard.over.is_set() and time.monotonic() < end:
            time.sleep(0.05)
        bench.close()
    worst = max(rig.delays) if rig.delays else math.nan
    words = f"a guard's sample to load off, longest of {len(rig.delays)}, beside fits and two busy processes"
    return [Result(words, worst * 1e3, "ms", "one sample at x10", worst / SAMPLE_S)]


def _timed(do: Callable[[], object]) -> float:
    begun = time.perf_counter()
    do()
    return time.perf_counter() - begun


def _attach(folder: Path) -> list[Result]:
    """How soon a client has all that a running bench measured."""
    book, told = folder / "attach.niente", threading.Event()
    options = BenchOptions(WIDE, seed=3)
    first = reach_bench(book, lambda record: None, options)
    plan = night(first.card)
    steps = (*plan.steps[: HISTORY - 1], Step(plan.steps[-1].setting, "vector", Exposure(1e6, 1e6)))
    ended = threading.Event()
    watcher = reach_bench(
        book, lambda record: ended.set() if isinstance(record, RunOpened) and record.index == len(steps) - 1 else None
    )
    first.start(msgspec.structs.replace(plan, entries=steps), Limits())
    ended.wait(600.0)
    watcher.leave()
    first.set_pace(60.0)
    time.sleep(1.0)

    def come() -> None:
        def hear(record: object) -> None:
            if isinstance(record, SamplesTaken) and record.run_id is not None:
                told.set()

        client = reach_bench(book, hear)
        told.wait(30.0)
        clients.append(client)

    clients: list[object] = []
    seconds = _timed(come)
    hours = (len(steps) - 1) * 0.5
    first.close()
    return [Result(f"a client comes to a bench that runs, with {hours:.0f} h of traces", seconds, "s", "goal of 1 s", seconds)]


def results() -> list[Result]:
    """Measure."""
    found = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        swept = folder / "swept.niente"
        card = open_simulated().describe()
        question = grid_project(card).question
        run_sweep(plan_for(card, question), open_simulated(), swept)
        samples, seconds = run_sweep(plan_for(card, question), open_simulated(), folder / "again.niente")
        alone = samples / seconds
        found += _gaps(folder, swept)
        found += _guard(folder, swept)
        found += _attach(folder)
    streamed = stream(NAMES.index("Run"), float(draws(least=3, small=10, full=20)))
    speed = streamed.rig_hours * 3600.0 / streamed.seconds
    found.append(Result("engine and book, a window looking on", speed, "rig s/s", "goal of 2000", speed / 2000.0))
    found.append(Result("the same", speed, "rig s/s", "headless, in this process", speed / alone))
    return found
