"""Where the pick's label has room in the picture of a choice, and the legend of its marks."""

import math
from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter

from niente.core.science.arrays import Vector
from niente.desktop.services.theme import BODY, SMALL, Palette, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import draw_text
from niente.desktop.widgets.marks import draw_inferred, draw_measured, draw_rejected

RIGHT = Qt.AlignmentFlag.AlignRight
NAMED = 1000.0
"""A mark with a number is worth so many others, where a label is to meet few."""


def label_place(
    words: str, pick: QPointF, area: QRectF, marks: tuple[Vector, Vector], named: Sequence[QPointF]
) -> tuple[float, float, Qt.AlignmentFlag]:
    """Return where the pick's label meets the fewest marks, given in px across and up ``(n,)`` each: left or right of it, above
    or below; ``named`` are marks with a number."""
    x, y = marks
    width = QFontMetricsF(font(BODY, bold=True)).horizontalAdvance(words) + 6
    best, least = (pick.x() + 14, pick.y() - 26, Qt.AlignmentFlag.AlignLeft), math.inf
    for side, way in ((Qt.AlignmentFlag.AlignLeft, 1.0), (RIGHT, -1.0)):
        for top in (-34.0, -54.0, 18.0, 34.0):
            start = pick.x() + way * 12
            left, high = (start if way > 0 else start - width), pick.y() + top
            met = float(np.count_nonzero((x > left - 4) & (x < left + width) & (y > high - 2) & (y < high + 28)))
            met += NAMED * sum(left - 24 < at.x() < left + width + 8 and high - 8 < at.y() < high + 36 for at in named)
            inside = area.adjusted(2, 0, 0, 0).contains(QRectF(left, high, width, 28))
            met += abs(top) / 200.0 if inside else 100.0
            if met < least:
                best, least = (start, high + 9, side), met
    return best


def draw_marks_legend(painter: QPainter, area: QRectF, p: Palette) -> None:
    """Draw what the marks mean, at the lower right."""
    x, y = area.right() - 14.0, area.bottom() - 12.0
    words = tr("breaks a limit")
    width = draw_text(painter, QPointF(x, y + 3.5), words, font(SMALL), p.ink, halo=p.shade, align=RIGHT)
    draw_rejected(painter, QPointF(x - width - 9, y), QColor(p.soft))
    x -= width + 32
    width = draw_text(painter, QPointF(x, y + 3.5), tr("inferred"), font(SMALL), p.ink, halo=p.shade, align=RIGHT)
    draw_inferred(painter, QPointF(x - width - 9, y), p)
    x -= width + 32
    width = draw_text(painter, QPointF(x, y + 3.5), tr("measured"), font(SMALL), p.ink, halo=p.shade, align=RIGHT)
    draw_measured(painter, QPointF(x - width - 9, y), p)
