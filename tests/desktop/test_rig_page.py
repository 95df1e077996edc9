"""Saying what a machine is, in the window: parts and variants, limits, room, sensors, in and out; every edit undone again."""

from collections.abc import Callable
from pathlib import Path

import msgspec
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox, QLineEdit, QTableView, QWidget
from pytestqt.qtbot import QtBot

from niente.core.acquisition.attachment import attach
from niente.core.acquisition.new_book import make_copy, make_from_class
from niente.core.model.errors import BookError
from niente.core.model.frame import Frame
from niente.core.model.plan import GuardAction
from niente.core.model.rig_card import CountedTemperature, Part, RigCard, SetBy, Trust
from niente.core.model.rig_sheet import MeterClass, RigSheet, sheet_of
from niente.core.rigs.registry import classes
from niente.core.storage.reader import BookReader
from niente.desktop.app.window import NAMES, Window
from niente.desktop.dialogs import prompts
from niente.desktop.dialogs.change_part import ChangedPart, ChangePart
from niente.desktop.dialogs.new_rig import NewRig
from niente.desktop.pages.answer.page import AnswerPage
from niente.desktop.pages.rig.limits import BY, HIGH, TRIP
from niente.desktop.pages.rig.page import RigPage
from niente.desktop.pages.rig.sensors import GAIN, REFERENCE
from niente.desktop.widgets.blocks import spoken
from niente.desktop.widgets.quantity_field import QuantityField
from tests.desktop.conftest import drain

VIEWS = ["machine", "limits", "room", "sensors"]


@pytest.fixture
def window(new_window: Window) -> Window:
    """The page of a window on a new book that many tests share."""
    new_window.go_to(NAMES.index("Rig"))
    return new_window


@pytest.fixture
def own_window(open_window: Callable[..., Window]) -> Window:
    """A window of a test's own, for what an undo does not take back."""
    window = open_window()
    window.go_to(NAMES.index("Rig"))
    return window


def page_of(window: Window) -> RigPage:
    page = window.page(RigPage)
    assert isinstance(page, RigPage)
    return page


def card_in(window: Window) -> RigCard:
    assert window.session.card is not None
    return window.session.card


def sheet_in(window: Window) -> RigSheet:
    sheet = window.session.sheet
    assert sheet is not None
    return sheet


def undone(window: Window, before: RigSheet) -> None:
    """Whatever was edited can be taken back, and done again."""
    after = sheet_in(window)
    assert after != before
    window.actions_["edit.undo"].trigger()
    assert sheet_in(window) == before
    window.actions_["edit.redo"].trigger()
    assert sheet_in(window) == after


def type_into(table: QTableView, row: int, column: int, text: str) -> None:
    """Edit a cell as a person does: select it, Enter the editor, type, Return."""
    table.setCurrentIndex(table.model().index(row, column))
    table.edit(table.currentIndex())
    editor = QApplication.focusWidget()
    assert isinstance(editor, QLineEdit | QuantityField)
    editor.selectAll()
    QTest.keyClicks(editor, text)
    QTest.keyClick(editor, Qt.Key.Key_Return)
    QApplication.processEvents()


@pytest.mark.parametrize("index", range(5))
@pytest.mark.parametrize("size", [(1280, 800), (1100, 700)])
def test_every_view_opens_fits_and_is_reachable(window: Window, index: int, size: tuple[int, int]) -> None:
    window.resize(*size)
    page = page_of(window)
    page.views.show_view(index)
    QApplication.processEvents()
    assert page.stack.currentIndex() == index
    shown = page.stack.currentWidget()
    assert shown is not None
    assert shown.isVisible()
    assert page.minimumSizeHint().width() <= 1100 - 280
    for kind in (QComboBox, QuantityField):
        fields = [field for field in shown.findChildren(kind) if field.isVisible()]
        assert all(field.accessibleName() for field in fields)


# -- parts and variants ------------------------------------------------------------------------------------------------


def test_another_variant_waits_for_hands(own_window: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> None:
    asked: list[str] = []
    answers = iter([False, True])

    def answer(over: QWidget, hands: str, cautions: str) -> bool:
        asked.append(hands + cautions)
        return next(answers)

    monkeypatch.setattr(prompts, "whether_hands_are_done", answer)
    page, before = page_of(own_window), sheet_in(own_window)
    index = page.variant.findText("filter out")
    for _ in range(2):
        page.variant.setCurrentIndex(index)
        page.variant.activated.emit(index)
    assert "Take the front filter out." in asked[0]
    assert "Mains off and unplugged" in asked[0]
    assert len(asked) == 2
    qtbot.waitUntil(lambda: own_window.session.card is not None and own_window.session.card.variant == "filter out")
    assert own_window.session.bench.bench.rig.describe().variant == "filter out"  # type: ignore[union-attr]
    assert "filter out" in page.live_line()
    qtbot.waitUntil(lambda: any("taken out" in row.accessibleName() for row in page.parts.rows))
    undone(own_window, before)


def test_not_yet_leaves_the_variant(own_window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(prompts, "whether_hands_are_done", lambda *_: False)
    page = page_of(own_window)
    index = page.variant.findText("five case fans")
    page.variant.setCurrentIndex(index)
    page.variant.activated.emit(index)
    QApplication.processEvents()
    assert page.variant.currentText() == "filter in"
    assert sheet_in(own_window).variant == "filter in"


def test_a_changed_part_is_a_new_variant(own_window: Window, qtbot: QtBot) -> None:
    before = sheet_in(own_window)
    own_window.rig_commands.take_part(
        ChangedPart(Part("Paste", "liquid metal", "metal"), "liquid metal", "Cleaned, new paste.")
    )
    sheet = sheet_in(own_window)
    assert (sheet.variant, sheet.known("liquid metal").hands) == ("liquid metal", "Cleaned, new paste.")  # type: ignore[union-attr]
    qtbot.waitUntil(lambda: own_window.session.card is not None and own_window.session.card.variant == "liquid metal")
    undone(own_window, before)


def test_other_words_are_the_same_machine(window: Window) -> None:
    window.rig_commands.take_part(ChangedPart(Part("Board", "two plates, screwed"), ""))
    assert sheet_in(window).variant == "filter in"
    assert Part("Board", "two plates, screwed") in sheet_in(window).parts


def test_a_name_that_is_taken_is_said(window: Window, qtbot: QtBot) -> None:
    with qtbot.waitSignal(window.session.notice) as said:
        window.rig_commands.take_part(ChangedPart(Part("Paste", "liquid metal"), "filter out"))
    assert "There is a variant 'filter out' already" in said.args[0].text


def test_parts_are_chosen_by_key_and_by_mouse(window: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> None:
    chosen: list[str] = []
    page = page_of(window)
    page.part_chosen.disconnect()
    page.part_chosen.connect(chosen.append)
    row = page.parts.rows[1]
    assert "Enter" in row.accessibleDescription()
    QTest.keyClick(row, Qt.Key.Key_Return)
    QTest.mouseDClick(page.parts.rows[2], Qt.MouseButton.LeftButton, pos=QPoint(20, 10))
    assert chosen == ["Paste", "Cooler"]
    assert "or " in " ".join(label.text() for label in row.findChildren(type(page.scale_note)))


def test_the_form_of_a_part_says_what_is_missing(window: Window) -> None:
    form = ChangePart(sheet_in(window), "Front filter", window)
    ok = form.take
    assert (form.words.text(), form.tag.text()) == ("fine mesh, washed in November", "filter in")
    assert not ok.isEnabled()
    assert "Nothing is different" in form.problem.text()
    form.words.setText("taken out")
    assert "needs a name" in form.problem.text()
    form.variant.setText("filter out")
    assert "already" in form.problem.text()
    QTest.keyClicks(form.tag, " no")  # the tag names the variant, as it is typed
    assert form.variant.text() == "filter in no"
    assert ok.isEnabled()
    assert form.values == ChangedPart(Part("Front filter", "taken out", "filter in no"), "filter in no")
    form.same.setChecked(True)
    assert not form.variant.isEnabled()
    assert form.values.variant == ""
    form.part.setCurrentText("")
    assert "needs a name" in form.problem.text()
    form.deleteLater()


# -- limits, guards, controls --------------------------------------------------------------------------------------------


def test_limits_hold_the_guards_under_them(window: Window, qtbot: QtBot) -> None:
    page, before = page_of(window), sheet_in(window)
    page.views.show_view(2)
    view = page.limits_view
    assert view.core.maximum() == 95.0  # the driver's
    view.core.setValue(84.0)
    sheet = sheet_in(window)
    assert (sheet.limits.core_temperature_c, sheet.guards[0].trip) == (84.0, 84.0)
    qtbot.waitUntil(lambda: window.session.card is not None and window.session.card.limits.core_temperature_c == 84.0)
    assert window.session.plan is not None
    assert window.session.plan.guards[0].trip == 84.0
    usual = before.guards[0].trip
    view.core.setValue(95.0)
    assert sheet_in(window).guards[0].trip == min(95.0, usual)  # it goes back with the limit
    window.actions_["edit.undo"].trigger()
    undone(window, before)


def test_a_guard_that_stood_under_the_limit_stays_there_and_that_is_said(window: Window) -> None:
    page, before = page_of(window), sheet_in(window)
    page.views.show_view(2)
    view = page.limits_view
    view.core.setValue(90.0)
    lowered = msgspec.structs.replace(sheet_in(window).guards[0], trip=80.0, clear=70.0)
    changed = msgspec.structs.replace(sheet_in(window), guards=(lowered, *sheet_in(window).guards[1:]))
    window.session.sheets.change("guard", changed)
    view.core.setValue(94.0)
    assert sheet_in(window).guards[0].trip == 80.0
    assert "stays at 80.0" in window.message.text
    for _ in range(3):
        window.actions_["edit.undo"].trigger()
    assert sheet_in(window) == before


def test_a_guard_is_edited_in_its_table_and_never_over_the_limit(own_window: Window) -> None:
    page = page_of(own_window)
    page.views.show_view(2)
    view = page.limits_view
    type_into(view.guard_table, 0, TRIP, "82")
    assert sheet_in(own_window).guards[0].trip == 82.0
    type_into(view.guard_table, 0, TRIP, "140")
    assert sheet_in(own_window).guards[0].trip == 95.0  # as far as the maker lets it
    model = view.guards
    model.setData(model.index(0, 4), "skips the run")
    assert sheet_in(own_window).guards[0].action == GuardAction.SKIP
    type_into(view.guard_table, 0, 5, "My own reason.")
    assert sheet_in(own_window).guards[0].reason == "My own reason."
    assert "My own reason." in model.data(model.index(0, 5))  # type: ignore[operator]


def test_guards_are_added_and_taken_away(window: Window, qtbot: QtBot) -> None:
    page, before = page_of(window), sheet_in(window)
    page.views.show_view(2)
    view = page.limits_view
    view.more.activated.emit(view.more.findText("Case air"))
    assert [guard.quantity for guard in sheet_in(window).guards][-1] == "case_air_temperature_c"
    view.more.activated.emit(view.more.findText("Wall power"))
    assert sheet_in(window).guards[-1].trip == 300.0  # one and a half times what the processor may draw
    view.guard_table.setCurrentIndex(view.guards.index(3, 0))
    view.less.click()
    assert len(sheet_in(window).guards) == 4
    view.guard_table.setCurrentIndex(view.guards.index(0, 0))
    with qtbot.waitSignal(window.session.notice) as said:
        view.less.click()
    assert "there is none on the hottest core" in said.args[0].text
    qtbot.waitUntil(lambda: window.session.plan is not None and len(window.session.plan.guards) == 4)
    window.session.undo.setIndex(0)
    assert sheet_in(window) == before


def test_a_control_is_narrowed_and_not_widened(own_window: Window, qtbot: QtBot) -> None:
    page, before = page_of(own_window), sheet_in(own_window)
    page.views.show_view(2)
    view = page.limits_view
    type_into(view.control_table, 0, HIGH, "180")
    assert sheet_in(own_window).controls[0].high == 180.0
    qtbot.waitUntil(lambda: own_window.session.card.control("sustained_power_w").high == 180.0)  # type: ignore[union-attr]
    with qtbot.waitSignal(own_window.session.notice) as said:
        view.controls.setData(view.controls.index(0, HIGH), 120.0)
    assert "the rig's stock setting, 165, would lie outside" in said.args[0].text
    assert sheet_in(own_window).controls[0].high == 180.0
    assert view.controls.entries[0][HIGH].value == 180.0  # the table shows what is in force
    view.controls.setData(view.controls.index(0, BY), "hands")
    assert sheet_in(own_window).controls[0].set_by == SetBy.HANDS
    row = next(at for at, entries in enumerate(view.controls.entries) if entries[0].text == "Core's own offset, 1 to 12")
    view.controls.setData(view.controls.index(row, HIGH), 20.0)
    assert [one.high for one in sheet_in(own_window).controls if one.name.startswith("core_offset")] == [20.0] * 12
    own_window.session.undo.setIndex(0)
    assert sheet_in(own_window) == before


# -- room, listener, meter, scale ------------------------------------------------------------------------------------------


def test_the_room_gives_its_dew_point(window: Window) -> None:
    """25 °C at 60 %: 16.7 °C (ASHRAE Handbook Fundamentals 2017, by psychrolib)."""
    page, before = page_of(window), sheet_in(window)
    page.views.show_view(3)
    view = page.room_view
    view.temperature.setValue(25.0)
    view.humidity.setValue(60.0)
    assert "16.7" in view.dew_point.text()
    assert "Dew point 16.7" in spoken(page.margin())
    view.altitude.setValue(1500.0)
    view.day.setValue(33.0)
    view.night.setValue(view.night.minimum())
    assert view.night.text() == "not known"
    room = sheet_in(window).room
    assert (room.altitude_m, room.day_dba, room.night_dba) == (1500.0, 33.0, None)
    view.place.setText("third row")
    view.place.editingFinished.emit()
    view.distance.setValue(3.5)
    view.standard.setCurrentIndex(0)
    view.standard.activated.emit(0)
    sheet = sheet_in(window)
    assert (sheet.listener.place, sheet.listener.distance_m, sheet.meter.standard) == ("third row", 3.5, MeterClass.ONE)
    window.session.undo.setIndex(0)
    assert sheet_in(window) == before


def test_marks_move_and_go_on_rising(window: Window, qtbot: QtBot) -> None:
    page = page_of(window)
    page.views.show_view(3)
    page.room_view.marks[2].setValue(20.0)
    marks = sheet_in(window).marks_over_db
    assert marks[2] == 20.0
    assert list(marks) == sorted(set(marks))
    qtbot.waitUntil(lambda: window.session.card is not None and window.session.card.marks_over_db == marks)


def test_the_pick_is_heard_at_the_listeners_place(swept_window: Window) -> None:
    swept_window.go_to(0)
    page = page_of(swept_window)
    page.views.show_view(3)
    QApplication.processEvents()
    assert "At the listener's place (first row) the pick alone comes to about" in page.room_view.heard.text()
    assert "at night" in page.room_view.heard.text()


def test_an_edited_scale_changes_the_marks_everywhere(swept_window: Window, qtbot: QtBot) -> None:
    choose = swept_window.page(AnswerPage)
    before = choose.live_line()
    sheet = sheet_in(swept_window)
    assert swept_window.session.sheets.change(
        "scale", msgspec.structs.replace(sheet, marks_over_db=(0.05, 0.1, 0.15, 0.2, 0.25, 0.3, 0.35))
    )
    qtbot.waitUntil(lambda: choose.live_line().endswith("ff"))
    assert before != choose.live_line()


# -- sensors -----------------------------------------------------------------------------------------------------------


def test_trust_is_said_and_taken_back(window: Window) -> None:
    page, before = page_of(window), sheet_in(window)
    page.views.show_view(4)
    view = page.sensors_view
    row = next(at for at, entries in enumerate(view.model.entries) if entries[0].text == "Board supply")
    type_into(view.table, row, GAIN, "0.77")
    view.model.setData(view.model.index(row, REFERENCE), "reference cooler")
    assert sheet_in(window).trust == (Trust("board_temperature_c", 0.0, 0.77, "reference cooler"),)
    view.counts.setCurrentIndex(1)
    view.counts.activated.emit(1)
    assert sheet_in(window).counts == CountedTemperature.MEAN
    window.session.undo.setIndex(0)
    assert sheet_in(window) == before


def test_what_counts_moves_the_answer(swept_window: Window, qtbot: QtBot) -> None:
    """The mean of the cores is below the hottest one."""
    answer = swept_window.session.answer
    assert answer.choice is not None
    swept_window.session.sheets.change(
        "counts", msgspec.structs.replace(sheet_in(swept_window), counts=CountedTemperature.MEAN)
    )

    def lower() -> bool:
        models = swept_window.session.answer.models
        return models is not None and models.evidence.card.counts == CountedTemperature.MEAN

    qtbot.waitUntil(lower)
    models = swept_window.session.answer.models
    assert models is not None
    again = next(run for run in models.evidence.runs if run.load == "vector" and run.settled.known)
    was = next(run for run in answer.models.evidence.runs if run.run_id == again.run_id)  # type: ignore[union-attr]
    assert again.settled.value_c < was.settled.value_c


# -- while a plan runs, in and out -----------------------------------------------------------------------------------------


def test_while_a_plan_runs_the_machine_stays(open_window: Callable[..., Window], qtbot: QtBot) -> None:
    window = open_window(pace=20.0)
    window.go_to(0)
    before = sheet_in(window)
    window.session.start()
    qtbot.waitUntil(window.session.busy)
    with qtbot.waitSignal(window.session.notice) as said:
        window.session.sheets.change("title", msgspec.structs.replace(before, title="Mine"))
    assert "A plan is running on this machine as it is" in said.args[0].text
    assert sheet_in(window) == before
    window.session.stop()
    qtbot.waitUntil(lambda: not window.session.busy())


def test_an_undo_during_a_plan_waits_for_its_end(open_window: Callable[..., Window], qtbot: QtBot) -> None:
    window = open_window(pace=20.0)
    before = sheet_in(window)
    window.session.sheets.change("title", msgspec.structs.replace(before, title="Mine"))
    qtbot.waitUntil(lambda: window.session.card is not None and window.session.card.title == "Mine")
    window.session.start()
    qtbot.waitUntil(window.session.busy)
    window.session.undo.undo()
    assert window.session.card is not None
    assert window.session.card.title == "Mine"
    window.session.stop()
    qtbot.waitUntil(lambda: window.session.card is not None and window.session.card.title == "Larkspur")


def test_a_sheet_goes_out_and_comes_in(window: Window, tmp_path: Path, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> None:
    file = tmp_path / "larkspur.json"
    monkeypatch.setattr(prompts, "where_to_save_sheet", lambda *_: file)
    monkeypatch.setattr(prompts, "for_sheet", lambda *_: file)
    before = sheet_in(window)
    window.actions_["rig.export"].trigger()
    whole = msgspec.json.decode(file.read_bytes())
    whole["title"], whole["colour"] = "The dome's", "grey"
    file.write_bytes(msgspec.json.encode(whole))
    window.actions_["rig.import"].trigger()
    assert sheet_in(window).title == "The dome's"
    window.actions_["rig.export"].trigger()
    assert msgspec.json.decode(file.read_bytes())["colour"] == "grey"
    undone(window, before)
    whole["title"] = "Dropped"
    file.write_bytes(msgspec.json.encode(whole))
    window.file_commands.open(file)  # as when it is dropped on the window
    assert sheet_in(window).title == "Dropped"
    whole["limits"]["core_temperature_c"] = 120
    file.write_bytes(msgspec.json.encode(whole))
    with qtbot.waitSignal(window.session.notice) as said:
        window.actions_["rig.import"].trigger()
    assert "limits.core_temperature_c: 120 °C lies above the maker's 95 °C" in said.args[0].text
    file.unlink()
    with qtbot.waitSignal(window.session.notice) as said:
        window.actions_["rig.import"].trigger()
    assert "cannot be read" in said.args[0].text


def test_a_new_rig_is_made_from_a_class(window: Window, tmp_path: Path) -> None:
    form = NewRig(window)
    ok = form.take
    assert not ok.isEnabled()
    form.title.setText("Desk Machine")
    form.kinds.setCurrentRow([name for name, _ in classes()].index("wren"))
    assert ok.isEnabled()
    assert form.values == ("wren", "Desk Machine")
    form.deleteLater()
    book = tmp_path / "desk.niente"
    make_from_class(book, *form.values)
    bench = attach(book, lambda event: None)
    assert (bench.card.name, bench.card.title, len(bench.card.indices("core_temperature_c"))) == (
        "desk-machine",
        "Desk Machine",
        8,
    )
    bench.close()
    with pytest.raises(BookError, match="nothing is ever overwritten"):
        make_from_class(book, "wren", "Again")


def test_a_copy_has_the_machine_and_not_its_runs(sweep_copy: Path, tmp_path: Path) -> None:
    bench = attach(sweep_copy, lambda event: None)
    sheet = msgspec.structs.replace(sheet_of(bench.own_card), title="The dome's", variant="filter out")
    assert bench.project is not None
    bench.save_project(msgspec.structs.replace(bench.project, sheet=sheet))
    bench.close()
    book = tmp_path / "copy-of.niente"
    make_copy(book, sweep_copy)
    bench = attach(book, lambda event: None)
    assert (bench.card.title, bench.card.variant, bench.card.serial) == ("The dome's", "filter out", "3")
    bench.close()
    reader = BookReader(book)
    assert reader.runs() == []
    reader.close()


@pytest.mark.parametrize("name", ["rig.new", "rig.copy"])
def test_making_a_rig_opens_its_book(window: Window, name: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    opened: list[tuple[Path, object]] = []
    window._reopen = lambda book, make: opened.append((book, make))
    monkeypatch.setattr(prompts, "where_to_make_book", lambda *_: tmp_path / "made.niente")
    monkeypatch.setattr(NewRig, "exec", lambda self: self.title.setText("Mine") or NewRig.DialogCode.Accepted)
    window.actions_[name].trigger()
    book, make = opened[0]
    make(book, lambda text: None)  # type: ignore[operator]
    assert book.exists()


def test_cells_that_can_be_edited_say_so(window: Window) -> None:
    page = page_of(window)
    page.views.show_view(2)
    model = page.limits_view.controls
    editable = Qt.ItemFlag.ItemIsEditable
    assert model.flags(model.index(0, HIGH)) & editable
    assert not model.flags(model.index(0, 0)) & editable
    assert model.rowCount(model.index(0, 0)) == model.columnCount(model.index(0, 0)) == 0
    assert model.headerData(HIGH, Qt.Orientation.Horizontal) == "To"
    assert model.data(model.index(0, HIGH), Qt.ItemDataRole.ToolTipRole) == "To"
    assert not model.setData(model.index(0, HIGH), model.entries[0][HIGH].value)


def test_an_edit_that_is_undone_before_the_bench_has_taken_it_is_undone_there_too(
    window: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    session = window.session
    given: list[RigSheet] = []
    assert session.bench is not None
    monkeypatch.setattr(session.bench, "take_sheet", given.append)  # it takes its time
    sheet = sheet_in(window)
    room = msgspec.structs.replace(sheet.room, humidity_percent=71.0)
    assert session.sheets.change("room", msgspec.structs.replace(sheet, room=room))
    session.undo.undo()
    assert [one.room.humidity_percent for one in given] == [71.0, sheet.room.humidity_percent]


def test_a_plan_from_a_file_stays_while_the_room_is_described(window: Window, tmp_path: Path, qtbot: QtBot) -> None:
    """Humidity makes no other question; a guard does, since it stands in the plan."""
    session = window.session
    assert session.plan is not None
    own = tmp_path / "own.json"
    own.write_bytes(msgspec.structs.replace(session.plan, entries=session.plan.steps[:3]).to_json())
    window.plan_commands.take_plan(own)
    sheet = sheet_in(window)
    room = msgspec.structs.replace(sheet.room, humidity_percent=70.0)
    with qtbot.waitSignal(session.project_changed):
        session.sheets.change("room", msgspec.structs.replace(sheet, room=room))
    drain(session)
    assert session.planner.file == own
    assert len(session.plan.steps) == 3
    tight = msgspec.structs.replace(sheet.guards[0], trip=80.0, clear=70.0)
    session.sheets.change("guard", msgspec.structs.replace(sheet_in(window), guards=(tight,)))
    assert session.planner.file is None
    assert session.plan.guards == (tight,)


def test_sensors_show_what_they_read_now(window: Window, qtbot: QtBot) -> None:
    page = window.page(RigPage)
    window.go_to(NAMES.index("Rig"))
    page.views.show_view(4)
    view = page.sensors_view
    rows = {entries[0].text: at for at, entries in enumerate(view.model.entries)}
    qtbot.waitUntil(lambda: view.model.entries[rows["Room"]][1].text.endswith("°C"))
    shown = float(view.model.entries[rows["Room"]][1].text.split("\u00a0")[0])
    assert 15.0 < shown < 35.0
    frame, card = window.session.frame, window.session.card
    assert frame is not None
    assert card is not None
    index = card.index("room_temperature_c")
    assert index is not None
    values = frame.values.copy()
    values[index] = float("nan")
    window.session.frame = Frame(frame.time_s, values)
    view._show_now()
    assert view.model.entries[rows["Room"]][1].text == "–"
