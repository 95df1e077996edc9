"""The passage: the pages in the order of the work, over a hairpin that closes on a small circle."""

from PySide6.QtCore import QPointF, Qt, Signal
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QAbstractButton, QHBoxLayout, QWidget

from niente.desktop.services.plain_text import plain
from niente.desktop.services.theme import BODY, SMALL, Look, font
from niente.desktop.widgets.brushes import draw_text

LEFT, HEIGHT, NARROWEST = 24, 64, 120
MIDDLE_Y, HALF_OPENING, CIRCLE = 56.5, 7.5, 3.5


class PassageEntry(QAbstractButton):
    """One page's name with its live line."""

    def __init__(self, name: str, look: Look) -> None:
        super().__init__()
        self.setText(name)
        self.setCheckable(True)
        self.setAutoExclusive(True)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setFixedHeight(46)
        self.setMinimumWidth(NARROWEST)
        self.setAccessibleName(name)
        self._look = look
        self._line = ""
        self.finished = False

    def set_line(self, line: str) -> None:
        """Set the live line."""
        if line != self._line:
            self._line = line
            self.setAccessibleDescription(line)
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the two lines."""
        painter = QPainter(self)
        p = self._look.palette
        colour = p.ink if self.isChecked() or self.finished else p.soft
        draw_text(painter, QPointF(0, 22), self.text(), font(BODY, bold=self.isChecked()), colour)
        room = self.width() - 10.0
        line = QFontMetricsF(font(SMALL)).elidedText(self._line, Qt.TextElideMode.ElideRight, room)
        draw_text(painter, QPointF(0, 38), line, font(SMALL), p.soft)
        painter.end()
        self.setToolTip(plain(self._line) if line != self._line else "")


class Passage(QWidget):
    """The strip at the top. ``chosen`` gives the index of the page a person goes to."""

    chosen = Signal(int)

    def __init__(self, names: list[str], look: Look) -> None:
        super().__init__()
        self.setFixedHeight(HEIGHT)
        self._look = look
        look.changed.connect(self.update)
        row = QHBoxLayout(self)
        row.setContentsMargins(LEFT, 0, LEFT, HEIGHT - 46)
        row.setSpacing(0)
        self.entries = [PassageEntry(name, look) for name in names]
        for index, entry in enumerate(self.entries):
            row.addWidget(entry, 1)
            entry.clicked.connect(lambda _=False, index=index: self.chosen.emit(index))

    def show_page(self, index: int) -> None:
        """Mark the page that shows."""
        self.entries[index].setChecked(True)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the hairpin: accent up to the furthest finished page, the current page's wedge filled."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        p, right = self._look.palette, self.width() - 32.5
        column = (self.width() - 2.0 * LEFT) / len(self.entries)
        finished = [index for index, entry in enumerate(self.entries) if entry.finished]
        reach = min(LEFT + column * (max(finished) + 1), right) if finished else LEFT

        def opening(x: float) -> float:
            return HALF_OPENING * (right - x) / (right - LEFT)

        current = next((index for index, entry in enumerate(self.entries) if entry.isChecked()), None)
        if current is not None:
            a, b = LEFT + column * current, LEFT + column * (current + 1) - 12.0
            wedge = [QPointF(a, MIDDLE_Y - opening(a)), QPointF(b, MIDDLE_Y - opening(b))]
            wedge += [QPointF(b, MIDDLE_Y + opening(b)), QPointF(a, MIDDLE_Y + opening(a))]
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(p.accent))
            painter.drawPolygon(QPolygonF(wedge))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for start, end, colour, width in ((LEFT, reach, p.accent, 1.5), (reach, right, p.strong_rule, 1.0)):
            painter.setPen(QPen(QColor(colour), width))
            for sign in (-1, 1):
                painter.drawLine(QPointF(start, MIDDLE_Y + sign * opening(start)), QPointF(end, MIDDLE_Y + sign * opening(end)))
        painter.setPen(QPen(QColor(p.strong_rule), 1.0))
        painter.drawEllipse(QPointF(right + CIRCLE, MIDDLE_Y), CIRCLE, CIRCLE)
        painter.end()
