"""The Plan page as a person uses it: questions, axes, rules, the list by mouse and keys, the dry run, templates kept."""

import functools
import json
from collections.abc import Callable
from pathlib import Path

import msgspec
import pytest
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt
from PySide6.QtGui import QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLineEdit, QWidget
from pytestqt.qtbot import QtBot

from niente.core.model.plan import Exposure, GuardAction, PickRuns, Plan, Search, SearchMethod, Step, read_plan
from niente.core.model.question import Approach, Axis, FanSchool, Order, Question, Span
from niente.core.model.setting import Setting
from niente.core.model.states import BenchState
from niente.core.planning.progress import RunStatus
from niente.core.planning.templates import TEMPLATES
from niente.desktop.app.window import NAMES, Window
from niente.desktop.dialogs import prompts
from niente.desktop.dialogs.insert_run import InsertRun
from niente.desktop.pages.plan.page import PlanPage
from niente.desktop.pages.plan.run_list import MINUTES, RUN, RUNS, SET, SIGN, WHY, Fold
from niente.desktop.pages.run.page import RunPage
from niente.desktop.session.planner import SMALL
from niente.desktop.widgets.blocks import Columns, Words, spoken


@pytest.fixture
def window(new_window: Window) -> Window:
    """The page of a window on a new book that many tests share."""
    new_window.go_to(NAMES.index("Plan"))
    return new_window


@pytest.fixture
def own_window(open_window: Callable[..., Window]) -> Window:
    """A window of a test's own."""
    window = open_window()
    window.go_to(NAMES.index("Plan"))
    return window


def page_of(window: Window) -> PlanPage:
    page = window.page(PlanPage)
    assert isinstance(page, PlanPage)
    return page


def question_in(window: Window) -> Question:
    assert window.session.project is not None
    return window.session.project.question


def put(field: QLineEdit, text: str) -> None:
    field.setText(text)
    field.setModified(True)
    field.editingFinished.emit()


def watts(window: Window) -> list[float | None]:
    return [row.step.setting.sustained_power_w for row in window.session.planner.rows]


def _is_ordered(window: Window, expected: list[float | None]) -> bool:
    return watts(window) == expected


def _status(window: Window, index: int) -> RunStatus:
    return window.session.planner.rows[index].status


def choose_question(window: Window, name: str) -> None:
    page_of(window).questions.buttons[name].click()


# -- questions -----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("name", [kind.name for kind in TEMPLATES if kind.name != "real-time"])
def test_every_question_can_be_asked_at_the_screen(window: Window, name: str, qtbot: QtBot) -> None:
    page = page_of(window)
    choose_question(window, name)
    kind = next(one for one in TEMPLATES if one.name == name)
    qtbot.waitUntil(
        lambda: window.session.planner.dry is not None and window.session.planner.dry_rows == window.session.planner.rows
    )
    assert question_in(window).template == name
    assert page.title.text() == kind.title
    assert page.lead.text() == kind.asks
    assert page.model.count() > 0
    assert not window.session.planner.dry.wrong  # type: ignore[union-attr]
    assert page.finished()
    assert "ahead" in spoken(page.margin()) or "left to run" in spoken(page.margin())
    assert not window.grab().isNull()
    for field in page.findChildren(QLineEdit):
        around = field.parentWidget()
        assert field.accessibleName() or (around is not None and around.accessibleName())
    if name != "quiet-point":
        window.actions_["edit.undo"].trigger()
        assert question_in(window).template == "quiet-point"


def test_a_question_that_a_rig_has_no_load_for_is_greyed_and_says_why(window: Window) -> None:
    button = page_of(window).questions.buttons["real-time"]
    assert not button.isEnabled()
    assert "This rig has no load with deadlines whose size can be set." in button.toolTip()


def test_the_budget_and_quiet_hours_outlive_another_question(window: Window) -> None:
    page = page_of(window)
    page.rules.budget.setValue(9.0)
    page.rules.quiet_most.setValue(30.0)
    choose_question(window, "soak")
    assert question_in(window).budget_h == 9.0
    assert question_in(window).quiet.max_dba == 30.0  # type: ignore[union-attr]
    page.rules.quiet_most.setValue(0.0)
    assert question_in(window).quiet is None


def test_a_question_that_must_be_fresh_counts_later_runs_only(swept_window: Window, qtbot: QtBot) -> None:
    swept_window.go_to(NAMES.index("Plan"))
    qtbot.waitUntil(lambda: swept_window.session.planner.closed() > 30)
    choose_question(swept_window, "variants")
    assert question_in(swept_window).since
    assert swept_window.session.planner.closed() == 0
    swept_window.actions_["edit.undo"].trigger()
    assert swept_window.session.planner.closed() > 30
    swept_window.actions_["plan.anew"].trigger()
    assert swept_window.session.planner.closed() == 0


# -- axes ----------------------------------------------------------------------------------------------------------------


def test_an_axis_is_a_span_a_ratio_a_list_or_one_value(window: Window) -> None:
    page = page_of(window)
    row = page.axes.rows["sustained_power_w"]
    put(row.step, "10")
    assert question_in(window).axis("sustained_power_w") == Axis("sustained_power_w", span=Span(80.0, 150.0, 10.0))
    put(row.step, "× 1.3")
    assert question_in(window).axis("sustained_power_w").span == Span(80.0, 150.0, 1.3, by_ratio=True)  # type: ignore[union-attr]
    assert row.step.text() == "×1.3"
    put(row.last, "0.16 kW")
    assert question_in(window).axis("sustained_power_w").span.last == 160.0  # type: ignore[union-attr]
    put(row.step, "80; 90; 0.1 kW")
    assert question_in(window).axis("sustained_power_w").points() == (80.0, 90.0, 100.0)  # type: ignore[union-attr]
    row.last.setText("")
    row.step.setText("")
    put(row.first, "95")
    assert question_in(window).axis("sustained_power_w").points() == (95.0,)  # type: ignore[union-attr]
    assert row.points.text() == "fixed"
    put(row.last, "125")  # an end without a step makes four places
    assert len(question_in(window).axis("sustained_power_w").points()) == 4  # type: ignore[union-attr]


def test_an_offset_runs_from_gentle_to_deep(window: Window) -> None:
    row = page_of(window).axes.rows["voltage_offset_mv"]
    assert (row.first.text(), row.last.text()) == ("0", "−150")
    put(row.last, "-80")
    assert question_in(window).axis("voltage_offset_mv").span == Span(-80.0, 0.0, 20.0)  # type: ignore[union-attr]


@pytest.mark.parametrize(
    ("fields", "words"),
    [
        (("160", "60", "10"), "runs backwards"),
        (("", "100", "10"), "no first value"),
        (("60", "160", "0.2"), "finer than the rig's 1"),
        (("60", "900", "10"), "outside"),
        (("sixty", "160", "10"), "is no number"),
        (("60", "160", "0"), "not positive"),
        (("60 °C", "160", "10"), "is no unit of this"),
    ],
)
def test_an_axis_that_cannot_be_is_refused_and_stays(window: Window, fields: tuple[str, str, str], words: str) -> None:
    before = question_in(window)
    row = page_of(window).axes.rows["sustained_power_w"]
    for field, text in zip(row.fields, fields, strict=True):
        field.setText(text)
        field.setModified(True)
    row.step.editingFinished.emit()
    assert words in window.message.text.replace("\u00a0", " ")
    assert "The plan is unchanged" in window.message.text
    assert question_in(window) == before
    assert (row.first.text(), row.last.text(), row.step.text()) == ("80", "150", "list")


def test_another_control_is_taken_up_and_put_down(window: Window) -> None:
    page = page_of(window)
    index = page.axes.add.findData("temperature_cap_c")
    assert index > 0
    page.axes.add.setCurrentIndex(index)
    page.axes.add.activated.emit(index)
    assert question_in(window).base.temperature_cap_c == 90.0  # as found
    row = page.axes.rows["temperature_cap_c"]
    put(row.first, "85")
    assert all(step.setting.temperature_cap_c == 85.0 for step in window.session.plan.steps if step.stage == "capacity")  # type: ignore[union-attr]
    put(page.axes.rows["temperature_cap_c"].first, "")
    assert question_in(window).base.temperature_cap_c is None
    assert "temperature_cap_c" not in page.axes.rows


def test_the_margin_says_what_another_step_costs_before_it_is_made(window: Window, qtbot: QtBot) -> None:
    page = page_of(window)
    choose_question(window, "fan-sweep")
    before = window.session.plan
    page.axes.rows["fan_duty.case"].step.focused.emit()
    qtbot.waitUntil(lambda: any(isinstance(block, Columns) for block in page.margin()))
    said = spoken(page.margin())
    assert "What a step costs" in said
    assert "› ×" in said.replace("\u00a0", " ")  # the present one is marked
    assert window.session.plan is before
    page.rules.known.entered.emit()
    choose_question(window, "quiet-point")
    page.rules.known.entered.emit()
    qtbot.waitUntil(lambda: "What a target costs" in spoken(page.margin()))
    page.rules.budget.entered.emit()
    qtbot.waitUntil(lambda: "What a budget buys" in spoken(page.margin()))
    assert "all of it" in spoken(page.margin())


# -- rules ---------------------------------------------------------------------------------------------------------------


def test_rules_make_the_plan(window: Window) -> None:
    page, session = page_of(window), window.session
    choose_question(window, "free")
    rules = page.rules
    rules.order.activated.emit(list(Order).index(Order.COLD))
    rules.rest.setValue(5.0)
    assert {step.exposure.idle_s for step in session.plan.steps} == {300.0}  # type: ignore[union-attr]
    rules.repeats.setValue(2)
    assert len(session.plan.steps) == 24  # type: ignore[union-attr]
    rules.rule.activated.emit(4)
    assert {(step.exposure.min_s, step.exposure.known_to_k) for step in session.plan.steps} == {(1200.0, None)}  # type: ignore[union-attr]
    rules.rule.activated.emit(0)
    rules.known.setValue(2.0)
    assert {step.exposure.known_to_k for step in session.plan.steps} == {2.0}  # type: ignore[union-attr]
    rules.most.setValue(5.0)
    assert "longer than its longest" in window.message.text
    rules.least.setValue(4.0)
    assert {step.exposure.min_s for step in session.plan.steps} == {240.0}  # type: ignore[union-attr]
    for index, school in enumerate(FanSchool):
        rules.fans.activated.emit(index)
        assert question_in(window).fans == school
    assert rules.flag.isVisible()  # as used is flagged
    assert "one for one with the room" in rules.flag.text()
    rules.fans.activated.emit(list(FanSchool).index(FanSchool.SPEED))
    assert "fan_speed_rpm.case" in page.axes.rows
    assert all(step.speed_rpm for step in session.plan.steps)  # type: ignore[union-attr]


def test_the_runs_of_a_quiet_point_are_chosen_in_either_way(window: Window) -> None:
    """Every point of the axes, or each as the last ones told: what is still to follow stands in the list as expected."""
    page = page_of(window)
    choose_question(window, "fan-sweep")
    choose_question(window, "quiet-point")
    rules, session = page.rules, window.session
    assert rules.approach.isVisible()
    assert question_in(window).approach == Approach.ADAPTIVE  # as it begins
    rules.approach.activated.emit(list(Approach).index(Approach.GRID))
    assert question_in(window).approach == Approach.GRID
    runs = len(session.plan.entries)  # type: ignore[union-attr]
    assert not any(isinstance(entry, PickRuns) for entry in session.plan.entries)  # type: ignore[union-attr]
    rules.approach.activated.emit(list(Approach).index(Approach.ADAPTIVE))
    assert question_in(window).approach == Approach.ADAPTIVE
    assert len(session.plan.steps) < runs  # type: ignore[union-attr]
    assert any(isinstance(entry, PickRuns) for entry in session.plan.entries)  # type: ignore[union-attr]
    window.actions_["edit.undo"].trigger()
    assert question_in(window).approach == Approach.GRID
    rules.fans.activated.emit(list(FanSchool).index(FanSchool.AS_USED))
    assert not rules.approach.isVisible()
    choose_question(window, "undervolt-ladder")
    assert not rules.approach.isVisible()


def test_a_search_has_its_schools(window: Window) -> None:
    page = page_of(window)
    choose_question(window, "undervolt-ladder")
    rules = page.rules
    assert rules.method.isVisible()
    assert question_in(window).method == SearchMethod.STRUCTURED
    assert not rules.margin.isVisible()  # it has no margin: the depth is the posterior's own
    rules.method.activated.emit(2)
    assert question_in(window).method == SearchMethod.BISECTION
    rules.margin.setValue(20.0)
    rules.fine.setValue(10.0)
    rules.passes.setValue(3.0)
    search = next(entry for entry in window.session.plan.entries if not isinstance(entry, Step))  # type: ignore[union-attr]
    said = (search.method, search.margin, search.fine, search.passes)  # type: ignore[union-attr]
    assert said == (SearchMethod.BISECTION, 20.0, 10.0, 3)
    index = page.axes.add.findData("core_offset_mv")
    page.axes.edited.emit("voltage_offset_mv", None)
    page.axes.edited.emit("core_offset_mv", Axis("core_offset_mv", span=Span(-100.0, 0.0, 20.0)))
    assert index >= 0
    assert [rules.method.itemText(n) for n in range(rules.method.count())] == ["exposures", "weakest first", "in turn"]
    for n, method in enumerate((SearchMethod.STRUCTURED, SearchMethod.WEAKEST_FIRST, SearchMethod.IN_TURN)):
        rules.method.activated.emit(n)
        search = next(entry for entry in window.session.plan.entries if not isinstance(entry, Step))  # type: ignore[union-attr]
        assert (len(search.controls), search.method) == (12, method)  # type: ignore[union-attr]


def test_two_states_are_chosen_and_not_the_same_one(window: Window) -> None:
    page = page_of(window)
    choose_question(window, "variants")
    box = page.rules.variants[1]
    box.setCurrentText("front off")
    box.activated.emit(box.currentIndex())
    assert question_in(window).variants == ("filter in", "front off")
    box.setCurrentText("filter in")
    box.activated.emit(box.currentIndex())
    assert "the same state" in window.message.text
    assert box.currentText() == "front off"


def test_a_question_over_its_budget_says_what_fits(window: Window, qtbot: QtBot) -> None:
    page = page_of(window)
    page.rules.budget.setValue(1.5)
    qtbot.waitUntil(lambda: window.session.planner.instead is not None)
    assert "more than its budget" in page.warning.text()
    said = spoken(page.margin())
    assert "What fits the budget" in said
    assert "Fan sweep" in said


# -- the list ------------------------------------------------------------------------------------------------------------


def choose_run(window: Window, index: int) -> None:
    page = page_of(window)
    page.table.selectRow(page.model.item_of(index))
    assert page.selected()[0] == index  # type: ignore[index]


def test_runs_are_moved_skipped_repeated_by_keys(window: Window, qtbot: QtBot) -> None:
    page = page_of(window)
    choose_question(window, "capacity-ladder")
    window.activateWindow()
    page.table.setFocus()
    before = watts(window)
    choose_run(window, 2)
    for key, modifiers, expected in (
        (Qt.Key.Key_Up, Qt.KeyboardModifier.AltModifier, [before[0], before[2], before[1], *before[3:]]),
        (Qt.Key.Key_Down, Qt.KeyboardModifier.AltModifier, before),
        (Qt.Key.Key_D, Qt.KeyboardModifier.ControlModifier, [*before[:3], before[2], *before[3:]]),
    ):
        QTest.keyClick(page.table, key, modifiers)
        qtbot.waitUntil(functools.partial(_is_ordered, window, expected))
    choose_run(window, 5)
    QTest.keyClick(page.table, Qt.Key.Key_Delete)
    assert _status(window, 5) == RunStatus.SKIPPED
    assert page.model.row(5)[SIGN].sign == "skipped"
    QTest.keyClick(page.table, Qt.Key.Key_Delete)
    assert _status(window, 5) == RunStatus.AHEAD
    for _ in range(5):
        window.actions_["edit.undo"].trigger()
    assert watts(window) == before
    assert window.actions_["edit.undo"].text() == "Undo question: Capacity ladder"


def drop_at(window: Window, source: int, target: int) -> None:
    """Drop a line of the list before another, as a drag does."""
    page = page_of(window)
    data = page.model.mimeData([page.model.index(source, 0)])
    rect = page.table.visualRect(page.model.index(target, 2))
    at = QPointF(rect.left() + 4, rect.top() + 1)
    event = QDropEvent(at, Qt.DropAction.MoveAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
    page.table.dropEvent(event)


def test_a_run_is_dragged_between_others(window: Window) -> None:
    page = page_of(window)
    choose_question(window, "capacity-ladder")
    before = watts(window)
    assert page.model.supportedDropActions() == Qt.DropAction.MoveAction
    assert page.model.mimeTypes() == [RUNS]
    assert page.model.flags(page.model.index(1, 0)) & Qt.ItemFlag.ItemIsDragEnabled
    assert not page.model.dropMimeData(QMimeData(), Qt.DropAction.MoveAction, 0, 0, page.model.index(-1, -1))
    data = page.model.mimeData([page.model.index(4, 0)])
    page.model.dropMimeData(data, Qt.DropAction.MoveAction, 1, 0, page.model.index(-1, -1))
    assert watts(window) == [before[0], before[4], *before[1:4], *before[5:]]
    data = page.model.mimeData([page.model.index(3, 0)])
    page.model.dropMimeData(data, Qt.DropAction.MoveAction, 0, 0, page.model.index(-1, -1))
    assert watts(window)[0] == before[2]
    window.actions_["edit.undo"].trigger()
    window.actions_["edit.undo"].trigger()
    assert watts(window) == before


def test_runs_of_one_search_go_together(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(prompts, "whether_search_may_go", lambda *_: True)
    choose_question(window, "undervolt-ladder")
    planner = window.session.planner
    search = next(index for index, row in enumerate(planner.rows) if row.status == RunStatus.EXPECTED)
    entry = planner.rows[search].entry
    count = sum(row.entry == entry for row in planner.rows)
    page_of(window).model.moved.emit(search, -1)
    assert [row.entry for row in window.session.planner.rows[:count]] == [0] * count
    page_of(window).commands.skip(planner.key_of(0))
    assert sum(row.status == RunStatus.SKIPPED for row in window.session.planner.rows) == 1


def test_a_run_of_ones_own_is_inserted(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    page = page_of(window)
    choose_question(window, "capacity-ladder")
    choose_run(window, 1)
    card, like = window.session.card, window.session.planner.rows[1].step
    assert card is not None
    dialog = InsertRun(page, card, like, page.model.columns)
    dialog.fields["sustained_power_w"].setValue(133.0)
    dialog.load.setCurrentIndex(dialog.load.findData("dome"))
    dialog.minutes.setValue(7.0)
    dialog.known.setCurrentIndex(0)
    step = dialog.step()
    dialog.deleteLater()
    assert (step.setting.sustained_power_w, step.load, step.exposure) == (133.0, "dome", Exposure(420.0, 420.0))
    monkeypatch.setattr("niente.desktop.pages.plan.page.ask_for_run", lambda *_: step)
    window.actions_["plan.insert"].trigger()
    assert watts(window)[2] == 133.0
    assert "Inserted by hand" in page.model.row(2)[WHY].text
    monkeypatch.setattr("niente.desktop.pages.plan.page.ask_for_run", lambda *_: None)
    runs = len(watts(window))
    window.actions_["plan.insert"].trigger()
    assert len(watts(window)) == runs


def test_a_stage_folds_and_unfolds(window: Window) -> None:
    page = page_of(window)
    assert page.model.row(0)[SIGN].sign == "folded"
    assert page.model.row(0)[RUN].text == "1–15"
    rows = page.model.count()
    page.table.selectRow(0)
    QTest.keyClick(page.table, Qt.Key.Key_Right)
    assert page.model.count() == rows + 14
    assert page.model.index_of(14) == 14
    QTest.keyClick(page.table, Qt.Key.Key_Left)
    assert page.model.count() == rows
    where = page.table.visualRect(page.model.index(0, SIGN)).center()
    QTest.mouseClick(page.table.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(where))
    assert page.model.count() == rows + 14
    assert not page.model.toggle(15)  # two runs of the baseline are no fold
    assert isinstance(page.model._run_at(0), Fold)


def test_columns_follow_what_is_varied(window: Window, qtbot: QtBot) -> None:
    page = page_of(window)
    choose_question(window, "hold-back")
    qtbot.waitUntil(lambda: window.session.plan is not None and window.session.plan.question == "hold-back")
    heads = [page.model.heads[SET + index] for index in range(4)]
    assert heads == ["Limit, W", "Case, %", "Offset, mV", "Cap, °C"]
    choose_question(window, "fan-sweep")
    assert page.model.heads[SET : SET + 3] == ["Limit, W", "Fans, %", ""]  # groups that are set apart share one
    assert page.table.isColumnHidden(SET + 2)
    tip = page.model.headerData(SET + 1, Qt.Orientation.Horizontal, Qt.ItemDataRole.ToolTipRole)
    assert tip == "case · cooler"
    set_apart = {row[SET + 1] for row in page.model.rows}
    assert len([text for text in set_apart if " · " in text]) > 3  # each group's duty, in the card's order


def short_runs(open_window: Callable[..., Window], name: str) -> Window:
    """A window on a question whose runs last a minute, as fast as it goes."""
    window = open_window(pace=None)
    window.go_to(NAMES.index("Plan"))
    choose_question(window, name)
    page_of(window).rules.rule.activated.emit(2)
    page_of(window).rules.least.setValue(1.0)
    return window


def test_an_edit_under_way_holds_from_the_next_run_on(open_window: Callable[..., Window], qtbot: QtBot) -> None:
    window = short_runs(open_window, "capacity-ladder")
    session = window.session
    first = watts(window)
    window.actions_["plan.start"].trigger()
    qtbot.waitUntil(lambda: session.live is not None and session.live.opened.index >= 1)
    window.go_to(NAMES.index("Plan"))
    put(page_of(window).axes.rows["sustained_power_w"].last, f"{first[4]:g}")
    qtbot.waitUntil(lambda: not session.busy())
    qtbot.waitUntil(lambda: all(row.status.closed for row in session.planner.rows))
    assert watts(window) == first[:5]
    qtbot.waitUntil(lambda: "plan is done" in window.message.text)


# -- files, templates ----------------------------------------------------------------------------------------------------


def test_a_list_from_a_file_is_edited_too(window: Window, tmp_path: Path) -> None:
    choose_question(window, "capacity-ladder")
    assert window.session.plan is not None
    own = tmp_path / "own.json"
    own.write_bytes(msgspec.structs.replace(window.session.plan, entries=window.session.plan.steps[-4:]).to_json())
    window.plan_commands.take_plan(own)
    page = page_of(window)
    assert page.title.text() == "own"
    before = watts(window)
    page.model.moved.emit(3, -1)
    assert watts(window) == [before[3], *before[:3]]
    assert page.title.text() == "own"
    page.commands.repeat(window.session.planner.key_of(0))
    assert len(watts(window)) == 5
    window.actions_["edit.undo"].trigger()
    window.actions_["edit.undo"].trigger()
    assert watts(window) == before
    page.questions.buttons["capacity-ladder"].click()  # back to the question
    assert window.session.planner.file is None
    assert page.title.text() == "Capacity ladder"


def test_a_question_is_kept_listed_and_asked_again(window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    page = page_of(window)
    choose_question(window, "soak")
    page.rules.repeats.setValue(4)
    monkeypatch.setattr("niente.desktop.dialogs.prompts.for_question_name", lambda *_: "Four hours")
    window.actions_["plan.keep"].trigger()
    assert "kept as Four hours" in window.message.text
    assert list(page.questions.own) == ["Four hours"]
    choose_question(window, "quiet-point")
    page.questions.own["Four hours"].click()
    assert (question_in(window).template, question_in(window).repeats) == ("soak", 4)
    (file,) = page.commands.folder.glob("*.json")
    data = json.loads(file.read_text())
    data["question"]["survive"] = ["vector", "juggling"]
    other = tmp_path / "other.json"
    other.write_text(json.dumps(data))
    window.file_commands.open(other)  # as a drop does
    assert "the load juggling" in window.message.text
    assert question_in(window).survive == ("vector",)
    other.write_text('{"format": "niente-question/1", "name": 7}')
    window.file_commands.open(other)
    assert "no question that Niente can read" in window.message.text


def test_what_the_window_writes_the_command_line_reads(window: Window, tmp_path: Path) -> None:
    file = tmp_path / "plan.json"
    choose_question(window, "undervolt-ladder")
    window.plan_commands.save_plan(file)
    assert read_plan(file.read_bytes()) == window.session.plan


# -- dry run, long plans -------------------------------------------------------------------------------------------------


def test_a_plan_that_must_trip_a_guard_is_told_above_the_list(swept_window: Window, qtbot: QtBot) -> None:
    swept_window.go_to(NAMES.index("Plan"))
    page, session = page_of(swept_window), swept_window.session
    plan, card = session.plan, session.card
    assert plan is not None
    assert card is not None
    low = msgspec.structs.replace(plan.guards[0], trip=60.0, clear=50.0, action=GuardAction.STOP)
    hot = Step(
        card.stock.over(Setting()).replaced("sustained_power_w", 128.0), "vector", Exposure(480.0, 900.0, 1.0), "free", "hot"
    )
    session.planner.take(msgspec.structs.replace(plan, entries=(hot,), guards=(low,)), None)
    qtbot.waitUntil(lambda: session.planner.dry is not None and bool(session.planner.dry.trips))
    assert "must trip a guard" in page.warning.text()
    assert "Nearest to a guard" in spoken(page.margin())


def test_a_plan_that_cannot_run_says_so_and_is_not_finished(window: Window, qtbot: QtBot) -> None:
    page, session = page_of(window), window.session
    assert session.plan is not None
    step = msgspec.structs.replace(session.plan.steps[0], load="juggling")
    session.planner.take(msgspec.structs.replace(session.plan, entries=(step,)), None)
    qtbot.waitUntil(lambda: session.planner.dry is not None and bool(session.planner.dry.wrong))
    assert page.warning.text().startswith("×")
    assert not page.finished()
    assert any(isinstance(block, Words) and block.heading == "It cannot run" for block in page.margin())


def test_five_thousand_runs_are_worked_out_away_from_the_window(window: Window, qtbot: QtBot) -> None:
    """The list is drawn from what is looked at only; an edit comes back at once, and the plan follows."""
    page, planner = page_of(window), window.session.planner
    choose_question(window, "free")
    axes = (Axis("sustained_power_w", span=Span(60.0, 160.0, 2.0)), Axis("fan_duty.case", span=Span(1.0, 99.0, 1.0)))
    small = planner.laid
    page.commands.change_question("many", msgspec.structs.replace(question_in(window), axes=axes))
    assert planner.laid is small  # not in the window's own turn
    qtbot.waitUntil(lambda: len(planner.rows) == 5049)
    qtbot.waitUntil(lambda: planner.dry is not None and len(planner.dry_rows) == 5049)
    assert "5049 runs take" in page.warning.text()
    assert page.model.count() == 5049
    QApplication.processEvents()
    assert len(page.model._cells) < SMALL  # only what shows was made
    page.table.selectRow(100)
    key = planner.key_of(100)
    page.up()
    page.up()  # before the first is laid out
    page.leave_out()
    qtbot.waitUntil(lambda: planner.rows[98].status == RunStatus.SKIPPED)
    assert planner.key_of(98) == key
    assert page.selected()[0] == 98  # type: ignore[index]
    assert page.model.row(5000)[MINUTES].text
    laid = planner.laid
    assert laid is not None
    assert len(laid.pieces) < 1000


def test_an_answer_that_comes_after_the_end_does_nothing(own_window: Window, qtbot: QtBot) -> None:
    planner = own_window.session.planner
    planner.close()
    planner.look(msgspec.structs.replace(own_window.session.answer, problem="late", evidence=None, models=None))
    planner.compare("sustained_power_w")
    planner.take(planner.plan, None)
    QApplication.processEvents()
    assert planner.comparison is None


def test_a_plan_of_no_question_has_no_steps_to_compare(own_window: Window) -> None:
    planner = own_window.session.planner
    assert isinstance(planner.plan, Plan)
    planner.take(planner.plan, None)
    planner.compare("sustained_power_w")
    assert planner.comparison is None


def test_a_comparison_goes_through_hands_and_the_sheet_follows(open_window: Callable[..., Window], qtbot: QtBot) -> None:
    """What hands have to do stands in the message bar; the machine's sheet says afterwards what it is now."""
    window = short_runs(open_window, "variants")
    session = window.session
    told: list[str] = []
    session.notice.connect(lambda notice: told.append(getattr(notice, "text", "")))
    window.actions_["plan.start"].trigger()
    for _ in range(2):
        qtbot.waitUntil(lambda: session.hands.card is not None)
        assert session.state == BenchState.WAITING_FOR_HANDS
        card = session.hands.card
        assert not window.actions_["run.resume"].isEnabled()  # not before every box is ticked
        window.actions_["page.run"].trigger()
        run = window.page(RunPage)
        assert "becomes" in run.title.text()
        for box in run.card_view.boxes:
            box.setChecked(True)  # the first ticks itself once the machine is cool
        assert window.actions_["run.resume"].isEnabled()
        run.card_view.done.click()
        qtbot.waitUntil(lambda before=card: session.hands.card != before)  # type: ignore[misc]
    qtbot.waitUntil(lambda: not session.busy())
    qtbot.waitUntil(lambda: any("plan is done" in text for text in told))
    hands = [text for text in told if "becomes" in text]
    assert [("filter out" in text, "filter in" in text) for text in hands] == [(True, False), (False, True)]
    assert not [text for text in told if "is running" in text]  # nothing complains that a plan runs
    assert session.card.variant == "filter in"  # type: ignore[union-attr]
    assert session.sheet.variant == "filter in"  # type: ignore[union-attr]
    qtbot.waitUntil(lambda: all(row.status.closed for row in session.planner.rows))


@pytest.mark.parametrize("may", [True, False])
def test_leaving_out_a_run_of_a_search_asks_for_all_of_it(
    window: Window, monkeypatch: pytest.MonkeyPatch, qtbot: QtBot, may: bool
) -> None:
    """One row of a search went, and the whole search with it, unasked."""
    page, planner = page_of(window), window.session.planner
    qtbot.waitUntil(lambda: len(planner.rows) > 20)
    assert planner.listed is not None
    search = next(at for at, entry in enumerate(planner.listed.entries) if isinstance(entry, Search))
    asked: list[tuple[int, int]] = []

    def answer(_: QWidget, runs: int, then: int) -> bool:
        asked.append((runs, then))
        return may

    monkeypatch.setattr(prompts, "whether_search_may_go", answer)
    before = [row for row in planner.rows if row.entry == search]
    page.commands.skip(planner.listed.keys[search])
    assert len(asked) == 1
    assert asked[0][0] == len(before)
    assert asked[0][1] > 0  # the runs of the stage after it take what it finds
    skipped = [row.status == RunStatus.SKIPPED for row in planner.rows if row.entry == search]
    assert all(skipped) if may else not any(skipped)
    step = next(at for at, entry in enumerate(planner.listed.entries) if isinstance(entry, Step))
    page.commands.skip(planner.listed.keys[step])
    assert len(asked) == 1  # a single run asks nothing
