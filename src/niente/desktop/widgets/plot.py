"""A picture that fills its widget: a canvas below, mouse and keys above, and the shapes that curves are drawn with."""

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPolygonF
from PySide6.QtWidgets import QVBoxLayout, QWidget

from niente.core.science.arrays import Array
from niente.desktop.services.theme import Look
from niente.desktop.widgets.canvas import Canvas
from niente.desktop.widgets.scale import PixelSpan


class Plot(QWidget):
    """A widget that one canvas fills. It takes mouse and keys itself, and draws in ``_under`` and ``_over``."""

    def __init__(self, look: Look, gutters: tuple[int, int, int, int], name: str, *, spacing: int = 0) -> None:
        """``gutters`` are the px round the view boxes; ``name`` is what a screen reader says of the picture."""
        super().__init__()
        self.look = look
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(name)
        self.canvas = Canvas(look, gutters, spacing=spacing)
        self.canvas.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.canvas.under, self.canvas.over = self._under, self._over
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.addWidget(self.canvas)

    def draw_again(self) -> None:
        """Have the picture drawn anew."""
        self.canvas.viewport().update()

    def _under(self, painter: QPainter) -> None:
        raise NotImplementedError

    def _over(self, painter: QPainter) -> None:
        raise NotImplementedError


def curve(x: Array, y: Array, across: PixelSpan, up: PixelSpan) -> QPolygonF:
    """Return a curve's points ``(n,)`` in px."""
    return QPolygonF([QPointF(across.px(a), up.px(b)) for a, b in zip(x.tolist(), y.tolist(), strict=True)])


def band(x: Array, y: Array, half_width: Array, across: PixelSpan, up: PixelSpan) -> QPolygonF:
    """Return the outline of a curve's interval in px: along its upper side, and back along its lower one."""
    return curve(np.concatenate([x, x[::-1]]), np.concatenate([y + half_width, (y - half_width)[::-1]]), across, up)
