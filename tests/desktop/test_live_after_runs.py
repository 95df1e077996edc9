"""What is shown stays true once a run, a plan or a bench has ended: guards, notices, the button that stops."""

from collections.abc import Callable

import msgspec
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import QAbstractSpinBox, QApplication, QComboBox, QWidget
from pytestqt.qtbot import QtBot

from niente.core.model.limits import Limits
from niente.core.model.plan import Exposure
from niente.core.model.project import Project
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.planning.templates import first_question
from niente.desktop.app.window import NAMES, Window
from niente.desktop.pages.run.page import RunPage
from niente.desktop.session.notices import Notice, NoticeEnd
from niente.desktop.widgets.blocks import Far
from tests.conftest import larkspur_rig, short_plan


def short_baseline() -> Project:
    """Stock under each load, half a minute each."""
    card = larkspur_rig().describe()
    question = first_question(card, "baseline")
    brief = msgspec.structs.replace(question, exposure=Exposure(30.0, 30.0), quiet_under=())
    return Project(card.name, brief, Limits())


def guards(window: Window) -> dict[str, float]:
    """What the margin of the Run page says that guards read."""
    page = window.pages[NAMES.index("Run")]
    (far,) = (block for block in page.margin() if isinstance(block, Far))
    return {one.quantity: one.reading for one in far.guards}


def test_guards_go_on_with_the_machine_after_a_run(open_window: Callable[..., Window], qtbot: QtBot) -> None:
    """They kept the last sample of the run: a power limit was reached beside 5 W in the strip."""
    window = open_window(project=short_baseline(), pace=600.0)
    session = window.session
    window.actions_["plan.start"].trigger()
    qtbot.waitUntil(lambda: session.live is not None and session.live.opened.step.load == "vector", timeout=60000)
    qtbot.waitUntil(lambda: session.live is not None and session.live.closed is not None, timeout=60000)
    qtbot.waitUntil(lambda: not session.busy(), timeout=60000)
    strip = session.strip
    assert strip is not None
    qtbot.waitUntil(lambda: strip.between_runs().count > 60, timeout=60000)
    assert session.live is not None
    assert session.frame is not None
    card = session.card
    assert card is not None
    core = max(float(session.frame.values[index]) for index in card.indices("core_temperature_c"))
    assert abs(guards(window)["core_temperature_c"] - core) < 6.0
    index = card.index("package_power_w")
    assert index is not None
    power = float(session.frame.values[index])
    read = guards(window).get("package_power_w")
    assert read is None or abs(read - power) < 10.0


def test_the_button_that_stops_stands_out_only_while_something_runs(open_window: Callable[..., Window], qtbot: QtBot) -> None:
    window = open_window(project=short_baseline(), pace=600.0)
    assert window.pulse.stop.property("role") == "stop-at-rest"
    window.actions_["plan.start"].trigger()
    qtbot.waitUntil(lambda: window.pulse.stop.property("role") == "stop", timeout=20000)
    window.actions_["run.stop"].trigger()
    qtbot.waitUntil(lambda: window.pulse.stop.property("role") == "stop-at-rest", timeout=20000)


def test_a_notice_ends_with_what_it_says(open_window: Callable[..., Window], qtbot: QtBot) -> None:
    """The word on a stop outlived the restart."""
    window = open_window(project=short_baseline(), pace=600.0)
    window.actions_["plan.start"].trigger()
    qtbot.waitUntil(lambda: window.session.busy(), timeout=20000)
    window.actions_["run.stop"].trigger()
    qtbot.waitUntil(lambda: "The plan is" in window.message.text, timeout=20000)
    window.actions_["plan.start"].trigger()
    qtbot.waitUntil(lambda: window.message.text == "", timeout=20000)
    window.session.notice.emit(Notice("a word of its own"))
    for end in NoticeEnd:
        window.session.notice.emit(end)
    assert window.message.text == "a word of its own"


def turn(widget: QWidget, steps: int) -> bool:
    """Turn the wheel over a widget; return whether it was taken there."""
    at = QPointF(widget.rect().center())
    event = QWheelEvent(
        at,
        QPointF(widget.mapToGlobal(at.toPoint())),
        QPoint(),
        QPoint(0, 120 * steps),
        Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier,
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    QApplication.sendEvent(widget, event)
    return event.isAccepted()


def test_the_wheel_edits_nothing_anywhere(read_window: Window) -> None:
    """Over a box in a column that scrolls it turned a search from one kind into another, unseen."""
    boxes, fields = read_window.findChildren(QComboBox), read_window.findChildren(QAbstractSpinBox)
    assert len(boxes) + len(fields) > 20
    before = [box.currentIndex() for box in boxes] + [field.text() for field in fields]
    for editor in (*boxes, *fields):
        editor.setFocus()
        for steps in (1, -1):
            turn(editor, steps)
    assert [box.currentIndex() for box in boxes] + [field.text() for field in fields] == before


def test_an_armed_pause_shows_and_can_be_taken_back(open_window: Callable[..., Window], qtbot: QtBot) -> None:
    window = open_window(project=short_baseline(), pace=60.0)
    action = window.actions_["run.pause_after"]
    window.actions_["plan.start"].trigger()
    qtbot.waitUntil(lambda: action.isEnabled() and window.session.live is not None, timeout=20000)
    assert not action.isChecked()
    action.trigger()
    qtbot.waitUntil(action.isChecked, timeout=20000)
    page = window.pages[NAMES.index("Run")]
    window.go_to(NAMES.index("Run"))
    qtbot.waitUntil(lambda: "pauses after this run" in page.lead.text(), timeout=20000)
    action.trigger()
    qtbot.waitUntil(lambda: not action.isChecked(), timeout=20000)
    qtbot.waitUntil(lambda: "pauses after this run" not in page.lead.text(), timeout=20000)
    window.actions_["run.stop"].trigger()
    qtbot.waitUntil(lambda: not window.session.busy(), timeout=20000)
    assert not action.isChecked()


def test_the_queue_knows_what_follows_before_readings_are_summed_up(
    open_window: Callable[..., Window], card: RigCard, qtbot: QtBot
) -> None:
    """What is measured takes its time to be worked out; the bench goes on meanwhile, and the queue with it."""
    settings = [Setting(sustained_power_w=watts) for watts in (60.0, 70.0, 80.0, 90.0)]
    window = open_window(pace=60.0)
    session, planner = window.session, window.session.planner
    planner.take(short_plan(card, *settings, seconds=120.0), None)
    qtbot.waitUntil(lambda: len(planner.rows) == 4)
    session.analyst.request_answer = lambda *_: None  # type: ignore[method-assign]  # no answer comes

    def queued() -> list[str]:
        page = window.page(RunPage)
        page.refresh()
        return [row[0] for row in page.model.rows]

    window.go_to(NAMES.index("Run"))
    window.actions_["plan.start"].trigger()
    for number in (1, 2, 3):
        qtbot.waitUntil(lambda: session.live is not None and session.live.opened.index == number)  # noqa: B023
        assert not any(row.status.closed for row in planner.rows)  # nothing is summed up yet
        assert queued() == [f"{later + 1}" for later in range(number + 1, 4)]
    session.stop()
    qtbot.waitUntil(lambda: not session.busy())
    assert queued() == ["4"]  # a run that was stopped is made again


def test_a_run_that_is_summed_up_is_no_longer_kept_apart(
    open_window: Callable[..., Window], card: RigCard, qtbot: QtBot
) -> None:
    window = open_window()
    planner = window.session.planner
    plan = short_plan(card, Setting(sustained_power_w=60.0), Setting(sustained_power_w=70.0), seconds=30.0)
    planner.take(plan, None)
    qtbot.waitUntil(lambda: len(planner.rows) == 2)
    window.actions_["plan.start"].trigger()
    qtbot.waitUntil(lambda: all(row.status.closed for row in planner.rows) and not window.session.busy())
    assert planner.ahead(None) == []
    planner.take(msgspec.structs.replace(plan, entries=plan.entries * 2), None)  # each once more
    qtbot.waitUntil(lambda: len(planner.rows) == 4)
    assert [index for index, _ in planner.ahead(None)] == [
        index for index, row in enumerate(planner.rows) if not row.status.closed
    ]
    assert planner._unsummed == []


def test_figures_and_title_are_of_one_run_at_a_change_over(
    open_window: Callable[..., Window], card: RigCard, qtbot: QtBot
) -> None:
    """Several signals make one refresh a little later; a frame that comes before it must not mix two runs."""
    window = open_window(pace=60.0)
    session = window.session
    session.planner.take(short_plan(card, *(Setting(sustained_power_w=w) for w in (60.0, 90.0)), seconds=120.0), None)
    qtbot.waitUntil(lambda: len(session.planner.rows) == 2)
    window.go_to(NAMES.index("Run"))
    page = window.page(RunPage)
    page._soon.setInterval(60_000)  # as if the window were busy
    mixed: list[str] = []

    def look() -> None:
        if session.live is not None and page.title.text():
            watts = session.live.opened.step.setting.sustained_power_w
            if f"{watts:.0f}" not in page.title.text():
                mixed.append(page.title.text())

    window.actions_["plan.start"].trigger()
    qtbot.waitUntil(lambda: session.live is not None and session.live.samples.count > 3)
    session.sampled.connect(look)
    qtbot.waitUntil(lambda: session.live is not None and session.live.opened.index == 1 and session.live.samples.count > 3)
    assert mixed == []
    assert "90" in page.title.text()
