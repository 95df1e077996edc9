"""The field: a layer in colour with lines of noise and headroom, marks and hatching, a crosshair, and the slices it cuts."""

import math
from itertools import pairwise

import msgspec
import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPen, QPolygonF
from PySide6.QtWidgets import QVBoxLayout, QWidget

from niente.core.choosing.mapped import Mapped
from niente.core.choosing.pick import Choice
from niente.core.plan import Guard
from niente.core.quantities import number_text, quantity_of
from niente.core.rigcard import RigCard
from niente.core.science.dynamics import MARKS, Scale
from niente.desktop.pages.map.asked import BOTH_LINES, HEADROOM_LINES, NOISE_LINES
from niente.desktop.pages.map.layers import (
    Drawn,
    Layer,
    Polygons,
    contour_on,
    contours,
    drawn,
    grid_places,
    quietest,
    values_of,
)
from niente.desktop.pages.map.legend import draw_legend
from niente.desktop.theme import BODY, SMALL, Look, font
from niente.desktop.tongue import tr
from niente.desktop.widgets.brushes import dashed, draw_text, faint, hatch, text_width
from niente.desktop.widgets.canvas import Canvas, draw_axis_ticks, spans
from niente.desktop.widgets.marks import draw_inferred, draw_measured, draw_picked, draw_running
from niente.desktop.widgets.scale import Span, tick_text, ticks

Array = NDArray[np.float64]
GUTTERS = (60, 16, 8, 46)
SLICE_ABOVE, SLICE_BESIDE, GAP = 84, 176, 14
MIDDLE, RIGHT = Qt.AlignmentFlag.AlignHCenter, Qt.AlignmentFlag.AlignRight
ISOTHERMS = 2
"""A pale line every so many steps of colour."""
HEADROOM_EVERY_K = 10.0


class Shown(msgspec.Struct, frozen=True):
    """Everything the picture is drawn from; ``lines`` is one of the sorts in ``asked``, ``guards`` those of the plan."""

    mapped: Mapped
    layer: Layer
    choice: Choice | None
    running: tuple[float, float] | None
    scale: Scale
    ceiling_c: float
    card: RigCard
    guards: tuple[Guard, ...] = ()
    lines: int = NOISE_LINES
    intervals: bool = True

    @property
    def picked(self) -> tuple[float, float] | None:
        """Where the pick stands, where it lies in this field."""
        field = self.mapped.field
        if self.choice is None:
            return None
        x, y = (self.choice.pick.setting.value(control) for control in (field.across, field.up))
        if x is None or y is None or not (field.x[0] <= x <= field.x[-1] and field.y[0] <= y <= field.y[-1]):
            return None
        return x, y


class FieldView(QWidget):
    """The picture. ``selected`` gives the place of a setting in the field's arrays; ``wanted`` asks for a run there."""

    selected = Signal(int)
    wanted = Signal()

    def __init__(self, look: Look) -> None:
        super().__init__()
        self.look = look
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(tr("Field of settings; arrow keys move the crosshair, Enter plans a run there"))
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
        self._headroom: list[tuple[float, list[Array]]] = []
        self._guards: list[tuple[str, list[Array]]] = []
        self._quietest: Array = np.zeros((0, 2))
        self._at: tuple[int, int] | None = None
        look.changed.connect(self.update)

    # -- showing -------------------------------------------------------------------------------------------------

    def show_field(self, shown: Shown) -> None:
        """Draw a field with everything on it."""
        before, self._shown = self._shown, shown
        same_field = before is not None and before.mapped is shown.mapped
        if before is None or not same_field or (before.layer, before.guards) != (shown.layer, shown.guards):
            self._take_layer(shown, same_field=same_field)
        if self._at is None or not same_field:
            self._at = self._nearest(before, shown)
        self._fit_slices()
        self.canvas.viewport().update()

    def _take_layer(self, shown: Shown, *, same_field: bool) -> None:
        made = self._drawn = drawn(shown.mapped, shown.layer)
        step = made.step
        stepped = np.floor(made.fine / step) * step + step / 2
        self.image.setImage(stepped.T, autoLevels=False, levels=(made.low, made.high))
        x0, y0, x1, y1 = made.area
        self.image.setRect(QRectF(x0, y0, x1 - x0, y1 - y0))
        self.box.setRange(xRange=(x0, x1), yRange=(y0, y1), padding=0.0)
        field = shown.mapped.field
        if not same_field:
            self._lines = contours(made, made.noise, list(shown.scale.limits_dba))
            levels = np.arange(0.0, max(float(np.max(made.headroom)), 0.0), HEADROOM_EVERY_K).tolist()
            self._headroom = contours(made, made.headroom, levels)
            self._quietest = quietest(field, shown.mapped.limits)
        self._guards = _guard_lines(shown, made)
        every = np.arange(made.low + step * ISOTHERMS, made.high, step * ISOTHERMS)
        self._isotherms = [line for _, lines in contours(made, made.values, every.tolist()) for line in lines]

    def _nearest(self, before: Shown | None, shown: Shown) -> tuple[int, int] | None:
        """Return where the crosshair stands in a new field: where it stood, or at the pick while nothing is selected."""
        field = shown.mapped.field
        old = before.mapped.field if before is not None else None
        if self._at is not None and old is not None and (old.across, old.up) == (field.across, field.up):
            place = float(old.x[self._at[1]]), float(old.y[self._at[0]])
        elif shown.picked is not None:
            place = shown.picked
        else:
            return None
        row, column = divmod(field.nearest(*place), field.x.shape[0])
        return row, column

    def _slice(self, *, along_row: bool) -> tuple[Array, Array, Array, Array] | None:
        """Return coordinate, value, half width and whether measured, along the crosshair."""
        shown, at = self._shown, self._at
        if shown is None or at is None:
            return None
        field = shown.mapped.field
        flat, spread = values_of(shown.mapped, shown.layer)
        values, wide = field.as_grid(flat), field.as_grid(spread if shown.intervals else np.zeros_like(spread))
        measured = field.as_grid(field.measured.astype(float))
        if along_row:
            return field.x, values[at[0]], wide[at[0]], measured[at[0]]
        return field.y, values[:, at[1]], wide[:, at[1]], measured[:, at[1]]

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
        limit = self._limit(shown)
        if limit is not None:
            low, high = min(low, limit), max(high, limit)
        spare = 0.08 * max(high - low, self._drawn.step)
        self.above.setRange(xRange=(x0, x1), yRange=(low - spare, high + spare), padding=0.0)
        self.beside.setRange(xRange=(low - spare, high + spare), yRange=(y0, y1), padding=0.0)

    @staticmethod
    def _limit(shown: Shown) -> float | None:
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
            draw_text(painter, QPointF(x, beside.bottom() + 16), tick_text(value, step), font(SMALL), p.soft, align=MIDDLE)
        self._draw_slices(painter, shown)

    def _draw_slices(self, painter: QPainter, shown: Shown) -> None:
        p = self.look.palette
        limit = self._limit(shown)
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
        self._draw_areas(painter, made, across, up)
        self._draw_guards(painter, across, up)
        painter.setClipping(False)
        self._draw_cross(painter, across, up)
        painter.setClipRect(area)
        if shown.lines in (HEADROOM_LINES, BOTH_LINES):
            self._draw_lines(painter, self._headroom, "K", across, up, dash=True)
        if shown.lines in (NOISE_LINES, BOTH_LINES):
            self._draw_lines(painter, self._lines, "dBA", across, up)
        self._draw_quietest(painter, across, up)
        painter.setClipping(False)
        self._draw_marks(painter, shown, across, up)
        if shown.lines in (NOISE_LINES, BOTH_LINES):
            self._draw_dynamics(painter, made, up)
        draw_axis_ticks(painter, self.canvas, self.box, ticks(across.low, across.high, 8), bottom=True)
        draw_axis_ticks(painter, self.canvas, self.box, ticks(up.low, up.high, 6), bottom=False)
        self._draw_names(painter, shown, made, area)
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

    def _filled(self, shapes: Polygons, across: Span, up: Span) -> QPainterPath:
        path = QPainterPath()
        for shape in shapes:
            path.addPolygon(QPolygonF([QPointF(across.px(x), up.px(y)) for x, y in shape.tolist()]))
            path.closeSubpath()
        return path

    def _draw_areas(self, painter: QPainter, made: Drawn, across: Span, up: Span) -> None:
        """Veil what was not measured; hatch where the headroom is not sure, cross where failures speak against it."""
        p, ratio = self.look.palette, self.devicePixelRatioF()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if made.outside:
            path = self._filled(made.outside, across, up)
            painter.fillPath(path, faint(p.ground, 0.5))
            painter.setPen(dashed(p.ink, 1.0, 3.0, 1.5))
            painter.drawPath(path)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for shapes, falling in ((made.alike, True), (made.unsure, False), (made.unstable, True)):
            if not shapes or (shapes is made.unsure and made.alike):
                continue
            path = self._filled(shapes, across, up)
            painter.fillPath(path, faint(p.ground, 0.35))
            painter.fillPath(path, hatch(p.ink, 7, 1.4, ratio, falling=falling))
            painter.save()
            painter.setClipRect(self.canvas.area(self.box).adjusted(2, 2, -2, -2))  # no outline along the frame
            for colour, width in ((p.ground, 3.5), (p.ink, 1.75)):
                painter.setPen(QPen(QColor(colour), width))
                painter.drawPath(path)
            painter.restore()

    def _draw_guards(self, painter: QPainter, across: Span, up: Span) -> None:
        """Draw where a guard would end a run."""
        p = self.look.palette
        for words, lines in self._guards:
            for line in lines:
                painter.setPen(QPen(QColor(p.ground), 4.0))
                painter.drawPath(self._path(line, across, up))
                painter.setPen(QPen(QColor(p.guard), 1.5))
                painter.drawPath(self._path(line, across, up))
            if lines:
                self._plate(painter, max(lines, key=lambda line: line.shape[0]), words, across, up, at=0.55)

    def _draw_quietest(self, painter: QPainter, across: Span, up: Span) -> None:
        if self._quietest.shape[0] < 3:
            return
        path, p = self._path(self._quietest, across, up), self.look.palette
        painter.setPen(QPen(faint(p.ground, 0.7), 4.0))
        painter.drawPath(path)
        painter.setPen(dashed(p.ink, 1.5, 2.5, 2.0))
        painter.drawPath(path)

    def _draw_lines(
        self,
        painter: QPainter,
        levels: list[tuple[float, list[Array]]],
        unit: str,
        across: Span,
        up: Span,
        *,
        dash: bool = False,
    ) -> None:
        p = self.look.palette
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for level, lines in levels:
            for line in lines:
                path = self._path(line, across, up)
                painter.setPen(QPen(faint(p.ground, 0.7), 3.0))
                painter.drawPath(path)
                painter.setPen(dashed(p.ink, 5.0, 3.0, 1.25) if dash else QPen(QColor(p.ink), 1.25))
                painter.drawPath(path)
            if lines:
                text = f"{number_text(level, 0 if dash else 1)}\u00a0{unit}"
                longest = max(lines, key=lambda line: line.shape[0])
                self._plate(painter, longest, text, across, up, at=0.4 if dash else 0.24)

    def _plate(self, painter: QPainter, line: Array, text: str, across: Span, up: Span, *, at: float) -> None:
        """Write words on a plate of ground along a line, some way across."""
        p = self.look.palette
        if line.shape[0] < 8:
            return
        wanted = across.low + at * (across.high - across.low)
        place = min(max(int(np.argmin(np.abs(line[:, 0] - wanted))), 3), line.shape[0] - 4)
        a, b = line[place - 3], line[place + 3]
        dx, dy = across.px(b[0]) - across.px(a[0]), up.px(b[1]) - up.px(a[1])
        angle = math.degrees(math.atan2(dy, dx)) if dx >= 0 else math.degrees(math.atan2(-dy, -dx))
        painter.save()
        painter.translate(across.px(line[place, 0]), up.px(line[place, 1]))
        painter.rotate(angle)
        half = text_width(text, SMALL) / 2 + 4
        painter.fillRect(QRectF(-half, -7, 2 * half, 14), QColor(p.ground))
        draw_text(painter, QPointF(0, 3.5), text, font(SMALL), p.ink, align=MIDDLE)
        painter.restore()

    def _draw_marks(self, painter: QPainter, shown: Shown, across: Span, up: Span) -> None:
        p = self.look.palette
        measured, between = grid_places(shown.mapped.field)
        for x, y in between:
            draw_inferred(painter, QPointF(across.px(x), up.px(y)), p, over_field=True)
        for x, y in measured:
            draw_measured(painter, QPointF(across.px(x), up.px(y)), p)
        if shown.running is not None:
            draw_running(painter, QPointF(across.px(shown.running[0]), up.px(shown.running[1])), p)
        if shown.picked is not None:
            draw_picked(painter, QPointF(across.px(shown.picked[0]), up.px(shown.picked[1])), p)

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

    def _draw_names(self, painter: QPainter, shown: Shown, made: Drawn, area: QRectF) -> None:
        p, place, field = self.look.palette, self.place(), shown.mapped.field
        above, beside = self.canvas.area(self.above), self.canvas.area(self.beside)
        draw_text(painter, QPointF(0, area.top() - 3), axis_name(field.up, shown.card), font(SMALL), p.ink, halo=p.ground)
        across = axis_name(field.across, shown.card)
        draw_text(painter, QPointF(area.right(), area.bottom() + 34), across, font(SMALL), p.ink, align=RIGHT)
        room = area.width() - text_width(across, SMALL) - 24
        draw_text(painter, QPointF(area.left(), area.bottom() + 34), _note(shown, made, room), font(SMALL), p.soft)
        if place is None:
            return
        unit = shown.layer.unit
        draw_text(painter, QPointF(0, above.top() + 6), tr("Along"), font(SMALL), p.ink)
        at = _with_unit(field.up, place[1])
        draw_text(painter, QPointF(0, above.top() + 19), f"{at}, {unit}".strip(", "), font(SMALL), p.ink, halo=p.ground)
        text = tr("Along {at}, {unit}").format(at=_with_unit(field.across, place[0]), unit=unit).strip(", ")
        draw_text(painter, QPointF(beside.right(), beside.bottom() + 34), text, font(SMALL), p.ink, align=RIGHT)

    # -- selecting -------------------------------------------------------------------------------------------------

    def place(self) -> tuple[float, float] | None:
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
        place = field.nearest(across.value(event.position().x()), up.value(event.position().y()))
        self._move_to(*divmod(place, field.x.shape[0]))

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
        """Move the crosshair by a place; Enter plans a run there."""
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
        self.canvas.viewport().update()
        self.selected.emit(row * field.x.shape[0] + column)


def axis_name(control: str, card: RigCard) -> str:
    """Return what an axis is called, with its unit."""
    known = card.control(control)
    return f"{known.title if known is not None else control}, {quantity_of(control).unit}"


def _with_unit(control: str, value: float) -> str:
    return quantity_of(control).with_unit(value)


def _note(shown: Shown, made: Drawn, room_px: float) -> str:
    """Say what the lines and hatches mean, as far as there is room."""
    if shown.mapped.other is not None:
        words = [tr("Here less {variant}").format(variant=shown.mapped.ask.against), tr("hatched: no difference shown")]
    else:
        words = [tr("Hatched: {k} K of headroom not sure").format(k=f"{shown.mapped.limits.least_headroom_k:g}")]
        words += [tr("falling: failures speak against it")] if made.unstable else []
    words += [tr("pale: not measured")] if made.outside else []
    words += [tr("solid: noise in the room")] if shown.lines in (NOISE_LINES, BOTH_LINES) else []
    words += [tr("dashed: headroom")] if shown.lines in (HEADROOM_LINES, BOTH_LINES) else []
    words += [tr("dotted: quietest with the headroom")]
    while len(words) > 1 and text_width("; ".join(words), SMALL) > room_px:
        words.pop()
    return "; ".join(words)


def _guard_lines(shown: Shown, made: Drawn) -> list[tuple[str, list[Array]]]:
    """Return where guards on the core and on the package's power would trip, with their words."""
    said, field = shown.mapped.field.predicted, shown.mapped.field
    values = {"core_temperature_c": said.core_c, "package_power_w": said.power_w, "wall_power_w": None}
    found = []
    for guard in shown.guards:
        flat = values.get(guard.quantity)
        if flat is None or not float(np.min(flat)) < guard.trip < float(np.max(flat)):
            continue
        lines = contour_on(field, flat, guard.trip)
        found.append((tr("guard {level}").format(level=quantity_of(guard.quantity).with_unit(guard.trip)), lines))
    return found
