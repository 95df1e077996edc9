"""Hands in the window: bench cards, readings, the offer after an end, and a book that is only looked at."""

from collections.abc import Callable
from pathlib import Path

import msgspec
import pytest
from PySide6.QtWidgets import QLabel
from pytestqt.qtbot import QtBot

from niente.core.acquisition.bench import Bench
from niente.core.acquisition.client import BenchClient, Hearer
from niente.core.acquisition.follower import Follower
from niente.core.acquisition.hand_cards import variant_card
from niente.core.acquisition.opening import open_bench
from niente.core.analysis.evidence import evidence_in
from niente.core.model.frame import Frame, RigEventKind
from niente.core.model.guard_rules import default_guards
from niente.core.model.limits import Limits
from niente.core.model.plan import PLAN_FORMAT, Exposure, Plan, Step
from niente.core.model.project import Project
from niente.core.model.setting import Setting
from niente.core.model.states import BenchState
from niente.core.planning.templates import first_question, grid_project
from niente.core.rigs.simulated.faults import Fault, FaultKind
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.storage.reader import BookReader
from niente.desktop.app.main import look_of, make_app
from niente.desktop.app.window import NAMES, Window
from niente.desktop.pages.rig.page import RigPage
from niente.desktop.pages.run.page import RunPage
from niente.desktop.services.preferences import Preferences
from niente.desktop.session.session import Session
from niente.desktop.widgets.blocks import spoken
from tests.conftest import Watcher, larkspur_rig, short_plan
from tests.core.acquisition.test_recovery import left_open
from tests.desktop.conftest import QuietBus
from tests.here import serve_here

Show = Callable[..., Window]


@pytest.fixture
def show(show_client: Show) -> Show:
    """Return a function that opens a window on what a bench is made from."""
    return lambda make, *others: show_client(lambda listener: serve_here(make, listener), *others)


@pytest.fixture
def show_client(qtbot: QtBot, tmp_path: Path) -> Show:
    """Return a function that opens a window on what a client is made from."""
    app = make_app([])

    def on(make: Callable[[Hearer], BenchClient], project: Project | None = None) -> Window:
        preferences = Preferences()
        window = Window(Session(), look_of(app, preferences), preferences, desktop_bus=QuietBus())
        qtbot.addWidget(window, before_close_func=lambda closing: closing.session.close())
        window.show()
        window.session.open(lambda _, listener: (make(listener), project), start=False)
        qtbot.waitUntil(lambda: bool(window.pages) and window.session.bench is not None)
        window.go_to(2)
        return window

    return on


def run_page(window: Window) -> RunPage:
    page = window.page(RunPage)
    assert isinstance(page, RunPage)
    return page


def plover(book: Path) -> Callable[[Callable[..., None]], Bench]:
    return lambda listener: open_bench(SimulatedRig(shipped_file("plover"), seed=3), book, listener)


def by_hand_plan(rig: str, *watts: float, seconds: float = 60.0) -> Plan:
    card = SimulatedRig(shipped_file(rig), seed=3).describe()
    rule = Exposure(min_s=seconds, max_s=seconds)
    steps = tuple(Step(Setting(sustained_power_w=one), "vector", rule, "capacity", "a test") for one in watts)
    return Plan(PLAN_FORMAT, rig, "free", steps, default_guards(card))


def test_a_card_is_worked_through_line_by_line(show: Show, qtbot: QtBot, tmp_path: Path) -> None:
    window = show(plover(tmp_path / "hands.niente"))
    session, page = window.session, run_page(window)
    session.planner.take(by_hand_plan("plover", 24.0), None)
    window.actions_["plan.start"].trigger()
    qtbot.waitUntil(lambda: session.hands.card is not None)
    view = page.card_view
    assert page.upper.currentWidget() is view
    assert page.title.text() == "Set by hand before the next run."
    assert window.message.text == ""  # it would only lead to the page that shows
    assert ("Hands are needed", "Set by hand before the next run.", True) in window.desktop_bus.notified  # type: ignore[attr-defined]
    assert view.boxes[0].accessibleName() == "Sustained power limit 24\u00a0W in the firmware's setup"
    assert not view.done.isEnabled()
    assert not window.actions_["run.skip"].isEnabled()
    window.go_to(0)
    window.session.hands.show(session.hands.card)  # told again while another page shows: the message leads back
    assert "24\u00a0W" in window.message.text
    window.message._act.click()
    assert window.message.text == ""
    for box in view.boxes:
        box.click()
    assert view.done.isEnabled()
    view.boxes[0].click()  # taken back
    assert not view.done.isEnabled()
    session.resume()
    assert view.refusal.text() == "Not every box is ticked yet."
    view.boxes[0].click()
    view.done.click()
    qtbot.waitUntil(lambda: not session.busy())
    assert page.upper.currentWidget() is page.traces
    book = BookReader(session.bench.path)  # type: ignore[union-attr]
    assert [item.body for item in book.events(kind="card confirmed")] == [{"sustained_power_w": 24.0}]
    assert [run.outcome for run in book.runs()] == ["done"]
    book.close()


def test_a_stop_takes_the_card_away(show: Show, qtbot: QtBot, tmp_path: Path) -> None:
    window = show(plover(tmp_path / "stopped.niente"))
    window.session.planner.take(by_hand_plan("plover", 24.0), None)
    window.actions_["plan.start"].trigger()
    qtbot.waitUntil(lambda: window.session.hands.card is not None)
    window.actions_["run.stop"].trigger()
    qtbot.waitUntil(lambda: not window.session.busy())
    qtbot.waitUntil(lambda: run_page(window).upper.currentWidget() is run_page(window).traces)
    assert window.session.hands.card is None


def test_ticks_outlast_the_window(show: Show, qtbot: QtBot, tmp_path: Path) -> None:
    book = tmp_path / "again.niente"
    window = show(plover(book))
    plan = by_hand_plan("plover", 24.0)
    window.session.planner.take(plan, None)
    window.actions_["plan.start"].trigger()
    qtbot.waitUntil(lambda: window.session.hands.card is not None)
    run_page(window).card_view.boxes[0].click()
    window.session.close()
    window = show(plover(book))
    window.session.planner.take(plan, None)
    window.actions_["plan.start"].trigger()
    qtbot.waitUntil(lambda: window.session.hands.card is not None)
    assert [box.isChecked() for box in run_page(window).card_view.boxes] == [True, False, False]


def test_a_reading_is_typed_with_its_unit_and_corrected(show: Show, qtbot: QtBot, tmp_path: Path) -> None:
    window = show(lambda listener: open_bench(larkspur_rig(), tmp_path / "meter.niente", listener))
    session, page = window.session, run_page(window)
    assert session.sheet is not None
    session.sheets.change("by hand", msgspec.structs.replace(session.sheet, by_hand=("noise_dba", "wall_power_w")))
    qtbot.waitUntil(lambda: any(one.by.value == "hands" for one in session.card.channels))  # type: ignore[union-attr]
    session.planner.take(by_hand_plan("larkspur", 100.0), None)
    window.actions_["plan.start"].trigger()
    qtbot.waitUntil(lambda: session.hands.card is not None)
    view = page.card_view
    noise, wall = view.fields["noise_dba"], view.fields["wall_power_w"]
    assert page.sub.text() == "the load is on, under guard"
    noise.setText("3140")
    assert "it lies between" in noise.property("refusal").text()
    noise.setText("thirty")
    assert "no number" in noise.property("refusal").text()
    noise.setText("31,4 dBA")
    assert noise.property("refusal").isHidden()
    assert not view.done.isEnabled()  # the other one is missing
    session.hands.confirm()
    assert "Wall power: no reading was given" in view.refusal.text()
    wall.setText("0.187 kW")
    assert view.done.isEnabled()
    view.done.click()
    qtbot.waitUntil(lambda: not session.busy())
    evidence = evidence_in(session.bench.path)  # type: ignore[union-attr]
    assert evidence is not None
    assert evidence.runs[-1].noise_dba == 31.4


def test_a_meter_read_by_hand_is_said_on_the_rig_page(show: Show, qtbot: QtBot, tmp_path: Path) -> None:
    from niente.desktop.pages.rig.sensors import READ_BY

    window = show(lambda listener: open_bench(larkspur_rig(), tmp_path / "sensors.niente", listener))
    window.go_to(0)
    window.page(RigPage).views.show_view(4)
    view = window.page(RigPage).sensors_view
    rows = {entries[0].text: at for at, entries in enumerate(view.model.entries)}
    assert not view.model.entries[rows["Package power"]][READ_BY].options  # guards and models want it all the time
    view.model.setData(view.model.index(rows["Noise at 1 m"], READ_BY), "hand")
    assert window.session.sheet is not None
    assert list(window.session.sheet.by_hand) == ["noise_dba"]
    view.model.setData(view.model.index(rows["Noise at 1 m"], READ_BY), "sensor")
    assert not window.session.sheet.by_hand


def test_the_offer_after_an_end(show: Show, qtbot: QtBot, tmp_path: Path) -> None:
    book = tmp_path / "ended.niente"
    plan = left_open(book, larkspur_rig(), Watcher())
    window = show(lambda listener: open_bench(larkspur_rig(), book, listener))
    session, page = window.session, run_page(window)
    session.planner.take(plan, None)
    qtbot.waitUntil(lambda: session.answer.evidence is not None)
    view = page.after_view
    assert page.upper.currentWidget() is view
    assert page.title.text().endswith("at −40\u00a0mV, 120\u00a0W")
    assert "had run for 90\u00a0s" in view.what.text() or "2\u00a0min" in view.what.text()
    assert "Hottest core" in view.last.accessibleDescription()
    assert "cannot tell from here" in view.verdict.text()
    assert "If it failed" in view.left_out.text()
    qtbot.waitUntil(lambda: "−50\u00a0mV" in view.left_out.text())
    assert view.resume.isHidden()
    view.failed.click()
    assert "counts as failed" in view.verdict.text()
    assert not view.resume.isHidden()
    view.resume.click()
    qtbot.waitUntil(lambda: page.upper.currentWidget() is page.traces)
    qtbot.waitUntil(lambda: not session.busy())
    reader = BookReader(book)
    assert [run.outcome for run in reader.runs()] == ["failed", "done"]
    reader.close()


def test_the_offer_may_be_put_away(show: Show, qtbot: QtBot, tmp_path: Path) -> None:
    book = tmp_path / "away.niente"
    left_open(book, larkspur_rig(), Watcher())
    window = show(lambda listener: open_bench(larkspur_rig(), book, listener))
    page = run_page(window)
    page.after_view.away.click()
    assert page.upper.currentWidget() is page.none_view


def test_a_crash_under_way_is_told_and_the_plan_goes_on(show: Show, qtbot: QtBot, tmp_path: Path) -> None:
    rig = larkspur_rig(Fault(FaultKind.CRASH, 80.0, seconds=1.0))
    window = show(lambda listener: open_bench(rig, tmp_path / "crash.niente", listener))
    told: list[str] = []
    window.session.notice.connect(lambda notice: told.append(getattr(notice, "text", "")))
    window.session.planner.take(short_plan(rig.describe(), Setting(sustained_power_w=100.0), seconds=200.0), None)
    window.actions_["plan.start"].trigger()
    qtbot.waitUntil(lambda: any("went down at 100\u00a0W" in text for text in told))
    qtbot.waitUntil(lambda: not window.session.busy())
    reader = BookReader(window.session.bench.path)  # type: ignore[union-attr]
    assert [item.kind for item in reader.events(reader.runs()[0])] == [RigEventKind.CRASH]
    reader.close()


def test_the_margin_says_what_held_the_clock_and_keeps_noise_apart(swept_window: Window, qtbot: QtBot) -> None:
    session = swept_window.session
    swept_window.go_to(2)
    rule = Exposure(min_s=1000.0, max_s=1000.0)
    duty = {"case": 60.0, "cooler": 60.0}
    step = Step(Setting(sustained_power_w=97.0, fan_duty=duty), "vector", rule, "free", "a test")
    session.planner.take(Plan(PLAN_FORMAT, "larkspur", "free", (step,), default_guards(session.card)), None)  # type: ignore[arg-type]
    swept_window.actions_["plan.start"].trigger()
    qtbot.waitUntil(lambda: session.live is not None and session.live.closed is not None)
    session.strip.catch_up()  # type: ignore[union-attr]
    said = spoken(run_page(swept_window).margin())
    assert "What limited the clock" in said
    assert "Sustained limit" in said
    assert "Rate of rise" in said
    assert all(words in said for words in ("In the room", "Machine alone", "Modelled alone"))
    assert "time constants of" in said


def test_a_book_that_another_writes_is_looked_at(show_client: Show, qtbot: QtBot, tmp_path: Path) -> None:
    watcher = Watcher()
    bench = open_bench(larkspur_rig(pace=60.0), tmp_path / "theirs.niente", watcher.hear)
    try:
        bench.save_project(
            msgspec.structs.replace(grid_project(bench.card), question=first_question(bench.card, "capacity-ladder"))
        )
        bench.start(short_plan(bench.card, Setting(sustained_power_w=100.0), seconds=4000.0), Limits())
        window = show_client(lambda listener: Follower(bench.path, listener))
        session = window.session
        assert "view only" in window.windowTitle()
        assert "Another window or terminal runs" in window.message.text
        qtbot.waitUntil(lambda: session.live is not None and session.live.samples.count > 30)
        assert session.state == BenchState.EXPOSING
        session.stop()
        qtbot.waitUntil(lambda: "is view-only" in window.message.text)
        session.note("mine")
        assert "is view-only" in window.message.text
        assert bench.busy
    finally:
        bench.close()


def test_the_window_falls_back_to_looking_on(qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from niente.core.serving import starting
    from niente.desktop.app.main import arguments, show

    monkeypatch.setattr(starting, "REACHED_S", 0.2)
    bench = open_bench(larkspur_rig(), tmp_path / "busy.niente", Watcher().hear)
    try:
        make_app([])
        window = show(arguments([str(bench.path)]))
        qtbot.addWidget(window, before_close_func=lambda closing: closing.session.close())
        qtbot.waitUntil(lambda: window.session.bench is not None)
        assert window.session.bench is not None
        assert window.session.bench.follows
    finally:
        bench.close()


def test_a_card_for_hands_in_the_machine_shows_how_warm_it_is_and_ticks_itself_once_it_is_cool(
    open_window: Callable[..., Window], qtbot: QtBot
) -> None:
    window = open_window(pace=1.0)
    session = window.session
    assert session.card is not None
    card = variant_card(session.card, "filter out")
    assert card.cool_below_c == 45.0
    window.go_to(NAMES.index("Run"))
    qtbot.waitUntil(lambda: session.frame is not None)
    frame = session.frame
    assert frame is not None
    cores = list(session.card.indices("core_temperature_c"))
    view = run_page(window).card_view
    told: list[tuple[bool, bool]] = []
    for temperature in (61.0, 38.0):  # no event is let in between, so that no other sample comes
        values = frame.values.copy()
        values[cores] = temperature
        session.frame = Frame(frame.time_s, values)
        if not told:
            session.hands.show(card)
            view.refresh()
        view.show_warmth()
        words = [one.text() for one in view.findChildren(QLabel)]
        told.append((0 in session.hands.ticked, any(f"{temperature:.1f}" in text and "now" in text for text in words)))
    assert told == [(False, True), (True, True)]
