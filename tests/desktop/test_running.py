"""A plan run from the window: it can be started, held, skipped and stopped, and the window stays alive."""

import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
import pytest
from PySide6.QtCore import QObject, Qt, QTimer, Signal
from PySide6.QtGui import QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton
from pytestqt.qtbot import QtBot

from niente.core.answers.answering import Answering
from niente.core.model.limits import Limits
from niente.core.model.project import Project
from niente.core.model.question import Axis
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.model.states import BenchState
from niente.core.planning.templates import grid_project
from niente.core.selection.answer import Answer
from niente.core.selection.worker import WorkHere
from niente.core.storage.reader import BookReader
from niente.desktop.app.bug_report import BugDialog
from niente.desktop.app.window import NAMES, Window
from niente.desktop.dialogs import prompts
from niente.desktop.dialogs.sheet import LineDialog, QuestionDialog
from niente.desktop.pages.answer.page import AnswerPage
from niente.desktop.pages.map.page import MapPage
from niente.desktop.pages.plan.page import PlanPage
from niente.desktop.pages.run.page import RunPage
from niente.desktop.session.analyst import Analyst
from tests.conftest import short_plan
from tests.here import BenchHere


def small(card: RigCard) -> Project:
    """A sweep of few runs."""
    project = grid_project(card)
    axes = (Axis("sustained_power_w", (85.0, 105.0, 125.0)), Axis("fan_duty.case", (24.0, 48.0)))
    question = msgspec.structs.replace(project.question, axes=axes)
    return msgspec.structs.replace(project, question=question)


class Beacon(QObject):
    told = Signal(bool)


def test_ten_thousand_signals_leave_true_alone(qapp: QApplication) -> None:
    """A binding that loses a reference to True with every emit ends the process before long."""
    beacon = Beacon()
    beacon.told.connect(lambda _: None)
    before = sys.getrefcount(True)
    for _ in range(10_000):
        beacon.told.emit(True)
    assert abs(sys.getrefcount(True) - before) < 50


def test_a_plan_runs_from_the_window_to_a_pick(open_window: Callable[..., Window], card: RigCard, qtbot: QtBot) -> None:
    window = open_window(project=small(card))
    session = window.session
    qtbot.mouseClick(window.page(PlanPage).start, Qt.MouseButton.LeftButton)
    assert window.stack.currentWidget() is window.page(RunPage)
    qtbot.waitUntil(lambda: session.live is not None and bool(session.live.forecasts))
    qtbot.waitUntil(lambda: not session.busy() and "plan is done" in window.message.text)
    qtbot.waitUntil(lambda: session.answer.choice is not None and session.answer.choice.confirmed)
    window.message._act.click()  # takes one to the pick
    assert window.stack.currentWidget() is window.page(AnswerPage)
    window.go_to(NAMES.index("Map"))
    assert window.page(MapPage).measured_marks() >= 6
    assert window.page(RunPage).finished()


def test_nothing_stands_under_the_traces(open_window: Callable[..., Window], monkeypatch: pytest.MonkeyPatch) -> None:
    """A plan that has begun and no run yet: what stood there before is not drawn under what stands there now."""
    window = open_window()
    window.go_to(NAMES.index("Run"))
    page = window.page(RunPage)
    assert page.none_view.isVisible()
    monkeypatch.setattr(window.session, "busy", lambda: True)
    page.refresh()
    assert page.upper.currentWidget() is page.traces
    assert not page.none_view.isVisible()


def test_pause_go_on_skip_and_stop(open_window: Callable[..., Window], card: RigCard, qtbot: QtBot) -> None:
    """The pace leaves a run of a minute a quarter of that: none ends by itself between two clicks, however slow the machine."""
    window = open_window(pace=4.0, project=small(card))
    session, buttons = window.session, window.page(RunPage).buttons
    window.actions_["plan.start"].trigger()
    qtbot.waitUntil(lambda: session.live is not None and session.live.samples.count > 3)
    buttons["run.pause_now"].click()
    qtbot.waitUntil(lambda: session.state == BenchState.PAUSED)
    qtbot.waitUntil(buttons["run.resume"].isEnabled)
    assert not buttons["run.skip"].isEnabled()
    buttons["run.resume"].click()
    qtbot.waitUntil(lambda: session.live is not None and session.live.closed is None and session.live.samples.count > 3)
    index = session.live.opened.index  # type: ignore[union-attr]
    buttons["run.skip"].click()
    qtbot.waitUntil(lambda: session.live is not None and session.live.opened.index == index + 1)
    window.pulse.stop.click()
    qtbot.waitUntil(lambda: not session.busy())
    qtbot.waitUntil(lambda: "restored" in window.message.text)
    assert session.bench is not None
    book = BookReader(session.bench.path)
    assert [run.outcome for run in book.runs() if run.outcome != "done"] == ["voided", "skipped", "stopped"]
    book.close()


def test_the_pulse_shows_the_machine_and_its_pace(open_window: Callable[..., Window], qtbot: QtBot) -> None:
    window = open_window(pace=60.0)
    reading = window.pulse._readings["hot"]
    qtbot.waitUntil(lambda: reading.unit.text() == "°C")
    assert "simulated" in window.pulse.badge.text()
    assert window.pulse.pace.currentText() == "× 60"
    window.pulse.pace.setCurrentIndex(4)
    window.pulse.pace.activated.emit(4)
    assert window.session.bench is not None
    assert isinstance(window.session.bench, BenchHere)
    qtbot.waitUntil(lambda: window.session.bench.bench.pace is None)  # type: ignore[union-attr]


def test_a_note_is_written(open_window: Callable[..., Window], qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> None:
    window = open_window()
    monkeypatch.setattr(LineDialog, "ask", lambda *_: "fan ticks")
    window.actions_["run.note"].trigger()
    assert window.session.bench is not None
    book = BookReader(window.session.bench.path)
    qtbot.waitUntil(lambda: "fan ticks" in [item.body for item in book.events()])
    book.close()


def test_closing_during_a_run_asks_and_keeps_on(open_window: Callable[..., Window], card: RigCard, qtbot: QtBot) -> None:
    window = open_window(pace=60.0, project=small(card))
    window.actions_["plan.start"].trigger()
    qtbot.waitUntil(window.session.busy)
    asked: list[str] = []

    def answer() -> None:
        box = window.findChild(QuestionDialog)
        assert box is not None
        asked.append(next(one.text() for one in box.findChildren(QPushButton) if one.isDefault()))
        QTest.keyClick(box, Qt.Key.Key_Return)  # the default is taken

    QTimer.singleShot(200, answer)
    assert not window.close()
    assert asked == ["Do not close"]
    assert window.session.busy()


def test_a_bug_is_shown_with_its_report(open_window: Callable[..., Window]) -> None:
    window = open_window()
    window.session.broke.emit("Traceback: a bug")
    box = window.findChild(BugDialog)
    assert box is not None
    window.session.broke.emit("Traceback: the same again")  # one dialog at a time
    assert len(window.findChildren(BugDialog)) == 1
    box.copy.click()
    copied = QGuiApplication.clipboard().text()
    assert "Traceback: a bug" in copied
    assert copied.startswith("Niente ")
    box.close()


def test_stale_answers_are_dropped(qtbot: QtBot, sweep: tuple[Path, Project], limits: Limits) -> None:
    analyst = Analyst(WorkHere(Answering))
    answers: list[Answer] = []
    analyst.answered.connect(answers.append)
    for share in (85.0, 88.0, 91.0):
        wanted = msgspec.structs.replace(limits, min_throughput_percent=share)
        analyst.request_answer(sweep[0], msgspec.structs.replace(sweep[1], limits=wanted))
    qtbot.waitUntil(lambda: bool(answers))
    analyst._pool.submit(lambda: None).result(20)  # what was asked before it has come, or been dropped
    QApplication.processEvents()
    assert [answer.choice.limits.min_throughput_percent for answer in answers if answer.choice is not None] == [91.0]
    analyst.close()


class SlowWork(WorkHere[Answering]):
    """Answers only once it is let."""

    def __init__(self) -> None:
        super().__init__(Answering)
        self.begun, self.let = threading.Event(), threading.Event()

    def call(self, *given: Any, **named: Any) -> Any:
        self.begun.set()
        assert self.let.wait(30)
        return super().call(*given, **named)


@pytest.mark.parametrize("other_limits", [False, True])
def test_answers_come_although_runs_end_faster(
    qtbot: QtBot, sweep: tuple[Path, Project], limits: Limits, other_limits: bool
) -> None:
    work = SlowWork()
    analyst = Analyst(work)
    answers: list[Answer] = []
    documented: list[int] = []
    analyst.answered.connect(answers.append)
    analyst.documented.connect(lambda: documented.append(len(answers)))
    book, project = sweep
    analyst.request_answer(book, project)
    assert work.begun.wait(30)
    if other_limits:  # the answer under way is about limits that hold no more
        project = msgspec.structs.replace(project, limits=msgspec.structs.replace(limits, min_throughput_percent=91.0))
    analyst.request_answer(book, project)  # another run has ended meanwhile
    work.let.set()
    qtbot.waitUntil(lambda: len(answers) == (1 if other_limits else 2))
    analyst._pool.submit(lambda: None).result(20)
    QApplication.processEvents()
    assert len(answers) == (1 if other_limits else 2)
    assert len(documented) == len(answers)  # each with the answers to the book's questions
    analyst.close()


def test_the_window_stays_alive_at_full_speed(open_window: Callable[..., Window], card: RigCard, qtbot: QtBot) -> None:
    """Timers go on being served while a run streams in as fast as it goes; how promptly is measured in the benchmark."""
    window = open_window(project=small(card))
    ticks: list[float] = []
    timer = QTimer()
    timer.setInterval(10)
    timer.timeout.connect(lambda: ticks.append(time.monotonic()))
    timer.start()
    window.actions_["plan.start"].trigger()
    qtbot.waitUntil(lambda: window.session.live is not None and window.session.live.samples.count > 0)
    ticks.clear()
    qtbot.waitUntil(lambda: len(ticks) > 5)
    timer.stop()
    assert window.session.busy()  # they were served beside the stream


def answering(monkeypatch: pytest.MonkeyPatch, *answers: bool) -> tuple[list[tuple[str, ...]], list[bool]]:
    """Answer whether a voltage may rise, in this order; what was asked, and the answers that are left."""
    asked: list[tuple[str, ...]] = []
    said = list(answers)

    def ask(_: object, raised: tuple[str, ...]) -> bool:
        asked.append(raised)
        return said.pop(0)

    monkeypatch.setattr(prompts, "whether_voltage_may_rise", ask)
    return asked, said


def test_a_start_that_raises_a_voltage_asks_each_time(
    open_window: Callable[..., Window], card: RigCard, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    window = open_window()
    asked, said = answering(monkeypatch, False, True)
    plan = short_plan(card, Setting(core_offset_mv={"3": 10.0}), seconds=5.0)
    window.session.planner.take(plan, None)
    window.actions_["plan.start"].trigger()
    assert not window.session.busy()
    window.actions_["plan.start"].trigger()
    qtbot.waitUntil(lambda: window.session.live is not None and not window.session.busy())
    assert asked == [("core\u00a03 10\u00a0mV",)] * 2
    said.append(False)
    monkeypatch.setattr(window.session, "busy", lambda: True)  # a run that is put into a plan under way asks at once
    before = window.session.plan
    window.plan_commands.insert("", plan.steps[0])
    assert len(asked) == 3
    assert window.session.plan == before


def test_an_axis_that_raises_a_voltage_in_a_plan_under_way_asks(
    open_window: Callable[..., Window], card: RigCard, monkeypatch: pytest.MonkeyPatch
) -> None:
    window = open_window(project=small(card))
    asked, said = answering(monkeypatch, False, True)
    session = window.session
    monkeypatch.setattr(session, "busy", lambda: True)
    before = session.project
    window.plan_commands.change_axis("core_offset_mv.3", 10.0)
    assert asked == [("core\u00a03 10\u00a0mV",)]
    assert session.project == before
    window.plan_commands.change_axis("core_offset_mv.3", -10.0)  # deeper asks nothing
    assert len(asked) == 1
    window.plan_commands.change_axis("core_offset_mv.3", 10.0)
    assert len(asked) == 2
    assert session.project is not None
    assert session.project.question.base.core_offset_mv == {"3": 10.0}
    window.plan_commands.measure_anew()  # what was allowed before asks no more
    assert len(asked) == 2
    for _ in range(2):  # taking it back asks nothing; making it again does
        window.actions_["edit.undo"].trigger()
    said += [False, True]
    window.actions_["edit.redo"].trigger()
    assert session.project.question.base.core_offset_mv == {"3": -10.0}
    window.actions_["edit.redo"].trigger()
    assert session.project.question.base.core_offset_mv == {"3": 10.0}
    assert len(asked) == 4
