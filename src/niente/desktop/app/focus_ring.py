"""One ring round whatever has the focus, drawn in one place for every widget there is."""

from PySide6.QtCore import QPoint, QRect, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QAbstractItemView,
    QApplication,
    QFocusFrame,
    QMainWindow,
    QMenuBar,
    QProxyStyle,
    QScrollArea,
    QStyle,
    QStyleHintReturn,
    QStyleOption,
    QWidget,
)

from niente.desktop.services.theme import Look

RING_PX = 3


class RingStyle(QProxyStyle):
    """Puts the ring over everything in its window or scrolling area: over its own neighbours only, it would be cut off at
    the edges of whatever holds the widget."""

    def styleHint(
        self,
        hint: QStyle.StyleHint,
        option: QStyleOption | None = None,
        widget: QWidget | None = None,
        data: QStyleHintReturn | None = None,
    ) -> int:
        """Return the one hint that is another, and all others as they are."""
        if hint == QStyle.StyleHint.SH_FocusFrame_AboveWidget:
            return 1
        return int(super().styleHint(hint, option, widget, data))


class FocusRing(QFocusFrame):
    """Follows the focus inside one window."""

    def __init__(self, window: QMainWindow, look: Look) -> None:
        super().__init__(window)
        self._window = window
        self._look = look
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self._style = _shared_style()
        self.setStyle(self._style)
        look.changed.connect(self.update)
        app = QApplication.instance()
        if isinstance(app, QApplication):
            app.focusChanged.connect(self._moved)

    def _moved(self, _: QWidget | None, now: QWidget | None) -> None:
        mine = now is not None and now.window() is self._window and now is not self._window
        ringed = now if mine and not isinstance(now, QMenuBar) else None
        self.setWidget(ringed)  # type: ignore[arg-type]
        if ringed is not None:
            _show_whole(ringed)

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


def _show_whole(widget: QWidget) -> None:
    """Scroll so far that the ring round a widget is seen too: what is seen to its very edge is not scrolled to by itself."""
    holder = widget.parentWidget()
    while holder is not None and not holder.isWindow():
        if isinstance(holder, QScrollArea) and (inside := holder.widget()) is not None and widget.height() < holder.height():
            area = QRect(widget.mapTo(inside, QPoint(0, 0)), widget.size()).adjusted(-RING_PX, -RING_PX, RING_PX, RING_PX)
            for y in (area.bottom(), area.top()):
                holder.ensureVisible(area.left(), y, 0, 0)
        holder = holder.parentWidget()


def _shared_style() -> RingStyle:
    """Return the one style of all rings. The application owns it: it is asked until the last window is gone, also where the
    interpreter ends first."""
    app = QApplication.instance()
    known = app.findChild(RingStyle) if app is not None else None
    if isinstance(known, RingStyle):
        return known
    made = RingStyle("Fusion")
    made.setParent(app)
    return made
