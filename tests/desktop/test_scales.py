"""At all sizes, scales and looks every page is drawn, no text is cut off unseen or lies on another, and rings are whole."""

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, QSize
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton, QScrollArea, QWidget
from pytestqt.qtbot import QtBot

from niente.core.model.project import Project
from niente.desktop.app.screens import stay_on_screen
from niente.desktop.app.window import NAMES, Window
from niente.desktop.pages.map.page import MapPage
from niente.desktop.pages.rig.page import RigPage
from niente.desktop.widgets.labels import NarrowLabel
from tests.desktop.layout import cut_off, faults, overlaps, painted

ROOT = Path(__file__).parents[2]
LEAST = (960, 560)
"""Logical pixels that a screen of 1920x1200 has at scale 2, its panel and a title bar taken off."""
WALK = """
import json, sys, time
from pathlib import Path
from niente.desktop.app.main import arguments, make_app, show
from niente.desktop.services.theme import PaletteChoice
from niente.desktop.app.window import NAMES
from tests.desktop.test_scales import lasting_faults
app = make_app([])
window = show(arguments([sys.argv[1]]))
window.resize(960, 560)
end = time.monotonic() + 300
while window.session.answer.choice is None and time.monotonic() < end:
    app.processEvents()
    time.sleep(0.01)
window.apply(PaletteChoice(sys.argv[2]))
for index, name in enumerate(NAMES):
    window.go_to(index)
    app.processEvents()
    picture = window.grab()
    print(json.dumps([name, picture.devicePixelRatio(), picture.width(), lasting_faults(window)]))
window.session.close()
"""


@pytest.mark.parametrize(("scale", "palette"), [("1.5", "dusk"), ("2", "paper")])
def test_every_page_at_another_scale(sweep: tuple[Path, Project], tmp_path: Path, scale: str, palette: str) -> None:
    book = shutil.copyfile(sweep[0], tmp_path / "copy.niente")
    env = {**os.environ, "QT_SCALE_FACTOR": scale, "QT_QPA_PLATFORM": "offscreen", "XDG_CONFIG_HOME": str(tmp_path)}
    told = subprocess.run(
        [sys.executable, "-c", WALK, str(book), palette],
        env=env,
        cwd=ROOT,
        capture_output=True,
        text=True,
        check=True,
        timeout=400,
    )
    assert "Traceback" not in told.stderr
    lines = [json.loads(line) for line in told.stdout.splitlines()]
    assert [name for name, *_ in lines] == NAMES
    for name, ratio, width, found in lines:
        assert ratio == float(scale), name
        assert width == round(LEAST[0] * float(scale)), name
        assert not found, name


def views_of(window: Window, name: str) -> Iterator[str]:
    """Go to a page, and through all of its views that are offered."""
    window.go_to(NAMES.index(name))
    page = window.stack.currentWidget()
    if isinstance(page, RigPage | MapPage):
        names = page.views.findChildren(QPushButton)
        for view in sorted(page.views._group.id(name) for name in names if not name.isHidden()):
            page.views.show_view(view)
            settle()
            yield f"{name}, view {view}"
        page.views.show_view(0)
    else:
        settle()
        yield name


def settle() -> None:
    """Let layouts and the margin come to rest: words that wrap find their height in a second turn."""
    for _ in range(3):
        QTest.qWait(20)


def lasting_faults(window: Window) -> list[str]:
    """What is wrong with where texts lie, once words that came in meanwhile have found their places."""
    found = faults(window)
    for _ in range(10):
        if not found:
            break
        settle()
        found = faults(window)
    return found


@pytest.mark.parametrize("size", [LEAST, (1100, 700), (1280, 800), (1920, 1200)], ids=lambda size: f"{size[0]}x{size[1]}")
@pytest.mark.parametrize("name", NAMES)
def test_no_text_is_cut_off_or_lies_on_another(swept_window: Window, name: str, size: tuple[int, int]) -> None:
    swept_window.resize(*size)
    settle()
    assert (swept_window.width(), swept_window.height()) == size
    for view in views_of(swept_window, name):
        assert not lasting_faults(swept_window), view
        assert len(painted(swept_window)) > 10, view  # it was listened to


@pytest.mark.parametrize("name", NAMES)
def test_an_empty_page_holds_together_at_its_least_size(open_window: Callable[..., Window], name: str) -> None:
    window = open_window(fresh=True)
    window.resize(*LEAST)
    settle()
    for view in views_of(window, name):
        assert not lasting_faults(window), view


def test_a_narrow_window_folds_its_margin_and_unfolds_it_again(swept_window: Window) -> None:
    swept_window.resize(1280, 800)
    settle()
    assert swept_window.margin.isVisible()
    swept_window.resize(*LEAST)
    settle()
    assert not swept_window.margin.isVisible()
    assert swept_window.preferences.margin_shown  # it is folded, and not put away
    swept_window.actions_["view.margin"].trigger()
    settle()
    assert swept_window.margin.isVisible()
    swept_window.actions_["view.margin"].trigger()
    settle()
    assert not swept_window.margin.isVisible()
    swept_window.resize(1280, 800)
    settle()
    assert swept_window.margin.isVisible()


def test_a_window_opens_within_the_screen_that_it_is_on(qtbot: QtBot) -> None:
    window = QWidget()
    qtbot.addWidget(window)
    screen = window.screen().availableGeometry()
    window.resize(screen.width() + 500, screen.height() + 500)
    window.move(screen.right() - 40, screen.bottom() - 40)
    stay_on_screen(window)
    assert window.geometry() == screen
    window.resize(300, 200)
    window.move(screen.left() - 200, screen.bottom() - 40)
    stay_on_screen(window)
    assert screen.contains(window.geometry())
    assert window.size() == QSize(300, 200)


def test_a_page_that_is_too_high_scrolls_to_what_has_the_focus(swept_window: Window) -> None:
    swept_window.resize(*LEAST)
    swept_window.go_to(NAMES.index("Answer"))
    settle()
    area = next(one for one in swept_window.findChildren(QScrollArea) if one.widget() is swept_window.stack)
    assert area.verticalScrollBar().maximum() > 0
    field = swept_window.pages[NAMES.index("Answer")].choice.fields["min_throughput_percent"]  # type: ignore[attr-defined]
    area.verticalScrollBar().setValue(0)
    swept_window.activateWindow()
    area.ensureWidgetVisible(field)
    settle()
    top = field.mapTo(area.viewport(), QPoint(0, 0)).y()
    assert 0 <= top <= area.viewport().height() - field.height()


def test_faults_are_found(qtbot: QtBot) -> None:
    """The check itself: a label without room, and texts that lie on each other."""
    from PySide6.QtCore import QPointF
    from PySide6.QtGui import QPainter, QPaintEvent

    from niente.desktop.services.theme import BODY, font
    from niente.desktop.widgets.brushes import draw_text
    from niente.desktop.widgets.labels import label

    class Crowded(QWidget):
        def paintEvent(self, event: QPaintEvent) -> None:
            painter = QPainter(self)
            draw_text(painter, QPointF(10.0, 40.0), "one text", font(BODY), "#000000")
            draw_text(painter, QPointF(30.0, 44.0), "another text", font(BODY), "#000000")
            painter.end()

    crowded = Crowded()
    crowded.resize(200, 100)
    words = label("words that are far too long")
    words.setParent(crowded)
    words.setGeometry(0, 60, 40, 20)
    narrow = NarrowLabel()
    narrow.setText("words that are far too long")
    narrow.setParent(crowded)
    narrow.setGeometry(0, 80, 40, 20)
    crowded.show()
    QApplication.processEvents()
    assert len(list(overlaps(painted(crowded)))) == 1
    assert len(list(cut_off(crowded))) == 1  # and not the one that ends in an ellipsis
    assert narrow.toolTip() == "words that are far too long"
    crowded.close()
