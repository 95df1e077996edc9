"""A scale of watts with a handle, over a heat path: what the package draws, or what another source gives off."""

import msgspec
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from niente.core.model.quantities import NO_BREAK_SPACE, number_text
from niente.desktop.services.theme import BODY, SMALL, Palette, font
from niente.desktop.widgets.brushes import draw_text, text_width
from niente.desktop.widgets.scale import PixelSpan, end_ticks

LEVEL, NUMBERS = 16.5, 34.0
"""Where the line is, and the baseline of its numbers, from the top of the drawing (px)."""
LEAST_PX = 44.0
"""How close numbers stand."""


class WattAxis(msgspec.Struct, frozen=True):
    """What an axis shows: whose watts, how many, and over which range."""

    name: str
    watts: float
    low: float
    high: float

    def within(self, watts: float) -> float:
        """Return watts as the axis takes them: whole, and inside its range."""
        return min(max(float(round(watts)), self.low), self.high)

    def span(self, left: float, right: float) -> PixelSpan:
        """Return where watts lie between two edges, the axis's name before them."""
        return PixelSpan(self.low, self.high, left + text_width(self.name, BODY) + 14.0, right - 8.0)


def draw_watt_axis(painter: QPainter, axis: WattAxis, left: float, right: float, p: Palette) -> None:
    """Draw an axis between two edges: name, line, numbers, and the handle."""
    span = axis.span(left, right)
    draw_text(painter, QPointF(left, 20), axis.name, font(BODY), p.soft)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    painter.setPen(QPen(QColor(p.soft), 1.0))
    painter.drawLine(QPointF(span.start_px, LEVEL), QPointF(span.end_px, LEVEL))
    here = span.px(axis.watts)
    for value in end_ticks(span.low, span.high, max(int((span.end_px - span.start_px) / LEAST_PX), 2)):
        x = round(span.px(value)) + 0.5
        painter.setPen(QPen(QColor(p.soft), 1.0))
        painter.drawLine(QPointF(x, LEVEL - 3), QPointF(x, LEVEL + 3))
        if abs(span.px(value) - here) > 26:
            at_end = x > right - 14
            side = Qt.AlignmentFlag.AlignRight if at_end else Qt.AlignmentFlag.AlignHCenter
            at = QPointF(right - 1.0 if at_end else x, NUMBERS)
            draw_text(painter, at, number_text(value, 0), font(SMALL), p.soft, align=side)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor(p.accent))
    painter.drawPolygon(QPolygonF([QPointF(here - 6, 5), QPointF(here + 6, 5), QPointF(here, 15)]))
    text = f"{number_text(axis.watts, 0)}{NO_BREAK_SPACE}W"
    half = 0.5 * text_width(text, SMALL)
    draw_text(painter, QPointF(min(max(here - half, left), right - 2 * half), NUMBERS), text, font(SMALL), p.ink)
