"""The window on machines that are not ours: fewer channels, one fan group, no meter, or a book played again."""

from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from niente.core.bench.bench import Bench
from niente.core.rigs.registry import open_rig
from niente.desktop.app import look_of, make_app
from niente.desktop.memory import Memory
from niente.desktop.session import Session
from niente.desktop.theme import Wear
from niente.desktop.window import NAMES, Window
from tests.desktop.conftest import QuietDesk


@pytest.fixture
def open_rig_window(qtbot: QtBot, tmp_path: Path) -> Callable[[str], Window]:
    app = make_app([])

    def open_on(name: str) -> Window:
        memory = Memory()
        window = Window(Session(), look_of(app, memory), memory, desk=QuietDesk())
        qtbot.addWidget(window, before_close_func=lambda closing: closing.session.close())
        window.show()
        rig = open_rig(name, seed=2)
        window.session.open(lambda _, hear: (Bench(rig, tmp_path / "other.niente", hear), None), start=False)
        qtbot.waitUntil(lambda: bool(window.pages) and window.session.bench is not None, timeout=20000)
        return window

    return open_on


@pytest.mark.parametrize(
    "name", ["sandpiper", "tests.contract.outside:Doorbell", "tests.contract.outside:DeafDoorbell", "replay"]
)
def test_every_page_stands_on_other_machines(
    open_rig_window: Callable[[str], Window], name: str, request: pytest.FixtureRequest, qtbot: QtBot
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
        ),
        timeout=30000,
    )
    for wear in (Wear.DUSK, Wear.PAPER):
        window.put_on(wear)
        for place, page in enumerate(NAMES):
            window.go_to(place)
            qtbot.wait(150)
            assert window.page(page).title.text()
            assert not window.grab().isNull()
    window.resize(1100, 700)
    QApplication.processEvents()
    window.session.stop()
    qtbot.waitUntil(lambda: not window.session.busy(), timeout=10000)
    assert not bugs
