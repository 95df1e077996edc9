"""Every page, offscreen: it opens, fits, is reachable by keyboard, and shows what the core says."""

from collections.abc import Callable

import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QFontDatabase
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractButton, QApplication, QLabel, QLineEdit, QWidget
from pytestqt.qtbot import QtBot

from niente.core.model.quantities import number_text
from niente.core.science.dynamics import dynamic_mark
from niente.core.selection.explanation import candidate_text
from niente.desktop.actions.registry import SPECS
from niente.desktop.app.window import NAMES, Window
from niente.desktop.commands.choice_commands import ChoiceCommands
from niente.desktop.pages.answer.limits_panel import LimitsPanel
from niente.desktop.pages.answer.page import AnswerPage
from niente.desktop.pages.map.margin import point_text
from niente.desktop.pages.map.page import MapPage
from niente.desktop.pages.plan.page import PlanPage
from niente.desktop.services.theme import load_fonts
from niente.desktop.session.session import Session
from niente.desktop.widgets.blocks import Title, Words, spoken
from niente.desktop.widgets.canvas import spans


def accessible(widget: QWidget) -> str:
    return widget.accessibleName() or (widget.text() if isinstance(widget, QAbstractButton) else "")


@pytest.mark.parametrize("index", range(len(NAMES)))
def test_every_page_opens_and_fits(read_window: Window, index: int, qtbot: QtBot) -> None:
    read_window.resize(1100, 700)
    read_window.go_to(index)
    page = read_window.pages[index]
    qtbot.waitUntil(page.isVisible)
    assert page.title.text()
    assert page.margin()
    assert page.live_line()
    assert read_window.width() == 1100
    assert page.minimumSizeHint().width() <= 1100 - 280


def test_the_limits_fit_before_a_machine_is_known(qtbot: QtBot) -> None:
    session = Session()
    panel = LimitsPanel(session, ChoiceCommands(session))
    qtbot.addWidget(panel)
    assert panel.minimumSizeHint().width() <= 1100 - 280
    session.close()


def test_actions_have_words_and_keys_of_their_own(read_window: Window) -> None:
    keys = [spec.keys for spec in SPECS if spec.keys]
    assert len(set(keys)) == len(keys)
    for spec in SPECS:
        action = read_window.actions_[spec.name]
        assert action.text()
        assert spec.tip in action.toolTip()


def test_the_shipped_fonts_are_there(qapp: QApplication) -> None:
    load_fonts()
    assert {"B612", "B612 Mono"} <= set(QFontDatabase.families())


def test_the_dynamic_mark_rises_with_the_noise() -> None:
    assert dynamic_mark(22.0, 21.5) == "niente"
    marks = [dynamic_mark(level, 21.5) for level in (24.0, 28.0, 32.0, 36.0, 70.0)]
    assert marks == ["ppp", "pp", "p", "mp", "ff"]
    assert dynamic_mark(float("nan"), 21.5) == ""


def test_the_answer_shows_the_pick_and_its_reasons(read_window: Window, qtbot: QtBot) -> None:
    read_window.go_to(NAMES.index("Answer"))
    page, choice = read_window.page(AnswerPage), read_window.session.answer.choice
    assert choice is not None
    assert page.title.text() == candidate_text(choice.pick)
    rows = page.choice.model.rows
    assert [row[0] for row in rows] == ["Pick", "2", "3", "4"]
    assert all(row[-1] for row in rows)
    qtbot.waitUntil(lambda: page.current is not None)
    headings = [block.heading for block in page.margin() if isinstance(block, Words)]
    assert headings[:4] == ["Enter it", "Why this one", "Does it hold?", "What each limit costs"]
    assert page.finished()


def test_a_limit_can_be_changed_and_undone(swept_window: Window, qtbot: QtBot) -> None:
    swept_window.go_to(NAMES.index("Answer"))
    page, session = swept_window.page(AnswerPage), swept_window.session
    before = page.title.text()
    field = page.choice.fields["design_room_c"]
    field.setFocus()
    field.selectAll()
    assert not page.choice.is_behind()
    QTest.keyClicks(field, "31")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert page.choice.is_behind()  # a new limit beside the old pick
    page.refresh()
    assert "is being worked out" in page.lead.text()
    qtbot.waitUntil(lambda: page.title.text() != before)
    assert not page.choice.is_behind()
    assert "is being worked out" not in page.lead.text()
    assert session.project is not None
    assert session.project.limits.design_room_c == 31.0
    assert "In a room of" in session.undo.undoText()
    swept_window.actions_["edit.undo"].trigger()
    qtbot.waitUntil(lambda: page.title.text() == before)
    swept_window.actions_["edit.redo"].trigger()
    assert session.project.limits.design_room_c == 31.0


def test_limits_that_nothing_keeps_are_answered_in_words(swept_window: Window, qtbot: QtBot) -> None:
    swept_window.go_to(NAMES.index("Answer"))
    page = swept_window.page(AnswerPage)
    page.choice.fields["min_headroom_k"].setValue(55)
    qtbot.waitUntil(lambda: page.title.text() == "No pick yet")
    assert "most headroom" in page.choice.problem.text()
    assert not page.finished()


def test_the_map_marks_what_was_measured(read_window: Window, qtbot: QtBot) -> None:
    read_window.go_to(NAMES.index("Map"))
    page = read_window.page(MapPage)
    view = page.view
    evidence = read_window.session.answer.evidence
    assert evidence is not None
    assert page.measured_marks() >= 16
    layers = page.request_row.layer
    for index in range(layers.count()):
        layers.setCurrentIndex(index)
        layers.activated.emit(index)
        assert layers.currentText() in page.title.text()
    layers.setCurrentIndex(0)
    layers.activated.emit(0)
    view.setFocus()
    QTest.keyClick(view, Qt.Key.Key_Right)
    QTest.keyClick(view, Qt.Key.Key_Up)
    one = page.candidate
    assert one is not None
    field = page.mapped.field  # type: ignore[union-attr]
    assert page.margin()[0] == Title("Selected setting", point_text((field.across, field.up), (one.limit_w, one.duty)))
    assert number_text(one.core_c, 1) in spoken(page.margin())


def test_the_map_is_selected_with_the_mouse(read_window: Window, qtbot: QtBot) -> None:
    read_window.go_to(NAMES.index("Map"))
    page = read_window.page(MapPage)
    view = page.view
    QApplication.processEvents()
    across, up = spans(view.canvas, view.box)
    at = QPointF(across.px(100.0), up.px(40.0)).toPoint()
    qtbot.mouseClick(view, Qt.MouseButton.LeftButton, pos=at)
    qtbot.waitUntil(lambda: page.candidate is not None)
    assert page.candidate is not None
    assert page.candidate.limit_w == pytest.approx(100.0, abs=3)


def put(field: QLineEdit, text: str) -> None:
    """Type a text into a field, and leave it."""
    field.setText(text)
    field.setModified(True)
    field.editingFinished.emit()


def test_the_plan_is_edited_undone_and_refused_in_words(open_window: Callable[..., Window]) -> None:
    window = open_window()
    page, session = window.page(PlanPage), window.session
    runs = len(page.model.rows)
    power = page.axes.rows["sustained_power_w"].step
    put(power, "80, 110")
    assert session.project is not None
    assert session.project.question.axis("sustained_power_w").points() == (80.0, 110.0)  # type: ignore[union-attr]
    assert len(page.model.rows) < runs
    put(power, "80, lots")
    assert "is no number" in window.message.text
    assert session.project.question.axis("sustained_power_w").points() == (80.0, 110.0)  # type: ignore[union-attr]
    put(power, "80, 900")
    assert "outside" in window.message.text
    assert (power.text(), power.points) == ("list", "80, 110")
    window.actions_["edit.undo"].trigger()
    assert len(page.model.rows) == runs
    rules = page.rules
    rules.survive["vector"].click()
    assert "has to be stable under" in window.message.text
    rules.quiet["dome"].click()
    assert session.project.question.loads == ("vector",)
    offset = page.axes.rows["voltage_offset_mv"]
    offset.last.setText("")
    offset.step.setText("")
    put(offset.first, "-40")
    assert session.project.question.axis("voltage_offset_mv").points() == (-40.0,)  # type: ignore[union-attr]
    rules.known.setValue(2.0)
    assert session.project.question.exposure.known_to_k == 2.0


def test_a_new_book_says_what_to_do(open_window: Callable[..., Window], qtbot: QtBot) -> None:
    window = open_window()
    qtbot.waitUntil(lambda: "three settled runs" in window.session.answer.problem or "Nothing" in window.session.answer.problem)
    for name in ("Map", "Answer"):
        window.go_to(NAMES.index(name))
        shown = [label.text() for label in window.pages[NAMES.index(name)].findChildren(QLabel) if label.isVisible()]
        assert any("Run more of the plan" in text or "Start the plan" in text for text in shown)


def test_the_margin_can_be_put_away(read_window: Window) -> None:
    assert read_window.margin.isVisible()
    read_window.actions_["view.margin"].trigger()
    assert not read_window.margin.isVisible()


def test_undo_works_from_a_field_that_was_just_committed(swept_window: Window) -> None:
    """A field takes Ctrl+Z for itself only while something was typed into it that does not count yet."""
    session = swept_window.session
    swept_window.go_to(NAMES.index("Answer"))
    swept_window.activateWindow()
    field, before = swept_window.page(AnswerPage).choice.fields["min_headroom_k"], session.project
    ctrl, shift = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, "11")
    QTest.keyClick(field, Qt.Key.Key_Z, ctrl)  # what was typed, and nothing that was done before
    assert session.project == before
    field.selectAll()
    QTest.keyClicks(field, "11")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert session.project is not None
    assert session.project.limits.min_headroom_k == 11.0
    QTest.keyClick(field, Qt.Key.Key_Z, ctrl)
    assert session.project == before
    assert field.value() == 8.0
    QTest.keyClick(field, Qt.Key.Key_Z, ctrl | shift)
    assert session.project.limits.min_headroom_k == 11.0
