"""The field: a layer in colour with isolines of noise, marks and hatching, a crosshair, and the two slices it cuts."""

import math
from itertools import pairwise

import msgspec
import numpy as np
import pyqtgraph as pg
from contourpy import contour_generator
from numpy.typing import NDArray
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPen, QPolygonF
from PySide6.QtWidgets import QVBoxLayout, QWidget

from niente.core.choosing.field import Field
from niente.core.choosing.pick import Choice
from niente.core.project import Limits
from niente.core.quantities import number_text
from niente.core.science.dynamics import MARKS, Scale
from niente.desktop.pages.map.layers import Drawn, Layer, drawn, grid_places
from niente.desktop.pages.map.legend import draw_legend
from niente.desktop.theme import BODY, SMALL, Look, font
from niente.desktop.tongue import tr
from niente.desktop.widgets.brushes import dashed, draw_text, faint, hatch
from niente.desktop.widgets.canvas import Canvas, draw_axis_ticks, spans
from niente.desktop.widgets.marks import draw_inferred, draw_measured, draw_picked, draw_running
from niente.desktop.widgets.scale import Span, tick_text, ticks

Array = NDArray[np.float64]
GUTTERS = (60, 16, 8, 46)
SLICE_ABOVE, SLICE_BESIDE, GAP = 84, 176, 14
MIDDLE, RIGHT = Qt.AlignmentFlag.AlignHCenter, Qt.AlignmentFlag.AlignRight
ISOTHERMS = 2
"""A pale line every so many steps of colour."""


class Shown(msgspec.Struct, frozen=True):
    """Everything the picture is drawn from."""

    field: Field
    layer: Layer
    limits: Limits
    choice: Choice | None
    running: tuple[float, float] | None
    scale: Scale
    ceiling_c: float
    fans: str


class FieldView(QWidget):
    """The picture. ``selected`` gives the place of a setting in the field's arrays."""

    selected = Signal(int)

    def __init__(self, look: Look) -> None:
        super().__init__()
        self.look = look
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(tr("Field of settings; arrow keys move the crosshair"))
        self.canvas = Canvas(look, GUTTERS, spacing=GAP)
        self.canvas.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.canvas.under, self.canvas.over = self._under, self._over
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.addWidget(self.canvas)
        self.above = self.canvas.box(0, 0, 0)
        self.box = self.canvas.box(1, 0, 1)
        self.beside = self.canvas.box(1, 1, 1)
        layout = self.canvas.ci.layout
        layout.setRowFixedHeight(0, SLICE_ABOVE)
        layout.setColumnFixedWidth(1, SLICE_BESIDE)
        self.image = pg.ImageItem()
        self.image.setColorMap(pg.colormap.get("cividis"))
        self.box.addItem(self.image)
        self._shown: Shown | None = None
        self._drawn: Drawn | None = None
        self._lines: list[tuple[float, list[Array]]] = []
        self._isotherms: list[Array] = []
        self._at: tuple[int, int] | None = None
        look.changed.connect(self.update)

    # -- showing -------------------------------------------------------------------------------------------------

    def show_field(self, shown: Shown) -> None:
        """Draw a field with everything on it."""
        before, self._shown = self._shown, shown
        same_field = before is not None and before.field is shown.field
        if before is None or not same_field or (before.layer, before.limits) != (shown.layer, shown.limits):
            self._take_layer(shown, same_field=same_field)
        if self._at is None or not same_field:
            self._at = self._nearest(before, shown)
        self._fit_slices()
        self.canvas.viewport().update()

    def _take_layer(self, shown: Shown, *, same_field: bool) -> None:
        made = self._drawn = drawn(shown.field, shown.layer, shown.limits)
        step = shown.layer.step
        stepped = np.floor(made.fine / step) * step + step / 2
        self.image.setImage(stepped.T, autoLevels=False, levels=(made.low, made.high))
        x0, y0, x1, y1 = made.area
        self.image.setRect(QRectF(x0, y0, x1 - x0, y1 - y0))
        self.box.setRange(xRange=(x0, x1), yRange=(y0, y1), padding=0.0)
        if not same_field:
            self._lines = _contours(made, made.noise, list(shown.scale.limits_dba))
        every = np.arange(made.low + step * ISOTHERMS, made.high, step * ISOTHERMS)
        self._isotherms = [line for _, lines in _contours(made, made.values, every.tolist()) for line in lines]

    def _nearest(self, before: Shown | None, shown: Shown) -> tuple[int, int] | None:
        """Return where the crosshair stands in a new field: where it stood, or at the pick while nothing is selected."""
        field = shown.field
        if self._at is not None and before is not None:
            duty, limit = float(before.field.duty[self._at[0]]), float(before.field.limit_w[self._at[1]])
        elif shown.choice is not None:
            duty, limit = shown.choice.pick.duty, shown.choice.pick.limit_w
        else:
            return None
        return int(np.argmin(np.abs(field.duty - duty))), int(np.argmin(np.abs(field.limit_w - limit)))

    def _slice(self, *, along_row: bool) -> tuple[Array, Array, Array, Array] | None:
        """Return coordinate, value, half width and whether measured, along the crosshair."""
        shown, at = self._shown, self._at
        if shown is None or at is None:
            return None
        field = shown.field
        values = field.as_grid(shown.layer.of(field.predicted, shown.limits))
        spread = shown.layer.spread
        wide = field.as_grid(spread(field.predicted)) if spread is not None else np.zeros_like(values)
        measured = field.as_grid(field.measured.astype(float))
        if along_row:
            return field.limit_w, values[at[0]], wide[at[0]], measured[at[0]]
        return field.duty, values[:, at[1]], wide[:, at[1]], measured[:, at[1]]

    def _fit_slices(self) -> None:
        shown = self._shown
        if shown is None or self._drawn is None:
            return
        (x0, x1), (y0, y1) = self.box.viewRange()
        both = [cut for cut in (self._slice(along_row=True), self._slice(along_row=False)) if cut is not None]
        low, high = self._drawn.low, self._drawn.high
        if both:
            low = min(float(np.min(cut[1] - cut[2])) for cut in both)
            high = max(float(np.max(cut[1] + cut[2])) for cut in both)
        limit = shown.layer.limit(shown.limits, shown.ceiling_c)
        if limit is not None:
            low, high = min(low, limit), max(high, limit)
        spare = 0.08 * max(high - low, shown.layer.step)
        self.above.setRange(xRange=(x0, x1), yRange=(low - spare, high + spare), padding=0.0)
        self.beside.setRange(xRange=(low - spare, high + spare), yRange=(y0, y1), padding=0.0)

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
            draw_text(painter, QPointF(x, beside.bottom() + 16), tick_text(value, step), font(SMALL), p.soft, align=MIDDLE)
        self._draw_slices(painter, shown)

    def _draw_slices(self, painter: QPainter, shown: Shown) -> None:
        p = self.look.palette
        limit = shown.layer.limit(shown.limits, shown.ceiling_c)
        for along_row, box in ((True, self.above), (False, self.beside)):
            cut = self._slice(along_row=along_row)
            if cut is None or self._at is None:
                continue
            area = self.canvas.area(box)
            across, up = spans(self.canvas, box)
            at, values, wide, measured = cut

            def point(where: float, value: float, across: Span = across, up: Span = up, row: bool = along_row) -> QPointF:
                return QPointF(across.px(where), up.px(value)) if row else QPointF(across.px(value), up.px(where))

            painter.setClipRect(area.adjusted(-1, -1, 1, 1))
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            if limit is not None:
                painter.setPen(dashed(p.cap_line, 6.0, 3.0))
                painter.drawLine(point(float(at[0]), limit), point(float(at[-1]), limit))
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
            painter.setPen(QPen(QColor(p.ground), 1.0))
            painter.setBrush(QColor(p.accent))
            painter.drawEllipse(point(float(at[here]), float(values[here])), 4.25, 4.25)

    # -- painting: over the field ----------------------------------------------------------------------------------

    def _over(self, painter: QPainter) -> None:
        shown, made = self._shown, self._drawn
        if shown is None or made is None:
            return
        across, up = spans(self.canvas, self.box)
        area, p = self.canvas.area(self.box), self.look.palette
        painter.setClipRect(area)
        self._draw_isotherms(painter, across, up)
        self._draw_unsure(painter, made, across, up)
        painter.setClipping(False)
        self._draw_cross(painter, across, up)
        painter.setClipRect(area)
        self._draw_noise_lines(painter, across, up)
        painter.setClipping(False)
        self._draw_marks(painter, shown, across, up)
        self._draw_dynamics(painter, made, up)
        draw_axis_ticks(painter, self.canvas, self.box, ticks(across.low, across.high, 8), bottom=True)
        draw_axis_ticks(painter, self.canvas, self.box, ticks(up.low, up.high, 6), bottom=False)
        self._draw_names(painter, shown, area)
        beside, above = self.canvas.area(self.beside), self.canvas.area(self.above)
        draw_legend(painter, QRectF(beside.left(), above.top(), beside.width(), above.height()), shown.layer, made, p)

    def _path(self, line: Array, across: Span, up: Span) -> QPainterPath:
        points = [QPointF(across.px(x), up.px(y)) for x, y in line.tolist()]
        path = QPainterPath(points[0])
        for point in points[1:]:
            path.lineTo(point)
        return path

    def _draw_isotherms(self, painter: QPainter, across: Span, up: Span) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(faint("#FFFFFF", 0.5), 0.75))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for line in self._isotherms:
            painter.drawPath(self._path(line, across, up))

    def _draw_unsure(self, painter: QPainter, made: Drawn, across: Span, up: Span) -> None:
        """Hatch where the headroom's interval does not keep its limit."""
        right = float(made.x[-1])
        if np.all(made.edge_x >= right):
            return
        p = self.look.palette
        edge = QPolygonF([QPointF(across.px(x), up.px(y)) for x, y in zip(made.edge_x.tolist(), made.y.tolist(), strict=True)])
        path = QPainterPath()
        path.addPolygon(edge)
        path.lineTo(QPointF(across.end_px + 2, up.px(float(made.y[-1]))))
        path.lineTo(QPointF(across.end_px + 2, up.px(float(made.y[0]))))
        path.closeSubpath()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillPath(path, faint(p.ground, 0.35))
        painter.fillPath(path, hatch(p.ink, 7, 1.4, self.devicePixelRatioF()))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for colour, width in ((p.ground, 3.5), (p.ink, 1.75)):
            painter.setPen(QPen(QColor(colour), width))
            painter.drawPolyline(edge)

    def _draw_noise_lines(self, painter: QPainter, across: Span, up: Span) -> None:
        p = self.look.palette
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for level, lines in self._lines:
            for line in lines:
                path = self._path(line, across, up)
                painter.setPen(QPen(faint(p.ground, 0.7), 3.0))
                painter.drawPath(path)
                painter.setPen(QPen(QColor(p.ink), 1.25))
                painter.drawPath(path)
            if lines:
                self._plate(painter, max(lines, key=lambda line: line.shape[0]), level, across, up)

    def _plate(self, painter: QPainter, line: Array, level: float, across: Span, up: Span) -> None:
        """Write a level on a plate of ground along its line, a quarter of the way across."""
        p, text = self.look.palette, f"{number_text(level, 1)}\u00a0dBA"
        if line.shape[0] < 8:
            return
        wanted = across.low + 0.24 * (across.high - across.low)
        place = min(max(int(np.argmin(np.abs(line[:, 0] - wanted))), 3), line.shape[0] - 4)
        a, b = line[place - 3], line[place + 3]
        dx, dy = across.px(b[0]) - across.px(a[0]), up.px(b[1]) - up.px(a[1])
        angle = math.degrees(math.atan2(dy, dx)) if dx >= 0 else math.degrees(math.atan2(-dy, -dx))
        painter.save()
        painter.translate(across.px(line[place, 0]), up.px(line[place, 1]))
        painter.rotate(angle)
        painter.fillRect(QRectF(-25, -7, 50, 14), QColor(p.ground))
        draw_text(painter, QPointF(0, 3.5), text, font(SMALL), p.ink, align=MIDDLE)
        painter.restore()

    def _draw_marks(self, painter: QPainter, shown: Shown, across: Span, up: Span) -> None:
        p = self.look.palette
        measured, between = grid_places(shown.field)
        for x, y in between:
            draw_inferred(painter, QPointF(across.px(x), up.px(y)), p, over_field=True)
        for x, y in measured:
            draw_measured(painter, QPointF(across.px(x), up.px(y)), p)
        if shown.running is not None:
            draw_running(painter, QPointF(across.px(shown.running[0]), up.px(shown.running[1])), p)
        if shown.choice is not None:
            pick = shown.choice.pick
            draw_picked(painter, QPointF(across.px(pick.limit_w), up.px(pick.duty)), p)

    def _draw_cross(self, painter: QPainter, across: Span, up: Span) -> None:
        place = self.place()
        if place is None:
            return
        p = self.look.palette
        x, y = round(across.px(place[0])) + 0.5, round(up.px(place[1])) + 0.5
        above, beside = self.canvas.area(self.above), self.canvas.area(self.beside)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        field_lines = (QLineF(x, up.end_px, x, up.start_px), QLineF(across.start_px, y, across.end_px, y))
        for colour, width in ((p.ground, 3.0), (p.ink, 1.0)):
            painter.setPen(QPen(faint(colour, 0.7 if width > 1 else 1.0), width))
            painter.drawLines(list(field_lines))
        painter.drawLine(QLineF(x, above.top(), x, above.bottom()))
        painter.drawLine(QLineF(beside.left(), y, beside.right(), y))

    def _draw_dynamics(self, painter: QPainter, made: Drawn, up: Span) -> None:
        """Write the dynamic marks at the left edge, between the lines that part them."""
        levels = [level for level, _ in self._lines]
        if not levels:
            return
        at_edge = made.noise[:, 0]
        heights = [float(np.interp(level, at_edge, made.y)) for level in levels]  # louder upwards
        edges = [float(made.y[0]), *heights, float(made.y[-1])]
        p, left = self.look.palette, self.canvas.area(self.box).left()
        for mark, (low, high) in zip(MARKS, pairwise(edges), strict=True):
            if up.px(low) - up.px(high) > 16:
                y = up.px((low + high) / 2) + 5
                draw_text(painter, QPointF(left + 10, y), mark, font(BODY, bold=True, italic=True), p.ink, halo=p.ground)

    def _draw_names(self, painter: QPainter, shown: Shown, area: QRectF) -> None:
        p, place = self.look.palette, self.place()
        above, beside = self.canvas.area(self.above), self.canvas.area(self.beside)
        draw_text(
            painter,
            QPointF(0, area.top() - 3),
            tr("{group} fans, %").format(group=shown.fans.capitalize()),
            font(SMALL),
            p.ink,
            halo=p.ground,
        )
        draw_text(
            painter, QPointF(area.right(), area.bottom() + 34), tr("Sustained power limit, W"), font(SMALL), p.ink, align=RIGHT
        )
        note = tr("Dark lines: noise in the room. Hatched: {k} K of headroom are not sure there.").format(
            k=f"{shown.limits.least_headroom_k:g}"
        )
        draw_text(painter, QPointF(area.left(), area.bottom() + 34), note, font(SMALL), p.soft)
        if place is None:
            return
        unit = shown.layer.unit
        draw_text(painter, QPointF(0, above.top() + 6), tr("Along"), font(SMALL), p.ink)
        draw_text(painter, QPointF(0, above.top() + 19), f"{place[1]:g}\u00a0%, {unit}", font(SMALL), p.ink, halo=p.ground)
        text = tr("Along {w} W, {unit}").format(w=f"{place[0]:g}", unit=unit)
        draw_text(painter, QPointF(beside.right(), beside.bottom() + 34), text, font(SMALL), p.ink, align=RIGHT)

    # -- selecting -------------------------------------------------------------------------------------------------

    def place(self) -> tuple[float, float] | None:
        """Return limit and duty under the crosshair."""
        if self._shown is None or self._at is None:
            return None
        return float(self._shown.field.limit_w[self._at[1]]), float(self._shown.field.duty[self._at[0]])

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Put the crosshair where the field is pressed."""
        if self._shown is None:
            return
        across, up = spans(self.canvas, self.box)
        if not self.canvas.area(self.box).adjusted(-4, -4, 4, 4).contains(event.position()):
            return
        field = self._shown.field
        column = int(np.argmin(np.abs(field.limit_w - across.value(event.position().x()))))
        row = int(np.argmin(np.abs(field.duty - up.value(event.position().y()))))
        self._move_to(row, column)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Drag the crosshair."""
        if event.buttons():
            self.mousePressEvent(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Move the crosshair by a place."""
        moves = {Qt.Key.Key_Left: (0, -1), Qt.Key.Key_Right: (0, 1), Qt.Key.Key_Up: (1, 0), Qt.Key.Key_Down: (-1, 0)}
        move = moves.get(Qt.Key(event.key()))
        if move is None or self._shown is None:
            super().keyPressEvent(event)
            return
        row, column = self._at or (0, 0)
        self._move_to(row + move[0], column + move[1])

    def _move_to(self, row: int, column: int) -> None:
        if self._shown is None:
            return
        field = self._shown.field
        row = min(max(row, 0), field.duty.shape[0] - 1)
        column = min(max(column, 0), field.limit_w.shape[0] - 1)
        self._at = (row, column)
        self._fit_slices()
        self.canvas.viewport().update()
        self.selected.emit(row * field.limit_w.shape[0] + column)


def _contours(made: Drawn, values: Array, levels: list[float]) -> list[tuple[float, list[Array]]]:
    """Return for each level the lines along which values have it, each ``(n, 2)`` in W and %."""
    lines = contour_generator(made.x, made.y, values)
    return [(level, [np.asarray(line) for line in lines.lines(level)]) for level in levels]
