"""The dynamic scale: where the marks begin and end in this room, and where the machine stands now."""

import math
from itertools import pairwise

from PySide6.QtCore import QPointF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from niente.core.model.quantities import TRUE_MINUS, number_text
from niente.core.science.dynamics import MARKS, Scale
from niente.desktop.services.theme import BODY, READING, SMALL, Look, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import draw_text
from niente.desktop.widgets.scale import PixelSpan

LEFT = 60.0
HEIGHT = 88
MIDDLE = Qt.AlignmentFlag.AlignHCenter


class DynamicScale(QWidget):
    """A hairpin that opens to the right, with the marks between their limits."""

    def __init__(self, look: Look) -> None:
        super().__init__()
        self._look = look
        self._shown = Scale()
        self._now = math.nan
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(tr("Dynamic scale"))
        look.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        """As high as its lines."""
        return QSize(596, HEIGHT)

    def show_scale(self, scale: Scale, now_dba: float) -> None:
        """Show a scale, and a level in the room."""
        now = round(now_dba, 1) if math.isfinite(now_dba) else math.nan
        if (self._shown, self._now) == (scale, now):
            return
        self._shown, self._now = scale, now
        self.setAccessibleDescription(self._spoken())
        self.update()

    def _spoken(self) -> str:
        limits = self._shown.limits_dba
        if not limits:
            return tr("The room's background is not known yet.")
        parts = [
            tr("{mark} from {dba} dBA").format(mark=m, dba=number_text(at, 1)) for m, at in zip(MARKS[1:], limits, strict=True)
        ]
        return "; ".join(parts)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the scale."""
        painter = QPainter(self)
        p = self._look.palette
        limits = self._shown.limits_dba
        if not limits:
            draw_text(painter, QPointF(0, 20), self._spoken(), font(BODY), p.soft)
            painter.end()
            return
        step = (limits[-1] - limits[0]) / (len(limits) - 1)
        scale = PixelSpan(limits[0] - step, limits[-1] + step, LEFT - 40.0, self.width() - 4.0)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(p.strong_rule), 1.0))
        y, start, end = 38.0, scale.start_px + 8, scale.end_px
        for way in (-1.0, 1.0):
            painter.drawLine(QPointF(start, y), QPointF(end, y + 10.0 * way))
        painter.setBrush(QColor(p.ground))
        painter.drawEllipse(QPointF(start, y), 3.5, 3.5)
        edges = [scale.low, *limits, scale.high]
        here = self._shown.mark(self._now)
        for mark, (low, high) in zip(MARKS, pairwise(edges), strict=True):
            colour = p.accent if mark == here else p.ink
            draw_text(
                painter,
                QPointF(scale.px((low + high) / 2), 17),
                mark,
                font(READING, bold=True, italic=True),
                colour,
                align=MIDDLE,
            )
        draw_text(painter, QPointF(0, 68), tr("dBA"), font(SMALL), p.soft)
        draw_text(painter, QPointF(0, 83), tr("over room"), font(SMALL), p.soft)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        for limit in limits:
            x = round(scale.px(limit)) + 0.5
            painter.setPen(QColor(p.soft))
            painter.drawLine(QPointF(x, 26), QPointF(x, 52))
            draw_text(painter, QPointF(x, 68), number_text(limit, 1), font(SMALL), p.ink, align=MIDDLE)
            over = limit - self._shown.background_dba
            text = f"+{number_text(over, 1)}" if over > 0 else number_text(over, 1).replace("-", TRUE_MINUS)
            draw_text(painter, QPointF(x, 83), text, font(SMALL), p.soft, align=MIDDLE)
        if math.isfinite(self._now):
            x = min(max(scale.px(self._now), start), end)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(p.accent))
            painter.drawEllipse(QPointF(x, y), 4.0, 4.0)
        painter.end()
