"""The ring of the focus stands whole round every widget that can have it, on every page and at every size."""

from collections.abc import Iterator

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QMenuBar, QScrollArea, QWidget
from shiboken6 import isValid

from niente.desktop.app.focus_ring import FocusRing
from niente.desktop.app.window import NAMES, Window
from tests.desktop.test_scales import LEAST, settle, views_of

SLACK_PX = 1


def focusable(window: Window) -> Iterator[QWidget]:
    """Everything that can have the focus where the window stands now."""
    for widget in window.findChildren(QWidget):
        takes = bool(widget.focusPolicy() & Qt.FocusPolicy.TabFocus) and widget.focusProxy() is None
        if takes and widget.isVisible() and widget.isEnabled() and not isinstance(widget, QMenuBar | QScrollArea):
            yield widget


def cut_rings(window: Window) -> list[str]:
    """The widgets whose ring is not seen as a whole once they were scrolled to."""
    ring = window.findChild(FocusRing)
    assert ring is not None
    found = []
    for widget in list(focusable(window)):
        if not isValid(widget):  # the page has put another in its place meanwhile
            continue
        reveal(widget)
        ring._moved(None, widget)
        QTest.qWait(1)
        seen, whole = ring.visibleRegion().boundingRect(), ring.rect()
        lost = (
            seen.left() - whole.left(),
            seen.top() - whole.top(),
            whole.right() - seen.right(),
            whole.bottom() - seen.bottom(),
        )
        if max(lost) > SLACK_PX:
            found.append(f"{type(widget).__name__} {widget.accessibleName()!r} loses {lost} px of its ring")
    ring._moved(None, None)
    return found


def reveal(widget: QWidget) -> None:
    """Scroll to a widget, as the focus does."""
    holder = widget.parentWidget()
    while holder is not None:
        if isinstance(holder, QScrollArea):
            holder.ensureWidgetVisible(widget)
        holder = holder.parentWidget()


@pytest.mark.parametrize("size", [LEAST, (1280, 800)], ids=lambda size: f"{size[0]}x{size[1]}")
@pytest.mark.parametrize("name", NAMES)
def test_rings_are_whole(swept_window: Window, name: str, size: tuple[int, int]) -> None:
    swept_window.resize(*size)
    settle()
    for view in views_of(swept_window, name):
        assert not cut_rings(swept_window), view
