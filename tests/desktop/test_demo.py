"""The demo: made in the cache, with a finished sweep and a run going on; nothing else is touched."""

import shutil
from pathlib import Path

import numba
import pytest
from PySide6.QtGui import QPaintEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QWidget
from pytestqt.qtbot import QtBot

from niente.core.demo import SWEEP, demo_folder, open_demo
from niente.core.model.project import Project
from niente.core.storage.notes import notes_in
from niente.core.storage.reader import BookReader
from niente.desktop.app.main import FirstPaint, arguments, make_app, show
from niente.desktop.pages.run.page import RunPage


@pytest.fixture(autouse=True)
def compiled_already(monkeypatch: pytest.MonkeyPatch) -> None:
    """The bench's own process finds what is compiled, though the cache is another one here."""
    import niente.core.science.compiled

    assert niente.core.science.compiled
    monkeypatch.setenv("NUMBA_CACHE_DIR", str(numba.config.CACHE_DIR))  # type: ignore[attr-defined]


@pytest.mark.timeout(1200)  # it makes the demo's book, with other tests at work beside it
def test_the_demo_opens_with_a_pick_and_a_run_going_on(qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    assert demo_folder().is_relative_to(tmp_path)
    make_app([])
    window = show(arguments(["--demo"]))
    qtbot.addWidget(window, before_close_func=lambda closing: closing.session.close())
    qtbot.waitUntil(lambda: "Making the demo book" in window.opening.text() or bool(window.session.bench))
    qtbot.waitUntil(lambda: window.session.busy() and window.session.answer.choice is not None, timeout=900_000)
    qtbot.waitUntil(lambda: window.session.live is not None and window.session.live.samples.count > 5)
    assert window.pulse.pace.currentText() == "× 60"
    assert window.stack.currentWidget() is window.page(RunPage)
    assert "Larkspur" in window.windowTitle()
    window.session.close()
    assert not (tmp_path / "data").exists()
    names = sorted(path.name for path in demo_folder().iterdir())
    assert any(name.startswith("demo-sweep") for name in names)


class Painted(QWidget):
    """Takes note of when it is painted."""

    def __init__(self, seen: list[str]) -> None:
        super().__init__()
        self._seen = seen

    def paintEvent(self, event: QPaintEvent) -> None:
        self._seen.append("painted")


def test_what_takes_long_begins_behind_a_picture(qtbot: QtBot) -> None:
    seen: list[str] = []
    widget = Painted(seen)
    qtbot.addWidget(widget)
    FirstPaint(widget, lambda: seen.append("then"))
    widget.show()
    qtbot.waitUntil(lambda: "then" in seen)
    assert seen.index("painted") < seen.index("then")
    widget.update()
    QTest.qWait(600)
    assert seen.count("then") == 1


def test_a_window_that_nobody_sees_goes_on_as_well(qtbot: QtBot) -> None:
    seen: list[str] = []
    widget = Painted(seen)
    qtbot.addWidget(widget)
    FirstPaint(widget, lambda: seen.append("then"))
    qtbot.waitUntil(lambda: seen == ["then"])


def counted(path: Path) -> int:
    book = BookReader(path)
    try:
        return len(book.runs())
    finally:
        book.close()


def test_the_demo_starts_fresh_each_time(sweep: tuple[Path, Project], tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    demo_folder().mkdir(parents=True)
    shutil.copyfile(sweep[0], demo_folder() / SWEEP)
    said: list[str] = []
    bench, _ = open_demo(said.append, lambda event: None)
    runs = counted(bench.path)
    bench.note("only in this copy")
    bench.close()
    bench, _ = open_demo(said.append, lambda event: None)
    assert not any(said)  # the sweep is there already
    assert counted(bench.path) == runs
    book = BookReader(bench.path)
    assert not notes_in(book)
    book.close()
    bench.close()
