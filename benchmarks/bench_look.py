"""The look's speed: changes of page and palette, pages at rest, the map drawn anew, and twelve long traces panned."""

import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QEventLoop, QTimer
from PySide6.QtWidgets import QApplication

from benchmarks.result import Result
from benchmarks.size import draws
from niente.core.acquisition.opening import open_bench
from niente.core.acquisition.samples import Samples
from niente.core.acquisition.strip_chart import StripChart
from niente.core.model.frame import Frame
from niente.core.model.plan import Exposure, Step
from niente.core.model.project import Project
from niente.core.model.records import PlanEnded, Record, RunOpened
from niente.core.model.setting import Setting
from niente.core.planning.templates import grid_project, plan_for
from niente.core.rigs.registry import open_rig
from niente.core.science.dynamics import Scale
from niente.core.serving.starting import BenchOptions, reach_bench
from niente.desktop.app.main import look_of, make_app
from niente.desktop.app.window import NAMES, Window
from niente.desktop.pages.map.page import MapPage
from niente.desktop.pages.run.page import RunPage
from niente.desktop.services.preferences import Preferences
from niente.desktop.services.theme import PaletteChoice
from niente.desktop.session.live_run import LiveRun
from niente.desktop.session.session import Session

SAMPLES = draws(least=20_000, small=160_000, full=160_000)
IDLE_S = draws(least=1, small=4, full=10)
LINES = 12


def _sweep(path: Path) -> Project:
    """Make a finished sweep of Larkspur."""
    ended: list[PlanEnded] = []

    def hear(event: Record) -> None:
        if isinstance(event, PlanEnded):
            ended.append(event)

    bench = open_bench(open_rig("larkspur", seed=3), path, hear)
    project = grid_project(bench.card)
    bench.save_project(project)
    bench.start(plan_for(bench.card, project.question), project.limits)
    end = time.monotonic() + 120
    while not ended and time.monotonic() < end:
        time.sleep(0.05)
    bench.close()
    return project


def _milliseconds(work: Callable[[], object], times: int) -> np.ndarray:
    taken = []
    for _ in range(times):
        start = time.perf_counter()
        work()
        taken.append((time.perf_counter() - start) * 1000.0)
    return np.array(taken)


def _frame(window: Window) -> None:
    """Paint what the window shows, as the screen would ask for it."""
    QApplication.processEvents()
    window.grab()


def _window(folder: Path, app: QApplication) -> Window:
    book = folder / "sweep.niente"
    _sweep(book)
    preferences = Preferences(folder / "window.ini")
    window = Window(Session(own_processes=True), look_of(app, preferences), preferences)
    window.show()
    window.session.open(lambda progress, hear: (reach_bench(book, hear, BenchOptions("larkspur", seed=3)), None), start=False)
    end = time.monotonic() + 60
    while window.session.answer.choice is None and time.monotonic() < end:
        app.processEvents()
        time.sleep(0.01)
    return window


def _change_ms(window: Window, index: int) -> float:
    """Return how long it takes from another page to this one, until it is painted."""
    window.go_to((index + 1) % len(NAMES))
    _frame(window)
    start = time.perf_counter()
    window.go_to(index)
    window.grab()
    return (time.perf_counter() - start) * 1000.0


def _palettes(window: Window) -> list[Result]:
    """Return how long another palette takes, until it is painted, from each page."""
    found = []
    for index, page in enumerate(NAMES):
        window.go_to(index)
        _frame(window)
        taken = []
        for _ in range(3):
            for palette_choice in (PaletteChoice.DUSK, PaletteChoice.PAPER):
                start = time.perf_counter()
                window.look.apply(palette_choice)
                window.grab()
                taken.append((time.perf_counter() - start) * 1000.0)
        median = float(np.median(taken))
        found.append(Result(f"another palette on the page {page}, painted", median, "ms", "goal of 300 ms", median / 300.0))
    return found


def _idle(window: Window, index: int, page: str) -> Result:
    """Return what a page costs while the machine idles, as a share of one core."""
    window.go_to(index)
    _live(0.5)
    before, start = time.process_time(), time.perf_counter()
    _live(IDLE_S)
    share = 100.0 * (time.process_time() - before) / (time.perf_counter() - start)
    return Result(f"the page {page} at rest", share, "% of a core", "goal of 2 %", share / 2.0)


def _live(seconds: float) -> None:
    """Let the window live for a while, as it does: in its own loop."""
    loop = QEventLoop()
    QTimer.singleShot(int(seconds * 1000), loop.quit)
    loop.exec()


def _traces(window: Window, folder: Path) -> list[Result]:
    """Twelve lines of 160 000 samples each, panned and zoomed; the baseline draws every sample of one of them."""
    card, page = window.session.card, window.page(RunPage)
    assert card is not None
    strip = StripChart(card)
    chance = np.random.default_rng(1)
    walk = np.cumsum(chance.normal(0.0, 0.02, (SAMPLES, len(card.channels))), axis=0) + 60.0
    step = Step(Setting(sustained_power_w=100.0), "vector", Exposure(60.0, 60.0))
    strip.begin(1, 1, step, 0.0, 46.0)
    samples = Samples(len(card.channels))
    for index in range(SAMPLES):
        frame = Frame(float(index), walk[index])
        strip.add(frame, 1)
        samples.add(frame)
    window.go_to(NAMES.index("Run"))
    assert isinstance(page, RunPage)
    traces = page.traces
    traces.attach(card)
    traces._drawn_at = 0.0
    traces.show_run(strip, LiveRun(RunOpened(1, 0, 1, step, 1, 0, card.stock, "vector", 0.0), samples, []), [], Scale())
    assert traces.sight is not None
    sight = traces.sight
    drawn = sum(len(panel.spec.lines) for panel in sight.panels)
    extra = LINES - drawn
    for panel in sight.panels[1:]:  # fill the panels up to twelve lines
        if extra <= 0:
            break
        more = min(extra, 2)
        lines = tuple(msgspec.structs.replace(panel.spec.lines[0], channel=f"core_temperature_c.{n + 1}") for n in range(more))
        for line in lines:
            curve = pg.PlotCurveItem(antialias=True, connect="finite")
            curve.setPen(panel.curves[panel.spec.lines[0].channel].opts["pen"])
            panel.box.addItem(curve)
            panel.curves[line.channel] = curve
        panel.spec = msgspec.structs.replace(panel.spec, lines=panel.spec.lines + lines)
        extra -= more
    sight.range_s = (0.0, float(SAMPLES))
    traces.following = False
    way = iter([1.0, -1.0] * 200)

    def pan() -> None:
        traces.pan(0.02 * next(way))
        sight.canvas.grab()

    def zoom() -> None:
        traces.zoom(1.1 if next(way) > 0 else 1 / 1.1)
        sight.canvas.grab()

    pan()
    panned, zoomed = _milliseconds(pan, 40), _milliseconds(zoom, 40)

    line = sight.panels[1].spec.lines[0]
    curve = sight.panels[1].curves[line.channel]

    def naive() -> None:
        curve.setData(strip.time_s, walk[:, 0])
        sight.canvas.grab()

    bare = float(np.median(_milliseconds(naive, 3)))
    found = []
    for name, taken in (("pan", panned), ("zoom", zoomed)):
        median = float(np.median(taken))
        found += [
            Result(f"{LINES} traces of {SAMPLES:,} samples, a frame of a {name}", median, "ms", "goal of 33 ms", median / 33.0),
            Result(f"the same, {name}", median, "ms", "one of them drawn sample by sample", median / bare),
        ]
    return found


def results() -> list[Result]:
    """Measure."""
    app = make_app([])
    found: list[Result] = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        window = _window(folder, app)
        for index, page in enumerate(NAMES):
            taken = [_change_ms(window, index) for _ in range(8)][1:]
            median = float(np.median(taken))
            found.append(Result(f"change to the page {page}, painted", median, "ms", "goal of 100 ms", median / 100.0))
        found += _palettes(window)
        assert window.session.bench is not None
        window.session.bench.set_pace(1.0)  # a sample a second, as a machine on the bench has it
        found += [_idle(window, index, page) for index, page in enumerate(NAMES)]
        window.go_to(NAMES.index("Map"))
        map_page = window.page(MapPage)
        assert isinstance(map_page, MapPage)
        view = map_page.view
        layer = iter(list(range(6)) * 20)

        def another_layer() -> None:
            map_page.request_row.layer.setCurrentIndex(next(layer))
            view.canvas.grab()

        another_layer()
        layers = _milliseconds(another_layer, 24)
        found.append(
            Result("map redrawn, another layer", float(np.median(layers)), "ms", "goal of 50 ms", float(np.median(layers)) / 50)
        )
        steps = iter(range(200))

        def cross() -> None:
            view._move_to(3 + next(steps) % 9, 7)
            view.canvas.grab()

        crossed = float(np.median(_milliseconds(cross, 24)))
        found.append(Result("map redrawn, the crosshair moved", crossed, "ms", "goal of 50 ms", crossed / 50))

        def new_answer() -> None:
            view._shown = None
            map_page.refresh()
            view.canvas.grab()

        anew = float(np.median(_milliseconds(new_answer, 12)))
        found.append(Result("map redrawn, a new answer", anew, "ms", "goal of 50 ms", anew / 50))
        found += _traces(window, folder)
        window.session.close()
        window.close()
    return found
