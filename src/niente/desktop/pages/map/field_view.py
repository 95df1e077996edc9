"""The field: a layer in colour with lines of noise and headroom, marks and hatching, a crosshair, and the slices it cuts."""

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF

from niente.core.science.arrays import Array
from niente.desktop.pages.map.layers import Drawn, drawn, unit_of, values_of
from niente.desktop.pages.map.legend import draw_legend
from niente.desktop.pages.map.over_field import FieldPicture, Lines, OverField, lines_of
from niente.desktop.services.theme import SMALL, Look, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import dashed, draw_text, faint
from niente.desktop.widgets.canvas import spans
from niente.desktop.widgets.marks import draw_measured
from niente.desktop.widgets.plot import Plot
from niente.desktop.widgets.scale import PixelSpan, tick_text, ticks

GUTTERS = (60, 16, 8, 46)
SLICE_ABOVE, SLICE_BESIDE, GAP = 84, 176, 14
MIDDLE, RIGHT = Qt.AlignmentFlag.AlignHCenter, Qt.AlignmentFlag.AlignRight


class FieldView(Plot):
    """The picture. ``selected`` gives the index of a setting in the field's arrays; ``wanted`` asks for a run there."""

    selected = Signal(int)
    wanted = Signal()

    def __init__(self, look: Look) -> None:
        super().__init__(
            look, GUTTERS, tr("Field of settings; arrow keys move the crosshair, Enter plans a run there"), spacing=GAP
        )
        self.above = self.canvas.box(0, 0, 0)
        self.box = self.canvas.box(1, 0, 1)
        self.beside = self.canvas.box(1, 1, 1)
        layout = self.canvas.ci.layout
        layout.setRowFixedHeight(0, SLICE_ABOVE)
        layout.setColumnFixedWidth(1, SLICE_BESIDE)
        self._over_field = OverField(self.canvas, (self.box, self.above, self.beside), look)
        self.image = pg.ImageItem()
        self.image.setColorMap(pg.colormap.get("cividis"))
        self.box.addItem(self.image)
        self._shown: FieldPicture | None = None
        self._drawn: Drawn | None = None
        self._lines: Lines | None = None
        self._values: tuple[Array, Array] | None = None
        self._at: tuple[int, int] | None = None

    # -- showing -------------------------------------------------------------------------------------------------

    def show_field(self, shown: FieldPicture) -> None:
        """Draw a field with everything on it."""
        before, self._shown = self._shown, shown
        same_field = before is not None and before.mapped is shown.mapped
        if before is None or not same_field or (before.layer, before.guards) != (shown.layer, shown.guards):
            self._take_layer(shown)
        if self._at is None or not same_field:
            self._at = self._nearest(before, shown)
        self._fit_slices()
        self.draw_again()

    def _take_layer(self, shown: FieldPicture) -> None:
        made = self._drawn = drawn(shown.mapped, shown.layer)
        self._values = values_of(shown.mapped, shown.layer)
        step = made.step
        stepped = np.floor(made.fine / step) * step + step / 2
        self.image.setImage(stepped.T, autoLevels=False, levels=(made.low, made.high))
        x0, y0, x1, y1 = made.area
        self.image.setRect(QRectF(x0, y0, x1 - x0, y1 - y0))
        self.box.setRange(xRange=(x0, x1), yRange=(y0, y1), padding=0.0)
        self._lines = lines_of(shown, made)

    def _nearest(self, before: FieldPicture | None, shown: FieldPicture) -> tuple[int, int] | None:
        """Return where the crosshair stands in a new field: where it stood, or at the pick while nothing is selected."""
        field = shown.mapped.field
        old = before.mapped.field if before is not None else None
        if self._at is not None and old is not None and (old.across, old.up) == (field.across, field.up):
            point = float(old.x[self._at[1]]), float(old.y[self._at[0]])
        elif shown.picked is not None:
            point = shown.picked
        else:
            return None
        row, column = divmod(field.nearest(*point), field.x.shape[0])
        return row, column

    def _slice(self, *, along_row: bool) -> tuple[Array, Array, Array, Array] | None:
        """Return coordinate, value, half width and whether measured, along the crosshair; NaN where nothing can be said."""
        shown, at = self._shown, self._at
        if shown is None or at is None or self._values is None:
            return None
        field, (flat, spread) = shown.mapped.field, self._values
        values, wide = field.as_grid(flat), field.as_grid(spread if shown.intervals else np.zeros_like(spread))
        measured = field.as_grid(field.nearly.astype(float))
        if along_row:
            return field.x, values[at[0]], wide[at[0]], measured[at[0]]
        return field.y, values[:, at[1]], wide[:, at[1]], measured[:, at[1]]

    def _fit_slices(self) -> None:
        shown = self._shown
        if shown is None or self._drawn is None:
            return
        (x0, x1), (y0, y1) = self.box.viewRange()
        cuts = self._slice(along_row=True), self._slice(along_row=False)
        both = [cut for cut in cuts if cut is not None and np.isfinite(cut[1]).any()]
        low, high = self._drawn.low, self._drawn.high
        if both:
            low = min(float(np.nanmin(cut[1] - cut[2])) for cut in both)
            high = max(float(np.nanmax(cut[1] + cut[2])) for cut in both)
        limit = self._limit(shown)
        if limit is not None:
            low, high = min(low, limit), max(high, limit)
        spare = 0.08 * max(high - low, self._drawn.step)
        self.above.setRange(xRange=(x0, x1), yRange=(low - spare, high + spare), padding=0.0)
        self.beside.setRange(xRange=(low - spare, high + spare), yRange=(y0, y1), padding=0.0)

    @staticmethod
    def _limit(shown: FieldPicture) -> float | None:
        """Return the limit of the layer; a difference has none but zero."""
        if shown.mapped.other is not None:
            return 0.0
        return shown.layer.limit(shown.mapped.limits, shown.ceiling_c)

    # -- painting: under the field -------------------------------------------------------------------------------

    def _under(self, painter: QPainter) -> None:
        shown = self._shown
        if shown is None or self._drawn is None:
            return
        p = self.look.palette
        above, beside = self.canvas.area(self.above), self.canvas.area(self.beside)
        _, up = spans(self.canvas, self.above)
        across, _ = spans(self.canvas, self.beside)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        values = ticks(up.low, up.high, 3)
        step = values[1] - values[0] if len(values) > 1 else 1.0
        for value in values:
            y = round(up.px(value)) + 0.5
            painter.setPen(QColor(p.rule))
            painter.drawLine(QLineF(above.left(), y, above.right(), y))
            draw_text(painter, QPointF(above.left() - 9, y + 3.5), tick_text(value, step), font(SMALL), p.soft, align=RIGHT)
        for value in values if len(values) < 5 else values[::2]:
            x = round(across.px(value)) + 0.5
            painter.setPen(QColor(p.rule))
            painter.drawLine(QLineF(x, beside.top(), x, beside.bottom()))
            text, side = tick_text(value, step), RIGHT if x > beside.right() - 16 else MIDDLE
            at = QPointF(beside.right() if side == RIGHT else x, beside.bottom() + 16)
            draw_text(painter, at, text, font(SMALL), p.soft, align=side)
        self._draw_slices(painter, shown)

    def _draw_slices(self, painter: QPainter, shown: FieldPicture) -> None:
        p = self.look.palette
        limit = self._limit(shown)
        for along_row, box in ((True, self.above), (False, self.beside)):
            cut = self._slice(along_row=along_row)
            if cut is None or self._at is None:
                continue
            area = self.canvas.area(box)
            across, up = spans(self.canvas, box)
            told = np.isfinite(cut[1])
            at, values, wide, measured = (one[told] for one in cut)

            def point(
                where: float, value: float, across: PixelSpan = across, up: PixelSpan = up, row: bool = along_row
            ) -> QPointF:
                return QPointF(across.px(where), up.px(value)) if row else QPointF(across.px(value), up.px(where))

            painter.setClipRect(area.adjusted(-1, -1, 1, 1))
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            if limit is not None:
                painter.setPen(dashed(p.cap_line, 6.0, 3.0))
                painter.drawLine(point(float(cut[0][0]), limit), point(float(cut[0][-1]), limit))
            band = [point(x, v) for x, v in zip(at.tolist(), (values - wide).tolist(), strict=True)]
            band += [point(x, v) for x, v in zip(at[::-1].tolist(), (values + wide)[::-1].tolist(), strict=True)]
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(faint(p.ink, 0.16))
            painter.drawPolygon(QPolygonF(band))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(p.ink), 1.5))
            painter.drawPolyline(QPolygonF([point(x, v) for x, v in zip(at.tolist(), values.tolist(), strict=True)]))
            painter.setClipping(False)
            for x, value, known in zip(at.tolist(), values.tolist(), measured.tolist(), strict=True):
                if known:
                    draw_measured(painter, point(x, value), p)
            here = self._at[1] if along_row else self._at[0]
            if not told[here]:
                continue
            painter.setPen(QPen(QColor(p.ground), 1.0))
            painter.setBrush(QColor(p.accent))
            painter.drawEllipse(point(float(cut[0][here]), float(cut[1][here])), 4.25, 4.25)

    # -- painting: over the field ----------------------------------------------------------------------------------

    def _over(self, painter: QPainter) -> None:
        shown, made = self._shown, self._drawn
        if shown is None or made is None or self._lines is None:
            return
        self._over_field.draw(painter, shown, made, self._lines, self.crosshair_point())
        beside, above = self.canvas.area(self.beside), self.canvas.area(self.above)
        legend = QRectF(beside.left(), above.top(), beside.width(), above.height())
        title = f"{tr(shown.layer.title)}, {unit_of(shown.mapped, shown.layer)}".rstrip(", ")
        draw_legend(painter, legend, title, made, self.look.palette)

    # -- selecting -------------------------------------------------------------------------------------------------

    def crosshair_point(self) -> tuple[float, float] | None:
        """Return where the crosshair stands on the two axes."""
        if self._shown is None or self._at is None:
            return None
        field = self._shown.mapped.field
        return float(field.x[self._at[1]]), float(field.y[self._at[0]])

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Put the crosshair where the field is pressed."""
        if self._shown is None:
            return
        across, up = spans(self.canvas, self.box)
        if not self.canvas.area(self.box).adjusted(-4, -4, 4, 4).contains(event.position()):
            return
        field = self._shown.mapped.field
        index = field.nearest(across.value(event.position().x()), up.value(event.position().y()))
        self._move_to(*divmod(index, field.x.shape[0]))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Drag the crosshair."""
        if event.buttons():
            self.mousePressEvent(event)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Plan a run where the field is pressed twice."""
        self.mousePressEvent(event)
        if self._at is not None:
            self.wanted.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Move the crosshair by a step; Enter plans a run there."""
        key = Qt.Key(event.key())
        moves = {Qt.Key.Key_Left: (0, -1), Qt.Key.Key_Right: (0, 1), Qt.Key.Key_Up: (1, 0), Qt.Key.Key_Down: (-1, 0)}
        move = moves.get(key)
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._at is not None:
            self.wanted.emit()
        elif move is not None and self._shown is not None:
            row, column = self._at or (0, 0)
            self._move_to(row + move[0], column + move[1])
        else:
            super().keyPressEvent(event)

    def _move_to(self, row: int, column: int) -> None:
        if self._shown is None:
            return
        field = self._shown.mapped.field
        row = min(max(row, 0), field.y.shape[0] - 1)
        column = min(max(column, 0), field.x.shape[0] - 1)
        self._at = (row, column)
        self._fit_slices()
        self.draw_again()
        self.selected.emit(row * field.x.shape[0] + column)
