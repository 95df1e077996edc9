"""The legend of the map: the colours' steps, and what the marks mean."""

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter

from niente.desktop.pages.map.layers import Drawn
from niente.desktop.services.theme import SMALL, Palette, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import draw_text
from niente.desktop.widgets.marks import draw_inferred, draw_measured, draw_picked, draw_running
from niente.desktop.widgets.scale import PixelSpan, tick_text, ticks

MIDDLE, RIGHT = Qt.AlignmentFlag.AlignHCenter, Qt.AlignmentFlag.AlignRight


def draw_legend(painter: QPainter, area: QRectF, title: str, made: Drawn, p: Palette) -> None:
    """Draw the colours' steps with their values, and the marks with their names."""
    left, top, width = area.left(), area.top(), area.width()
    draw_text(painter, QPointF(left, top + 4), title, font(SMALL), p.ink)
    count = max(round((made.high - made.low) / made.step), 1)
    colours = pg.colormap.get("cividis").map(np.linspace(0.0, 1.0, count) if count > 1 else [0.5], mode="qcolor")
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    for index, colour in enumerate(colours):
        a, b = left + width * index / count, left + width * (index + 1) / count
        painter.fillRect(QRectF(round(a), top + 11, round(b) - round(a), 10), colour)
    scale = PixelSpan(made.low, made.high, left, left + width)
    values = ticks(made.low, made.high, 4)
    step = values[1] - values[0] if len(values) > 1 else 1.0
    for value in values:
        x = scale.px(value)
        side = Qt.AlignmentFlag.AlignLeft if x < left + 8 else RIGHT if x > left + width - 8 else MIDDLE
        draw_text(painter, QPointF(x, top + 33), tick_text(value, step), font(SMALL), p.soft, align=side)
    for index, (draw, words) in enumerate(
        (
            (draw_measured, tr("measured")),
            (draw_inferred, tr("inferred")),
            (draw_running, tr("running")),
            (draw_picked, tr("the pick")),
        )
    ):
        at = QPointF(left + 6 + (index % 2) * width / 2, top + 50 + 17 * (index // 2))
        draw(painter, at, p)
        draw_text(painter, at + QPointF(11, 3.5), words, font(SMALL), p.ink)
