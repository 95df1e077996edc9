"""The window: how soon it shows, and for how long it is ever blocked while a run streams in as fast as it goes."""

import subprocess
import sys
import tempfile
import time
from pathlib import Path

import msgspec
import numpy as np
from PySide6.QtCore import QTimer

from benchmarks.result import Result
from benchmarks.size import draws
from niente.core.model.plan import Plan
from niente.core.serving.starting import BenchOptions, reach_bench
from niente.desktop.app.main import SWITCH_S, look_of, make_app
from niente.desktop.app.window import NAMES, Window
from niente.desktop.services.preferences import Preferences
from niente.desktop.session.session import Session

BARE = """
from PySide6.QtWidgets import QApplication, QMainWindow
app = QApplication([])
window = QMainWindow()
window.show()
app.processEvents()
"""
OURS = """
import os
from niente.desktop.app.main import make_app
app = make_app([])
from niente.desktop.session.session import Session
from niente.desktop.app.main import look_of
from niente.desktop.services.preferences import Preferences
from niente.desktop.app.window import Window
preferences = Preferences()
window = Window(Session(), look_of(app, preferences), preferences)
window.show()
app.processEvents()
os._exit(0)
"""


def _median_start_s(code: str, runs: int = draws(least=1, small=5, full=5)) -> float:
    taken = []
    for _ in range(runs):
        start = time.perf_counter()
        subprocess.run([sys.executable, "-c", code], check=True, capture_output=True)
        taken.append(time.perf_counter() - start)
    return float(np.median(taken))


class Streamed(msgspec.Struct):
    """What a window did while a plan ran as fast as it goes: the gaps between turns of its event loop in ms, by the clock and
    in processor time of its thread (which leaves out what other programs took), how many of the rig's hours came in, and how
    often a second it was told to repaint."""

    gaps_ms: np.ndarray
    work_ms: np.ndarray
    rig_hours: float
    repaints_hz: float
    seconds: float = 0.0


def stream(index: int, seconds: float, rig: str | None = None, plan: Plan | None = None, hours: float = 1e9) -> Streamed:
    """Let a plan run as fast as it goes while a page shows, for so many seconds, or until so many of the rig's hours came."""
    app = make_app([])
    sys.setswitchinterval(SWITCH_S)
    with tempfile.TemporaryDirectory() as folder:
        preferences = Preferences(Path(folder) / "window.ini")
        window = Window(Session(own_processes=True), look_of(app, preferences), preferences)
        session = window.session
        window.show()
        book = Path(folder) / "fast.niente"
        session.open(lambda progress, hear: (reach_bench(book, hear, BenchOptions(rig=rig, seed=3)), None), start=False)
        end = time.monotonic() + 60
        while not (window.pages and session.bench) and time.monotonic() < end:
            app.processEvents()
            time.sleep(0.01)
        if plan is not None:
            session.planner.take(plan, None)
        repaints = [0]

        def count() -> None:
            repaints[0] += 1

        session.sampled.connect(count)
        window.actions_["plan.start"].trigger()
        window.go_to(index)
        gaps: list[float] = []
        work: list[float] = []
        last, worked = time.perf_counter(), time.thread_time()
        begun = time.monotonic()
        first = begun + 1.0  # the page's first drawing is its opening, not its streaming
        turn = QTimer()
        turn.start(1)
        came = 0.0
        while time.monotonic() < begun + seconds and came < hours:
            app.processEvents()
            now, done = time.perf_counter(), time.thread_time()
            if time.monotonic() > first:
                gaps.append((now - last) * 1000)
                work.append((done - worked) * 1000)
            last, worked = now, done
            came = session.frame.time_s / 3600.0 if session.frame is not None else 0.0
            time.sleep(0.001)
        taken = time.monotonic() - begun
        session.close()
        window.close()
    return Streamed(np.array(gaps), np.array(work), came, repaints[0] / taken, taken)


def results() -> list[Result]:
    """Measure."""
    bare, ours = _median_start_s(BARE), _median_start_s(OURS)
    found = [
        Result("window shown after the command, warm", ours, "s", "a bare Qt window", ours / bare),
        Result("the same", ours, "s", "goal of 1 s", ours / 1.0),
    ]
    for index, name in enumerate(NAMES):
        streamed = stream(index, float(draws(least=2, small=6, full=6)))
        gaps = streamed.gaps_ms
        worst, work = float(np.max(gaps)), float(np.max(streamed.work_ms))
        found.append(Result(f"longest blocked turn at full speed, {name}", worst, "ms", "goal of 50 ms", worst / 50.0))
        found.append(Result("the same, in processor time", work, "ms", "goal of 50 ms", work / 50.0))
        found.append(
            Result(
                f"99.9th percentile of turns, {name}",
                float(np.percentile(gaps, 99.9)),
                "ms",
                "goal of 50 ms",
                float(np.percentile(gaps, 99.9)) / 50.0,
            )
        )
    return found
