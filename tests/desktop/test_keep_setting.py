"""Keeping a setting from the Answer page: what is asked first, what is said afterwards, and the way back."""

import msgspec
import pytest
from PySide6.QtCore import Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLabel, QWidget
from pytestqt.qtbot import QtBot

from niente.core.model.commands import Command
from niente.core.model.setting import Setting
from niente.desktop.app.window import Window
from niente.desktop.dialogs import prompts
from niente.desktop.dialogs.sheet import QuestionDialog
from niente.desktop.pages.answer.choice_view import POINTS
from niente.desktop.pages.answer.page import AnswerPage
from niente.desktop.pages.run.page import RunPage
from tests.desktop.test_choice_panels import project_of_page, words_of
from tests.here import BenchHere


def in_force(page: AnswerPage) -> Setting | None:
    bench = page.session.bench
    assert isinstance(bench, BenchHere)
    return bench.stays


def test_the_pick_is_kept_and_let_go(
    answering: AnswerPage, swept_window: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    questions: list[tuple[str, str, bool]] = []

    def answer(_: QWidget, setting: str, evidence: str, *, simulated: bool) -> bool:
        questions.append((setting, evidence, simulated))
        return len(questions) > 1

    monkeypatch.setattr(prompts, "whether_setting_stays", answer)
    choice, card = answering.session.answer.choice, answering.session.card
    assert choice is not None
    assert card is not None
    answering.actions_["answer.stay"].trigger()  # no: nothing is set
    assert not answering.session.busy()
    assert in_force(answering) is None
    assert "In force" not in words_of(answering)
    answering.actions_["answer.stay"].trigger()
    whole = choice.pick.setting.over(card.stock)
    qtbot.waitUntil(lambda: in_force(answering) == whole)
    qtbot.waitUntil(lambda: "keeps" in swept_window.message.text)
    assert "In force" in words_of(answering)
    assert questions[0] == questions[1]
    setting, evidence, simulated = questions[0]
    assert "W" in setting
    assert "heaviest load" in evidence
    assert simulated
    assert swept_window.page(RunPage).live_line() == "keeps its setting"
    answering.actions_["run.stop"].trigger()
    qtbot.waitUntil(lambda: in_force(answering) is None)
    qtbot.waitUntil(lambda: "no setting any more" in swept_window.message.text)
    assert "In force" not in words_of(answering)
    assert swept_window.page(RunPage).live_line() == "nothing runs"


def test_no_is_what_escape_means_and_the_cautions_stand_there(answering: AnswerPage, qtbot: QtBot) -> None:
    said: list[str] = []

    def look() -> None:
        dialog = QApplication.activeModalWidget()
        if isinstance(dialog, QuestionDialog):
            paragraphs = dialog.findChildren(QLabel)
            said.append(" ".join(one.text() for one in paragraphs))
            QTest.keyClick(dialog, Qt.Key.Key_Escape)

    timer = QTimer()
    timer.timeout.connect(look)
    timer.start(50)
    answering.actions_["answer.stay"].trigger()
    timer.stop()
    assert len(said) == 1
    for words in ("Set the machine to", "Guards watch only while a plan runs", "keep a backup", "simulated"):
        assert words in said[0]
    assert in_force(answering) is None


def test_long_questions_are_not_cut_off(read_window: Window) -> None:
    dialog = QuestionDialog(read_window, "A title", "A question?", 40 * "What has to be known before that is answered. ")
    dialog.show()
    QApplication.processEvents()
    paragraphs = dialog.findChildren(QLabel)
    assert all(one.height() >= one.heightForWidth(one.width()) for one in paragraphs)
    assert all(one.geometry().bottom() < dialog.height() for one in paragraphs)
    dialog.close()


def test_a_setting_that_is_pointed_at_and_a_point_are_kept(
    answering: AnswerPage, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(prompts, "whether_setting_stays", lambda *_, **__: True)
    view, card = answering.choice, answering.session.card
    assert card is not None
    QTest.keyClick(view.scatter, Qt.Key.Key_PageDown)
    selected = view.selected
    assert selected is not None
    answering.keep_as("Night")
    answering.actions_["answer.stay"].trigger()
    qtbot.waitUntil(lambda: in_force(answering) == selected.setting.over(card.stock))
    answering.actions_["answer.to_pick"].trigger()
    view.views.show_view(POINTS)
    view.points.table.selectRow(0)
    assert "In force" in words_of(answering)
    answering.actions_["run.stop"].trigger()
    qtbot.waitUntil(lambda: in_force(answering) is None)
    answering.actions_["answer.stay"].trigger()
    qtbot.waitUntil(lambda: in_force(answering) == selected.setting.over(card.stock))


def test_a_point_of_another_variant_is_refused_in_words(
    answering: AnswerPage, swept_window: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(prompts, "whether_setting_stays", lambda *_, **__: True)
    answering.keep_as("Night")
    project = project_of_page(answering)
    points = (msgspec.structs.replace(project.points[0], variant="front off"),)
    answering.session.edit("a point", msgspec.structs.replace(project, points=points))
    answering.choice.views.show_view(POINTS)
    answering.choice.points.table.selectRow(0)
    answering.actions_["answer.stay"].trigger()
    assert "kept for front off" in swept_window.message.text
    assert in_force(answering) is None


def test_nothing_is_kept_under_a_plan(answering: AnswerPage, qtbot: QtBot) -> None:
    session = answering.session
    assert answering.actions_["answer.stay"].isEnabled()
    session.bench.set_pace(60.0)  # type: ignore[union-attr]
    answering.actions_["plan.anew"].setEnabled(True)
    project = project_of_page(answering)
    question = msgspec.structs.replace(project.question, since="2099-01-01T00:00:00")
    session.edit("anew", msgspec.structs.replace(project, question=question))
    session.start()
    qtbot.waitUntil(session.busy)
    qtbot.waitUntil(lambda: not answering.actions_["answer.stay"].isEnabled())
    assert "A plan runs" in answering.actions_["answer.stay"].whatsThis()
    session.send_command(Command.PAUSE_NOW)
    session.stop()
    qtbot.waitUntil(lambda: not session.busy())
    qtbot.waitUntil(lambda: answering.actions_["answer.stay"].isEnabled())
