"""The window and the bench's process: closing and keeping on, a bench that is lost, command that is handed over."""

import os
import signal
import threading
import time
from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import Qt, QTimer, QUrl
from PySide6.QtGui import QDesktopServices
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QPushButton
from pytestqt.qtbot import QtBot

from niente.core.model.commands import WhenLost
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.serving.starting import BenchOptions, reach_bench
from niente.desktop.app.main import look_of, make_app
from niente.desktop.app.window import Window
from niente.desktop.commands import bench_commands
from niente.desktop.dialogs.sheet import QuestionDialog
from niente.desktop.pages.run.page import RunPage
from niente.desktop.services.logging_out import logging_out_ends_processes
from niente.desktop.services.preferences import Preferences
from niente.desktop.session.session import Session
from tests.conftest import short_plan
from tests.core.serving.conftest import Ear, process_of
from tests.desktop.conftest import QuietBus
from tests.here import BenchHere, another_client
from tests.waiting import PATIENCE_S, until

Open = Callable[..., Window]
KILL = "KillUserProcesses"
COOL = Setting(sustained_power_w=100.0)


def started(window: Window, card: RigCard, qtbot: QtBot) -> None:
    """A long run under way in a window."""
    window.session.planner.take(short_plan(card, COOL, COOL, seconds=4000.0), None)
    window.actions_["plan.start"].trigger()
    qtbot.waitUntil(lambda: window.session.live is not None and window.session.live.samples.count > 5)


def here(window: Window) -> BenchHere:
    assert isinstance(window.session.bench, BenchHere)
    return window.session.bench


def answering(window: Window, text: str, asked: list[str]) -> None:
    """Answer the next question with the button of a text."""

    def answer() -> None:
        box = window.findChild(QuestionDialog)
        assert box is not None
        asked.append(box.more)
        button = next(one for one in box.findChildren(QPushButton) if one.text() == text)
        QTest.mouseClick(button, Qt.MouseButton.LeftButton)

    QTimer.singleShot(150, answer)


# -- closing ---------------------------------------------------------------------------------------------------------------


def test_closing_may_leave_the_plan_to_the_bench(open_window: Open, card: RigCard, qtbot: QtBot) -> None:
    window = open_window(pace=60.0)
    started(window, card, qtbot)
    bench, asked = here(window), [""]
    answering(window, "Close and keep running", asked)
    assert window.close()
    assert "under its guards" in asked[-1]
    assert bench.bench.busy  # it goes on
    other = another_client(bench.server, Ear())
    assert other.busy
    other.close()
    until(lambda: not bench.bench.busy)


def test_closing_may_stop_the_plan(open_window: Open, card: RigCard, qtbot: QtBot) -> None:
    window = open_window(pace=60.0)
    started(window, card, qtbot)
    bench = here(window)
    answering(window, "Stop and close", [])
    assert window.close()
    assert bench.over.wait(PATIENCE_S)
    assert not bench.bench.busy


def test_keeping_on_is_an_action_of_its_own(open_window: Open, card: RigCard, qtbot: QtBot) -> None:
    window = open_window(pace=60.0)
    assert not window.actions_["bench.leave"].isEnabled()
    started(window, card, qtbot)
    bench = here(window)
    qtbot.waitUntil(lambda: window.actions_["bench.leave"].isEnabled())
    window.actions_["bench.leave"].trigger()  # asks nothing
    assert not window.isVisible()
    assert bench.bench.busy
    bench.server.over.set()


@pytest.mark.parametrize("ends", [True, False])
def test_where_logging_out_ends_it_that_is_said(
    open_window: Open, card: RigCard, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch, ends: bool
) -> None:
    monkeypatch.setattr(bench_commands, "logging_out_ends_processes", lambda: ends)
    window = open_window(pace=60.0)
    started(window, card, qtbot)
    asked: list[str] = []
    answering(window, "Do not close", asked)
    assert not window.close()
    assert ("Logging out ends it" in asked[0]) == ends


@pytest.mark.parametrize(
    ("files", "ends"),
    [
        ({}, False),
        ({"etc/systemd/logind.conf": "[Login]\n#KillUserProcesses=yes\n"}, False),
        ({"etc/systemd/logind.conf": "[Login]\nKillUserProcesses=yes\n"}, True),
        ({"usr/lib/systemd/logind.conf": "KillUserProcesses = yes\n", "etc/systemd/logind.conf": "[Login]\n"}, False),
        (
            {"etc/systemd/logind.conf": "KillUserProcesses=yes\n", "etc/systemd/logind.conf.d/9.conf": "KillUserProcesses=no"},
            False,
        ),
        ({"run/systemd/logind.conf.d/1.conf": "KillUserProcesses=1\n"}, True),
    ],
)
def test_what_the_login_manager_is_set_to(tmp_path: Path, files: dict[str, str], ends: bool) -> None:
    """logind.conf(5): the first main file that there is, and drop-ins over it by their names."""
    for name, text in files.items():
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_text(text)
    assert logging_out_ends_processes(tmp_path) == ends


# -- while a book opens ----------------------------------------------------------------------------------------------------


def test_closing_while_a_book_opens_returns_at_once_and_leaves_nothing(qtbot: QtBot, tmp_path: Path) -> None:
    """A session that is closed does not come alive again, whenever its bench is ready."""
    gate, closed, made = threading.Event(), threading.Event(), []

    class Late:
        def close(self, wait_s: float = 10.0) -> None:
            closed.set()

    def prepare(progress: object, listener: object) -> tuple[object, None]:
        gate.wait(PATIENCE_S)
        made.append(Late())
        return made[0], None

    session = Session()
    session.open(prepare, start=False)  # type: ignore[arg-type]
    begun = time.monotonic()
    session.close()
    assert not made  # it did not wait for what opens
    assert time.monotonic() - begun < 10.0
    gate.set()
    assert closed.wait(PATIENCE_S)
    QTest.qWait(50)
    assert session.bench is None


def test_what_is_cancelled_is_let_go(qtbot: QtBot) -> None:
    gate, closed = threading.Event(), threading.Event()

    class Late:
        def close(self, wait_s: float = 10.0) -> None:
            closed.set()

    def prepare(progress: object, listener: object) -> tuple[object, None]:
        gate.wait(PATIENCE_S)
        return Late(), None

    session = Session()
    session.open(prepare, start=False)  # type: ignore[arg-type]
    session.cancel_opening()
    with qtbot.waitSignal(session.cancelled):
        gate.set()
    assert closed.wait(PATIENCE_S)
    session.close()


# -- a bench that is lost --------------------------------------------------------------------------------------------------


def test_a_bench_that_is_killed_is_said_and_opened_again(
    qtbot: QtBot, tmp_path: Path, card: RigCard, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    preferences, reopened = Preferences(), []
    window = Window(
        Session(), look_of(make_app([]), preferences), preferences, lambda book, *_: reopened.append(book), QuietBus()
    )
    qtbot.addWidget(window, before_close_func=lambda closing: closing.session.close())
    window.show()
    book = tmp_path / "b.niente"
    options = BenchOptions("larkspur", seed=3, pace=60.0)
    window.session.open(lambda progress, told: (reach_bench(book, told, options, progress=progress), None), start=False)
    qtbot.waitUntil(lambda: bool(window.pages) and window.session.bench is not None)
    started(window, card, qtbot)
    assert not window.actions_["book.reopen"].isEnabled()
    os.kill(process_of(book), signal.SIGKILL)
    qtbot.waitUntil(lambda: "ended without a word in the middle of a plan" in window.message.text)
    assert not window.session.busy()
    qtbot.waitUntil(lambda: "its load ended with it" in window.message.text)  # its guardian's word
    assert window.session.live is not None
    assert window.session.live.closed is not None
    assert window.actions_["book.reopen"].isEnabled()
    assert not window.actions_["plan.start"].isEnabled()
    assert any(urgent and "ended" in title for title, _, urgent in window.desktop_bus.notified)  # type: ignore[attr-defined]
    window.message._act.click()
    assert reopened == [book]


def test_what_happens_if_the_window_is_lost_is_a_choice_that_is_remembered(open_window: Open, qtbot: QtBot) -> None:
    window = open_window()
    go_on, stop = window.actions_["bench.lost_go_on"], window.actions_["bench.lost_stop"]
    assert (go_on.isChecked(), stop.isChecked()) == (True, False)
    stop.trigger()
    assert (go_on.isChecked(), stop.isChecked()) == (False, True)
    assert Preferences().when_lost == WhenLost.STOP
    server = here(window).server
    qtbot.waitUntil(lambda: server._clients[0].when_lost == WhenLost.STOP)


# -- command ---------------------------------------------------------------------------------------------------------------


def test_a_window_that_looks_on_asks_and_gets_command(open_window: Open, card: RigCard, qtbot: QtBot) -> None:
    window = open_window(pace=60.0)
    started(window, card, qtbot)
    server = here(window).server
    app, preferences = make_app([]), Preferences()
    other = Window(Session(), look_of(app, preferences), preferences, desktop_bus=QuietBus())
    qtbot.addWidget(other, before_close_func=lambda closing: closing.session.close())
    other.show()
    other.session.open(lambda _, told: (another_client(server, told), None), start=False)
    qtbot.waitUntil(lambda: bool(other.pages) and other.session.bench is not None)
    qtbot.waitUntil(lambda: other.session.live is not None and other.session.live.samples.count > 5)
    assert other.stack.currentWidget() is other.page(RunPage)  # it shows what runs
    assert "view only" in other.windowTitle()
    assert not other.pulse.pace.isEnabled()
    for name in ("plan.start", "run.pause_now", "run.pause_after", "run.skip", "run.repeat", "run.stop", "run.note"):
        assert not other.actions_[name].isEnabled()  # nothing that it cannot do
    for name in ("plan.open", "plan.insert", "rig.part", "rig.import", "rig.calibrate"):
        assert not other.actions_[name].isEnabled()
    editors = [editor for page in other.pages for editor in page.editors()]
    assert len(editors) > 10
    assert not any(editor.isEnabled() for editor in editors)
    assert all(editor.isEnabled() for page in window.pages for editor in page.editors())
    assert not other.pulse.stop.isEnabled()
    assert other.actions_["bench.ask"].isEnabled()
    assert not window.actions_["bench.hand_over"].isEnabled()
    other.actions_["bench.ask"].trigger()
    qtbot.waitUntil(lambda: "asks for command" in window.message.text)
    assert window.actions_["bench.hand_over"].isEnabled()
    window.message._act.click()
    qtbot.waitUntil(lambda: "view only" in window.windowTitle())
    qtbot.waitUntil(lambda: "view only" not in other.windowTitle())
    assert other.pulse.pace.isEnabled()
    qtbot.waitUntil(lambda: all(editor.isEnabled() for editor in editors))
    qtbot.waitUntil(other.pulse.stop.isEnabled)
    other.actions_["run.stop"].trigger()
    qtbot.waitUntil(lambda: not window.session.busy())
    window.close()  # asks nothing: the plan is not its own


def test_a_note_of_one_window_stands_in_the_other(open_window: Open, card: RigCard, qtbot: QtBot) -> None:
    window = open_window(pace=60.0)
    started(window, card, qtbot)
    ear = Ear()
    another_client(here(window).server, ear)
    window.session.note("a smell of dust")
    qtbot.waitUntil(lambda: [note.text for note in window.session.notes] == ["a smell of dust"])
    until(lambda: any(getattr(one, "text", "") == "a smell of dust" for one in ear.told))


# -- the log ---------------------------------------------------------------------------------------------------------------


def test_the_log_is_shown(read_window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    opened: list[QUrl] = []
    monkeypatch.setattr(QDesktopServices, "openUrl", opened.append)
    read_window.actions_["help.log"].trigger()
    assert opened == [QUrl.fromLocalFile(str(tmp_path / "niente"))]
    assert (tmp_path / "niente").is_dir()


def test_a_window_opened_again_has_the_traces_of_before(open_window: Open, card: RigCard, qtbot: QtBot, tmp_path: Path) -> None:
    window = open_window(pace=600.0)
    window.session.planner.take(short_plan(card, COOL, COOL, seconds=300.0), None)
    window.actions_["plan.start"].trigger()
    qtbot.waitUntil(lambda: not window.session.busy() and window.session.live is not None)
    again = another_client(here(window).server, Ear())
    assert [run.run_id for run in again.history.runs] == [1, 2]
    assert again.history.limiters.shape == again.history.time_s.shape
