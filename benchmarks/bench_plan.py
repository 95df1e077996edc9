"""A long plan: how long an edit of it holds the window, how long its runs take to be foreseen, and what plans save."""

import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np
from PySide6.QtCore import QTimer

from benchmarks.result import Result
from benchmarks.size import some_of
from niente.core.acquisition.opening import open_bench
from niente.core.analysis.evidence import evidence_in
from niente.core.analysis.models import fit_models
from niente.core.model.question import Axis, Question, Span
from niente.core.model.records import BenchFailed, PlanEnded, Record
from niente.core.model.rig_card import RigCard
from niente.core.planning.cost import cost_of, pace_of
from niente.core.planning.forecast import foresee
from niente.core.planning.progress import plan_rows
from niente.core.planning.templates import first_question, grid_project, plan_for
from niente.core.rigs.registry import open_rig, shipped
from niente.core.serving.starting import BenchOptions, reach_bench
from niente.desktop.app.main import SWITCH_S, look_of, make_app
from niente.desktop.app.window import NAMES, Window
from niente.desktop.pages.plan.page import PlanPage
from niente.desktop.services.preferences import Preferences
from niente.desktop.session.session import Session

LONG = (
    Axis("sustained_power_w", span=Span(60.0, 160.0, 2.0)),
    Axis("fan_duty.case", span=Span(2.0, 99.0, 1.0)),
)


def _swept(folder: Path) -> Path:
    """Return a book with a finished quiet point."""
    over = threading.Event()

    def hear(event: Record) -> None:
        if isinstance(event, PlanEnded | BenchFailed):
            over.set()

    book = folder / "swept.niente"
    bench = open_bench(open_rig("larkspur", seed=3), book, hear)
    project = grid_project(bench.card)
    bench.save_project(project)
    bench.start(plan_for(bench.card, project.question), project.limits)
    over.wait(300.0)
    bench.close()
    return book


def _long(card: RigCard) -> Question:
    return msgspec.structs.replace(first_question(card, "free"), axes=LONG)


def _median_s(deed: Callable[[], object], times: int = 5) -> float:
    taken = []
    for _ in range(times):
        start = time.perf_counter()
        deed()
        taken.append(time.perf_counter() - start)
    return float(np.median(taken))


def _edits(book: Path, folder: Path) -> tuple[float, float, int]:
    """Return the median ms that an edit holds the window, the worst turn of its loop meanwhile, and the runs."""
    app = make_app([])
    sys.setswitchinterval(SWITCH_S)
    preferences = Preferences(folder / "window.ini")
    window = Window(Session(own_processes=True), look_of(app, preferences), preferences)
    window.show()
    options = BenchOptions("larkspur", seed=3, pace=60.0)
    window.session.open(lambda progress, hear: (reach_bench(book, hear, options), None), start=False)
    turns: list[float] = []

    def live(seconds: float) -> None:
        end, last = time.monotonic() + seconds, time.perf_counter()
        while time.monotonic() < end:
            app.processEvents()
            now = time.perf_counter()
            turns.append((now - last) * 1000)
            last = now
            time.sleep(0.001)

    tick = QTimer()
    tick.start(1)
    end = time.monotonic() + 60
    while not (window.pages and window.session.answer.models) and time.monotonic() < end:
        live(0.1)
    window.go_to(NAMES.index("Plan"))
    page, planner = window.page(PlanPage), window.session.planner
    page.commands.change_question("many", _long(planner.laid.request.card))  # type: ignore[union-attr]
    live(4.0)
    page.table.selectRow(100)
    live(0.5)
    held = []
    turns.clear()
    for edit in (page.up, page.leave_out, page.repeat, page.down, page.up, page.leave_out):
        start = time.perf_counter()
        edit()
        held.append((time.perf_counter() - start) * 1000)
        live(1.5)
    runs = len(planner.rows)
    window.session.close()
    window.close()
    return float(np.median(held)), max(turns), runs


def results() -> list[Result]:
    """Measure."""
    found = []
    with tempfile.TemporaryDirectory() as folder:
        book = _swept(Path(folder))
        evidence = evidence_in(book)
        assert evidence is not None
        models = fit_models(evidence)
        plan = plan_for(evidence.card, _long(evidence.card))
        rows = plan_rows(plan, evidence.card, evidence)
        steps = [row.step for row in rows]
        seconds = _median_s(lambda: foresee(models, steps))
        found.append(Result(f"{len(steps)} runs foreseen", seconds, "s", "goal of 1 s", seconds))
        held, worst, runs = _edits(book, Path(folder))
        found.append(Result(f"an edit of {runs} runs holds the window", held, "ms", "goal of 50 ms", held / 50.0))
        found.append(Result("longest turn while it is laid out", worst, "ms", "goal of 50 ms", worst / 50.0))
    for name in some_of(shipped()):
        card = open_rig(name).describe()
        question = first_question(card)
        cost = cost_of(plan_rows(plan_for(card, question), card), card, question, pace_of(card, None))
        hours = cost.typical_s / 3600.0
        found.append(
            Result(
                f"quiet point of {card.title}, foreseen",
                hours,
                "h",
                "the full factorial by half hours",
                cost.typical_s / cost.naive_s,
            )
        )
    return found
