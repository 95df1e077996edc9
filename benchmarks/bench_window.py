"""The window: how soon it shows, and for how long it is ever blocked while a run streams in as fast as it goes."""

import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from PySide6.QtCore import QTimer

from benchmarks.result import Result
from niente.core.bench.attach import attach
from niente.desktop.app import SWITCH_S, look_of, make_app
from niente.desktop.memory import Memory
from niente.desktop.session import Session
from niente.desktop.window import NAMES, Window

BARE = """
from PySide6.QtWidgets import QApplication, QMainWindow
app = QApplication([])
window = QMainWindow()
window.show()
app.processEvents()
"""
OURS = """
import os
from niente.desktop.app import make_app
app = make_app([])
from niente.desktop.session import Session
from niente.desktop.app import look_of
from niente.desktop.memory import Memory
from niente.desktop.window import Window
memory = Memory()
window = Window(Session(), look_of(app, memory), memory)
window.show()
app.processEvents()
os._exit(0)
"""


def _median_start_s(code: str, runs: int = 5) -> float:
    taken = []
    for _ in range(runs):
        start = time.perf_counter()
        subprocess.run([sys.executable, "-c", code], check=True, capture_output=True)
        taken.append(time.perf_counter() - start)
    return float(np.median(taken))


def gaps_ms(place: int, seconds: float, rig: str | None = None) -> np.ndarray:
    """Return the gaps between turns of the event loop on a page, in ms, while a plan runs as fast as it goes."""
    app = make_app([])
    sys.setswitchinterval(SWITCH_S)
    with tempfile.TemporaryDirectory() as folder:
        memory = Memory(Path(folder) / "window.ini")
        window = Window(Session(), look_of(app, memory), memory)
        window.show()
        window.session.open(
            lambda progress, hear: (attach(Path(folder) / "fast.niente", hear, rig=rig, seed=3), None), start=False
        )
        end = time.monotonic() + 60
        while not (window.pages and window.session.bench) and time.monotonic() < end:
            app.processEvents()
            time.sleep(0.01)
        window.actions_["plan.start"].trigger()
        window.go_to(place)
        gaps: list[float] = []
        last = time.perf_counter()
        stop = time.monotonic() + seconds
        first = time.monotonic() + 1.0  # the page's first drawing is its opening, not its streaming
        turn = QTimer()
        turn.start(1)
        while time.monotonic() < stop:
            app.processEvents()
            now = time.perf_counter()
            if time.monotonic() > first:
                gaps.append((now - last) * 1000)
            last = now
            time.sleep(0.001)
        window.session.close()
        window.close()
    return np.array(gaps)


def results() -> list[Result]:
    """Measure."""
    bare, ours = _median_start_s(BARE), _median_start_s(OURS)
    found = [
        Result("window shown after the command, warm", ours, "s", "a bare Qt window", ours / bare),
        Result("the same", ours, "s", "goal of 2 s", ours / 2.0),
    ]
    for place, name in enumerate(NAMES):
        gaps = gaps_ms(place, 6.0)
        worst = float(np.max(gaps))
        found.append(Result(f"longest blocked turn at full speed, {name}", worst, "ms", "goal of 50 ms", worst / 50.0))
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
