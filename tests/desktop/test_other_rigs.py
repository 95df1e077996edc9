"""The window on machines that are not ours: fewer channels, one fan group, no meter, or a book played again."""

from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from niente.core.acquisition.opening import open_bench
from niente.core.model.plan import SearchMethod
from niente.core.rigs.registry import open_rig
from niente.desktop.app.main import look_of, make_app
from niente.desktop.app.window import NAMES, Window
from niente.desktop.dialogs.sheet import QuestionDialog
from niente.desktop.pages.plan.page import PlanPage
from niente.desktop.pages.rig.page import RigPage
from niente.desktop.services.preferences import Preferences
from niente.desktop.services.theme import PaletteChoice
from niente.desktop.session.session import Session
from niente.desktop.widgets.blocks import spoken
from tests.desktop.conftest import QuietBus, with_question
from tests.here import serve_here


@pytest.fixture
def open_rig_window(qtbot: QtBot, tmp_path: Path) -> Callable[[str], Window]:
    app = make_app([])

    def open_on(name: str) -> Window:
        preferences = Preferences()
        window = Window(Session(), look_of(app, preferences), preferences, desktop_bus=QuietBus())
        qtbot.addWidget(window, before_close_func=lambda closing: closing.session.close())
        window.show()
        rig = open_rig(name, seed=2)
        window.session.open(
            lambda _, hear: with_question(serve_here(lambda own: open_bench(rig, tmp_path / "other.niente", own), hear)),
            start=False,
        )
        qtbot.waitUntil(lambda: bool(window.pages) and window.session.bench is not None)
        return window

    return open_on


@pytest.mark.parametrize(
    ("name", "choice"),
    [
        ("sandpiper", PaletteChoice.DUSK),
        ("tests.contract.outside:Doorbell", PaletteChoice.PAPER),
        ("tests.contract.outside:DeafDoorbell", PaletteChoice.PAPER),
        ("replay", PaletteChoice.PAPER),
    ],
)
def test_every_page_stands_on_other_machines(
    open_rig_window: Callable[[str], Window], name: str, choice: PaletteChoice, request: pytest.FixtureRequest, qtbot: QtBot
) -> None:
    if name == "replay":
        name = str(request.getfixturevalue("sweep")[0])
    window = open_rig_window(name)
    bugs: list[str] = []
    window.session.broke.connect(bugs.append)
    window.actions_["plan.start"].trigger()
    qtbot.waitUntil(
        lambda: (
            window.session.live is not None and window.session.live.opened.index >= 2 and window.session.live.samples.count > 20
        )
    )
    window.apply(choice)
    for index, page in enumerate(window.pages):
        window.go_to(index)
        QApplication.processEvents()
        assert page.title.text()
        assert not window.grab().isNull()
    window.resize(1100, 700)
    QApplication.processEvents()
    window.session.stop()
    qtbot.waitUntil(lambda: not window.session.busy())
    assert not bugs


def test_cautions_stand_before_the_first_run_on_a_real_machine(
    open_rig_window: Callable[[str], Window], qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    window = open_rig_window("tests.contract.outside:RealDoorbell")
    asked: list[tuple[str, ...]] = []
    answer = False

    def ask(over: object, cautions: tuple[str, ...]) -> bool:
        asked.append(cautions)
        return answer

    monkeypatch.setattr("niente.desktop.dialogs.prompts.whether_cautions_are_read", ask)
    assert "not read yet" in spoken(window.page(RigPage).margin())
    window.actions_["plan.start"].trigger()
    assert len(asked) == 1
    assert not window.session.busy()
    answer = True
    window.actions_["plan.start"].trigger()
    assert window.session.busy()
    assert ", read" in spoken(window.page(RigPage).margin())
    window.session.stop()
    qtbot.waitUntil(lambda: not window.session.busy())
    window.actions_["plan.start"].trigger()
    assert len(asked) == 2  # once a book is enough
    window.session.stop()
    qtbot.waitUntil(lambda: not window.session.busy())


def test_not_starting_is_the_default(open_rig_window: Callable[[str], Window], qtbot: QtBot) -> None:
    window = open_rig_window("tests.contract.outside:RealDoorbell")
    seen: list[str] = []

    def answer() -> None:
        box = window.findChild(QuestionDialog)
        assert box is not None
        seen.append(box.more)
        QTest.keyClick(box, Qt.Key.Key_Return)

    QTimer.singleShot(200, answer)
    window.actions_["plan.start"].trigger()
    assert "unplugged" in seen[0]
    assert not window.session.busy()


def test_a_real_time_load_is_searched_by_its_size(open_rig_window: Callable[[str], Window], qtbot: QtBot) -> None:
    window = open_rig_window("wren")
    window.go_to(NAMES.index("Plan"))
    page = window.pages[NAMES.index("Plan")]
    assert isinstance(page, PlanPage)
    page.questions.buttons["real-time"].click()
    qtbot.waitUntil(lambda: window.session.planner.dry is not None)
    assert page.title.text() == "Real-time load"
    assert page.axes.rows["load_size.voices"].name.text() == "Voices"
    heads = [str(page.model.headerData(at, Qt.Orientation.Horizontal)) for at in range(page.model.columnCount())]
    assert "voices" in heads
    assert "Cap, °C" in heads
    assert not page.rules.margin.isVisible()
    methods = [page.rules.method.itemText(at) for at in range(page.rules.method.count())]
    assert methods == ["from above", "ladder", "bisection"]
    page.rules.method.setCurrentIndex(2)
    page.rules.method.activated.emit(2)
    project = window.session.project
    assert project is not None
    assert project.question.method == SearchMethod.BISECTION
