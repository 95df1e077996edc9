"""A column of widgets that scrolls up and down where it is too high."""

from PySide6.QtCore import QEvent, QObject, QSize, Qt
from PySide6.QtWidgets import QScrollArea, QWidget

LEAST_HIGH_PX = 80


class ScrollingColumn(QScrollArea):
    """What it holds may be higher than it, and is never cut off at its side."""

    def __init__(self, inside: QWidget, least_px: int = 0) -> None:
        super().__init__()
        self._least_px = least_px
        self.setWidgetResizable(True)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setWidget(inside)

    def minimumSizeHint(self) -> QSize:
        """As wide as what it holds needs, with its scroll bar."""
        inside = self.widget()
        wide = inside.minimumSizeHint().width() if inside is not None else 0
        return QSize(max(wide + self.verticalScrollBar().sizeHint().width(), self._least_px), LEAST_HIGH_PX)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Ask for other room once what it holds needs it."""
        if watched is self.widget() and event.type() == QEvent.Type.LayoutRequest:
            self.updateGeometry()
        return super().eventFilter(watched, event)
