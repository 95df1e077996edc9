"""The Fans page: curves by mouse, keys and table, a day rehearsed with them, drawing, undo, and what is refused."""

import csv
from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QWidget
from pytestqt.qtbot import QtBot

from niente.core.exchange.curve_files import curves_read
from niente.core.model.fan_curve import FanCurve
from niente.core.model.kept_point import KeptPoint
from niente.desktop.app.window import NAMES, Window
from niente.desktop.dialogs import prompts
from niente.desktop.dialogs.round_curves import RoundCurves
from niente.desktop.pages.fans import page as fans_page
from niente.desktop.pages.fans.day_row import BEFORE, FIXED, FOUND
from niente.desktop.pages.fans.page import FansPage
from niente.desktop.widgets.blocks import spoken

WAIT_MS = 60_000


@pytest.fixture
def page(swept_window: Window, qtbot: QtBot) -> FansPage:
    swept_window.go_to(NAMES.index("Fans"))
    page = swept_window.page(FansPage)
    qtbot.waitUntil(lambda: page.group is not None, timeout=WAIT_MS)
    qtbot.waitUntil(lambda: set(page._days) == {"now", "beside"}, timeout=WAIT_MS)
    return page


@pytest.fixture
def on_curve(page: FansPage, swept_window: Window, qtbot: QtBot) -> FansPage:
    """The case fans of the pick are put on a first curve."""
    swept_window.actions_["fans.give"].trigger()
    qtbot.waitUntil(lambda: "case" in page.curves)
    settle(page, qtbot)
    return page


def settle(page: FansPage, qtbot: QtBot) -> None:
    qtbot.waitUntil(page.finished, timeout=WAIT_MS)
    QApplication.processEvents()


def points(page: FansPage) -> tuple[KeptPoint, ...]:
    assert page.session.project is not None
    return page.session.project.points


def at(page: FansPage, celsius: float, duty: float) -> QPoint:
    across, up = page.view._spans()
    return QPoint(round(across.px(celsius)), round(up.px(duty)))


def test_without_a_curve_the_fixed_duty_is_said(page: FansPage) -> None:
    assert page.title.text().startswith("Case fans, ")
    assert page.live_line() == "no curve yet"
    assert not page.finished()
    assert not page.panel.table.isEnabled()
    assert not page.panel.fields["floor_percent"].isEnabled()
    said = spoken(page.margin())
    assert "Case fans, no curve" in said
    assert "Hottest core" in said
    assert not page.actions_["fans.add_point"].isEnabled()
    assert page.actions_["fans.add_point"].whatsThis() == "These fans are on no curve."


def test_the_first_curve_keeps_the_pick_as_a_point(on_curve: FansPage, swept_window: Window, qtbot: QtBot) -> None:
    kept = points(on_curve)
    assert [one.name for one in kept] == ["Show"]
    assert on_curve.point.currentText() == "Show"
    assert "curve for Show" in on_curve.title.text()
    assert "heard a day" in on_curve.live_line()
    assert on_curve.curves["case"].dangers() == []
    swept_window.actions_["edit.undo"].trigger()
    assert points(on_curve) == ()
    qtbot.waitUntil(lambda: on_curve.curves == {}, timeout=WAIT_MS)


def test_a_point_is_dragged_and_the_day_follows(on_curve: FansPage, qtbot: QtBot) -> None:
    view, before = on_curve.view, on_curve.curves["case"]
    qtbot.waitUntil(lambda: view.width() > 300)
    celsius, duty = before.points[1]
    QTest.mousePress(view, Qt.MouseButton.LeftButton, pos=at(on_curve, celsius, duty))
    for step in range(1, 6):
        QTest.mouseMove(view, at(on_curve, celsius - 2 * step, duty + 3 * step))
    assert on_curve.curves["case"] == before  # nothing is kept before it is let go
    assert view.curve is not None
    assert view.curve.points[1] == (celsius - 10, duty + 15)
    assert view.selected == 1
    assert f"Point 2 of {len(before.points)}" in spoken(on_curve.margin())
    QTest.mouseRelease(view, Qt.MouseButton.LeftButton, pos=at(on_curve, celsius - 10, duty + 15))
    assert on_curve.curves["case"].points[1] == (celsius - 10, duty + 15)
    settle(on_curve, qtbot)
    on_curve.days.compared.setCurrentIndex(BEFORE)
    on_curve.days.compared.activated.emit(BEFORE)
    qtbot.waitUntil(lambda: on_curve._days.get("beside") is not None, timeout=WAIT_MS)
    assert on_curve._days["beside"].curves == {"case": before}
    assert on_curve.session.undo.undoText() == "case curve: point moved"


def test_keys_move_a_point_and_one_undo_takes_all_of_it_back(on_curve: FansPage, swept_window: Window, qtbot: QtBot) -> None:
    view, before = on_curve.view, on_curve.curves["case"]
    view.setFocus()
    QTest.keyClick(view, Qt.Key.Key_PageUp)
    QTest.keyClick(view, Qt.Key.Key_PageUp)
    QTest.keyClick(view, Qt.Key.Key_PageDown)
    assert view.selected == 1
    celsius, duty = before.points[1]
    for _ in range(3):
        QTest.keyClick(view, Qt.Key.Key_Up)
    QTest.keyClick(view, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
    qtbot.waitUntil(lambda: on_curve.curves["case"] != before)
    assert on_curve.curves["case"].points[1] == (celsius - 5, duty + 3)
    swept_window.actions_["edit.undo"].trigger()
    assert on_curve.curves["case"] == before
    swept_window.actions_["edit.redo"].trigger()
    assert on_curve.curves["case"].points[1] == (celsius - 5, duty + 3)
    QTest.keyClick(view, Qt.Key.Key_Up)
    QTest.keyClick(view, Qt.Key.Key_Escape)  # this one was not meant
    assert view.curve == on_curve.curves["case"]


def test_showing_a_curve_is_no_edit(on_curve: FansPage) -> None:
    """Fans that stand at their point may be drawn a curve that begins at nothing: to show it changes nothing."""
    assert on_curve._facts is not None
    begins_at_nothing = FanCurve("core_temperature_c", ((70.0, 0.0), (80.0, 100.0)))
    on_curve._edit(begins_at_nothing, "from nothing")
    assert on_curve.curves["case"] == begins_at_nothing
    on_curve._show()
    assert on_curve.curves["case"] == begins_at_nothing
    assert on_curve.panel.fields["floor_percent"].minimum() == 0.0


def test_points_come_and_go(on_curve: FansPage, swept_window: Window) -> None:
    view, before = on_curve.view, on_curve.curves["case"]
    view.select(0)
    swept_window.actions_["fans.add_point"].trigger()
    assert len(on_curve.curves["case"].points) == len(before.points) + 1
    assert view.selected == 1
    swept_window.actions_["fans.drop_point"].trigger()
    assert on_curve.curves["case"] == before
    while len(on_curve.curves["case"].points) > 2:
        swept_window.actions_["fans.drop_point"].trigger()
    swept_window.actions_["fans.drop_point"].trigger()
    assert len(on_curve.curves["case"].points) == 2


def test_the_table_takes_figures_and_keeps_the_order(on_curve: FansPage) -> None:
    model = on_curve.panel.model
    (first_c, _), (second_c, duty), *_ = on_curve.curves["case"].points
    model.edited.emit(1, 0, 10.0)  # under the first point
    assert on_curve.curves["case"].points[1] == (first_c + 1, duty)
    model.edited.emit(1, 0, second_c)
    model.edited.emit(1, 1, 0.0)  # under the first point's duty
    assert on_curve.curves["case"].points[1][1] == on_curve.curves["case"].points[0][1]


def test_fans_stand_only_under_two_conditions(on_curve: FansPage) -> None:
    fields = on_curve.panel.fields
    fields["off_below_c"].settled.emit(36.0)
    curve = on_curve.curves["case"]
    assert curve.off_below_c == 36.0
    assert curve.off_below_w is not None
    assert not fields["off_below_w"].isHidden()
    fields["off_below_c"].settled.emit(fields["off_below_c"].minimum())
    assert on_curve.curves["case"].off_below_c is None
    assert on_curve.curves["case"].off_below_w is None
    one_sensor = FanCurve("core_temperature_c", curve.points, off_below_c=30.0)
    on_curve._edit(one_sensor, "trick")
    assert on_curve.curves["case"].off_below_c is None  # refused, and said
    assert "low power" in on_curve.window().message.text  # type: ignore[attr-defined]


def test_fields_set_what_they_say(on_curve: FansPage) -> None:
    fields = on_curve.panel.fields
    for name, value in {
        "smoothing_s": 12.0,
        "hysteresis_k": 4.0,
        "ramp_up_percent_per_s": 1.5,
        "ramp_down_percent_per_s": 0.4,
    }.items():
        fields[name].settled.emit(value)
        assert getattr(on_curve.curves["case"], name) == value
    fields["avoid_low"].settled.emit(41.0)
    assert on_curve.curves["case"].avoided == ((41.0, 46.0),)
    fields["avoid_high"].settled.emit(50.0)
    assert on_curve.curves["case"].avoided == ((41.0, 50.0),)
    fields["floor_percent"].settled.emit(30.0)
    assert all(duty >= 30.0 for _, duty in on_curve.curves["case"].points)
    assert fields["ramp_up_percent_per_s"].minimum() > 0.0
    on_curve.panel.more.setCurrentIndex(2)
    on_curve.panel.more.activated.emit(2)
    assert on_curve.curves["case"].more_sources == ("case_air_temperature_c",)


def test_curves_are_drawn_and_that_is_one_edit(page: FansPage, swept_window: Window, qtbot: QtBot) -> None:
    swept_window.actions_["fans.draw"].trigger()
    qtbot.waitUntil(lambda: "sets of curves tried" in page.days.stands.text(), timeout=WAIT_MS)
    assert not swept_window.actions_["fans.draw"].isEnabled()
    qtbot.waitUntil(lambda: set(page.curves) == {"case", "cooler"}, timeout=3 * WAIT_MS)
    settle(page, qtbot)
    day = page._days["now"]
    assert day.figures.hunts == 0
    assert "far from swinging" in spoken(page.margin()) or "settle calmly" in spoken(page.margin())
    swept_window.actions_["edit.undo"].trigger()
    assert page.curves == {}


def test_a_drawing_that_is_stopped_changes_nothing(page: FansPage, swept_window: Window, qtbot: QtBot) -> None:
    swept_window.actions_["fans.draw"].trigger()
    qtbot.waitUntil(lambda: "sets of curves tried" in page.days.stands.text(), timeout=WAIT_MS)
    swept_window.actions_["fans.stop_drawing"].trigger()
    assert page.days.stands.text() == ""
    qtbot.wait(300)
    assert page.curves == {}
    assert points(page) == ()
    assert swept_window.actions_["fans.draw"].isEnabled()


def test_a_curve_goes_to_the_other_groups(on_curve: FansPage, swept_window: Window) -> None:
    swept_window.actions_["fans.to_others"].trigger()
    assert set(on_curve.curves) == {"case", "cooler"}
    swept_window.actions_["fans.take_off"].trigger()
    assert set(on_curve.curves) == {"cooler"}


def test_another_day_and_room_are_rehearsed(on_curve: FansPage, qtbot: QtBot) -> None:
    cool = on_curve._days["now"]
    on_curve.days.day.setCurrentIndex(2)
    on_curve.days.day.activated.emit(2)
    on_curve.days.room.settled.emit(30.0)
    on_curve.days.room.put(30.0)
    on_curve.days.changed.emit()
    qtbot.waitUntil(lambda: on_curve._days["now"].room_c == 30.0, timeout=WAIT_MS)
    hot = on_curve._days["now"]
    assert hot.day == "render"
    assert hot.figures.hottest_c > cool.figures.hottest_c


def test_more_runs_of_the_same_point_change_nothing_that_a_person_set(on_curve: FansPage, qtbot: QtBot) -> None:
    on_curve.days.room.put(30.0)
    on_curve.days.changed.emit()
    settle(on_curve, qtbot)
    on_curve._key = (*on_curve._key[:-1], 0)  # as if a run had ended since
    on_curve.refresh()
    assert on_curve.group is not None  # what is known stands meanwhile
    with qtbot.waitSignal(on_curve.session.curves.pointed, timeout=WAIT_MS):
        pass
    assert on_curve.days.room_c == 30.0
    settle(on_curve, qtbot)


def test_a_window_that_looks_on_changes_no_curve(on_curve: FansPage, monkeypatch: pytest.MonkeyPatch) -> None:
    bench = on_curve.session.bench
    assert bench is not None
    monkeypatch.setattr(type(bench), "follows", property(lambda _: True))
    on_curve.refresh()
    for name in ("fans.draw", "fans.take_off", "fans.add_point", "fans.round", "fans.run_here"):
        assert not on_curve.actions_[name].isEnabled(), name
        assert on_curve.actions_[name].whatsThis() == "This window is view-only."
    assert on_curve.actions_["fans.export"].isEnabled()


def test_only_what_there_is_can_stand_beside(on_curve: FansPage) -> None:
    """This machine was found with fixed duties; and before the first change there are no last curves."""
    choices = on_curve.days.compared.model()
    assert not choices.item(FOUND).isEnabled()  # type: ignore[attr-defined]
    assert choices.item(BEFORE).isEnabled() == (on_curve._before is not None)  # type: ignore[attr-defined]
    on_curve.days.compared.setCurrentIndex(BEFORE)
    on_curve.days.offer(before=False, found=False)
    assert on_curve.days.compared.currentIndex() == FIXED


def test_a_process_that_ends_is_asked_again(on_curve: FansPage, qtbot: QtBot) -> None:
    on_curve.session.curves.request_worst(on_curve.curves, "no such day", 23.0)  # a bug, as far as the process knows
    with qtbot.waitSignal(on_curve.session.curves.broke, timeout=WAIT_MS):
        pass
    with qtbot.waitSignal(on_curve.session.curves.pointed, timeout=WAIT_MS):
        on_curve.refresh()
    settle(on_curve, qtbot)


def test_what_goes_wrong_is_said(on_curve: FansPage, qtbot: QtBot) -> None:
    qtbot.waitUntil(lambda: "sensor lost" in spoken(on_curve.margin()), timeout=WAIT_MS)
    said = spoken(on_curve.margin())
    assert "case fans dead" in said
    assert "room of 28 °C" in said


def test_curves_are_rounded_and_what_that_costs_stands_beside(
    on_curve: FansPage, swept_window: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(fans_page, "ask_for_steps", lambda _: (5.0, 5.0))
    before = on_curve.curves
    swept_window.actions_["fans.round"].trigger()
    assert all(celsius % 5.0 == duty % 5.0 == 0.0 for celsius, duty in on_curve.curves["case"].points)
    settle(on_curve, qtbot)
    qtbot.waitUntil(lambda: "beside" in on_curve._days, timeout=WAIT_MS)
    assert on_curve._days["beside"].curves == before
    assert on_curve._days["now"].figures.mean_dba >= on_curve._days["beside"].figures.mean_dba - 0.01


def test_the_steps_of_a_board_are_asked_for(qtbot: QtBot) -> None:
    over = QWidget()
    qtbot.addWidget(over)
    dialog = RoundCurves(over)
    assert (dialog.celsius.value(), dialog.percent.value()) == (1.0, 5.0)
    assert dialog.celsius.minimum() > 0.0


def test_curves_are_written_as_a_table_and_as_json(
    on_curve: FansPage, swept_window: Window, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    for name in ("curves.csv", "curves.json"):
        monkeypatch.setattr(prompts, "where_to_save_curves", lambda *_, name=name: tmp_path / name)
        swept_window.actions_["fans.export"].trigger()
    rows = list(csv.DictReader((tmp_path / "curves.csv").read_text().splitlines()))
    assert [(float(row["temperature_c"]), float(row["duty_percent"])) for row in rows] == list(on_curve.curves["case"].points)
    assert {row["group"] for row in rows} == {"case"}
    assert all(float(row["speed_rpm"]) > 0.0 for row in rows)
    assert curves_read((tmp_path / "curves.json").read_bytes()) == on_curve.curves
    monkeypatch.setattr(prompts, "where_to_save_curves", lambda *_: tmp_path / "nowhere" / "curves.csv")
    swept_window.actions_["fans.export"].trigger()
    assert "nowhere" in swept_window.message.text or "curves.csv" in swept_window.message.text


def test_a_run_on_the_curves_stands_beside_its_rehearsal(on_curve: FansPage, swept_window: Window, qtbot: QtBot) -> None:
    session = swept_window.session
    runs = len(session.answer.evidence.runs) if session.answer.evidence is not None else 0
    swept_window.actions_["fans.run_here"].trigger()
    qtbot.waitUntil(lambda: session.planner.closed() < len(session.planner.rows), timeout=WAIT_MS)
    swept_window.actions_["plan.start"].trigger()
    qtbot.waitUntil(
        lambda: session.answer.evidence is not None and len(session.answer.evidence.runs) > runs, timeout=2 * WAIT_MS
    )
    swept_window.go_to(NAMES.index("Fans"))
    qtbot.waitUntil(lambda: on_curve.group is not None and on_curve.days.day.count() > 5, timeout=WAIT_MS)
    on_curve.days.day.setCurrentIndex(5)
    on_curve.days.day.activated.emit(5)
    qtbot.waitUntil(lambda: "now" in on_curve._days and on_curve._days["now"].measured is not None, timeout=WAIT_MS)
    day = on_curve._days["now"]
    assert day.measured is not None
    assert day.day.startswith("run ")
    assert day.measured.off_k < 6.0
    assert abs(day.measured.off_db) < 1.0
    assert day.measured.core_c.shape == day.trace.hour.shape
