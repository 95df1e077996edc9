"""Guards drawn as distances: the track is the way from the floor to the level, and the gap left is the distance."""

import math

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from niente.core.acquisition.guard_distance import Distance
from niente.core.model.quantities import duration_text, quantity_of
from niente.desktop.services.theme import BODY, SMALL, Look, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import draw_text

ROW = 46
NEAR = 2
"""So many guards, the nearest ones, have their stop drawn in its colour."""
FAR_S = 3600.0


def distance_words(one: Distance) -> tuple[str, str, str]:
    """Return what is left, the reading of its level, and the time it takes at the present slope."""
    quantity = quantity_of(one.quantity)
    unit = "K" if quantity.unit == "°C" else quantity.unit
    left = f"{quantity.text(one.left)}\u00a0{unit}" if one.left > 0 or not one.by_firmware else tr("reached")
    of = tr("{reading} of {level}").format(reading=quantity.text(one.reading), level=quantity.with_unit(one.level))
    if math.isfinite(one.seconds):
        soon = duration_text(one.seconds) if one.seconds < FAR_S else tr("over an hour")
    else:
        soon = tr("not reached")
    return left, of, soon


class GuardBars(QWidget):
    """One row a guard."""

    def __init__(self, look: Look) -> None:
        super().__init__()
        self._look = look
        self._guards: tuple[Distance, ...] = ()
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        look.changed.connect(self.update)

    def show_guards(self, guards: tuple[Distance, ...]) -> None:
        """Show other distances."""
        if len(guards) != len(self._guards):
            self._guards = guards
            self.updateGeometry()
        self._guards = guards
        words = [": ".join((one.title, ", ".join(distance_words(one)))) for one in guards]
        self.setAccessibleName(tr("Guards, distance left"))
        self.setAccessibleDescription("; ".join(words))
        self.update()

    def sizeHint(self) -> QSize:
        """As high as its rows."""
        return QSize(200, ROW * len(self._guards))

    def minimumSizeHint(self) -> QSize:
        """As high as its rows."""
        return self.sizeHint()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the rows."""
        painter = QPainter(self)
        p, width = self._look.palette, float(self.width())
        nearest = sorted(range(len(self._guards)), key=lambda index: -self._guards[index].share)[:NEAR]
        for index, one in enumerate(self._guards):
            top = ROW * index
            left, of, soon = distance_words(one)
            draw_text(painter, QPointF(0, top + 13), one.title, font(BODY), p.ink)
            draw_text(painter, QPointF(width, top + 13), left, font(BODY), p.ink, align=Qt.AlignmentFlag.AlignRight)
            y, end = top + 21, width - 2.0
            painter.fillRect(QRectF(0, y, end, 1), QColor(p.strong_rule))
            painter.fillRect(QRectF(0, y - 0.5, end * one.share, 2), QColor(p.ink))
            near = index in nearest
            colour = (p.cap_line if one.by_firmware else p.guard) if near else p.strong_rule
            painter.fillRect(QRectF(end - (2 if near else 1), y - 4, 2 if near else 1, 9), QColor(colour))
            draw_text(painter, QPointF(0, top + 36), of, font(SMALL), p.soft)
            words = tr("firmware limits it") if one.by_firmware and one.left <= 1.5 else soon
            draw_text(painter, QPointF(width, top + 36), words, font(SMALL), p.soft, align=Qt.AlignmentFlag.AlignRight)
        painter.end()
