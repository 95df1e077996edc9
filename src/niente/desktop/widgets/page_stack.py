"""Where pages stand, or the views of one: one shows, and in a window too low or too narrow for it, it scrolls."""

from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import QScrollArea, QStackedWidget


class PageStack(QStackedWidget):
    """Pages or views, one on top. It needs no more room than the one that shows."""

    def __init__(self) -> None:
        super().__init__()
        self.currentChanged.connect(lambda _: self.updateGeometry())

    def minimumSizeHint(self) -> QSize:
        """The least size of the page that shows."""
        shown = self.currentWidget()
        return shown.minimumSizeHint() if shown is not None else super().minimumSizeHint()

    def heightForWidth(self, width: int) -> int:
        """The least height, not the one that would be best: the area below scrolls only where it has to."""
        return self.minimumSizeHint().height()

    def scrolling(self) -> QScrollArea:
        """Return an area that shows the pages, and scrolls where there is too little room for one."""
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        area.setWidget(self)
        return area
