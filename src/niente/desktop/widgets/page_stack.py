"""Where pages stand, or the views of one: one shows, and in a window too low or too narrow for it, it scrolls."""

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QScrollArea, QStackedWidget


class PageStack(QStackedWidget):
    """Pages or views, one on top. It needs no more room than the one that shows."""

    def __init__(self) -> None:
        super().__init__()
        self.currentChanged.connect(lambda _: self.updateGeometry())

    def minimumSizeHint(self) -> QSize:
        """The least size of the page that shows; words that wrap need more height where it is narrow."""
        shown = self.currentWidget()
        if shown is None:
            return super().minimumSizeHint()
        least, layout = shown.minimumSizeHint(), shown.layout()
        nested = shown.findChild(PageStack) is not None  # which has said so itself
        if layout is not None and layout.hasHeightForWidth() and not nested:
            least.setHeight(max(least.height(), layout.minimumHeightForWidth(max(self.width(), least.width()))))
        return least

    def heightForWidth(self, width: int) -> int:
        """The least height, not the one that would be best: the area below scrolls only where it has to."""
        return self.minimumSizeHint().height()

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Ask for another height where the width is another."""
        super().resizeEvent(event)
        if event.size().width() != event.oldSize().width():
            self.updateGeometry()

    def scrolling(self) -> QScrollArea:
        """Return an area that shows the pages, and scrolls where there is too little room for one."""
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        area.setWidget(self)
        return area
