"""A newcomer's first minutes: a fresh book says what the machine is, what to check, and which question to ask."""

from collections.abc import Callable
from pathlib import Path

import msgspec
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QLabel, QPushButton
from pytestqt.qtbot import QtBot

from niente.core.planning.offers import offers
from niente.core.rigs.registry import open_rig, shipped
from niente.core.storage.reader import BookReader
from niente.desktop.app.main import arguments, make_app, show
from niente.desktop.app.window import NAMES, Window
from niente.desktop.pages.plan.page import PlanPage
from niente.desktop.pages.rig.page import RigPage
from niente.desktop.services.durations import here_text, left_text
from niente.desktop.session.session import Session
from niente.desktop.widgets.blocks import spoken
from niente.desktop.widgets.empty import Empty
from tests.conftest import larkspur_rig
from tests.waiting import until

Open = Callable[..., Window]


@pytest.fixture
def fresh(open_window: Open, qtbot: QtBot) -> Window:
    """A window on a book in which nothing was asked yet, once it knows what each question would cost."""
    window = open_window(fresh=True)
    qtbot.waitUntil(lambda: bool(window.page(RigPage).start.rows))
    return window


def test_a_fresh_book_opens_on_what_the_machine_is(fresh: Window) -> None:
    rig = fresh.page(RigPage)
    assert fresh.stack.currentWidget() is rig
    assert rig.stack.currentWidget() is rig.start
    words = " ".join(label.text() for label in rig.start.findChildren(QLabel))
    assert "tower, six pipes" in words
    assert "made-up machine" in words
    assert rig.start.limits[0].accessibleName() == "Hottest core, a run ends at 95.0\u00a0°C"


def test_nothing_is_planned_and_nothing_starts_before_a_question_is_chosen(fresh: Window) -> None:
    assert not fresh.actions_["plan.start"].isEnabled()
    assert "No question" in fresh.actions_["plan.start"].whatsThis()
    fresh.go_to(NAMES.index("Plan"))
    plan = fresh.page(PlanPage)
    assert plan.live_line() == "no question yet"
    assert not plan.table.isVisible()
    assert plan.outline.isVisible()
    assert not any(button.isChecked() for button in plan.questions.buttons.values())
    for name in ("plan.anew", "plan.insert", "plan.repeat", "plan.skip"):
        assert not fresh.actions_[name].isEnabled(), name  # there is no list yet that could be changed
    plan.questions.buttons["quiet-point"].click()  # the proposal itself, once it is chosen
    assert plan.table.isVisible()
    assert not plan.outline.isVisible()
    assert fresh.actions_["plan.start"].isEnabled()
    fresh.actions_["edit.undo"].trigger()
    assert not fresh.actions_["plan.start"].isEnabled()


@pytest.mark.parametrize("name", ["Run", "Map", "Answer", "Proof"])
def test_an_empty_page_says_what_fills_it_and_leads_there(fresh: Window, name: str) -> None:
    fresh.go_to(NAMES.index(name))
    page = fresh.stack.currentWidget()
    assert page is not None
    empty = next(one for one in page.findChildren(Empty) if one.isVisible())
    assert "question" in empty.text()
    shown = [button for button in empty.findChildren(QPushButton) if button.isVisible()]
    assert [button.text() for button in shown] == ["Choose a question"]
    shown[0].click()
    assert fresh.stack.currentWidget() is fresh.page(PlanPage)


def test_a_question_is_chosen_by_keyboard_and_its_plan_lies_there(fresh: Window, qtbot: QtBot) -> None:
    start = fresh.page(RigPage).start
    start.rows[0].setFocus()
    qtbot.keyClick(start.rows[0], Qt.Key.Key_Down)
    selected = start.offer()
    assert selected is not None
    assert selected.question.template == "capacity-ladder"
    assert "Capacity ladder" in start.plan.text()
    assert f"{selected.runs} runs" in start.lays_out.text()
    blocks = spoken(fresh.page(RigPage).margin())
    assert "Capacity ladder" in blocks
    qtbot.mouseClick(start.plan, Qt.MouseButton.LeftButton)
    plan = fresh.page(PlanPage)
    assert fresh.stack.currentWidget() is plan
    assert plan.title.text() == "Capacity ladder"
    assert len(fresh.session.planner.rows) == selected.runs
    assert not fresh.session.busy()  # laid out, and not started


def test_what_was_chosen_is_in_the_book(fresh: Window, qtbot: QtBot) -> None:
    bench = fresh.session.bench
    assert bench is not None
    fresh.page(PlanPage).commands.choose("baseline")

    def kept() -> tuple[bool, str] | None:
        book = BookReader(bench.path)
        try:
            project = book.project()
        finally:
            book.close()
        return (project.question_chosen, project.question.template) if project is not None else None

    qtbot.waitUntil(lambda: kept() == (True, "baseline"))  # the bench writes it


def test_limits_are_read_live_and_lead_to_where_they_are_set(fresh: Window, qtbot: QtBot) -> None:
    rig = fresh.page(RigPage)
    qtbot.waitUntil(lambda: rig.start.limits[0]._now > 10.0)
    links = [button for button in rig.start.findChildren(QPushButton) if button.text() == "Change them on Limits"]
    links[0].click()
    assert rig.stack.currentWidget() is rig.limits_view
    rig.limits_view.core.put(90.0)
    rig.limits_view._limit("core_temperature_c", 90.0)
    rig.views.show_view(5)
    qtbot.waitUntil(lambda: "90.0" in rig.start.limits[0].accessibleName())


def test_hours_are_said_with_how_long_they_take_here(fresh: Window) -> None:
    start = fresh.page(RigPage).start
    fresh.pulse.pace.setCurrentIndex(fresh.pulse.pace.findText("60", Qt.MatchFlag.MatchContains))
    fresh.pulse.pace.activated.emit(fresh.pulse.pace.currentIndex())
    QApplication.processEvents()
    assert "here" in start.rows[0].accessibleDescription()


def test_the_plan_says_how_long_it_takes_here_and_follows_the_pace(open_window: Callable[..., Window], qtbot: QtBot) -> None:
    window = open_window(pace=60.0)
    window.go_to(NAMES.index("Plan"))
    total = window.page(PlanPage).total
    qtbot.waitUntil(lambda: "here, ends " in total.text())
    before = total.text()
    window._set_pace(10.0)
    qtbot.waitUntil(lambda: total.text() != before and "here, ends " in total.text())
    window._set_pace(None)
    qtbot.waitUntil(lambda: total.text().endswith("as fast as it can here"))
    window._set_pace(1.0)
    qtbot.waitUntil(lambda: "here" not in total.text() and "ends " in total.text())


def test_what_is_left_of_a_plan() -> None:
    assert left_text(0.0, 60.0) == ""
    assert left_text(-1.0, None) == ""
    assert left_text(3600.0, None) == "as fast as it can here"
    assert left_text(36_000.0, 60.0).startswith("10\u00a0min here, ends ")
    assert left_text(30 * 86_400.0, 1.0).startswith("ends ")


def test_time_here_is_the_rigs_over_its_pace() -> None:
    assert here_text(3600.0, 1.0) == ""
    assert here_text(3600.0, 60.0) == "60\u00a0s here"
    assert here_text(17_700.0, 60.0) == "4.9\u00a0min here"
    assert here_text(86_400.0, 60.0) == "24\u00a0min here"
    assert here_text(3600.0, None) == "as fast as it can here"


def test_the_view_goes_once_something_was_measured(swept_window: Window) -> None:
    rig = swept_window.page(RigPage)
    swept_window.go_to(NAMES.index("Rig"))
    names = [button.text() for button in rig.views.findChildren(QPushButton) if button.isVisible()]
    assert names == ["Machine", "Heat path", "Limits", "Room", "Sensors"]


@pytest.mark.parametrize("name", shipped())
def test_every_machine_is_offered_what_it_can_be_asked(name: str) -> None:
    rig = open_rig(name, seed=1)
    try:
        card = rig.describe()
    finally:
        rig.close()
    found = {offer.question.template: offer for offer in offers(card)}
    assert ("real-time" in found) == (card.size_of("voices") is not None or card.size_of("streams") is not None)
    for offer in found.values():
        assert sum(runs for _, runs, _ in offer.parts) == offer.runs
        assert sum(seconds for _, _, seconds in offer.parts) == pytest.approx(offer.seconds)


def test_offers_are_those_of_a_plan_laid_out(fresh: Window) -> None:
    """What the first page says of a question is what its plan then says."""
    card, planner = larkspur_rig().describe(), fresh.session.planner

    def await_plan(name: str) -> None:
        def laid_out() -> bool:
            return planner.laid is not None and planner.laid.request.question.template == name

        until(laid_out, QApplication.processEvents)  # a long one is laid out away from this thread

    for offer in offers(card):
        name = offer.question.template
        fresh.page(PlanPage).commands.choose(name)
        await_plan(name)
        laid = planner.laid
        assert laid is not None
        assert laid.cost.runs == offer.runs
        assert laid.cost.typical_s == pytest.approx(offer.seconds)


# -- nothing open, and what cannot be opened -----------------------------------------------------------------------


def test_a_book_is_closed_and_another_can_be_opened(qtbot: QtBot, tmp_path: Path) -> None:
    make_app([])
    window = show(arguments([str(tmp_path / "first.niente")]))
    qtbot.addWidget(window, before_close_func=lambda closing: closing.session.close())
    qtbot.waitUntil(lambda: window.session.bench is not None and bool(window.pages))
    before = QApplication.topLevelWidgets()
    window.actions_["book.close"].trigger()
    assert not window.isVisible()
    assert window.session.bench is None
    other = next(one for one in QApplication.topLevelWidgets() if isinstance(one, Window) and one not in before)
    qtbot.addWidget(other, before_close_func=lambda closing: closing.session.close())
    qtbot.waitUntil(lambda: other.opening.text() == "Nothing is open.")
    shown = [button.text() for button in other.opening.findChildren(QPushButton) if button.isVisible()]
    assert shown == ["Open book", "New rig"]
    assert not other.actions_["book.close"].isEnabled()
    assert not other.actions_["plan.start"].isEnabled()


@pytest.mark.parametrize("content", [b"not a book at all", b"SQLite format 3\x00" + b"\x00" * 600])
def test_what_is_no_book_is_said_once_with_what_can_be_opened_instead(qtbot: QtBot, tmp_path: Path, content: bytes) -> None:
    file = tmp_path / "letter.niente"
    file.write_bytes(content)
    make_app([])
    window = show(arguments([str(file)]))
    qtbot.addWidget(window, before_close_func=lambda closing: closing.session.close())
    qtbot.waitUntil(lambda: not window.opening.cancel.isVisible())
    assert "letter.niente" in window.opening.text()
    assert window.message.text == ""
    assert [one.text() for one in window.opening.findChildren(QPushButton) if one.isVisible()] == ["Open book", "New rig"]
    assert file.read_bytes() == content


# -- after a change of the machine -----------------------------------------------------------------------------------


def test_a_changed_machine_is_told_with_what_was_measured_before_and_the_offer_to_compare(
    swept_window: Window, qtbot: QtBot
) -> None:
    session = swept_window.session
    assert session.answer.evidence is not None
    runs = len(session.answer.evidence.runs)
    sheet = session.sheet
    assert sheet is not None
    other = next(variant.name for variant in sheet.variants if variant.name != "filter in")
    assert session.sheets.change("variant", msgspec.structs.replace(sheet, variant=other))
    qtbot.waitUntil(lambda: f"{runs} runs with filter in" in swept_window.message.text)
    assert swept_window.message.action == "plan.compare"
    swept_window.message._act.click()
    plan = swept_window.page(PlanPage)
    assert swept_window.stack.currentWidget() is plan
    assert plan.title.text() == "A/B of variants"


def test_a_measured_book_is_never_called_fresh(open_window: Open, sweep_copy: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Neither while its answer is still worked out, nor on another variant than the one that was measured."""
    monkeypatch.setattr(Session, "request_answer", lambda _: None)
    window = open_window(sweep_copy)
    window.go_to(NAMES.index("Rig"))
    rig = window.page(RigPage)
    assert window.session.answer.evidence is None
    assert rig.stack.currentWidget() is not rig.start
    assert "fresh" not in rig.lead.text()
    names = [button.text() for button in rig.views.findChildren(QPushButton) if button.isVisible()]
    assert "Start" not in names


def test_runs_of_another_variant_are_runs(swept_window: Window) -> None:
    rig, session = swept_window.page(RigPage), swept_window.session
    evidence = session.answer.evidence
    assert evidence is not None
    elsewhere = {"filter in": evidence}
    session.answer = msgspec.structs.replace(
        session.answer, evidence=msgspec.structs.replace(evidence, runs=[], elsewhere=elsewhere)
    )
    assert not rig._is_fresh()
