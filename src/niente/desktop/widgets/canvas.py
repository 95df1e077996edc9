"""A drawing area for plots: the library draws curves and fields; rules, ticks, names and labels are drawn here, in px.

Imported only after the window shows.
"""

from collections.abc import Callable
from itertools import pairwise

import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter

from niente.desktop.services.qt_errors import guarded
from niente.desktop.services.theme import SMALL, Look, font
from niente.desktop.widgets.brushes import draw_level, draw_text, draw_upright
from niente.desktop.widgets.scale import PixelSpan, tick_text, ticks

Draw = Callable[[QPainter], None]


class Canvas(pg.GraphicsLayoutWidget):  # type: ignore[misc]
    """An area of view boxes with gutters round them; ``under`` and ``over`` draw below and above what they hold."""

    def __init__(self, look: Look, gutters: tuple[int, int, int, int], *, spacing: int = 0) -> None:
        """``gutters`` are the px left, above, right and below the view boxes."""
        super().__init__()
        self.look = look
        self.under: Draw = lambda painter: None
        self.over: Draw = lambda painter: None
        self.setAntialiasing(True)
        self.setCacheMode(pg.QtWidgets.QGraphicsView.CacheModeFlag.CacheNone)  # what is under moves with the curves
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.ci.layout.setContentsMargins(*(float(px) for px in gutters))
        self.ci.layout.setSpacing(float(spacing))
        look.changed.connect(self._dress)
        self._dress()

    def _dress(self) -> None:
        self.setBackground(self.look.palette.ground)
        self.viewport().update()

    def box(self, row: int, column: int, share: int) -> pg.ViewBox:
        """Return a new view box; rows share the height as their ``share`` says."""
        made = self.ci.addViewBox(row=row, col=column, enableMenu=False, defaultPadding=0.0)
        made.setMouseEnabled(x=False, y=False)
        self.ci.layout.setRowStretchFactor(row, share)
        return made

    def redraw(self) -> None:
        """Have everything drawn anew, once: ranges that were set are taken over now, else painting would do so and then
        paint again."""
        self.scene().prepareForPaint()
        self.viewport().update()

    def drawBackground(self, painter: QPainter, rect: QRectF) -> None:
        """Draw the ground and what lies under everything."""
        super().drawBackground(painter, rect)
        painter.save()
        guarded(lambda: self.under(painter))
        painter.restore()

    def drawForeground(self, painter: QPainter, rect: QRectF) -> None:
        """Draw what stands over everything."""
        super().drawForeground(painter, rect)
        painter.save()
        guarded(lambda: self.over(painter))
        painter.restore()

    def area(self, box: pg.ViewBox) -> QRectF:
        """Return where a view box lies, in px."""
        return QRectF(box.sceneBoundingRect())


class Curve(pg.PlotCurveItem):  # type: ignore[misc]
    """A curve in a view box whose ranges are set by hand: it takes up the view, so that its bounds cost nothing."""

    def boundingRect(self) -> QRectF:
        """Return what the view box shows, whatever the data."""
        box = self.getViewBox()
        return QRectF(box.viewRect()) if box is not None else QRectF()


def spans(canvas: Canvas, box: pg.ViewBox) -> tuple[PixelSpan, PixelSpan]:
    """Return the two edges of a view box: across, and up."""
    area = canvas.area(box)
    (x0, x1), (y0, y1) = box.viewRange()
    return PixelSpan(x0, x1, area.left(), area.right()), PixelSpan(y0, y1, area.bottom(), area.top())


def draw_level_rules(painter: QPainter, canvas: Canvas, box: pg.ViewBox, most: int) -> None:
    """Draw horizontal rules at round values, with their labels left of the box."""
    p, area = canvas.look.palette, canvas.area(box)
    _, up = spans(canvas, box)
    values = ticks(up.low, up.high, most)
    step = values[1] - values[0] if len(values) > 1 else 1.0
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    for value in values:
        y = up.px(value)
        draw_level(painter, area.left(), area.right(), y, p.rule)
        at = QPointF(area.left() - 7, y + 3.5)
        draw_text(painter, at, tick_text(value, step), font(SMALL), p.soft, align=Qt.AlignmentFlag.AlignRight)


def draw_axis_ticks(
    painter: QPainter,
    canvas: Canvas,
    box: pg.ViewBox,
    values: list[float],
    *,
    bottom: bool,
    along: PixelSpan | None = None,
) -> None:
    """Draw an ink axis at a box's foot or left edge, ticks of 5 px outside, and labels. ``along`` is its span, where that is
    not the box's own."""
    p, area = canvas.look.palette, canvas.area(box)
    across, up = (along or own for own in spans(canvas, box))
    step = min((b - a for a, b in pairwise(values)), default=1.0)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    left, foot = area.left() - 1, area.bottom()
    if bottom:
        draw_level(painter, left, area.right(), foot, p.ink)
    else:
        draw_upright(painter, left, area.top(), foot, p.ink)
    for value in values:
        if bottom:
            x = across.px(value)
            draw_upright(painter, x, foot, foot + 5, p.ink)
            at, side = QPointF(x, foot + 16), Qt.AlignmentFlag.AlignHCenter
        else:
            y = up.px(value)
            draw_level(painter, left - 5, left, y, p.ink)
            at, side = QPointF(left - 14, y + 3.5), Qt.AlignmentFlag.AlignRight
        draw_text(painter, at, tick_text(value, step), font(SMALL), p.soft, align=side)
