"""A window on a book, driven offscreen."""

import gc
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QEvent, QTimer
from PySide6.QtWidgets import QApplication, QWidget
from pytestqt.qtbot import QtBot

from niente.core.acquisition.client import Hearer
from niente.core.acquisition.opening import open_bench
from niente.core.analysis.evidence import Evidence
from niente.core.model.limits import Limits
from niente.core.model.project import Project
from niente.core.model.rig_sheet import applied
from niente.core.planning.templates import grid_project
from niente.core.selection import answer as analysis
from niente.core.selection.answer import Answer, work_out
from niente.core.serving.desktop_bus import DesktopBus
from niente.desktop.app.main import look_of, make_app
from niente.desktop.app.window import NAMES, Window
from niente.desktop.pages.answer.page import AnswerPage
from niente.desktop.services.preferences import Preferences
from niente.desktop.services.theme import PaletteChoice
from niente.desktop.session.session import Session
from tests.conftest import larkspur_rig
from tests.here import BenchHere, serve_here
from tests.waiting import until
from tests.waiting_bot import qtbot

__all__ = ["qtbot"]


class QuietBus(DesktopBus):
    """A desktop bus that keeps what it is told, for tests to look at."""

    def __init__(self) -> None:
        super().__init__()
        self.notified: list[tuple[str, str, bool]] = []

    def notify(self, title: str, text: str, *, urgent: bool = False) -> None:
        self.notified.append((title, text, urgent))


@pytest.fixture(scope="session", autouse=True)
def window_thread_collects() -> Iterator[None]:
    """Garbage is collected in the window's thread alone, as the application does it (``desktop/services/garbage.py``): a
    window's objects that end in the bench's thread can wait for each other for ever."""
    gc.collect()
    gc.freeze()
    gc.disable()
    yield
    gc.enable()
    gc.unfreeze()


@pytest.fixture(autouse=True)
def collected_after(request: pytest.FixtureRequest) -> Iterator[None]:
    """The windows that a test leaves are collected here, once it is over."""
    yield
    if "qtbot" in request.fixturenames:
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
        gc.collect()


@pytest.fixture(autouse=True)
def no_dialog_waits(qapp: QApplication) -> Iterator[None]:
    """A dialog that nobody answers fails its test; else it would hold up all tests that follow."""
    seen: list[QWidget | None] = [None]
    unanswered: list[str] = []

    def look() -> None:
        dialog = QApplication.activeModalWidget()
        if dialog is not None and dialog is seen[0]:
            unanswered.append(dialog.windowTitle())
            dialog.close()
        seen[0] = dialog

    watch = QTimer()
    watch.timeout.connect(look)
    watch.start(15_000)
    yield
    watch.stop()
    assert not unanswered, f"Nobody answered: {unanswered}"


@pytest.fixture(autouse=True)
def own_settings(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Nothing of the person's who runs the tests is read or written."""
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))


@pytest.fixture
def open_window(qtbot: QtBot, tmp_path: Path) -> Iterator[Callable[..., Window]]:
    """Return a function that opens a window on a book and waits until it is attached."""
    app = make_app([])
    look_of(app, Preferences()).apply(PaletteChoice.PAPER)
    opened: list[Window] = []

    def open_on(
        book: Path | None = None, pace: float | None = None, project: Project | None = None, *, fresh: bool = False
    ) -> Window:
        """A new book asks for the quiet point, unless it is to be ``fresh``: without a question yet."""
        preferences = Preferences()
        window = Window(Session(), look_of(app, preferences), preferences, desktop_bus=QuietBus())
        qtbot.addWidget(window, before_close_func=lambda closing: closing.session.close())
        window.show()
        rig = larkspur_rig(pace=pace)

        def prepare(progress: object, listener: Hearer) -> tuple[BenchHere, Project | None]:
            bench = serve_here(lambda hear: open_bench(rig, book or tmp_path / "new.niente", hear), listener)
            return bench, project or (None if fresh else asking(bench))

        window.session.open(prepare, start=False)
        qtbot.waitUntil(lambda: bool(window.pages) and window.session.bench is not None)
        opened.append(window)
        return window

    yield open_on
    for window in opened:
        window.session.close()


@pytest.fixture(scope="session")
def swept_answer(sweep: tuple[Path, Project], evidence: Evidence) -> Answer:
    """What a finished sweep comes to."""
    return work_out(sweep[0], Limits(), evidence)


class SharedWindow:
    """A window that many tests of one worker look at. They may edit what can be undone, choose pages, sizes and palettes;
    all of that is taken back after each."""

    def __init__(self, book: Path, folder: Path, answer: Answer | None) -> None:
        app = make_app([])
        preferences = Preferences(folder / "window.ini")
        self.window = Window(Session(), look_of(app, preferences), preferences, desktop_bus=QuietBus())
        self.window.plan_commands.folder = folder / "questions"
        self.window.show()
        first = [answer] if answer is not None else []
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(analysis, "work_out", lambda *request: first.pop() if first else work_out(*request))
            self.window.session.open(lambda _, told: with_question(larkspur_here(book, told)), start=False)
            until(lambda: bool(self.window.pages) and self.window.session.bench is not None, QApplication.processEvents)
            if answer is not None:
                until(lambda: self.window.session.answer.choice is not None, QApplication.processEvents)
        self.project = self.window.session.project
        self.size = self.window.size()

    def lend(self) -> Window:
        """Return the window as it was when it opened."""
        self.window.show()
        self.window.resize(self.size)
        if self.window.look.palette_choice != PaletteChoice.PAPER:
            self.window.apply(PaletteChoice.PAPER)
        self.window.show_margin(True)
        self.window.message.hide()
        self.window.go_to(NAMES.index("Plan"))
        self.window.activateWindow()
        QApplication.processEvents()
        return self.window

    def take_back(self) -> None:
        """Undo what was edited; a test that did what cannot be undone has borrowed the wrong window."""
        session = self.window.session
        edited = session.undo.count() > 0
        session.undo.setIndex(0)
        if edited:
            await_sheet(session)
        session.undo.setIndex(0)
        session.undo.clear()
        QApplication.processEvents()
        clean = session.project == self.project and not session.busy()
        if not clean and self.project is not None:
            session._set_project(self.project)
        self.window.hide()
        assert clean, "a test that shares this window did what cannot be undone"

    def close(self) -> None:
        """Close it for good."""
        self.window.session.close()
        self.window.deleteLater()
        QApplication.processEvents()


def asking(bench: BenchHere) -> Project:
    """The book's own project, or that of a new book in which the quiet point was chosen."""
    return bench.project or grid_project(bench.card)


def with_question(bench: BenchHere) -> tuple[BenchHere, Project]:
    """A bench, and a project that asks something."""
    return bench, asking(bench)


def larkspur_here(book: Path, told: Hearer) -> BenchHere:
    """A client of a bench on Larkspur, served in this process."""
    return serve_here(lambda hear: open_bench(larkspur_rig(), book, hear), told)


def await_sheet(session: Session) -> None:
    """Let the bench's thread take the sheet as it is now, and what it says of that come in."""
    bench, sheet = session.bench, session.sheets.now
    if not isinstance(bench, BenchHere) or sheet is None or bench.busy:
        return
    until(lambda: bench.bench._next_sheet is None and bench.card == applied(bench.own_card, sheet), QApplication.processEvents)
    before = session.frame

    def newer() -> bool:
        session._bridge.hand_over()
        return session.frame is not before

    # records come in their order: with a later frame, what was said of the card is here too
    until(newer, QApplication.processEvents)


def drain(session: Session) -> None:
    """Let everything that is under way come in: records on the bridge, plans being laid out, answers and maps."""
    for _ in range(3):  # what comes in may set more going
        session._bridge.hand_over()
        session.analyst._pool.submit(lambda: None).result(20)
        if session.planner._breath.isActive():
            session.planner._breath.timeout.emit()
        session.planner._pool.submit(lambda: None).result(20)
        QApplication.processEvents()


@pytest.fixture(scope="session")
def shared_swept(
    sweep: tuple[Path, Project], swept_answer: Answer, tmp_path_factory: pytest.TempPathFactory, qapp: QApplication
) -> Iterator[SharedWindow]:
    folder = tmp_path_factory.mktemp("shared")
    shared = SharedWindow(Path(shutil.copyfile(sweep[0], folder / "swept.niente")), folder, swept_answer)
    yield shared
    shared.close()


@pytest.fixture(scope="session")
def shared_new(tmp_path_factory: pytest.TempPathFactory, qapp: QApplication) -> Iterator[SharedWindow]:
    folder = tmp_path_factory.mktemp("shared")
    shared = SharedWindow(folder / "new.niente", folder, None)
    yield shared
    shared.close()


@pytest.fixture
def read_window(shared_swept: SharedWindow) -> Iterator[Window]:
    """A window on a finished sweep that many tests share."""
    yield shared_swept.lend()
    shared_swept.take_back()


@pytest.fixture
def new_window(shared_new: SharedWindow) -> Iterator[Window]:
    """A window on a new book that many tests share."""
    yield shared_new.lend()
    shared_new.take_back()


@pytest.fixture
def swept_window(
    open_window: Callable[..., Window], sweep_copy: Path, swept_answer: Answer, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> Window:
    """A window on a book with a finished sweep. Its first answer is worked out once for all such windows; every later one is
    the window's own."""
    first = [swept_answer]
    monkeypatch.setattr(analysis, "work_out", lambda *asked: first.pop() if first else work_out(*asked))
    window = open_window(sweep_copy)
    qtbot.waitUntil(lambda: window.session.answer.choice is not None)
    return window


@pytest.fixture
def answering(swept_window: Window, qtbot: QtBot) -> AnswerPage:
    """The Answer page once everything that stands beside the choice is known."""
    swept_window.go_to(NAMES.index("Answer"))
    qtbot.waitUntil(lambda: swept_window.session.beside is not None and swept_window.session.beside.whole)
    QApplication.processEvents()
    return swept_window.page(AnswerPage)
