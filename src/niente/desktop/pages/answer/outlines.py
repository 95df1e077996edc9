"""What will stand where an answer's picture is still to come: the same drawing in outline, without a figure."""

from collections.abc import Callable

from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from niente.core.model.question import TemplateName
from niente.desktop.services.theme import Palette

MOST_PX, HIGH_PX = 720.0, 300.0
ROW_PX, BAR_PX, DOT_PX = 36.0, 16.0, 4.0
BARS = ((0.46, 0.62), (0.34, 0.5), (0.3, 0.42), (0.08, 0.14))
"""From the room to the mean of the cores, and on to the hottest, as shares of the width."""
SPREADS = ((-0.24, 0.07), (-0.13, 0.06), (-0.02, 0.08), (0.05, 0.05))
"""Where each difference lies from zero, and how far its interval reaches."""
RAILS = (0.5, 0.66, 0.82)
"""How deep each rail goes."""
FALLING, RISING, STEPS = (0.2, 0.36, 0.48, 0.57, 0.64, 0.7), (0.86, 0.72, 0.6, 0.42, 0.26, 0.12), (0.84, 0.52, 0.4, 0.34, 0.32)
"""Curves: how far down each point lies."""


def draw_outline(painter: QPainter, area: QRectF, question: str, p: Palette) -> None:
    """Draw what the picture of a question's answer will look like."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(QColor(p.strong_rule), 1.0))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    high = min(area.height(), HIGH_PX)
    inside = QRectF(area.left() + 0.5, area.top() + 0.5, min(area.width(), MOST_PX) - 1.0, high - 1.0)
    _DRAWN.get(question, _rising)(painter, inside)


def _bars(painter: QPainter, area: QRectF) -> None:
    for row, (mean, hottest) in enumerate(BARS):
        top = area.top() + 12.0 + ROW_PX * row
        left = area.left() + 0.2 * area.width()
        for start, end in ((0.0, mean), (mean, hottest)):
            painter.drawRect(QRectF(left + start * area.width(), top, (end - start) * area.width(), BAR_PX))
        end = left + hottest * area.width()
        painter.drawLine(QLineF(end, top + BAR_PX / 2, end + 14.0, top + BAR_PX / 2))
        painter.drawLine(QLineF(area.left(), top + BAR_PX / 2, area.left() + 0.14 * area.width(), top + BAR_PX / 2))


def _differences(painter: QPainter, area: QRectF) -> None:
    zero = area.center().x()
    painter.drawLine(QLineF(zero, area.top(), zero, area.top() + ROW_PX * len(SPREADS) + 12.0))
    for row, (at, reach) in enumerate(SPREADS):
        y = area.top() + 24.0 + ROW_PX * row
        x, half = zero + at * area.width(), reach * area.width()
        painter.drawLine(QLineF(x - half, y, x + half, y))
        for end in (x - half, x + half):
            painter.drawLine(QLineF(end, y - 3.5, end, y + 3.5))
        painter.drawEllipse(QPointF(x, y), DOT_PX, DOT_PX)


def _depths(painter: QPainter, area: QRectF) -> None:
    painter.drawLine(QLineF(area.left(), area.top() + 12.0, area.right(), area.top() + 12.0))
    for rail, depth in enumerate(RAILS):
        x, end = area.left() + 90.0 + 130.0 * rail, area.top() + 12.0 + depth * (area.height() - 24.0)
        painter.drawLine(QLineF(x, area.top() + 12.0, x, end))
        for share in (0.3, 0.6, 0.85):
            painter.drawEllipse(QPointF(x, area.top() + 12.0 + share * (end - area.top() - 12.0)), DOT_PX, DOT_PX)
        for turn in (-1.0, 1.0):
            painter.drawLine(QLineF(x - DOT_PX, end - turn * DOT_PX, x + DOT_PX, end + turn * DOT_PX))


def _axes(painter: QPainter, area: QRectF) -> QRectF:
    painter.drawPolyline(QPolygonF([area.topLeft(), area.bottomLeft(), area.bottomRight()]))
    return area.adjusted(36.0, 12.0, -36.0, -24.0)


def _curve(painter: QPainter, area: QRectF, downs: tuple[float, ...]) -> None:
    inside = _axes(painter, area)
    step = inside.width() / (len(downs) - 1)
    points = [QPointF(inside.left() + step * at, inside.top() + down * inside.height()) for at, down in enumerate(downs)]
    painter.drawPolyline(QPolygonF(points))
    for point in points:
        painter.drawEllipse(point, DOT_PX, DOT_PX)


def _rising(painter: QPainter, area: QRectF) -> None:
    _curve(painter, area, RISING)


def _falling(painter: QPainter, area: QRectF) -> None:
    _curve(painter, area, FALLING)


def _levelling(painter: QPainter, area: QRectF) -> None:
    _curve(painter, area, STEPS)


_DRAWN: dict[str, Callable[[QPainter, QRectF], None]] = {
    TemplateName.BASELINE: _bars,
    TemplateName.VARIANTS: _differences,
    TemplateName.UNDERVOLT_LADDER: _depths,
    TemplateName.SOAK: _falling,
    TemplateName.BURST: _falling,
    TemplateName.CAP_SWEEP: _levelling,
}
