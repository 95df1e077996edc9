"""A bug inside one of Qt's own calls is reported like any other, in the window that shows, and nothing dies of it."""

import sys
from collections.abc import Callable

import pytest
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QApplication

from niente.desktop.app.bug_report import BugDialog
from niente.desktop.app.main import show_bug
from niente.desktop.app.window import NAMES, Window
from niente.desktop.pages.answer.page import AnswerPage
from niente.desktop.pages.map.page import MapPage


def test_a_bug_in_a_painter_or_a_page_is_reported(swept_window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    told: list[str] = []
    monkeypatch.setattr(sys, "excepthook", lambda kind, error, trace: told.append(f"{kind.__name__}: {error}"))
    swept_window.go_to(NAMES.index("Map"))

    def broken(painter: QPainter) -> None:
        raise ZeroDivisionError("in a painter")

    view = swept_window.page(MapPage).view
    view.canvas.over = broken
    view.canvas.grab()
    assert "ZeroDivisionError: in a painter" in told
    page = swept_window.page(AnswerPage)

    def refuse() -> None:
        raise KeyError("in a page")

    monkeypatch.setattr(page, "refresh", refuse)
    page._stale = True
    swept_window.go_to(NAMES.index("Answer"))
    assert "KeyError: 'in a page'" in told
    assert swept_window.stack.currentWidget() is page


def test_the_report_comes_up_in_the_window_that_shows(open_window: Callable[..., Window], tmp_path: object) -> None:
    first = open_window()
    first.session.close()
    first.hide()
    second = open_window(book=tmp_path / "second.niente")  # type: ignore[operator]
    show_bug("Traceback: a bug")
    QApplication.processEvents()
    assert first.findChild(BugDialog) is None
    box = second.findChild(BugDialog)
    assert box is not None
    box.close()
