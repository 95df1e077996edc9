"""Where texts lie in a window: none is cut off unseen, and none lies on another."""

from collections.abc import Iterator

import pytest
from PySide6.QtCore import QPoint, QRect, QRectF, Qt
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QAbstractButton, QAbstractItemView, QAbstractScrollArea, QLabel, QPushButton, QScrollArea, QWidget

from niente.desktop.widgets import brushes
from niente.desktop.widgets.labels import NarrowLabel
from niente.desktop.widgets.table import CellDelegate

SLACK_PX = 2.0
"""Texts may touch by so much: letters have air round them."""


def painted(widget: QWidget) -> list[tuple[QRectF, str]]:
    """The texts that a widget and all in it draw themselves, in the widget's own units."""
    found: list[tuple[QRectF, str]] = []

    def note(painter: QPainter, area: QRectF, text: str) -> None:
        ratio = painter.device().devicePixelRatioF()
        placed = painter.deviceTransform().mapRect(area)
        if not painter.paintEngine().systemClip().boundingRect().contains(placed.center().toPoint()):
            return  # scrolled out of what it lies in
        seen = QRectF(placed.x() / ratio, placed.y() / ratio, placed.width() / ratio, placed.height() / ratio)
        if text.strip():
            found.append((seen, text))

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(brushes, "text_drawn", note)
        widget.grab()
    return found


def overlaps(texts: list[tuple[QRectF, str]]) -> Iterator[str]:
    """Texts that lie on each other."""
    for at, (area, text) in enumerate(texts):
        for other, words in texts[at + 1 :]:
            both = area.intersected(other)
            if both.width() > SLACK_PX and both.height() > SLACK_PX and (area != other or text != words):
                yield f"{text!r} at {_place(area)} lies on {words!r} at {_place(other)}"


def _place(area: QRectF) -> str:
    return f"{area.x():.0f},{area.y():.0f} {area.width():.0f}x{area.height():.0f}"


def cut_off(window: QWidget) -> Iterator[str]:
    """Labels and buttons whose words have no room, and that do not say so in a tooltip."""
    for label in window.findChildren(QLabel):
        if not label.isVisible() or not label.text() or not label.pixmap().isNull():
            continue
        if isinstance(label, NarrowLabel):
            continue  # they end in an ellipsis, with the whole in a tooltip
        if label.wordWrap():
            needs, has = label.heightForWidth(label.width()), label.height()
        else:
            needs, has = label.sizeHint().width(), label.width()
        if needs > has + SLACK_PX and not label.toolTip():
            yield f"{label.text()!r} needs {needs} px and has {has}"
        yield from _outside(label, label.text())
    for button in window.findChildren(QPushButton):
        if button.isVisible() and button.text():
            if button.fontMetrics().horizontalAdvance(button.text()) > button.width() + SLACK_PX:
                yield f"the button {button.text()!r} is too narrow"
            yield from _outside(button, button.text())


def _outside(widget: QWidget, text: str) -> Iterator[str]:
    """Whether a part of a widget lies outside what holds it, where that does not scroll that way."""
    holder = widget.parentWidget()
    while holder is not None and not holder.isWindow():
        area = holder.parentWidget()
        scrolls = isinstance(area, QAbstractScrollArea) and holder is area.viewport()
        placed = QRect(widget.mapTo(holder, QPoint(0, 0)), widget.size())
        if placed.right() > holder.width() + SLACK_PX or placed.left() < -SLACK_PX:
            yield f"{text!r} reaches over the side of {type(holder).__name__}: {placed.left()} to {placed.right()}"
            return
        if scrolls or isinstance(holder, QScrollArea):
            return
        if placed.bottom() > holder.height() + SLACK_PX or placed.top() < -SLACK_PX:
            yield f"{text!r} reaches over the foot of {type(holder).__name__}: {placed.bottom()} of {holder.height()}"
            return
        holder = holder.parentWidget()


def covered(window: QWidget) -> Iterator[str]:
    """Labels and buttons that lie on each other."""
    labels: list[QLabel | QAbstractButton] = [*window.findChildren(QLabel)]
    shown = [one for one in [*labels, *window.findChildren(QAbstractButton)] if _seen(one)]
    places = [QRectF(QRect(one.mapTo(window, QPoint(0, 0)), one.size())) for one in shown]
    for at, one in enumerate(shown):
        for then in range(at + 1, len(shown)):
            other = shown[then]
            both = places[at].intersected(places[then])
            nested = one.isAncestorOf(other) or other.isAncestorOf(one)
            if both.width() > SLACK_PX and both.height() > SLACK_PX and not nested and not _behind(one, other):
                yield f"{one.text()!r} and {other.text()!r} lie on each other"


def crowded(window: QWidget) -> Iterator[str]:
    """Widgets that lie on their neighbours: a layout had less room than they all need, and was not given more."""
    for holder in window.findChildren(QWidget):
        layout = holder.layout()
        if layout is None or not holder.isVisible():
            continue
        items = (layout.itemAt(index) for index in range(layout.count()))
        placed = [item.widget() for item in items if item is not None]
        shown = [one for one in placed if one is not None and one.isVisible()]
        for at, one in enumerate(shown):
            for other in shown[at + 1 :]:
                both = one.geometry().intersected(other.geometry())
                if both.width() > SLACK_PX and both.height() > SLACK_PX:
                    yield f"{_named(one)} lies {both.height()} px on {_named(other)} in {type(holder).__name__}"


def _named(widget: QWidget) -> str:
    return f"{type(widget).__name__} {widget.accessibleName()!r}"


def elided(window: QWidget) -> Iterator[str]:
    """Texts that end in an ellipsis where nothing tells the whole: no tooltip of the widget, and none of the cell."""
    for area, text in painted(window):
        if not text.endswith("…"):
            continue
        at = area.center().toPoint()
        widget = window.childAt(at)
        while widget is not None and not widget.toolTip() and not isinstance(widget.parentWidget(), QAbstractItemView):
            widget = widget.parentWidget()
        if widget is None or not (widget.toolTip() or _told(widget.parentWidget(), widget.mapFrom(window, at))):
            yield f"{text!r} at {_place(area)} is nowhere told as a whole"


def _told(view: QWidget | None, at: QPoint) -> bool:
    """Whether a table says the whole of a cell where a pointer rests on it."""
    if not isinstance(view, QAbstractItemView):
        return False
    index = view.indexAt(at)
    delegate = view.itemDelegateForIndex(index)
    own = index.data(Qt.ItemDataRole.ToolTipRole)
    return bool(own) or (isinstance(delegate, CellDelegate) and bool(delegate.cut_text(index, view.visualRect(index))))


def _seen(one: QLabel | QAbstractButton) -> bool:
    return one.isVisible() and bool(one.text()) and not one.visibleRegion().isEmpty()


def _behind(one: QWidget, other: QWidget) -> bool:
    """Whether two widgets scroll in different areas: what is scrolled away lies nowhere."""
    return (
        not one.visibleRegion()
        .translated(one.mapTo(one.window(), QPoint(0, 0)))
        .intersects(other.visibleRegion().translated(other.mapTo(other.window(), QPoint(0, 0))))
    )


def faults(window: QWidget) -> list[str]:
    """Everything that is wrong with where texts lie in a window."""
    return [*cut_off(window), *covered(window), *overlaps(painted(window)), *elided(window), *crowded(window)]
