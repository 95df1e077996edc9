"""What stands beside a choice on the Answer page: further limits, circumstances, kept points, why not another."""

from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QGuiApplication, QKeyEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox, QWidget
from pytestqt.qtbot import QtBot

from niente.core.model.errors import NienteError
from niente.core.model.hand_over_card import read_card
from niente.core.model.limits import Aim, Limits, LoadLimits
from niente.core.model.project import Project
from niente.core.model.what_if import Circumstance
from niente.desktop.app.window import NAMES, Window
from niente.desktop.dialogs import prompts
from niente.desktop.pages.answer.choice_view import LIMITS, POINTS, WHAT_IF
from niente.desktop.pages.answer.measures import Measure
from niente.desktop.pages.answer.page import AnswerPage
from niente.desktop.widgets.blocks import Buttons, Title, Words
from tests.conftest import larkspur_rig
from tests.grids import grid_question


def project_of_page(page: AnswerPage) -> Project:
    project = page.session.project
    assert project is not None
    return project


def words_of(page: AnswerPage) -> dict[str, str]:
    return {block.heading: block.text for block in page.margin() if isinstance(block, Words)}


def type_into(field: QWidget, text: str) -> None:
    field.setFocus()
    field.selectAll()  # type: ignore[attr-defined]
    QTest.keyClicks(field, text)
    QTest.keyClick(field, Qt.Key.Key_Return)


def choose(box: QComboBox, text: str) -> None:
    index = box.findText(text)
    box.setCurrentIndex(index)
    box.activated.emit(index)


# -- the picture -----------------------------------------------------------------------------------------------------


def test_a_choice_is_drawn_by_other_measures(answering: AnswerPage) -> None:
    """Each axis may be what is known of every setting; what stands on the other axis changes places with it."""
    choice = answering.choice
    scatter, models = choice.scatter, answering.session.answer
    assert scatter.measures == (Measure.NOISE, Measure.THROUGHPUT)
    assert models.reached is not None
    predicted = models.reached.predicted
    choose(choice.across, "energy per work")
    made = scatter._settings
    assert made is not None
    energy = predicted.power_w[made.drawn] / predicted.throughput_percent[made.drawn]
    assert made.at[:, 0] == pytest.approx(energy)
    assert made.at[:, 1] == pytest.approx(predicted.throughput_percent[made.drawn])
    assert answering.lead.text().startswith("Energy per work against throughput")
    cheap, fast = made.front.T
    assert np.all(np.diff(cheap) > 0)
    assert np.all(np.diff(fast) > 0)  # more work costs more energy a piece
    choose(choice.up, "core temperature")
    made = scatter._settings
    assert made is not None
    warm = made.front[:, 1]
    assert np.all(np.diff(warm) < 0)  # both less is better
    choose(choice.across, "core temperature")
    assert scatter.measures == (Measure.CORE, Measure.ENERGY)
    assert choice.up.currentText() == "energy per work"
    scatter.keyPressEvent(QKeyEvent(QKeyEvent.Type.KeyPress, Qt.Key.Key_PageDown, Qt.KeyboardModifier.NoModifier))
    assert choice.selected is not None
    assert choice.selected.core_c >= models.choice.pick.core_c  # type: ignore[union-attr]
    limits = project_of_page(answering).limits
    for key in (Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down):
        QTest.keyClick(scatter, key)
    assert project_of_page(answering).limits == limits  # no limit moves along an axis of something else
    choose(choice.across, "noise")
    choose(choice.up, "throughput")
    assert scatter.measures == (Measure.NOISE, Measure.THROUGHPUT)
    QTest.keyClick(scatter, Qt.Key.Key_Down)
    assert project_of_page(answering).limits.min_throughput_percent == limits.min_throughput_percent - 1.0
    answering.session.undo.undo()


def test_a_setting_that_does_no_work_has_no_energy_per_work(answering: AnswerPage) -> None:
    choice = answering.session.answer.choice
    assert choice is not None
    idle = msgspec.structs.replace(choice.pick, throughput_percent=0.0)
    assert Measure.NOISE.of(idle) == idle.in_room_dba
    assert Measure.ENERGY.of(idle) == float("inf")


# -- limits ----------------------------------------------------------------------------------------------------------


def test_fields_stand_for_what_the_rig_reads(answering: AnswerPage) -> None:
    panel = answering.choice.limits
    assert panel.fields["wall_power_w"].isVisible()
    assert panel.fields["board_temperature_c"].isVisible()
    assert not panel.fields["coolant_temperature_c"].isVisible()
    assert not panel.fields["graphics_temperature_c"].isVisible()
    assert not any(field.isVisible() for field in panel.weights.values())
    assert panel.fields["wall_power_w"].text() == "no limit"
    assert "buys" in panel.costs["min_throughput_percent"].text() or "costs" in panel.costs["min_throughput_percent"].text()


def test_a_limit_on_the_wall_is_set_and_let_go(answering: AnswerPage, qtbot: QtBot) -> None:
    panel, session = answering.choice.limits, answering.session
    field = panel.fields["wall_power_w"]
    type_into(field, "185")
    assert project_of_page(answering).limits.ceilings == {"wall_power_w": 185.0}
    qtbot.waitUntil(lambda: session.answer.choice is not None and bool(session.answer.choice.limits.ceilings))
    qtbot.waitUntil(lambda: bool(panel.costs["wall_power_w"].text()))
    assert session.answer.reached is not None
    assert "wall_power_w" in session.answer.reached.figures.ceilings
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, "no limit")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert project_of_page(answering).limits.ceilings == {}
    session.undo.undo()
    assert project_of_page(answering).limits.ceilings == {"wall_power_w": 185.0}


def test_one_load_may_have_limits_of_its_own(answering: AnswerPage) -> None:
    panel = answering.choice.limits
    assert "burst" not in [panel.load.itemData(index) for index in range(panel.load.count())]
    panel.load.setCurrentIndex(panel.load.findData("dome"))
    panel.load.activated.emit(panel.load.currentIndex())
    type_into(panel.fields["load headroom"], "14")
    assert project_of_page(answering).limits.each_load == {"dome": LoadLimits(min_headroom_k=14.0)}
    panel.load.setCurrentIndex(panel.load.findData("vector"))
    panel.load.activated.emit(panel.load.currentIndex())
    assert panel.fields["load headroom"].text() == "no limit"
    panel.load.setCurrentIndex(panel.load.findData("dome"))
    panel.load.activated.emit(panel.load.currentIndex())
    assert panel.fields["load headroom"].text() == "14\N{NO-BREAK SPACE}K"
    answering.session.undo.undo()
    assert project_of_page(answering).limits.each_load == {}


def test_fans_that_always_turn_and_weights(answering: AnswerPage) -> None:
    panel = answering.choice.limits
    panel.fans.activated.emit(1)
    assert project_of_page(answering).limits.fans_turn
    panel.aim.activated.emit(list(Aim).index(Aim.WEIGHED))
    assert all(field.isVisible() for field in panel.weights.values())
    type_into(panel.weights["core_k"], "0.5")
    limits = project_of_page(answering).limits
    assert limits.aim == Aim.WEIGHED
    assert limits.weights.core_k == 0.5
    assert "kelvin" in answering.session.undo.undoText()


def test_another_limit_shows_its_pick_at_once(answering: AnswerPage, qtbot: QtBot) -> None:
    """Without waiting for the whole to be worked out: among the settings that are known already."""
    before = answering.title.text()
    type_into(answering.choice.fields["min_throughput_percent"], "95")
    choice = answering.session.answer.choice
    assert choice is not None
    assert choice.limits.min_throughput_percent == 95.0
    assert answering.title.text() != before
    assert not answering.choice.is_behind()
    sure = answering.session.answer.reached
    qtbot.waitUntil(lambda: answering.session.answer.reached is not sure)  # and then the whole is known
    assert choice.pick.throughput_percent >= 95.0


# -- circumstances ---------------------------------------------------------------------------------------------------


def test_which_load_counts_and_which_fans_fail_is_chosen(answering: AnswerPage, qtbot: QtBot) -> None:
    view = answering.choice
    view.views.show_view(WHAT_IF)
    fails, other = (
        next(row for row in view.what_ifs.rows if row.what_if.kind == kind)
        for kind in (Circumstance.DEAD_FANS, Circumstance.OTHER_LOAD)
    )
    assert fails.part is not None
    assert other.part is not None
    assert other.words.text().startswith("not known: show was not run")
    choose(other.part, "single")
    qtbot.waitUntil(lambda: other.words.text() == "holds" or other.words.text().startswith(("moves", "nothing")))
    assert project_of_page(answering).what_ifs is not None
    choose(fails.part, fails.part.itemText(1))
    assert {one.part for one in project_of_page(answering).what_ifs or ()} >= {"single", fails.part.itemText(1)}
    assert fails in view.what_ifs.rows  # the rows stay, and the focus with them
    answering.actions_["edit.undo"].trigger()
    answering.actions_["edit.undo"].trigger()
    assert project_of_page(answering).what_ifs is None


def test_what_if_says_what_becomes_of_the_pick(answering: AnswerPage) -> None:
    view, beside = answering.choice, answering.session.beside
    assert beside is not None
    view.views.show_view(WHAT_IF)
    rows = view.what_ifs.rows
    assert [row.what_if.kind for row in rows] == [one.what_if.kind for one in beside.outcomes]
    hot, outcome = rows[0], beside.outcomes[0]
    assert f"{outcome.there.headroom_k:.1f}" in hot.headroom.text()
    assert hot.headroom.property("role") == ("within" if outcome.holds else "beyond")
    assert hot.words.text() == "holds" or "dB" in hot.words.text() or "nothing" in hot.words.text()
    assert "Assumed" in view.what_ifs.robust.text()
    assert view.what_ifs.robust.isVisible()
    view.views.show_view(LIMITS)
    assert not view.what_ifs.robust.isVisible()


def test_a_circumstance_is_changed_and_must_hold(answering: AnswerPage, qtbot: QtBot) -> None:
    view, session = answering.choice, answering.session
    view.views.show_view(WHAT_IF)
    row = view.what_ifs.rows[0]
    assert row.field is not None
    type_into(row.field, "30")
    qtbot.waitUntil(lambda: session.beside is not None and [one.what_if.value for one in session.beside.outcomes][:1] == [30.0])
    view.what_ifs.rows[0].must.click()
    project = project_of_page(answering)
    assert project.what_ifs is not None
    assert project.what_ifs[0].must_hold
    qtbot.waitUntil(lambda: session.beside is not None and session.beside.robust is not None)
    said = ("Holds in all that it must", "No setting")
    qtbot.waitUntil(lambda: view.what_ifs.robust.text().startswith(said), timeout=60_000)  # the page follows when it is seen
    session.undo.undo()
    session.undo.undo()
    assert project_of_page(answering).what_ifs is None
    assert view.what_ifs.rows[0].what_if.value == 32.0


def test_an_absurd_circumstance_is_refused(answering: AnswerPage) -> None:
    every = tuple(row.what_if for row in answering.choice.what_ifs.rows)
    absurd = msgspec.structs.replace(every[0], value=500.0)
    answering.choice.commands.change_what_if(0, absurd, every)
    assert project_of_page(answering).what_ifs is None
    assert every[0].kind == Circumstance.ROOM


# -- another setting -------------------------------------------------------------------------------------------------


def test_any_setting_can_be_asked_why_not(answering: AnswerPage, qtbot: QtBot) -> None:
    view, scatter = answering.choice, answering.choice.scatter
    made = scatter._settings
    assert made is not None
    across, up = scatter.axes()
    choice = answering.session.answer.choice
    assert choice is not None
    level, share = next(
        (x, y)
        for x, y in made.at.tolist()
        if x > choice.pick.in_room_dba + 1.0 and across.low < x < across.high and y < up.high
    )
    spot = QPointF(across.px(level), up.px(share)).toPoint()
    qtbot.mouseClick(scatter, Qt.MouseButton.LeftButton, pos=QPoint(spot.x(), spot.y()))
    selected = view.selected
    assert selected is not None
    told = words_of(answering)
    assert told["Why not this one"]
    titles = [block for block in answering.margin() if isinstance(block, Title)]
    assert titles[0].lead == "A setting beside the pick"
    QTest.keyClick(scatter, Qt.Key.Key_Home)
    assert view.selected is None
    assert "Why this one" in words_of(answering)


def test_settings_are_walked_along_by_keys(answering: AnswerPage) -> None:
    scatter, view = answering.choice.scatter, answering.choice
    levels = []
    for _ in range(4):
        QTest.keyClick(scatter, Qt.Key.Key_PageDown)
        assert view.selected is not None
        levels.append((view.selected.in_room_dba, view.selected.throughput_percent))
    assert levels == sorted(levels)
    assert len(set(levels)) == 4
    QTest.keyClick(scatter, Qt.Key.Key_PageUp)
    assert view.selected is not None
    assert (view.selected.in_room_dba, view.selected.throughput_percent) == levels[-2]
    answering.actions_["answer.to_pick"].trigger()
    assert view.selected is None
    assert not answering.actions_["answer.to_pick"].isEnabled()


def test_a_runner_up_in_the_table_is_asked_too(answering: AnswerPage) -> None:
    view = answering.choice
    view.table.setFocus()
    view.table.selectRow(2)
    choice = answering.session.answer.choice
    assert choice is not None
    assert view.selected == choice.runners_up[1]
    view.table.selectRow(0)
    assert view.selected is None


def test_a_setting_that_is_pointed_at_is_run_next(answering: AnswerPage) -> None:
    QTest.keyClick(answering.choice.scatter, Qt.Key.Key_PageDown)
    selected = answering.choice.selected
    assert selected is not None
    answering.actions_["answer.run_here"].trigger()
    edits = project_of_page(answering).question.edits
    assert edits[-1].step is not None
    assert edits[-1].step.setting == selected.setting


# -- kept points -----------------------------------------------------------------------------------------------------


def test_points_are_kept_told_and_let_go(
    answering: AnswerPage, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    view, session = answering.choice, answering.session
    names = iter(("Show", "Night", ""))
    monkeypatch.setattr(prompts, "for_point_name", lambda *_: next(names))
    answering.actions_["answer.keep"].trigger()
    assert view.below.currentIndex() == POINTS
    QTest.keyClick(view.scatter, Qt.Key.Key_PageDown)
    answering.actions_["answer.keep"].trigger()
    answering.actions_["answer.keep"].trigger()  # and nothing, once no name is given
    kept = project_of_page(answering).points
    assert [one.name for one in kept] == ["Show", "Night"]
    choice = session.answer.choice
    assert choice is not None
    assert kept[0].setting == choice.pick.setting
    assert kept[0].variant == "filter in"
    answering.actions_["answer.to_pick"].trigger()
    qtbot.waitUntil(lambda: session.beside is not None and len(session.beside.points) == 2)
    QApplication.processEvents()
    assert [row[0] for row in view.points.model.rows] == ["Show", "Night"]
    assert "quieter" in view.points.model.rows[0][-1]
    assert not answering.actions_["answer.let_go"].isEnabled()
    view.points.table.selectRow(0)
    assert answering.actions_["answer.let_go"].isEnabled()
    assert "quieter" in words_of(answering)["Against stock"]
    assert any(isinstance(block, Buttons) and "answer.take_limits" in block.actions for block in answering.margin())
    file = tmp_path / "show.json"
    with qtbot.waitSignal(session.analyst.card_written, timeout=60_000) as written:
        answering.write_card(file, "Show")
    assert written.args == [file]
    card = read_card(file.read_bytes())
    assert card.point == "Show"
    assert any("Kept as Show" in remark.words for remark in card.evidence)
    answering.actions_["answer.let_go"].trigger()
    assert [one.name for one in project_of_page(answering).points] == ["Night"]
    session.undo.undo()
    assert [one.name for one in project_of_page(answering).points] == ["Show", "Night"]


def test_the_machine_is_checked_against_its_card(
    answering: AnswerPage, tmp_path: Path, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    """By a run of its check that was made since; where there is none it is planned, if a person wants that."""
    session, file = answering.session, tmp_path / "card.json"
    with qtbot.waitSignal(session.analyst.card_written, timeout=60_000):
        answering.write_card(file)
    questions: list[str] = []

    def answer(_: QWidget, error: NienteError, setting: str) -> bool:
        questions.append(f"{error.happened} {setting}")
        return len(questions) > 1

    monkeypatch.setattr(prompts, "whether_check_is_planned", answer)
    monkeypatch.setattr(prompts, "for_card", lambda _: file)
    for _ in range(2):  # no, and then yes
        with qtbot.waitSignal(session.analyst.card_checked, timeout=60_000):
            answering.actions_["answer.check"].trigger()
    assert all("No run of vector" in words and "W" in words for words in questions)
    assert len(questions) == 2
    qtbot.waitUntil(lambda: [row.step.stage for row in session.planner.rows] == ["check"])
    (row,) = session.planner.rows
    assert row.step.exposure.min_s >= 600.0
    assert not row.status.closed  # it is made anew, although the book has a run of the same setting
    session.undo.undo()
    qtbot.waitUntil(lambda: len(session.planner.rows) > 20)
    old = msgspec.structs.replace(read_card(file.read_bytes()), made_at="2020-05-01T12:00:00+00:00")
    file.write_bytes(msgspec.json.encode(old))  # the run that confirmed the pick is younger than this card
    with qtbot.waitSignal(session.analyst.card_checked, timeout=60_000):
        answering.actions_["answer.check"].trigger()
    said = words_of(answering)
    assert "behaves as it did since 2020-05-01" in said["Check of the card"]
    assert "then" in said["Then and now"]
    file.write_text("{")
    with qtbot.waitSignal(session.notice) as told:
        answering.actions_["answer.check"].trigger()
    assert "card" in str(told.args[0])
    assert len(questions) == 2


def test_a_point_gives_its_limits_back(answering: AnswerPage) -> None:
    view = answering.choice
    answering.keep_as("Day")
    before = project_of_page(answering).limits
    view.commands.change_limits("headroom", msgspec.structs.replace(before, min_headroom_k=11.0))
    view.points.table.selectRow(0)
    answering.actions_["answer.take_limits"].trigger()
    assert project_of_page(answering).limits == before
    assert view.commands.free_name() == "Show"


def test_a_name_that_is_none_is_refused_in_words(answering: AnswerPage) -> None:
    answering.keep_as("x" * 60)
    assert project_of_page(answering).points == ()


def test_the_entries_are_copied_in_order(answering: AnswerPage) -> None:
    answering.actions_["answer.copy"].trigger()
    text = QGuiApplication.clipboard().text()
    assert "Sustained power limit" in text
    assert "stock 165" in text.replace("\N{NO-BREAK SPACE}", " ")


def test_points_survive_the_book_being_closed(open_window: Callable[..., Window], sweep_copy: Path, qtbot: QtBot) -> None:
    card = larkspur_rig().describe()
    window = open_window(book=sweep_copy, project=Project(card.name, grid_question(card), Limits()))
    qtbot.waitUntil(lambda: window.session.answer.choice is not None)
    window.go_to(NAMES.index("Answer"))
    window.page(AnswerPage).keep_as("Night")
    window.session.close()
    again = open_window(book=sweep_copy)
    qtbot.waitUntil(lambda: again.session.project is not None and bool(again.session.project.points))
    assert again.session.project is not None
    assert again.session.project.points[0].name == "Night"
