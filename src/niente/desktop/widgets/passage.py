"""The passage: the pages in the order of the work, over a hairpin that closes on a small circle."""

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QAbstractButton, QHBoxLayout, QWidget

from niente.desktop.theme import BODY, SMALL, Palette, font

LEFT, HEIGHT, COLUMN = 24, 64, 136
MIDDLE_Y, HALF_OPENING, CIRCLE = 56.5, 7.5, 3.5


class PassageEntry(QAbstractButton):
    """One page's name with its live line."""

    def __init__(self, name: str, palette: Palette) -> None:
        super().__init__()
        self.setText(name)
        self.setCheckable(True)
        self.setAutoExclusive(True)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setFixedSize(COLUMN, 46)
        self.setAccessibleName(name)
        self._palette = palette
        self._line = ""
        self.finished = False

    def set_line(self, line: str) -> None:
        """Set the live line."""
        if line != self._line:
            self._line = line
            self.setAccessibleDescription(line)
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the two lines, and the focus ring."""
        painter = QPainter(self)
        p = self._palette
        painter.setFont(font(BODY, bold=self.isChecked()))
        painter.setPen(QColor(p.ink if self.isChecked() or self.finished else p.soft))
        painter.drawText(QPointF(0 if not self.hasFocus() else 5, 22), self.text())
        painter.setFont(font(SMALL))
        painter.setPen(QColor(p.soft))
        painter.drawText(QPointF(0 if not self.hasFocus() else 5, 38), self._line)
        if self.hasFocus():
            painter.setPen(QPen(QColor(p.accent), 2))
            painter.drawRect(QRectF(1, 7, COLUMN - 14, 37))
        painter.end()


class Passage(QWidget):
    """The strip at the top. ``chosen`` gives the place of the page a person goes to."""

    chosen = Signal(int)

    def __init__(self, names: list[str], palette: Palette) -> None:
        super().__init__()
        self.setFixedHeight(HEIGHT)
        self._palette = palette
        row = QHBoxLayout(self)
        row.setContentsMargins(LEFT, 0, LEFT, HEIGHT - 46)
        row.setSpacing(0)
        self.entries = [PassageEntry(name, palette) for name in names]
        for place, entry in enumerate(self.entries):
            row.addWidget(entry)
            entry.clicked.connect(lambda _=False, place=place: self.chosen.emit(place))
        row.addStretch(1)

    def show_page(self, place: int) -> None:
        """Mark the page that shows."""
        self.entries[place].setChecked(True)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the hairpin: accent up to the furthest finished page, the current page's wedge filled."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        p, right = self._palette, self.width() - 29.0
        finished = [place for place, entry in enumerate(self.entries) if entry.finished]
        reach = LEFT + COLUMN * (max(finished) + 1) if finished else LEFT

        def opening(x: float) -> float:
            return HALF_OPENING * (right - x) / (right - LEFT)

        current = next((place for place, entry in enumerate(self.entries) if entry.isChecked()), None)
        if current is not None:
            a, b = LEFT + COLUMN * current, LEFT + COLUMN * (current + 1) - 12.0
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
