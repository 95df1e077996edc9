"""Every page can be used without eyes and without a mouse: names, text alternatives, and a way round by Tab."""

import contextlib
from collections.abc import Callable

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QAbstractButton, QAbstractScrollArea, QApplication, QLineEdit, QMenuBar, QWidget
from pytestqt.qtbot import QtBot

from niente.core.demo import closer_look
from niente.desktop.app.window import NAMES, Window
from niente.desktop.pages.answer.scatter import Scatter
from niente.desktop.pages.fans.curve_view import CurveView
from niente.desktop.pages.fans.rehearsal_view import RehearsalView
from niente.desktop.pages.map.field_view import FieldView
from niente.desktop.pages.plan.drawings import CostLine, Ribbon
from niente.desktop.pages.plan.page import PlanPage
from niente.desktop.pages.proof.depth_view import DepthView
from niente.desktop.pages.rig.dynamic_scale import DynamicScale
from niente.desktop.pages.rig.heat_path import LadderView
from niente.desktop.pages.run.traces import Traces
from niente.desktop.widgets.guard_bars import GuardBars

PICTURES = (
    Traces,
    FieldView,
    Scatter,
    LadderView,
    DynamicScale,
    Ribbon,
    CostLine,
    GuardBars,
    DepthView,
    CurveView,
    RehearsalView,
)
ALL_PAGES = pytest.mark.parametrize("name", NAMES)


def name_of(widget: QWidget) -> str:
    own = widget.accessibleName() or (widget.text() if isinstance(widget, QAbstractButton) else "")
    parent = widget.parentWidget()
    if not own and isinstance(widget, QLineEdit) and parent is not None:
        own = parent.accessibleName()  # the line inside a spin box speaks as the spin box
    return own


def focusable(window: Window) -> list[QWidget]:
    """What Tab may stop at, on the page that shows."""
    return [
        widget
        for widget in window.findChildren(QWidget)
        if widget.isVisible()
        and widget.isEnabled()
        and widget.focusPolicy() & Qt.FocusPolicy.TabFocus
        and not isinstance(widget, QMenuBar)
        and widget.focusProxy() is None
        and type(widget) is not QWidget
    ]


@ALL_PAGES
def test_everything_that_takes_the_focus_has_a_name(read_window: Window, name: str) -> None:
    read_window.go_to(NAMES.index(name))
    QApplication.processEvents()
    nameless = [widget for widget in focusable(read_window) if not name_of(widget)]
    assert not nameless, [(type(widget).__name__, type(widget.parent()).__name__) for widget in nameless]


def test_every_picture_is_also_told_in_words(swept_window: Window, qtbot: QtBot) -> None:
    project = swept_window.session.project
    assert project is not None
    swept_window.session._set_project(closer_look(project))  # something is left to run
    swept_window.actions_["plan.start"].trigger()
    qtbot.waitUntil(lambda: swept_window.session.live is not None)

    def pictures() -> list[QWidget]:
        return [one for one in swept_window.findChildren(QWidget) if isinstance(one, PICTURES) and one.isVisible()]

    def told(picture: QWidget) -> bool:
        words = picture.accessibleDescription()
        return len(words.split()) >= 4 and any(sign.isdigit() for sign in words)

    for index, name in enumerate(NAMES):
        swept_window.go_to(index)
        with contextlib.suppress(qtbot.TimeoutError):  # then the words below say which is not told
            qtbot.waitUntil(lambda: bool(pictures()) and all(map(told, pictures())))
        assert pictures(), name
        for picture in pictures():
            assert picture.accessibleName(), (name, type(picture).__name__)
            assert told(picture), (name, type(picture).__name__, picture.accessibleDescription())
    swept_window.session.stop()
    qtbot.waitUntil(lambda: not swept_window.session.busy())


@ALL_PAGES
def test_tab_goes_round_without_a_trap(read_window: Window, name: str, qtbot: QtBot) -> None:
    """From any start, Tab comes to everything that takes the focus, and back again."""
    read_window.activateWindow()
    read_window.go_to(NAMES.index(name))
    planner = read_window.session.planner
    qtbot.waitUntil(lambda: planner.dry_rows is planner.rows)  # what is foreseen makes the margin anew
    QApplication.processEvents()
    begin = read_window.passage.entries[0]
    begin.setFocus(Qt.FocusReason.TabFocusReason)
    seen: list[QWidget] = []
    for _ in range(100):
        read_window.focusNextPrevChild(True)
        QApplication.processEvents()  # what comes into focus may change the margin
        now = read_window.focusWidget()
        if now is None or now in seen:
            break
        seen.append(now)
    wanted, reached = set(focusable(read_window)), set(seen) | {begin}
    lost = {one for one in wanted - reached if not _part_of(one, reached)}
    assert not lost, [(type(one).__name__, name_of(one)) for one in lost]
    assert len(seen) >= len(NAMES)
    regions = [_region(read_window, one) for one in seen]
    order = [one for index, one in enumerate(regions) if index == 0 or regions[index - 1] != one]
    assert order in (["page", "margin", "pulse", "passage"], ["page", "pulse", "passage"])  # as the eye goes, once round


def _region(window: Window, widget: QWidget) -> str:
    regions = {"passage": window.passage, "page": window.stack, "margin": window.margin, "pulse": window.pulse}
    return next(name for name, region in regions.items() if region.isAncestorOf(widget))


def _part_of(widget: QWidget, reached: set[QWidget]) -> bool:
    """A viewport or an inner line is reached with what it belongs to; one of a group of radio-like buttons by the arrows."""
    parent = widget.parentWidget()
    if isinstance(parent, QAbstractScrollArea) or parent in reached:
        return True
    return isinstance(widget, QAbstractButton) and widget.isCheckable() and bool(widget.group() or widget.autoExclusive())


@ALL_PAGES
def test_every_page_fits_a_small_window(read_window: Window, name: str) -> None:
    read_window.resize(1100, 700)
    read_window.go_to(NAMES.index(name))
    QApplication.processEvents()
    page = read_window.pages[NAMES.index(name)]
    assert page.minimumSizeHint().width() <= read_window.stack.width()
    assert page.minimumSizeHint().height() <= read_window.stack.height()


def test_tables_give_their_cells_as_text(read_window: Window) -> None:
    read_window.go_to(NAMES.index("Plan"))
    model = read_window.page(PlanPage).model
    texts = [model.data(model.index(0, column), Qt.ItemDataRole.AccessibleTextRole) for column in range(model.columnCount())]
    assert texts[0] == "folded"
    assert str(texts[1]).startswith("1")
    texts = [model.data(model.index(1, column), Qt.ItemDataRole.AccessibleTextRole) for column in range(model.columnCount())]
    assert texts[0] in ("done", "ahead", "running", "failed")


def test_a_mark_of_a_state_is_a_word_too(open_window: Callable[..., Window]) -> None:
    window = open_window()
    assert {row[0] for row in window.page(PlanPage).model.rows} == {"ahead", "expected", "folded"}
