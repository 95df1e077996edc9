"""One ring round whatever has the focus, drawn in one place for every widget there is."""

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QAbstractItemView, QApplication, QFocusFrame, QMainWindow, QMenuBar, QWidget

from niente.desktop.services.theme import Look


class FocusRing(QFocusFrame):
    """Follows the focus inside one window."""

    def __init__(self, window: QMainWindow, look: Look) -> None:
        super().__init__(window)
        self._window = window
        self._look = look
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        look.changed.connect(self.update)
        app = QApplication.instance()
        if isinstance(app, QApplication):
            app.focusChanged.connect(self._moved)

    def _moved(self, _: QWidget | None, now: QWidget | None) -> None:
        mine = now is not None and now.window() is self._window and now is not self._window
        self.setWidget(now if mine and not isinstance(now, QMenuBar) else None)  # type: ignore[arg-type]

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the ring: 2 px of accent, at the edge of the space the style leaves round a widget."""
        widget = self.widget()
        if widget is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(self._look.palette.accent), 2.0))
        inset = 1.0 if not isinstance(widget, QAbstractItemView) else 1.5
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(inset, inset, -inset, -inset), 2.0, 2.0)
        painter.end()
