"""A window on a book, driven offscreen."""

import gc
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from pytestqt.qtbot import QtBot

from niente.core.acquisition.bench import Bench
from niente.core.acquisition.opening import open_bench
from niente.core.analysis.evidence import Evidence
from niente.core.model.project import Limits, Project
from niente.desktop.app.main import look_of, make_app
from niente.desktop.app.window import Window
from niente.desktop.services.desktop_bus import DesktopBus
from niente.desktop.services.preferences import Preferences
from niente.desktop.services.theme import PaletteChoice
from niente.desktop.session import analyst as analysis
from niente.desktop.session.analyst import Answer
from niente.desktop.session.session import Session
from tests.conftest import larkspur_rig


class QuietBus(DesktopBus):
    """A desk that keeps what it is told, for tests to look at."""

    def __init__(self) -> None:
        super().__init__()
        self.notified: list[tuple[str, str, bool]] = []
        self.awake: list[bool] = []

    def notify(self, title: str, text: str, *, urgent: bool = False) -> None:
        self.notified.append((title, text, urgent))

    def keep_awake(self, why: str) -> None:
        self.awake.append(True)

    def let_sleep(self) -> None:
        self.awake.append(False)


@pytest.fixture(scope="session", autouse=True)
def window_thread_collects() -> Iterator[None]:
    """Garbage is collected in the window's thread alone, as the application does it (``desktop/garbage.py``): a
    window's objects that end in the bench's thread can wait for each other for ever."""
    gc.collect()
    gc.freeze()
    gc.disable()
    yield
    gc.enable()
    gc.unfreeze()


@pytest.fixture(autouse=True)
def collected_after() -> Iterator[None]:
    """What a test leaves is collected here, once it is over."""
    yield
    gc.collect()


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

    def open_on(book: Path | None = None, pace: float | None = None, project: Project | None = None) -> Window:
        preferences = Preferences()
        window = Window(Session(), look_of(app, preferences), preferences, desktop_bus=QuietBus())
        qtbot.addWidget(window, before_close_func=lambda closing: closing.session.close())
        window.show()
        rig = larkspur_rig(pace=pace)

        def prepare(progress: object, listener: object) -> tuple[Bench, Project | None]:
            return open_bench(rig, book or tmp_path / "new.niente", listener), project  # type: ignore[arg-type]

        window.session.open(prepare, start=False)
        qtbot.waitUntil(lambda: bool(window.pages) and window.session.bench is not None, timeout=20000)
        opened.append(window)
        return window

    yield open_on
    for window in opened:
        window.session.close()


@pytest.fixture(scope="session")
def swept_answer(sweep: tuple[Path, Project], evidence: Evidence) -> Answer:
    """What a finished sweep comes to."""
    return analysis.work_out(sweep[0], Limits(), evidence)


@pytest.fixture
def swept_window(
    open_window: Callable[..., Window], sweep_copy: Path, swept_answer: Answer, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> Window:
    """A window on a book with a finished sweep. Its first answer is worked out once for all such windows; every later one is
    the window's own."""
    work_out, first = analysis.work_out, [swept_answer]
    monkeypatch.setattr(analysis, "work_out", lambda *asked: first.pop() if first else work_out(*asked))
    window = open_window(sweep_copy)
    qtbot.waitUntil(lambda: window.session.answer.choice is not None, timeout=20000)
    return window
