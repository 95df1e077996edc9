"""The way round by Tab: as the eye goes, region by region, whatever order widgets were made in."""

from collections.abc import Iterator
from itertools import pairwise

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLayout, QScrollArea, QSplitter, QStackedWidget, QWidget


def in_reading_order(widget: QWidget) -> Iterator[QWidget]:
    """Yield a widget and all that lies in it, as layouts and splitters show them."""
    yield widget
    inside: QWidget | None
    if isinstance(widget, QSplitter | QStackedWidget):
        for index in range(widget.count()):
            inside = widget.widget(index)
            if inside is not None:
                yield from in_reading_order(inside)
    elif isinstance(widget, QScrollArea):
        inside = widget.widget()
        if inside is not None:
            yield from in_reading_order(inside)
    elif widget.layout() is not None:
        yield from _laid_out(widget.layout())


def _laid_out(layout: QLayout | None) -> Iterator[QWidget]:
    for index in range(layout.count() if layout is not None else 0):
        item = layout.itemAt(index) if layout is not None else None
        if item is None:
            continue
        inside = item.widget()
        if inside is not None:
            yield from in_reading_order(inside)
        else:
            yield from _laid_out(item.layout())


def chain(regions: list[QWidget]) -> None:
    """Let Tab go through the regions one after the other."""
    stops = [
        widget
        for region in regions
        for widget in in_reading_order(region)
        if widget.focusPolicy() & Qt.FocusPolicy.TabFocus and widget.focusProxy() is None
    ]
    for one, other in pairwise(stops):
        QWidget.setTabOrder(one, other)
