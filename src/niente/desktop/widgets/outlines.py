"""What will stand on a page, in outline, while there is nothing yet: small beside the other pages, and large on the page."""

from collections.abc import Callable

from PySide6.QtCore import QLineF, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from niente.desktop.services.theme import BODY, SMALL, Look, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import draw_text

WIDE, HIGH, LEAST_GAP = 96.0, 68.0, 28.0
LARGE = 5.0
MARK, LINES = 2.0, (0.5, 0.42, 0.62, 0.48, 0.56)


def _list(painter: QPainter, area: QRectF) -> None:
    at = area.left()
    for share in (0.06, 0.1, 0.2, 0.12, 0.28):
        painter.drawRect(QRectF(at, area.top(), share * area.width(), 9.0))
        at += (share + 0.04) * area.width()
    for row, end in enumerate(LINES):
        y = area.top() + 22.0 + 11.0 * row
        painter.drawEllipse(QPointF(area.left() + MARK, y), MARK, MARK)
        for left, right in ((10.0, 24.0), (32.0, 32.0 + 56.0 * end)):
            painter.drawLine(QLineF(area.left() + left, y, area.left() + right, y))


def _settling(painter: QPainter, area: QRectF) -> None:
    painter.drawPolyline(QPolygonF([area.topLeft(), area.bottomLeft(), area.bottomRight()]))
    for end, size in ((0.3, 0.4), (0.62, 0.3)):
        points = [
            QPointF(area.left() + step / 20.0 * area.width(), area.top() + (end + size * 0.84**step) * area.height())
            for step in range(21)
        ]
        painter.drawPolyline(QPolygonF(points))


def _field(painter: QPainter, area: QRectF) -> None:
    painter.drawRect(area)
    for line in range(4):
        foot = area.left() + (0.08 + 0.26 * line) * area.width()
        points = [
            QPointF(min(foot + 15.0 * (step / 8.0) ** 2, area.right()), area.bottom() - step / 8.0 * area.height())
            for step in range(9)
        ]
        painter.drawPolyline(QPolygonF(points))
    for across in (0.15, 0.4, 0.65):
        for up in (0.25, 0.55, 0.8):
            painter.drawEllipse(QPointF(area.left() + across * area.width(), area.top() + up * area.height()), MARK, MARK)


def _bars(painter: QPainter, area: QRectF) -> None:
    painter.drawLine(QLineF(area.left(), area.top(), area.left(), area.bottom()))
    for row, share in enumerate((0.22, 0.92, 0.84, 0.62, 0.48)):
        painter.drawRect(QRectF(area.left(), area.top() + 3.0 + 13.0 * row, share * area.width(), 7.0))


def _hill(painter: QPainter, area: QRectF) -> None:
    painter.drawLine(QLineF(area.left(), area.bottom(), area.right(), area.bottom()))
    for at, share in enumerate((0.4, 0.55, 0.7)):
        painter.drawRect(QRectF(area.left() + 4.0 + 11.0 * at, area.bottom() - share * 0.7 * HIGH, 6.0, share * 0.7 * HIGH))
    points = []
    for step in range(25):
        from_middle = (step - 12.0) / 4.0
        height = 0.9 / (1.0 + from_middle**4)
        points.append(QPointF(area.left() + (0.42 + 0.55 * step / 24.0) * area.width(), area.bottom() - height * area.height()))
    painter.drawPolyline(QPolygonF(points))


def _steps(painter: QPainter, area: QRectF) -> None:
    painter.drawPolyline(QPolygonF([area.topLeft(), area.bottomLeft(), area.bottomRight()]))
    points = [
        QPointF(area.left() + across * area.width(), area.bottom() - up * area.height())
        for across, up in ((0.0, 0.18), (0.3, 0.18), (0.62, 0.4), (0.82, 0.9), (1.0, 0.9))
    ]
    painter.drawPolyline(QPolygonF(points))
    for point in points[1:4]:
        painter.drawEllipse(point, MARK, MARK)


SHOWN: tuple[tuple[str, str, Callable[[QPainter, QRectF], None]], ...] = (
    ("Plan", "the question you ask", _list),
    ("Run", "a plan you start", _settling),
    ("Map", "a few settled runs", _field),
    ("Answer", "the plan, as it grows", _bars),
    ("Fans", "a pick to be quiet at", _steps),
    ("Proof", "hours at one setting", _hill),
)


class Outline(QWidget):
    """What will stand on a page, large."""

    def __init__(self, look: Look, page: str) -> None:
        super().__init__()
        self._look = look
        self._draw = next(draw for name, _, draw in SHOWN if name == page)
        look.changed.connect(self.update)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMaximumSize(int(LARGE * WIDE) + 2, int(LARGE * HIGH) + 4)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw it as large as there is room, its lines one pixel wide."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        pen = QPen(QColor(self._look.palette.strong_rule), 1.0)
        pen.setCosmetic(True)
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        scale = min((self.width() - 2.0) / WIDE, (self.height() - 4.0) / HIGH)
        painter.translate(0.5, 2.5)
        painter.scale(scale, scale)
        self._draw(painter, QRectF(0.0, 0.0, WIDE, HIGH))
        painter.end()


class PageOutlines(QWidget):
    """A row of small outlines, each with its page's name and what fills that page."""

    def __init__(self, look: Look) -> None:
        super().__init__()
        self._look = look
        look.changed.connect(self.update)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(tr("What will stand on the other pages"))
        self.setAccessibleDescription("; ".join(f"{tr(name)}: {tr(fills)}" for name, fills, _ in SHOWN))

    def sizeHint(self) -> QSize:
        """As high as an outline with its two lines."""
        return QSize(int(len(SHOWN) * (WIDE + LEAST_GAP)), int(HIGH) + 44)

    def minimumSizeHint(self) -> QSize:
        """As its hint."""
        return self.sizeHint()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the outlines."""
        painter = QPainter(self)
        p, step = self._look.palette, self.width() / len(SHOWN)
        for at, (name, fills, draw) in enumerate(SHOWN):
            left = at * step + 0.5
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(QPen(QColor(p.strong_rule), 1.0))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            draw(painter, QRectF(left, 2.5, WIDE, HIGH))
            draw_text(painter, QPointF(left, HIGH + 22.0), tr(name), font(BODY, bold=True), p.soft)
            draw_text(painter, QPointF(left, HIGH + 38.0), tr(fills), font(SMALL), p.soft)
        painter.end()
