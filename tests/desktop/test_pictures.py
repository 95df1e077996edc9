"""The pages' pictures say what the core says, and can be worked by mouse and by keys."""

import math
from collections.abc import Callable

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLabel
from pytestqt.qtbot import QtBot

from niente.core.model.quantities import duration_text, number_text, quantity_of
from niente.core.planning.cost import cost_of
from niente.core.planning.progress import RunStatus
from niente.core.science.dynamics import Scale
from niente.core.science.heat.rungs import heat_rungs
from niente.core.selection.kept import keeps
from niente.desktop.app.window import NAMES, Window
from niente.desktop.pages.answer.scatter import NOISE, THROUGHPUT
from niente.desktop.pages.answer.scatter_points import sort_settings
from niente.desktop.pages.plan.run_list import CORE
from niente.desktop.widgets.blocks import Readings, Title, spoken
from niente.desktop.widgets.quantity_field import QuantityDelegate, QuantityField
from niente.desktop.widgets.scale import PixelSpan, QuietSpan, apart, end_ticks, rounded, tick_text, ticks, ticks_along
from niente.desktop.widgets.table import Cell


def show(window: Window, name: str):  # type: ignore[no-untyped-def]
    window.go_to(NAMES.index(name))
    QApplication.processEvents()
    return window.pages[NAMES.index(name)]


# -- Rig -------------------------------------------------------------------------------------------------------------


def test_the_heat_path_is_the_fitted_one(read_window: Window) -> None:
    page = show(read_window, "Rig")
    models, choice = read_window.session.answer.models, read_window.session.answer.choice
    assert models is not None
    assert choice is not None
    ladder = page.path._ladder
    assert not ladder.typical
    assert ladder.power_w == round(choice.pick.power_w)
    duties = choice.pick.setting.fan_duty
    own = heat_rungs(
        models.heat, ladder.power_w, [float(models.rpm(group, np.array(duties[group]))) for group in models.heat.groups]
    )
    assert ladder.rungs == own
    assert "fitted" in page.path.accessibleDescription()
    assert number_text(own[0].kelvin, 1) in page.path.accessibleDescription()


def test_the_power_is_moved_by_keys_and_mouse(read_window: Window, qtbot: QtBot) -> None:
    page = show(read_window, "Rig")
    before = page.path._ladder.power_w
    QTest.keyClick(page.path, Qt.Key.Key_Right)
    assert page.path._ladder.power_w == before + 5
    x = round(page.path._ladder.power.span(0.0, page.path.width()).px(150.0))
    qtbot.mousePress(page.path, Qt.MouseButton.LeftButton, pos=QPoint(x, 16))
    assert page.path._ladder.power_w == pytest.approx(150.0, abs=1.0)
    assert f"at {page.path._ladder.power_w:.0f}" in page.path_title.text()
    for _ in range(40):
        QTest.keyClick(page.path, Qt.Key.Key_Right)
    assert page.path._ladder.power_w == page.path._ladder.power.high  # and no further


def test_before_anything_is_measured_the_path_is_typical(open_window: Callable[..., Window]) -> None:
    page = show(open_window(), "Rig")
    assert page.path._ladder.typical
    assert "typical" in page.path_lead.text()
    assert "typical" in page.path.accessibleDescription()


def test_the_rig_names_parts_limits_and_cautions(read_window: Window) -> None:
    page, card = show(read_window, "Rig"), read_window.session.card
    assert card is not None
    shown = " ".join(label.text() for label in page.parts.findChildren(QLabel))
    for part in card.parts:
        assert part.name in shown
        assert part.words in shown
    words = spoken(page.margin())
    assert "Niente ends the run at" in words
    assert quantity_of("core_temperature_c").text(card.limits.core_temperature_c) in words
    assert "unplugged" in words
    assert "0.5 K hottest" in words


def test_a_rig_without_parts_is_described_from_its_card(swept_window: Window) -> None:
    import msgspec

    from niente.desktop.pages.rig.parts import part_rows

    card = swept_window.session.card
    assert card is not None
    parts = part_rows(msgspec.structs.replace(card, parts=()))
    assert card.summary in [part.words for part in parts]
    assert any("12 cores" in part.words for part in parts)


# -- Plan ------------------------------------------------------------------------------------------------------------


def test_ribbon_and_cost_line_are_the_plans(open_window: Callable[..., Window]) -> None:
    window = open_window()
    page, laid, project = show(window, "Plan"), window.session.planner.laid, window.session.project
    assert laid is not None
    assert project is not None
    runs = page.ribbon._runs
    cost = cost_of(laid.rows, laid.request.card, project.question)
    assert len(runs) == cost.runs
    assert sum(run.seconds for run in runs) == pytest.approx(cost.typical_s)
    assert {run.status for run in runs} == {RunStatus.AHEAD}
    naive, own = page.cost.words()
    assert duration_text(cost.naive_s) in naive
    assert duration_text(cost.typical_s) in own
    assert "capacity: 20" in page.ribbon.accessibleDescription()


def test_a_run_that_is_selected_is_explained(read_window: Window) -> None:
    page, rows = show(read_window, "Plan"), read_window.session.planner.rows
    position = next(index for index, row in enumerate(rows) if row.step.stage == "capacity")
    page.table.selectRow(page.model.item_of(position))
    blocks = page.margin()
    assert isinstance(blocks[0], Title)
    assert blocks[0].lead == f"Run {position + 1}, capacity: done"
    assert "Core, settled" in spoken(blocks)
    assert rows[position].step.reason in spoken(blocks)
    assert read_window.margin.blocks()[0] == blocks[0]  # the margin follows the selection at once


def test_the_list_tells_measured_from_foreseen(swept_window: Window, qtbot: QtBot) -> None:
    from niente.core.demo import closer_look

    page, session = show(swept_window, "Plan"), swept_window.session
    assert session.project is not None
    session._set_project(closer_look(session.project))
    qtbot.waitUntil(lambda: any(_ahead(row) and row[CORE].text for row in map(page.model.row, range(page.model.count()))))
    cells = [page.model.row(item) for item in range(page.model.count())]
    core = {sign: next(row[CORE] for row in cells if row[0].sign == sign and row[CORE].text) for sign in ("done", "ahead")}
    assert not core["done"].soft
    assert core["ahead"].soft


def _ahead(row: list[Cell]) -> bool:
    return row[0].sign == "ahead"


# -- Choose ----------------------------------------------------------------------------------------------------------


def test_every_setting_stands_in_its_group(read_window: Window) -> None:
    field, project = read_window.session.answer.field, read_window.session.project
    assert field is not None
    assert project is not None
    made = sort_settings(field, project.limits)
    assert made.measured.shape[0] == np.count_nonzero(field.measured)
    kept = keeps(field, project.limits)
    said = field.predicted
    everyone = np.column_stack([said.in_room_dba, said.throughput_percent])
    fine = np.logical_and.reduce(list(kept.values()))
    for point in made.inferred:
        assert np.any(fine & np.all(np.isclose(everyone, point), axis=1))
    assert np.all(np.diff(made.front[:, 0]) >= 0)
    assert np.all(np.diff(made.front[:, 1]) > 0)  # louder only for more throughput


def test_a_handle_is_dragged_and_the_drag_undone(swept_window: Window, qtbot: QtBot) -> None:
    page, session = show(swept_window, "Answer"), swept_window.session
    scatter = page.choice.scatter
    across, up = scatter.axes()
    grip = QPoint(round(across.start_px) - 5, round(up.px(90.0)))
    target = QPoint(grip.x(), round(up.px(94.0)))
    qtbot.mousePress(scatter, Qt.MouseButton.LeftButton, pos=grip)
    assert scatter._grabbed == THROUGHPUT
    qtbot.mouseMove(scatter, target)
    assert session.project is not None
    assert session.project.limits.min_throughput_percent == 90.0  # nothing is decided while it is held
    qtbot.mouseRelease(scatter, Qt.MouseButton.LeftButton, pos=target)
    assert session.project.limits.min_throughput_percent == pytest.approx(94.0, abs=1.0)
    swept_window.actions_["edit.undo"].trigger()
    assert session.project.limits.min_throughput_percent == 90.0


def test_the_noise_handle_comes_in_and_goes_out_again(swept_window: Window, qtbot: QtBot) -> None:
    page, session = show(swept_window, "Answer"), swept_window.session
    scatter = page.choice.scatter
    QTest.keyClick(scatter, Qt.Key.Key_Left)
    assert session.project is not None
    first = session.project.limits.max_noise_dba
    assert first is not None
    QTest.keyClick(scatter, Qt.Key.Key_Left)
    assert session.project.limits.max_noise_dba == first - 0.5
    field = page.choice.fields[NOISE]
    assert field.text() == field.textFromValue(first - 0.5)
    qtbot.waitUntil(lambda: session.answer.choice is not None and session.answer.choice.limits.max_noise_dba == first - 0.5)
    across, up = scatter.axes()
    grip = QPoint(round(across.px(first - 0.5)), round(up.end_px) - 6)
    qtbot.mousePress(scatter, Qt.MouseButton.LeftButton, pos=grip)
    assert scatter._grabbed == NOISE
    qtbot.mouseRelease(scatter, Qt.MouseButton.LeftButton, pos=QPoint(round(across.end_px) + 20, grip.y()))
    assert session.project.limits.max_noise_dba is None
    assert page.choice.fields[NOISE].text() == "no limit"


def test_up_and_down_move_the_least_throughput(swept_window: Window) -> None:
    page, session = show(swept_window, "Answer"), swept_window.session
    QTest.keyClick(page.choice.scatter, Qt.Key.Key_Up)
    assert session.project is not None
    assert session.project.limits.min_throughput_percent == 91.0


def test_a_limit_that_is_broken_is_underlined(read_window: Window) -> None:
    from niente.desktop.pages.answer.choice_view import _row

    choice = read_window.session.answer.choice
    assert choice is not None
    import msgspec

    from niente.core.selection.kept import Limit

    broken = msgspec.structs.replace(choice.pick, breaks=(Limit.HEADROOM,))
    row = _row("2", broken, "words", Scale(22.0))
    assert isinstance(row[7], Cell)
    assert row[7].under == "guard"
    assert isinstance(row[3], Cell)
    assert not row[3].under


def test_limits_in_the_margin_say_which_bind(read_window: Window) -> None:
    page, choice = show(read_window, "Answer"), read_window.session.answer.choice
    assert choice is not None
    lines = next(block.lines for block in page.margin() if isinstance(block, Readings))
    binding = [cost.instead is not None for cost in choice.costs]
    assert [line.dot for line in lines] == binding


# -- fields, scales --------------------------------------------------------------------------------------------------


@pytest.fixture
def field(qtbot: QtBot, qapp: QApplication) -> QuantityField:
    made = QuantityField(quantity_of("sustained_power_w"), low=45, high=200, step=1, default=165.0)
    qtbot.addWidget(made)
    made.show()
    return made


def type_into(field: QuantityField, text: str) -> None:
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, text)
    QTest.keyClick(field, Qt.Key.Key_Return)


@pytest.mark.parametrize(("text", "value"), [("120", 120.0), ("0.1 kW", 100.0), ("0,15kW", 150.0), ("120 W", 120.0)])
def test_a_field_takes_a_typed_unit(field: QuantityField, text: str, value: float) -> None:
    type_into(field, text)
    assert field.value() == value
    assert field.text() == f"{value:g}\u00a0W"


@pytest.mark.parametrize("text", ["900", "12", "50 parsecs"])
def test_a_field_keeps_to_its_range(field: QuantityField, text: str) -> None:
    field.setValue(100)
    type_into(field, text)
    assert 45 <= field.value() <= 200


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("900", "900 is over 200\u00a0W, the most allowed here; it is set to 200\u00a0W."),
        ("12", "12 is under 45\u00a0W, the least allowed here; it is set to 45\u00a0W."),
        ("abc", "'abc' is no number; it is set to 100\u00a0W."),
        ("50 parsecs", "parsecs is no unit of this; it is kept in W; it is set to 100\u00a0W."),
    ],
)
def test_a_refused_entry_says_why_at_the_field(field: QuantityField, text: str, why: str) -> None:
    field.setValue(100)
    told: list[str] = []
    field.refused.connect(told.append)
    type_into(field, text)
    assert told == [why]
    told.clear()
    type_into(field, "120")
    assert told == []


def test_what_was_typed_between_two_steps_stands_there(qtbot: QtBot, qapp: QApplication) -> None:
    """92.5 stood as 92 in the field, and as 92.5 elsewhere."""
    guard = QuantityField(quantity_of("core_temperature_c"), low=20, high=100, step=1)
    qtbot.addWidget(guard)
    guard.show()
    type_into(guard, "92.5")
    assert (guard.value(), guard.text()) == (92.5, "92.5\u00a0°C")
    type_into(guard, "92")
    assert (guard.value(), guard.text()) == (92.0, "92\u00a0°C")


def test_a_field_explains_itself(field: QuantityField) -> None:
    words = field.explanation()
    for part in ("Sustained power limit", "45 to 200 W", "steps of 1", "165"):
        assert part in words
    assert field.toolTip() == words == field.accessibleDescription()


def test_a_field_has_a_true_minus(qtbot: QtBot) -> None:
    offset = QuantityField(quantity_of("voltage_offset_mv"), low=-150, high=0, step=5)
    qtbot.addWidget(offset)
    offset.setValue(-40)
    assert offset.text() == "−40\u00a0mV"


def test_a_delegate_edits_with_the_same_field(qtbot: QtBot) -> None:
    from PySide6.QtGui import QStandardItemModel
    from PySide6.QtWidgets import QStyleOptionViewItem, QTableView

    view, model = QTableView(), QStandardItemModel(1, 1)
    qtbot.addWidget(view)
    view.setModel(model)
    model.setData(model.index(0, 0), 120.0)
    delegate = QuantityDelegate(
        lambda *_: {"quantity": quantity_of("sustained_power_w"), "low": 45, "high": 200, "step": 1}, view
    )
    editor = delegate.createEditor(view, QStyleOptionViewItem(), model.index(0, 0))
    delegate.setEditorData(editor, model.index(0, 0))
    assert editor.value() == 120.0  # type: ignore[attr-defined]
    editor.setValue(140)  # type: ignore[attr-defined]
    delegate.setModelData(editor, model, model.index(0, 0))
    assert model.data(model.index(0, 0)) == 140.0


@pytest.mark.parametrize(("low", "high", "most"), [(0, 1, 5), (20, 104, 6), (-3.2, 7.9, 4), (0.001, 0.0042, 5), (1e3, 9e3, 7)])
def test_ticks_are_round_few_and_inside(low: float, high: float, most: int) -> None:
    found = ticks(low, high, most)
    assert 2 <= len(found) <= most + 1
    assert low - 1e-9 <= found[0]
    assert found[-1] <= high + 1e-9
    step = found[1] - found[0]
    lead = step / 10 ** math.floor(math.log10(step) + 1e-9)
    assert min(abs(lead - one) for one in (1, 2, 5, 10)) < 1e-6


def test_labels_that_meet_move_apart_and_no_further() -> None:
    assert apart([10.0, 40.0], 12.0) == [10.0, 40.0]
    moved = apart([20.0, 20.0, 21.0], 12.0)
    assert sorted(moved)[1] - sorted(moved)[0] >= 11.9
    assert sorted(moved)[2] - sorted(moved)[1] >= 11.9
    assert np.mean(moved) == pytest.approx(np.mean([20.0, 20.0, 21.0]), abs=0.1)
    assert apart([], 12.0) == []


@pytest.mark.parametrize(
    ("low", "high", "most"),
    [(21.3, 43.8, 9), (-4.0, 71.0, 9), (3450.0, 4890.0, 5), (-0.42, 0.42, 4), (58.0, 214.0, 7)],
)
def test_a_rounded_axis_has_a_tick_at_both_ends(low: float, high: float, most: int) -> None:
    first, last = rounded(low, high, most)
    assert first <= low < high <= last
    found = ticks(first, last, most)
    assert found[0] == pytest.approx(first)
    assert found[-1] == pytest.approx(last)
    assert last - first <= (high - low) + 2.0 * (found[1] - found[0])  # no wider than it takes


def test_an_axis_with_given_ends_names_them_and_nothing_beside_them() -> None:
    assert end_ticks(58.0, 165.0, 6) == [58.0, 80.0, 100.0, 120.0, 140.0, 165.0]
    assert end_ticks(60.0, 100.0, 4) == [60.0, 70.0, 80.0, 90.0, 100.0]


def test_a_given_end_is_labelled_as_what_it_is() -> None:
    assert tick_text(58.5, 20.0) == "58.5"
    assert tick_text(60.0, 20.0) == "60"
    assert tick_text(1.055, 0.05) == "1.055"
    assert tick_text(0.1 + 0.2, 0.1) == "0.3"  # as far as a float goes


def test_the_quiet_end_gets_the_most_room() -> None:
    span = QuietSpan(23.0, 43.0, 60.0, 660.0)
    assert (span.px(23.0), span.px(43.0)) == pytest.approx((60.0, 660.0))
    assert span.px(28.0) - span.px(23.0) > 0.4 * 600.0  # a quarter of the levels
    for level in (20.0, 23.0, 23.6, 31.0, 43.0, 46.0):
        assert span.value(span.px(level)) == pytest.approx(level)
    found = ticks_along(span, 38.0)
    assert found[0] == 23.0
    assert found[-1] == 43.0
    gaps = np.diff([span.px(value) for value in found])
    assert gaps.min() >= 38.0


def test_a_span_goes_there_and_back() -> None:
    span = PixelSpan(10.0, 30.0, 100.0, 500.0)
    assert span.px(20.0) == 300.0
    assert span.value(span.px(17.3)) == pytest.approx(17.3)
    up = PixelSpan(0.0, 1.0, 400.0, 100.0)
    assert up.px(1.0) == 100.0
    assert QPointF(up.px(0.5), 0).x() == 250.0
