"""The Map page: its views say what the core says, for any two controls, and can be worked by mouse and by keys."""

import csv
import io
from collections.abc import Callable, Iterator
from pathlib import Path

import msgspec
import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from niente.core.analysis.grid import GridView, OtherControls
from niente.core.analysis.map_table import COLUMNS, map_as_csv
from niente.core.analysis.maps import MapRequest, SettingMap, make_map
from niente.core.model.limits import Limits
from niente.core.model.plan import Step
from niente.core.model.quantities import number_text
from niente.core.model.setting import Setting
from niente.core.science.dynamics import Scale
from niente.core.selection.pick import candidate_at
from niente.desktop.app.window import NAMES, Window
from niente.desktop.pages.map.layers import COARSE, LAYERS, drawn, fitting_step, grid_points, quietest
from niente.desktop.pages.map.margin import candidate_blocks, steps_away, why_here
from niente.desktop.pages.map.page import FIELD, FIT, NOISE, TABLE, WATTS, MapPage
from niente.desktop.widgets.blocks import spoken
from niente.desktop.widgets.canvas import spans
from tests.core.analysis.making import models_from
from tests.desktop.conftest import drain


def page_of(window: Window) -> MapPage:
    window.go_to(NAMES.index("Map"))
    QApplication.processEvents()
    found = window.page(MapPage)
    assert isinstance(found, MapPage)
    return found


@pytest.fixture
def page(read_window: Window) -> Iterator[MapPage]:
    """The page of a window that many tests share; what is requested of it is taken back."""
    found = page_of(read_window)
    yield found
    found.views.show_view(FIELD)
    found.request_row.put(MapRequest())
    found.refresh()


@pytest.fixture
def own_page(swept_window: Window) -> MapPage:
    """The page of a window of a test's own."""
    return page_of(swept_window)


def map_of(page: MapPage) -> SettingMap:
    assert page.mapped is not None
    return page.mapped


def choose(page: MapPage, qtbot: QtBot, **wanted: str) -> SettingMap:
    """Choose from the fields above the map, and wait for the map that comes of it."""
    for name, data in wanted.items():
        box = getattr(page.request_row, name)
        index = box.findData(data) if box.itemData(0) is not None else box.findText(data)
        assert index >= 0, (name, data)
        box.setCurrentIndex(index)
        box.activated.emit(index)
    qtbot.waitUntil(lambda: page.mapped is not None and page.mapped.request == page.request_row.request)
    return map_of(page)


# -- the field -------------------------------------------------------------------------------------------------------


def test_every_layer_on_its_grid_is_the_field(page: MapPage) -> None:
    """Brought onto an even grid, a layer keeps the field's own values where the grids meet."""
    mapped = map_of(page)
    for layer in LAYERS:
        made = drawn(mapped, layer)
        values = mapped.field.as_grid(layer.of(mapped.field, mapped.limits))
        assert made.values.shape == (COARSE, COARSE)
        for row, column in ((0, 0), (0, -1), (-1, 0), (-1, -1)):
            assert made.values[row, column] == pytest.approx(values[row, column]), layer.title
            assert made.fine[row, column] == pytest.approx(values[row, column]), layer.title
        assert made.low <= np.min(values) + 1e-6
        assert np.max(values) <= made.high + 1e-6
        assert 1 <= (made.high - made.low) / made.step <= 40


def test_steps_of_colour_fit_any_machine() -> None:
    assert fitting_step(2.5, 40.0, 90.0) == 2.5
    for low, high in ((0.0, 2.0), (0.0, 900.0), (3.1, 3.4)):
        assert 4 <= (high - low) / fitting_step(2.5, low, high) <= 24


def inside(shapes: tuple[np.ndarray, ...], x: float, y: float) -> bool:
    """Whether a point lies in outlines filled odd and even (ray casting, textbook)."""
    crossings = 0
    for shape in shapes:
        for (x0, y0), (x1, y1) in zip(shape, np.roll(shape, -1, axis=0), strict=True):
            if (y0 > y) != (y1 > y) and x < (x1 - x0) * (y - y0) / (y1 - y0) + x0:
                crossings += 1
    return crossings % 2 == 1


def test_the_hatch_lies_where_headroom_is_not_sure(page: MapPage) -> None:
    mapped = map_of(page)
    field, made = mapped.field, drawn(mapped, LAYERS[0])
    margin = field.predicted.headroom_k - field.predicted.core_hw - mapped.limits.min_headroom_k
    checked = 0
    for index in range(0, field.settings.count, 37):
        x, y = field.point(index)
        if abs(margin[index]) > 1.0 and field.x[0] < x < field.x[-1] and field.y[0] < y < field.y[-1]:
            assert inside(made.unsure, x, y) == (margin[index] < 0.0)
            checked += 1
    assert checked > 10


def test_noise_lines_lie_at_the_scales_limits(page: MapPage) -> None:
    field, lines = map_of(page).field, page.view._lines
    assert lines is not None
    noise = field.as_grid(field.predicted.in_room_dba)
    assert any(found for _, found in lines.noise)
    for level, found in lines.noise:
        for line in found:
            for x, y in line[:: max(len(line) // 7, 1)]:
                column = int(np.argmin(np.abs(field.x - x)))
                assert np.interp(y, field.y, noise[:, column]) == pytest.approx(level, abs=0.25)


def test_the_dotted_line_is_the_quietest_that_keeps_the_headroom(page: MapPage) -> None:
    mapped = map_of(page)
    field, line = mapped.field, quietest(mapped.field, mapped.limits)
    assert line.shape[0] > 5
    keeps = field.as_grid(field.predicted.headroom_k - field.predicted.core_hw) >= mapped.limits.min_headroom_k
    noise = field.as_grid(field.predicted.in_room_dba)
    for x, y in line:
        column, row = int(np.argmin(np.abs(field.x - x))), int(np.argmin(np.abs(field.y - y)))
        assert keeps[row, column]
        assert noise[row, column] <= np.min(noise[keeps[:, column], column]) + 0.02


def test_the_slices_go_through_the_crosshair(page: MapPage) -> None:
    view, field = page.view, map_of(page).field
    view._move_to(4, 6)
    at, values, wide, _ = view._slice(along_row=True)  # type: ignore[misc]
    assert np.array_equal(at, field.x)
    assert np.array_equal(values, field.as_grid(field.predicted.core_c)[4])
    assert np.array_equal(wide, field.as_grid(field.predicted.core_hw)[4])
    assert np.array_equal(view._slice(along_row=False)[1], field.as_grid(field.predicted.core_c)[:, 6])  # type: ignore[index]
    page.request_row.intervals.setChecked(False)
    assert not np.any(view._slice(along_row=True)[2])  # type: ignore[index]
    above, right = view.canvas.area(view.above), view.canvas.area(view.beside)
    area = view.canvas.area(view.box)
    assert (above.left(), above.right()) == pytest.approx((area.left(), area.right()))  # they share the field's axes
    assert (right.top(), right.bottom()) == pytest.approx((area.top(), area.bottom()))


def test_the_table_holds_the_same_data(own_page: MapPage, swept_window: Window) -> None:
    field = map_of(own_page).field
    swept_window.actions_["map.table"].trigger()
    assert own_page.stack.currentWidget() is own_page.table
    rows = own_page.model.rows
    assert len(rows) == field.settings.count
    index = int(np.flatnonzero(field.measured)[3])
    x, y = field.point(index)
    assert rows[index][:4] == [f"{x:g}", f"{y:g}", "measured", number_text(float(field.predicted.core_c[index]), 1)]
    assert own_page.model.heads[0] == "Sustained power limit, W"
    swept_window.actions_["map.table"].trigger()
    assert own_page.stack.currentWidget() is own_page.view


def test_marks_are_measured_or_between(page: MapPage) -> None:
    field = map_of(page).field
    measured, between = grid_points(field)
    assert len(measured) == np.count_nonzero(field.nearly) >= np.count_nonzero(field.measured) > 0
    assert not set(measured) & set(between)


def test_the_selection_survives_a_new_answer(own_page: MapPage, swept_window: Window, qtbot: QtBot) -> None:
    own_page.view._move_to(3, 5)
    one, before = own_page.candidate, swept_window.session.answer
    assert one is not None
    swept_window.session.request_answer()
    qtbot.waitUntil(lambda: swept_window.session.answer is not before)
    assert own_page.candidate is not None
    assert (own_page.candidate.limit_w, own_page.candidate.duty) == (one.limit_w, one.duty)
    assert own_page.view.crosshair_point() == (one.limit_w, one.duty)


# -- any two controls ------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("across", "up"),
    [("temperature_cap_c", "fan_duty.case"), ("voltage_offset_mv", "sustained_power_w"), ("clock_cap_mhz", "fan_duty.cooler")],
)
def test_any_two_controls_make_a_map(page: MapPage, qtbot: QtBot, across: str, up: str) -> None:
    mapped = choose(page, qtbot, across=across, up=up)
    assert (mapped.field.across, mapped.field.up) == (across, up)
    assert np.all(np.isfinite(mapped.field.predicted.core_c))
    title = mapped.models.card.control(across).title.lower()  # type: ignore[union-attr]
    assert title in page.lead.text()
    page.view._move_to(2, 3)
    assert page.candidate is not None
    assert page.candidate.setting.value(across) == pytest.approx(mapped.field.x[3])
    assert "One step away" in spoken(page.margin())
    if across == "temperature_cap_c":
        held = mapped.field.predicted.heat_limited
        assert held.any()
        over_k = mapped.models.cap.over_k  # what the sensor reads above the cap that its firmware holds
        assert np.allclose(mapped.field.predicted.core_c[held], mapped.field.settings.of(across)[held] + over_k)
        assert abs(over_k) < 0.5


def test_the_same_control_on_both_axes_changes_their_places(page: MapPage, qtbot: QtBot) -> None:
    mapped = choose(page, qtbot, across="fan_duty.case")
    assert (mapped.field.across, mapped.field.up) == ("fan_duty.case", "sustained_power_w")


def test_another_room_moves_the_map(page: MapPage, qtbot: QtBot) -> None:
    before = map_of(page)
    page.request_row.room.setValue(35.0)
    qtbot.waitUntil(lambda: map_of(page).room_c == 35.0)
    moved = map_of(page).field.predicted.core_c - before.field.predicted.core_c
    free = ~map_of(page).field.predicted.heat_limited
    assert np.median(moved[free]) == pytest.approx(7.0, abs=0.3)
    assert "35.0" in page.title.text()
    page.request_row.room.setValue(28.0)
    assert map_of(page) is before


def test_other_controls_are_held_chosen_or_optimised(own_page: MapPage, qtbot: QtBot, swept_window: Window) -> None:
    choice = swept_window.session.answer.choice
    assert choice is not None
    as_picked = OtherControls.CHOSEN.value if own_page.request_row.others.itemData(0) else "as the pick"
    mapped = choose(own_page, qtbot, others=as_picked)
    assert mapped.field.settings.base.fan_duty["cooler"] == choice.pick.setting.fan_duty["cooler"]
    own_page.request_row.others.setCurrentIndex(0)
    own_page.request_row.others.activated.emit(0)
    field = own_page.request_row._fixed_fields["fan_duty.cooler"]
    field.setValue(70.0)
    qtbot.waitUntil(lambda: map_of(own_page).request.view.fixed == {"fan_duty.cooler": 70.0})
    louder = map_of(own_page)
    assert np.min(louder.field.predicted.in_room_dba) > np.min(mapped.field.predicted.in_room_dba)
    best = choose(own_page, qtbot, others="fans optimised")
    duties = best.field.settings.values["fan_duty.cooler"]
    assert np.unique(duties).shape[0] > 1
    assert "as quiet as they may" in own_page.lead.text()


def test_a_load_of_its_own_may_heat_and_count(page: MapPage, qtbot: QtBot) -> None:
    both = map_of(page).field
    mapped = choose(page, qtbot, load="dome")
    assert mapped.watts.load == "dome"
    assert np.mean(mapped.field.predicted.core_c) < np.mean(both.predicted.core_c)  # it draws less than the heaviest


def test_a_variant_is_set_against_another(own_page: MapPage, qtbot: QtBot, swept_window: Window) -> None:
    """The same runs as another state that runs 4 K hotter: the map shows that, with its interval."""
    session = swept_window.session
    models = session.answer.models
    assert models is not None
    evidence = models.evidence
    warmer = tuple(
        msgspec.structs.replace(run, settled=msgspec.structs.replace(run.settled, value_c=run.settled.value_c + 4.0))
        for run in evidence.runs
    )
    other = msgspec.structs.replace(evidence, card=msgspec.structs.replace(evidence.card, variant="filter out"), runs=warmer)
    both = msgspec.structs.replace(evidence, elsewhere={"filter out": other})
    knows = msgspec.structs.replace(models, evidence=both)
    mapped_too = msgspec.structs.replace(map_of(own_page), models=knows)
    session.answer = msgspec.structs.replace(session.answer, models=knows, mapped=mapped_too)
    own_page.refresh()
    assert own_page.request_row.against.isEnabled()
    mapped = choose(own_page, qtbot, against="filter out")
    assert mapped.other is not None
    free = ~mapped.field.predicted.heat_limited & ~mapped.other.predicted.heat_limited
    apart = (mapped.field.predicted.core_c - mapped.other.predicted.core_c)[free]
    assert np.median(apart) == pytest.approx(-4.0, abs=0.8)
    assert "less that with filter out" in own_page.title.text()
    made = drawn(mapped, LAYERS[0])
    assert made.low == -made.high
    own_page.view._move_to(3, 3)
    assert "Less filter out" in spoken(own_page.margin())
    assert "shown" in spoken(own_page.margin())


# -- a run there -----------------------------------------------------------------------------------------------------


def test_enter_and_a_double_click_plan_a_run_there(own_page: MapPage, swept_window: Window, qtbot: QtBot) -> None:
    session = swept_window.session

    def asked_for() -> list[Step]:
        return [row.step for row in session.planner.rows if row.step.reason == "Asked for on the map"]

    own_page.view._move_to(5, 7)
    one = own_page.candidate
    assert one is not None
    QTest.keyClick(own_page.view, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: len(asked_for()) == 1)
    assert [step.setting.over(session.card.stock) for step in asked_for()] == [one.setting]  # type: ignore[union-attr]
    swept_window.actions_["edit.undo"].trigger()
    qtbot.waitUntil(lambda: not asked_for())
    across, up = spans(own_page.view.canvas, own_page.view.box)
    at = QPointF(across.px(103.0), up.px(47.0)).toPoint()
    qtbot.mouseDClick(own_page.view, Qt.MouseButton.LeftButton, pos=at)
    qtbot.waitUntil(lambda: len(asked_for()) == 1)


# -- rise against watts ----------------------------------------------------------------------------------------------


def test_the_lines_are_the_heat_paths_and_meet_the_limit_where_they_say(own_page: MapPage, swept_window: Window) -> None:
    own_page.views.show_view(WATTS)
    mapped = map_of(own_page)
    lines = mapped.watts
    assert len(lines.lines) >= 3
    assert lines.limit_k == pytest.approx(90.0 - 28.0)
    slopes = [line.slope_kpw for line in lines.lines]
    assert slopes == sorted(slopes, reverse=True)  # more fan, less resistance
    for line in lines.lines:
        rise, half_width = line.at(100.0)
        rpm = [
            float(mapped.models.rpm(group, np.array(_duty(mapped, group, line.duty)))) for group in mapped.models.heat.groups
        ]
        direct, direct_hw = mapped.models.heat.rise(np.array([100.0]), np.array([rpm]))
        assert rise == pytest.approx(direct[0], abs=0.05)
        assert half_width == pytest.approx(direct_hw[0], rel=0.1)
        cool, hot = line.capacities
        assert hot.power_w < cool.power_w
        assert cool.low_w <= cool.power_w <= cool.high_w
        at_limit, _ = mapped.models.heat.rise(np.array([cool.power_w]), np.array([rpm]))
        assert at_limit[0] == pytest.approx(lines.limit_k, abs=0.2)
    assert "W" in own_page.margin()[0].text  # type: ignore[union-attr]


def _duty(mapped: SettingMap, group: str, lead: float) -> float:
    return lead if group == mapped.models.lead else mapped.field.settings.base.fan_duty[group]


def test_lines_are_gone_through_by_keys_and_mouse(page: MapPage, qtbot: QtBot) -> None:
    page.views.show_view(WATTS)
    QApplication.processEvents()
    page.watts.setFocus()
    page.watts.current = 1
    QTest.keyClick(page.watts, Qt.Key.Key_Down)
    assert page.watts.current == 2
    line = page.watts.line()
    assert line is not None
    assert number_text(line.slope_kpw, 3) in spoken(page.margin())
    across, up = spans(page.watts.canvas, page.watts.box)
    first = map_of(page).watts.lines[0]
    at = QPointF(across.px(90.0), up.px(first.at(90.0)[0])).toPoint()
    qtbot.mouseClick(page.watts, Qt.MouseButton.LeftButton, pos=at)
    assert page.watts.current == 0
    assert not page.request_row.across.isVisible()
    assert page.request_row.room.isVisible()


# -- noise -----------------------------------------------------------------------------------------------------------


def test_groups_alone_come_to_all_together_as_energies(page: MapPage, qtbot: QtBot) -> None:
    page.views.show_view(NOISE)
    shown = map_of(page).loudness
    assert {one.group for one in shown.groups} == {"case", "cooler"}
    for duty in (40.0, 60.0, 70.0):
        parts = [float(np.interp(duty, one.duty, one.alone_dba)) for one in shown.groups] + [shown.background_dba]
        total = 10.0 * np.log10(sum(10.0 ** (part / 10.0) for part in parts))
        assert float(np.interp(duty, shown.duty, shown.together_dba)) == pytest.approx(total, abs=0.1)
    page.noise.current = 0
    page.noise.setFocus()
    QTest.keyClick(page.noise, Qt.Key.Key_Right)
    assert page.noise.duty == 51.0
    assert "dB/decade" in spoken(page.margin())
    QTest.keyClick(page.noise, Qt.Key.Key_Down)
    QTest.keyClick(page.noise, Qt.Key.Key_Down)
    assert page.noise.group() is None
    assert "As energies" in spoken(page.margin())
    page.by_speed.setChecked(True)
    assert page.noise.by_speed
    qtbot.mouseClick(page.noise, Qt.MouseButton.LeftButton, pos=QPoint(400, 200))
    assert page.noise.group() is not None


# -- out -------------------------------------------------------------------------------------------------------------


def test_table_and_pictures_go_out_in_open_formats(page: MapPage, tmp_path: Path) -> None:
    page.write_table(tmp_path / "map.csv")
    rows = list(csv.reader(io.StringIO((tmp_path / "map.csv").read_text())))
    field = map_of(page).field
    assert len(rows) == 1 + field.settings.count
    assert tuple(rows[0][3:]) == COLUMNS
    index = int(np.flatnonzero(field.measured)[0])
    told = dict(zip(rows[0], rows[1 + index], strict=True))
    assert float(told["core_c"]) == pytest.approx(float(field.predicted.core_c[index]), abs=1e-3)
    assert told["measured"] == "1"
    for row in rows[1:]:
        one = dict(zip(rows[0], row, strict=True))
        assert not one["alone_dba"] or bool(one["alone_hw_db"]) != bool(one["alone_at_most_dba"])
    reference = (Path(__file__).parents[2] / "docs" / "reference" / "command-line.md").read_text()
    assert all(f"`{column}`" in reference for column in COLUMNS)
    for view in (FIELD, WATTS, NOISE, TABLE, FIT):
        page.views.show_view(view)
        QApplication.processEvents()
        page.write_picture(tmp_path / f"{view}.png")
        picture = QImage(str(tmp_path / f"{view}.png"))
        shown = page.stack.currentWidget()
        assert shown is not None
        assert (picture.width(), picture.height()) == (2 * shown.width(), 2 * shown.height())
    page.views.show_view(WATTS)
    page.write_picture(tmp_path / "watts.svg")
    text = (tmp_path / "watts.svg").read_text()
    assert text.lstrip().startswith("<?xml")
    assert "Rise against watts" in text
    assert text.count("<path") + text.count("<polyline") > 10


def test_the_fit_names_each_run_in_picture_table_and_margin(page: MapPage) -> None:
    page.views.show_view(FIT)
    QApplication.processEvents()
    assert not page.request_row.isVisible()
    assert page.fit_of.isVisible()
    shown = [one for one in page.session.answer.residuals if one.quantity == "core_rise_k"]
    rows = page.fit.model.rows
    assert [row[0] for row in rows] == [str(one.run_id) for one in shown]
    assert "W" in rows[0][1]
    assert page.fit.current == shown[0]
    QTest.keyClick(page.fit.picture, Qt.Key.Key_Down)
    assert page.fit.current == shown[1]
    assert page.fit.table.currentIndex().row() == 1
    page.fit.table.selectRow(4)
    assert page.fit.current == shown[4]
    assert f"Run {shown[4].run_id}" in spoken(page.margin())
    picture = page.fit.picture
    across, up = spans(picture.canvas, picture.above)
    at = QPoint(round(across.px(shown[2].modelled)), round(up.px(shown[2].measured)))
    QTest.mouseClick(picture, Qt.MouseButton.LeftButton, pos=at)
    assert page.fit.current is not None
    assert abs(across.px(page.fit.current.modelled) - at.x()) < 6  # the one that is nearest, or one on the same spot


def test_the_fit_keeps_the_run_that_is_selected(page: MapPage) -> None:
    page.views.show_view(FIT)
    fit, residuals = page.fit, page.session.answer.residuals
    fit.show_residuals(residuals, "core_rise_k")
    fit.table.selectRow(5)
    assert fit.current is not None
    chosen = fit.current.run_id
    fit.show_residuals(residuals[1:], "core_rise_k")  # another answer, in which it stands elsewhere
    assert fit.current.run_id == chosen
    assert fit.table.currentIndex().row() == fit.picture.current
    fit.show_residuals(tuple(one for one in residuals if one.run_id != chosen), "core_rise_k")
    assert fit.picture.current == 0
    fit.show_residuals((), "core_rise_k")
    assert fit.current is None
    assert "No run of this machine" in spoken(fit.margin(map_of(page).models.card))


def test_the_fit_compares_noise_and_watts_as_well(page: MapPage) -> None:
    page.views.show_view(FIT)
    for index, quantity in ((1, "noise_dba"), (2, "package_power_w"), (0, "core_rise_k")):
        page.fit_of.setCurrentIndex(index)
        page.fit_of.activated.emit(index)
        QApplication.processEvents()
        assert page.fit.current is not None
        assert page.fit.current.quantity == quantity
        assert len(page.fit.model.rows) == sum(one.quantity == quantity for one in page.session.answer.residuals)


def test_a_folder_that_is_not_there_is_said(own_page: MapPage, swept_window: Window, tmp_path: Path) -> None:
    told: list[object] = []
    swept_window.session.notice.connect(told.append)
    own_page.write_picture(tmp_path / "nowhere" / "map.png")
    own_page.write_table(tmp_path / "nowhere" / "map.csv")
    assert len(told) == 2


def test_before_there_are_models_the_page_says_what_is_missing(open_window: Callable[..., Window]) -> None:
    window = open_window()
    window.go_to(NAMES.index("Map"))
    QApplication.processEvents()
    page = window.page(MapPage)
    assert isinstance(page, MapPage)
    assert page.problem.isVisible()
    assert page.problem.text()
    assert not page.stack.isVisible()
    page.run_here()
    page.write_table(Path("never"))


def test_what_is_missing_is_planned_at_a_press(open_window: Callable[..., Window], qtbot: QtBot) -> None:
    window = open_window()
    window.go_to(NAMES.index("Map"))
    session = window.session
    qtbot.waitUntil(lambda: bool(session.planner.rows))
    window.actions_["map.missing"].trigger()

    def wanted() -> list[Step]:
        return [row.step for row in session.planner.rows if "heat path wants" in row.step.reason]

    qtbot.waitUntil(lambda: len(wanted()) == 4)
    first = session.planner.rows[0].step
    assert first.stage in ("noise", "baseline")


def test_a_map_of_ones_own_follows_new_runs_and_new_limits(own_page: MapPage, swept_window: Window, qtbot: QtBot) -> None:
    """Another answer, or another limit, and the map that was asked for is worked out anew."""
    session = swept_window.session
    first = choose(own_page, qtbot, across="temperature_cap_c")
    before = session.answer
    session.request_answer()
    qtbot.waitUntil(lambda: session.answer is not before)
    qtbot.waitUntil(lambda: map_of(own_page) is not first and map_of(own_page).models is session.answer.models)
    assert map_of(own_page).request == own_page.request_row.request
    assert session.project is not None
    limits = msgspec.structs.replace(session.project.limits, min_headroom_k=3.0)
    session.edit("headroom", msgspec.structs.replace(session.project, limits=limits))
    qtbot.waitUntil(lambda: map_of(own_page).limits.min_headroom_k == 3.0)
    assert map_of(own_page).request == own_page.request_row.request


def test_a_variant_without_runs_enough_is_said_and_asked_again(own_page: MapPage, swept_window: Window, qtbot: QtBot) -> None:
    session = swept_window.session
    models = session.answer.models
    assert models is not None
    other = msgspec.structs.replace(
        models.evidence, card=msgspec.structs.replace(models.card, variant="roof off"), runs=models.evidence.runs[:2]
    )
    knows = msgspec.structs.replace(models, evidence=msgspec.structs.replace(models.evidence, elsewhere={"roof off": other}))
    session.answer = msgspec.structs.replace(
        session.answer, models=knows, mapped=msgspec.structs.replace(map_of(own_page), models=knows)
    )
    own_page.refresh()
    box = own_page.request_row.against
    box.setCurrentIndex(box.findData("roof off"))
    box.activated.emit(box.currentIndex())
    qtbot.waitUntil(lambda: own_page.problem.isVisible())
    assert "three settled runs" in own_page.problem.text()
    assert own_page.stack.isVisible()  # the map that was there stays
    box.setCurrentIndex(0)
    box.activated.emit(0)
    qtbot.waitUntil(lambda: not own_page.problem.isVisible())


def test_another_machine_is_asked_for_what_it_has(own_page: MapPage, swept_window: Window, qtbot: QtBot) -> None:
    """A map over controls that the next machine does not have falls back to the usual one."""
    choose(own_page, qtbot, across="clock_cap_mhz", up="fan_duty.cooler")
    session = swept_window.session
    models = session.answer.models
    assert models is not None
    controls = tuple(control for control in models.card.controls if control.name != "clock_cap_mhz")
    other = msgspec.structs.replace(
        models, evidence=msgspec.structs.replace(models.evidence, card=msgspec.structs.replace(models.card, controls=controls))
    )
    usual = session.answer.mapped
    assert usual is not None
    session.answer = msgspec.structs.replace(session.answer, models=other, mapped=msgspec.structs.replace(usual, models=other))
    own_page.refresh()
    assert map_of(own_page) is session.answer.mapped
    assert own_page.request_row.across.currentData() == "sustained_power_w"
    assert own_page.request_row.across.findData("clock_cap_mhz") == -1


def test_a_map_that_is_cancelled_leaves_the_one_there_is(own_page: MapPage, swept_window: Window, qtbot: QtBot) -> None:
    before = map_of(own_page)
    box = own_page.request_row.across
    box.setCurrentIndex(box.findData("temperature_cap_c"))
    box.activated.emit(box.currentIndex())
    swept_window.session.cancel_work()
    assert own_page.request_row.request == before.request
    assert own_page.request_row.across.currentData() == "sustained_power_w"
    assert map_of(own_page) is before
    drain(swept_window.session)  # what was under way comes to nothing
    assert map_of(own_page) is before


def test_where_nothing_holds_a_setting_no_figure_is_given() -> None:
    """A graphics card that heats a hot room's processor beyond its cap by itself: temperature, work and watts are left open, in
    the margin, in a step towards it, and in the table."""
    models = models_from("plover")
    mapped = make_map(models, Limits(), MapRequest(GridView(across="temperature_cap_c", load="dome"), room_c=45.0))
    index = int(np.flatnonzero(np.isnan(mapped.field.predicted.core_c))[0])
    one = candidate_at(models, mapped.field, mapped.limits, index)
    lines = {line.name: line.value for line in candidate_blocks("", "", one, Scale(22.0), None)[1].lines}  # type: ignore[union-attr]
    assert [lines[name] for name in ("Hottest core", "Headroom", "Throughput", "Clock", "Package")] == ["–"] * 5
    assert lines["Noise, room"] != "–"
    assert "No steady state here" in spoken(why_here(mapped, one, None))
    assert "stands at it" not in spoken(why_here(mapped, one, None))
    near = steps_away(models, mapped.limits, mapped.field.settings.at(index), (mapped.field.across, mapped.field.up))
    assert not any("+–" in cell for row in near.rows for cell in row)
    row = list(csv.DictReader(io.StringIO(map_as_csv(mapped))))[index]
    assert not any(row[name] for name in ("core_c", "rise_k", "headroom_k", "throughput_percent", "package_power_w"))
    assert row["in_room_dba"]


def test_the_pick_is_ringed_only_in_the_field_that_it_lies_in(page: MapPage) -> None:
    """Where another control of the pick stands elsewhere, the figures of the field are not the pick's."""
    shown = page.view._shown
    assert shown is not None
    assert shown.choice is not None
    field = shown.mapped.field
    x, y = float(field.x[1]), float(field.y[1])
    here = field.settings.base.replaced(field.across, x).replaced(field.up, y)

    def ringed(setting: Setting) -> tuple[float, float] | None:
        assert shown is not None
        assert shown.choice is not None
        pick = msgspec.structs.replace(shown.choice.pick, setting=setting)
        return msgspec.structs.replace(shown, choice=msgspec.structs.replace(shown.choice, pick=pick)).picked

    assert ringed(here) == (x, y)
    assert ringed(here.replaced("fan_duty.cooler", 33.0)) is None
    assert ringed(here.replaced(field.across, float(field.x[-1]) + 50.0)) is None
