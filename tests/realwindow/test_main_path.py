"""The main path in a real window: start, watch it settle, see the map fill, read the pick, stop and restore."""

from collections.abc import Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QDragEnterEvent, QDragMoveEvent, QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLineEdit
from pytestqt.qtbot import QtBot

from niente.core.storage.reader import BookReader
from niente.desktop.app.main import arguments, make_app, show
from niente.desktop.app.window import Window
from niente.desktop.pages.answer.page import AnswerPage
from niente.desktop.pages.map.page import MapPage
from niente.desktop.pages.plan.page import PlanPage
from niente.desktop.pages.rig.page import RigPage
from niente.desktop.pages.run.page import RunPage
from niente.desktop.widgets.blocks import spoken
from niente.desktop.widgets.quantity_field import QuantityField


@pytest.fixture
def window(qtbot: QtBot, tmp_path: Path) -> Iterator[Window]:
    make_app([])
    assert QGuiApplication.platformName() == "xcb"
    opened = show(arguments([str(tmp_path / "first.niente"), "--seed", "3"]))
    qtbot.addWidget(opened, before_close_func=lambda closing: closing.session.close())
    qtbot.waitExposed(opened)
    qtbot.waitUntil(lambda: opened.session.bench is not None and bool(opened.pages))
    yield opened
    opened.session.close()


def keys(window: Window, text: str) -> None:
    QTest.keyClick(window.windowHandle(), *_key(text))
    QApplication.processEvents()


def _key(text: str) -> tuple[Qt.Key, Qt.KeyboardModifier]:
    modifiers, name = Qt.KeyboardModifier.NoModifier, text
    for word, modifier in (("Ctrl+", Qt.KeyboardModifier.ControlModifier), ("Shift+", Qt.KeyboardModifier.ShiftModifier)):
        if word in name:
            modifiers |= modifier
            name = name.replace(word, "")
    named = {".": Qt.Key.Key_Period}
    return named.get(name) or getattr(Qt.Key, f"Key_{name}"), modifiers


def type_into(window: Window, field: QuantityField | QLineEdit, text: str) -> None:
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, text)
    QTest.keyClick(field, Qt.Key.Key_Return)


def test_by_keyboard_alone(window: Window, qtbot: QtBot) -> None:
    window.activateWindow()
    assert window.stack.currentWidget() is window.page(RigPage)  # a fresh book says first what the machine is
    keys(window, "Ctrl+2")
    plan = window.page(PlanPage)
    QTest.keyClick(plan.questions.buttons["quiet-point"], Qt.Key.Key_Space)
    type_into(window, plan.axes.rows["sustained_power_w"].step, "85, 105, 125")
    type_into(window, plan.axes.rows["fan_duty.case"].step, "24, 48")
    window.setFocus()
    assert window.session.bench is not None
    window.session.bench.set_pace(None)
    keys(window, "Ctrl+R")
    qtbot.waitUntil(window.session.busy)
    assert window.stack.currentWidget() is window.page(RunPage)
    keys(window, "Ctrl+4")
    assert window.stack.currentWidget() is window.page(MapPage)
    qtbot.waitUntil(lambda: window.page(MapPage).measured_marks() >= 3)
    qtbot.waitUntil(lambda: not window.session.busy())
    qtbot.waitUntil(lambda: window.page(MapPage).measured_marks() >= 6)  # the map of all runs comes after the last of them
    keys(window, "Ctrl+5")
    qtbot.waitUntil(lambda: window.session.answer.choice is not None and window.session.answer.choice.confirmed)
    assert window.stack.currentWidget() is window.page(AnswerPage)
    assert "case" in window.page(AnswerPage).title.text()
    assert "quietest" in spoken(window.page(AnswerPage).margin())


def test_a_plan_is_put_in_order_by_mouse_and_keys(window: Window, qtbot: QtBot) -> None:
    """A question chosen by mouse, a run dragged and others moved, left out and repeated by keys; all undone by Ctrl+Z."""
    window.activateWindow()
    keys(window, "Ctrl+2")
    page, planner = window.page(PlanPage), window.session.planner
    button = page.questions.buttons["capacity-ladder"]
    QTest.mouseClick(button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.session.plan is not None and window.session.plan.question == "capacity-ladder")
    before = [row.step.setting.sustained_power_w for row in planner.rows]
    table, model = page.table, page.model
    qtbot.waitUntil(lambda: table.visualRect(model.index(3, 1)).isValid())
    where = table.visualRect(model.index(3, 1)).center()
    QTest.mouseClick(table.viewport(), Qt.MouseButton.LeftButton, pos=where)
    chosen = page.selected()
    assert chosen is not None
    assert chosen[0] == 3
    target = table.visualRect(model.index(1, 1))
    data = model.mimeData([model.index(3, 0)])
    at = QPointF(target.left() + 6.0, target.top() + 1.0)
    action, left, none = Qt.DropAction.MoveAction, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    enter = QDragEnterEvent(at.toPoint(), action, data, left, none)
    QApplication.sendEvent(table.viewport(), enter)
    move = QDragMoveEvent(at.toPoint(), action, data, left, none)
    QApplication.sendEvent(table.viewport(), move)
    model.dropMimeData(data, action, 1, 0, model.index(-1, -1))
    found = [row.step.setting.sustained_power_w for row in planner.rows]
    assert found == [before[0], before[3], before[1], before[2], *before[4:]]
    table.setFocus()
    QTest.keyClick(table, Qt.Key.Key_Down, Qt.KeyboardModifier.AltModifier)
    QTest.keyClick(table, Qt.Key.Key_Down, Qt.KeyboardModifier.AltModifier)
    assert [row.step.setting.sustained_power_w for row in planner.rows] == before
    QTest.keyClick(table, Qt.Key.Key_Delete)
    QTest.keyClick(table, Qt.Key.Key_D, Qt.KeyboardModifier.ControlModifier)
    assert len(planner.rows) == len(before) + 1
    assert [row.status.value for row in planner.rows[3:5]] == ["skipped", "skipped"]
    window.setFocus()
    for _ in range(5):
        keys(window, "Ctrl+Z")
    assert [row.step.setting.sustained_power_w for row in planner.rows] == before


def test_by_mouse_and_stop(window: Window, qtbot: QtBot) -> None:
    for index, entry in enumerate(window.passage.entries):
        qtbot.mouseClick(entry, Qt.MouseButton.LeftButton)
        assert window.stack.currentWidget() is window.pages[index]
    qtbot.mouseClick(window.passage.entries[0], Qt.MouseButton.LeftButton)
    start = window.page(RigPage).start
    qtbot.waitUntil(lambda: bool(start.rows))
    last = start.rows[-1]
    qtbot.mouseClick(last, Qt.MouseButton.LeftButton)
    qtbot.mouseClick(start.plan, Qt.MouseButton.LeftButton)
    assert window.stack.currentWidget() is window.page(PlanPage)
    assert window.page(PlanPage).title.text() == "Quiet point"
    qtbot.mouseClick(window.page(PlanPage).start, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.session.live is not None and window.session.live.samples.count > 10)
    qtbot.mouseClick(window.pulse.stop, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: not window.session.busy())
    qtbot.waitUntil(lambda: "restored" in window.message.text)
    assert window.session.bench is not None
    book = BookReader(window.session.bench.path)
    assert book.events(kind="plan ended")  # the bench says so once the safe setting is back
    book.close()


def test_stop_by_its_key(window: Window, qtbot: QtBot) -> None:
    window.activateWindow()
    window.page(PlanPage).commands.choose("quiet-point")
    keys(window, "Ctrl+R")
    qtbot.waitUntil(lambda: window.session.live is not None and window.session.live.samples.count > 5)
    keys(window, "Ctrl+.")
    qtbot.waitUntil(lambda: not window.session.busy())


def test_the_machine_is_described_by_keyboard(window: Window, qtbot: QtBot) -> None:
    """Limits, room and a variant, typed; undone again with Ctrl+Z; the bench takes each."""
    window.activateWindow()
    keys(window, "Ctrl+1")
    page = window.page(RigPage)
    page.views.show_view(1)
    type_into(window, page.limits_view.core, "88")
    qtbot.waitUntil(lambda: window.session.card.limits.core_temperature_c == 88.0)  # type: ignore[union-attr]
    assert window.session.plan is not None
    assert window.session.plan.guards[0].trip == 88.0
    page.views.show_view(2)
    type_into(window, page.room_view.humidity, "60 %")
    qtbot.waitUntil(lambda: "Humidity 60" in spoken(page.margin()))
    window.setFocus()
    keys(window, "Ctrl+Z")
    keys(window, "Ctrl+Z")
    qtbot.waitUntil(lambda: window.session.card.limits.core_temperature_c == 95.0)  # type: ignore[union-attr]
    sheet = window.session.sheet
    assert sheet is not None
    assert sheet.room.humidity_percent == 41.0
