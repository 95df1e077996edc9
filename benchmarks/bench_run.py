"""A night at the bench: the window beside thirty channels at full speed, and how soon hours of them open again."""

import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

from benchmarks.bench_window import stream
from benchmarks.result import Result
from benchmarks.size import draws
from niente.core.acquisition.guards.guard_set import GuardSet
from niente.core.analysis.evidence import evidence_in
from niente.core.model.frame import Frame
from niente.core.model.guard_rules import default_guards
from niente.core.model.plan import PLAN_FORMAT, Exposure, Plan, Step
from niente.core.model.rig_card import RigCard
from niente.core.model.runs import RunKind, RunOutcome
from niente.core.model.setting import Setting
from niente.core.rigs.registry import open_rig
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.serving.starting import BenchOptions, reach_bench
from niente.core.storage.writer import BookWriter
from niente.desktop.app.main import look_of, make_app
from niente.desktop.app.window import NAMES, Window
from niente.desktop.services.preferences import Preferences
from niente.desktop.session.session import Session

WIDE = "cormorant"
RUNS, RUN_S = draws(least=8, small=16, full=88), 1800
"""Half an hour each: 44 hours in full."""
HOURS, MAX_S = RUNS * RUN_S / 3600.0, float(draws(least=8, small=60, full=300))
GOAL_OPEN_S = 1.0


def night(card: RigCard) -> Plan:
    """Runs of half an hour, from cool to hot."""
    rule = Exposure(min_s=float(RUN_S), max_s=float(RUN_S))
    watts = np.linspace(100.0, 230.0, RUNS).round()
    steps = tuple(Step(Setting(sustained_power_w=float(one)), "vector", rule, "free") for one in watts)
    return Plan(PLAN_FORMAT, WIDE, "free", steps, default_guards(card))


def fill(book: Path) -> int:
    """Write hours of a machine into a book, as a bench would; return how many channels it has."""
    rig = open_rig(WIDE, seed=3)
    assert isinstance(rig, SimulatedRig)
    card = rig.describe()
    whole_night = night(card)
    writer = BookWriter(book)
    writer.add_document("rig", card)
    plan = writer.add_document("plan", whole_night)
    for index, step in enumerate(whole_night.steps):
        whole = step.setting.over(card.stock)
        rig.apply(whole)
        rig.start("vector")
        time_s, values, _ = rig.record(RUN_S)
        run_id = writer.open_run(plan, index, RunKind.STEP, whole, "vector", card, float(time_s[0]))
        for at, row in zip(time_s.tolist(), values, strict=True):
            writer.add_frame(run_id, Frame(at, row), at_once=False)
        writer.close_run(run_id, RunOutcome.DONE, "its time is over", float(time_s[-1]))
    writer.close()
    return len(card.channels)


def _timed(do: Callable[[], object]) -> float:
    start = time.perf_counter()
    do()
    return time.perf_counter() - start


def _until_shown(book: Path, folder: Path) -> float:
    """Return how long it takes until a window that stands shows a book: the bench attached, the pages made."""
    app = make_app([])
    preferences = Preferences(folder / "window.ini")
    window = Window(Session(own_processes=True), look_of(app, preferences), preferences)
    window.show()
    app.processEvents()
    start = time.perf_counter()
    window.session.open(lambda _, hear: (reach_bench(book, hear, BenchOptions(WIDE, seed=3)), None), start=False)
    while not (window.pages and window.session.bench is not None) and time.perf_counter() < start + 30.0:
        app.processEvents()
        time.sleep(0.001)
    taken = time.perf_counter() - start
    window.session.close()
    window.close()
    return taken


def results() -> list[Result]:
    """Measure."""
    found = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        book = folder / "night.niente"
        channels = fill(book)
        words = f"{HOURS:.0f} h of {channels} channels"
        shown = _until_shown(book, folder)
        found.append(Result(f"a book of {words} opens", shown, "s", "goal of 1 s", shown / GOAL_OPEN_S))
        empty = _until_shown(folder / "empty.niente", folder)
        found.append(Result("the same", shown, "s", "an empty book", shown / empty))
        gathered = _timed(lambda: evidence_in(book))
        found.append(Result(f"{words} summed up, beside the window", gathered, "s", "opening it", gathered / shown))
    found.append(_guards())
    streamed = stream(NAMES.index("Run"), MAX_S, WIDE, night(open_rig(WIDE, seed=3).describe()), HOURS)
    gaps, words = streamed.gaps_ms, f"{streamed.rig_hours:.0f} h of {channels} channels streamed on Run"
    worst, usual = float(np.max(gaps)), float(np.percentile(gaps, 99.9))
    found.append(Result(f"{words}, longest blocked turn", worst, "ms", "goal of 50 ms", worst / 50.0))
    work = float(np.max(streamed.work_ms))
    found.append(Result("the same, in processor time", work, "ms", "goal of 50 ms", work / 50.0))
    found.append(Result("99.9th percentile of its turns", usual, "ms", "goal of 50 ms", usual / 50.0))
    over = float(np.mean(gaps > 50.0))
    found.append(Result("turns over 50 ms", 100 * over, "%", "none", None))
    found.append(Result("told to repaint", streamed.repaints_hz, "Hz", "goal of 30 Hz", streamed.repaints_hz / 30.0))
    return found


def _guards() -> Result:
    """What all guards take of a sample, against what the machine itself takes to give one."""
    rig = open_rig(WIDE, seed=3)
    assert isinstance(rig, SimulatedRig)
    card = rig.describe()
    rig.start("vector")
    rig.record(10)
    time_s, values, _ = rig.record(5000)
    frames = [Frame(at, row) for at, row in zip(time_s.tolist(), values, strict=True)]
    watch = GuardSet(default_guards(card), card)
    guarded = _timed(lambda: [watch.look(frame, card.stock) for frame in frames])
    alone = _timed(lambda: [rig.frame(1.0) for _ in range(5000)])
    return Result("all guards, a sample", guarded / 5000 * 1e6, "µs", "the rig's own sample", guarded / alone)
