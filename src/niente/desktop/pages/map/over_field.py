"""What stands over the field: lines of noise and headroom, hatches, guards, marks, the crosshair, and the names."""

import math
from itertools import pairwise

import msgspec
import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen, QPolygonF

from niente.core.analysis.grid import OtherControls, SettingGrid
from niente.core.analysis.maps import SettingMap
from niente.core.model.plan import Guard
from niente.core.model.quantities import number_text, quantity_of
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.science.arrays import Array
from niente.core.science.dynamics import MARKS, Scale
from niente.core.selection.pick import Choice
from niente.desktop.pages.map.layers import Drawn, Layer, Polygons, contour_on, contours, grid_points, quietest, unit_of
from niente.desktop.pages.map.request_row import MapLines
from niente.desktop.services.theme import BODY, SMALL, Look, font
from niente.desktop.services.translation import tr
from niente.desktop.session.live_run import LiveRun
from niente.desktop.widgets.brushes import dashed, draw_text, faint, hatch, text_width
from niente.desktop.widgets.canvas import Canvas, draw_axis_ticks, spans
from niente.desktop.widgets.marks import draw_inferred, draw_measured, draw_picked, draw_running
from niente.desktop.widgets.scale import PixelSpan, end_ticks

MapPoint = tuple[float, float]
RIGHT, MIDDLE = Qt.AlignmentFlag.AlignRight, Qt.AlignmentFlag.AlignHCenter
ISOTHERMS = 2
"""A pale line every so many steps of colour."""
HEADROOM_EVERY_K, AT_CAP_K = 10.0, 0.2
"""Lines of equal headroom; the first just over none, since where the cap holds there is none everywhere."""
PLATE_PX = 8.0
"""Half the height of a plate with words, and a little more."""
MARK_PX = 5.0
ASIDE = (0.0, 0.05, -0.05, 0.1, -0.1, 0.15, 0.2, 0.3)
"""How far along a line, as a share of the field, a plate may move out of a mark's way."""


class FieldPicture(msgspec.Struct, frozen=True):
    """Everything the picture is drawn from; ``guards`` are those of the plan."""

    mapped: SettingMap
    layer: Layer
    choice: Choice | None
    running: tuple[float, float] | None
    scale: Scale
    ceiling_c: float
    card: RigCard
    guards: tuple[Guard, ...] = ()
    lines: MapLines = MapLines.NOISE
    intervals: bool = True

    @property
    def picked(self) -> tuple[float, float] | None:
        """Where the pick stands, where it lies in this field."""
        field = self.mapped.field
        if self.choice is None:
            return None
        pick = self.choice.pick.setting
        x, y = (pick.value(control) for control in (field.across, field.up))
        if x is None or y is None or not (field.x[0] <= x <= field.x[-1] and field.y[0] <= y <= field.y[-1]):
            return None
        here = field.settings.base.replaced(field.across, x).replaced(field.up, y)
        if field.view.others != OtherControls.OPTIMISED and here != pick:  # another control stands elsewhere: other figures
            return None
        return x, y


class Lines(msgspec.Struct, frozen=True):
    """The lines of a field: of equal noise and equal headroom by level, of equal colour, where guards would trip with their
    words, and the quietest point of each column."""

    noise: list[tuple[float, list[Array]]]
    headroom: list[tuple[float, list[Array]]]
    colours: list[Array]
    guards: list[tuple[str, list[Array]]]
    quietest: Array


def lines_of(shown: FieldPicture, made: Drawn) -> Lines:
    """Return all lines of a field."""
    most = max(float(np.max(made.headroom)), 0.0)
    levels = [AT_CAP_K, *np.arange(HEADROOM_EVERY_K, most, HEADROOM_EVERY_K).tolist()]
    every = np.arange(made.low + made.step * ISOTHERMS, made.high, made.step * ISOTHERMS)
    return Lines(
        noise=contours(made, made.noise, list(shown.scale.limits_dba)),
        headroom=contours(made, made.headroom, levels),
        colours=[line for _, lines in contours(made, made.values, every.tolist()) for line in lines],
        guards=_guard_lines(shown),
        quietest=quietest(shown.mapped.field, shown.mapped.limits),
    )


class OverField:
    """Draws over the view box of a field; ``above`` and ``beside`` are the boxes of its slices."""

    def __init__(self, canvas: Canvas, boxes: tuple[pg.ViewBox, pg.ViewBox, pg.ViewBox], look: Look) -> None:
        self.canvas, self.look = canvas, look
        self.box, self.above, self.beside = boxes
        self._marked: list[MapPoint] = []

    def draw(self, painter: QPainter, shown: FieldPicture, made: Drawn, lines: Lines, point: MapPoint | None) -> None:
        """Draw everything, the crosshair at a point."""
        across, up = spans(self.canvas, self.box)
        area = self.canvas.area(self.box)
        measured, between = grid_points(shown.mapped.field)
        self._marked = [*measured, *between, *(one for one in (shown.running, shown.picked) if one is not None)]
        painter.setClipRect(area)
        self._draw_isotherms(painter, lines.colours, across, up)
        self._draw_areas(painter, made, across, up)
        self._draw_guards(painter, lines.guards, across, up)
        painter.setClipping(False)
        self._draw_cross(painter, point, across, up)
        painter.setClipRect(area)
        if shown.lines.of_headroom:
            self._draw_lines(painter, lines.headroom, "K", across, up, dash=True)
        if shown.lines.of_noise:
            self._draw_lines(painter, lines.noise, "dBA", across, up)
        self._draw_quietest(painter, lines.quietest, across, up)
        painter.setClipping(False)
        self._draw_marks(painter, shown, across, up)
        if shown.lines.of_noise:
            self._draw_dynamics(painter, made, [level for level, _ in lines.noise], up)
        draw_axis_ticks(painter, self.canvas, self.box, end_ticks(across.low, across.high, 8), bottom=True)
        draw_axis_ticks(painter, self.canvas, self.box, end_ticks(up.low, up.high, 6), bottom=False)
        self._draw_names(painter, shown, made, point, area)

    def _path(self, line: Array, across: PixelSpan, up: PixelSpan) -> QPainterPath:
        points = [QPointF(across.px(x), up.px(y)) for x, y in line.tolist()]
        path = QPainterPath(points[0])
        for point in points[1:]:
            path.lineTo(point)
        return path

    def _draw_isotherms(self, painter: QPainter, lines: list[Array], across: PixelSpan, up: PixelSpan) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(faint("#FFFFFF", 0.5), 0.75))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for line in lines:
            painter.drawPath(self._path(line, across, up))

    def _filled(self, shapes: Polygons, across: PixelSpan, up: PixelSpan) -> QPainterPath:
        path = QPainterPath()
        for shape in shapes:
            path.addPolygon(QPolygonF([QPointF(across.px(x), up.px(y)) for x, y in shape.tolist()]))
            path.closeSubpath()
        return path

    def _draw_areas(self, painter: QPainter, made: Drawn, across: PixelSpan, up: PixelSpan) -> None:
        """Veil what was not measured; hatch where the headroom is not sure, cross where failures speak against it."""
        p, ratio = self.look.palette, self.canvas.devicePixelRatioF()
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
            painter.fillPath(path, hatch(p.soft, 9, 1.0, ratio, falling=falling))
            painter.save()
            painter.setClipRect(self.canvas.area(self.box).adjusted(2, 2, -2, -2))  # no outline along the frame
            for colour, width in ((p.ground, 3.5), (p.ink, 1.75)):
                painter.setPen(QPen(QColor(colour), width))
                painter.drawPath(path)
            painter.restore()

    def _draw_guards(self, painter: QPainter, guards: list[tuple[str, list[Array]]], across: PixelSpan, up: PixelSpan) -> None:
        """Draw where a guard would end a run."""
        p = self.look.palette
        for words, lines in guards:
            for line in lines:
                painter.setPen(QPen(QColor(p.ground), 4.0))
                painter.drawPath(self._path(line, across, up))
                painter.setPen(QPen(QColor(p.guard), 1.5))
                painter.drawPath(self._path(line, across, up))
            if lines:
                self._plate(painter, max(lines, key=lambda line: line.shape[0]), words, across, up, at=0.55)

    def _draw_quietest(self, painter: QPainter, line: Array, across: PixelSpan, up: PixelSpan) -> None:
        if line.shape[0] < 3:
            return
        path, p = self._path(line, across, up), self.look.palette
        painter.setPen(QPen(faint(p.ground, 0.7), 4.0))
        painter.drawPath(path)
        painter.setPen(dashed(p.ink, 1.5, 2.5, 2.0))
        painter.drawPath(path)

    def _draw_lines(
        self,
        painter: QPainter,
        levels: list[tuple[float, list[Array]]],
        unit: str,
        across: PixelSpan,
        up: PixelSpan,
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

    def _plate(self, painter: QPainter, line: Array, text: str, across: PixelSpan, up: PixelSpan, *, at: float) -> None:
        """Write words on a plate of ground along a line, some way across."""
        p = self.look.palette
        if line.shape[0] < 8:
            return
        half = text_width(text, SMALL) / 2 + 4
        places = [self._place_along(line, at + aside, across, up) for aside in ASIDE]
        free = (one for one in places if not self._meets_mark(one[0], half, across, up))
        centre, angle = next(free, places[0])
        painter.save()
        painter.translate(centre)
        painter.rotate(angle)
        painter.fillRect(QRectF(-half, -7, 2 * half, 14), QColor(p.ground))
        draw_text(painter, QPointF(0, 3.5), text, font(SMALL), p.ink, align=MIDDLE)
        painter.restore()

    @staticmethod
    def _place_along(line: Array, at: float, across: PixelSpan, up: PixelSpan) -> tuple[QPointF, float]:
        """Return the place on a line some way across the field, and which way the line runs there, in degrees."""
        wanted = across.low + at * (across.high - across.low)
        point = min(max(int(np.argmin(np.abs(line[:, 0] - wanted))), 3), line.shape[0] - 4)
        a, b = line[point - 3], line[point + 3]
        dx, dy = across.px(b[0]) - across.px(a[0]), up.px(b[1]) - up.px(a[1])
        angle = math.degrees(math.atan2(dy, dx)) if dx >= 0 else math.degrees(math.atan2(-dy, -dx))
        y = min(max(up.px(line[point, 1]), up.end_px + PLATE_PX), up.start_px - PLATE_PX)  # whole, also at the field's edge
        return QPointF(across.px(line[point, 0]), y), angle

    def _meets_mark(self, centre: QPointF, half: float, across: PixelSpan, up: PixelSpan) -> bool:
        """Return whether a plate as wide as twice ``half`` would cover a mark."""
        for x, y in self._marked:
            if abs(across.px(x) - centre.x()) < half + MARK_PX and abs(up.px(y) - centre.y()) < PLATE_PX + MARK_PX:
                return True
        return False

    def _draw_marks(self, painter: QPainter, shown: FieldPicture, across: PixelSpan, up: PixelSpan) -> None:
        p = self.look.palette
        measured, between = grid_points(shown.mapped.field)
        for x, y in between:
            draw_inferred(painter, QPointF(across.px(x), up.px(y)), p, over_field=True)
        for x, y in measured:
            draw_measured(painter, QPointF(across.px(x), up.px(y)), p)
        if shown.running is not None:
            draw_running(painter, QPointF(across.px(shown.running[0]), up.px(shown.running[1])), p)
        if shown.picked is not None:
            draw_picked(painter, QPointF(across.px(shown.picked[0]), up.px(shown.picked[1])), p)

    def _draw_cross(self, painter: QPainter, point: MapPoint | None, across: PixelSpan, up: PixelSpan) -> None:
        if point is None:
            return
        p = self.look.palette
        x, y = round(across.px(point[0])) + 0.5, round(up.px(point[1])) + 0.5
        above, beside = self.canvas.area(self.above), self.canvas.area(self.beside)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        field_lines = (QLineF(x, up.end_px, x, up.start_px), QLineF(across.start_px, y, across.end_px, y))
        painter.setPen(QPen(faint(p.ground, 0.7), 3.0))
        painter.drawLines(list(field_lines))
        painter.setPen(dashed(p.ink, 5.0, 4.0))  # a place is dashed, where lines of equal noise are drawn out
        painter.drawLines(list(field_lines))
        painter.drawLine(QLineF(x, above.top(), x, above.bottom()))
        painter.drawLine(QLineF(beside.left(), y, beside.right(), y))

    def _draw_dynamics(self, painter: QPainter, made: Drawn, levels: list[float], up: PixelSpan) -> None:
        """Write the dynamic marks at the left edge, between the lines that part them."""
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

    def _draw_names(self, painter: QPainter, shown: FieldPicture, made: Drawn, point: MapPoint | None, area: QRectF) -> None:
        p, field = self.look.palette, shown.mapped.field
        above, beside = self.canvas.area(self.above), self.canvas.area(self.beside)
        draw_text(painter, QPointF(area.left(), area.top() - 5), axis_name(field.up, shown.card), font(SMALL), p.ink)
        across = axis_name(field.across, shown.card)
        draw_text(painter, QPointF(area.right(), area.bottom() + 34), across, font(SMALL), p.ink, align=RIGHT)
        room = area.width() - text_width(across, SMALL) - 24
        draw_text(painter, QPointF(area.left(), area.bottom() + 34), _note(shown, made, room), font(SMALL), p.soft)
        if point is None:
            return
        unit = unit_of(shown.mapped, shown.layer)
        words = tr("Along {at}, {unit}").format(at=_with_unit(field.up, point[1]), unit=unit).strip(", ")
        draw_text(painter, QPointF(area.left(), above.top() - 5), words, font(SMALL), p.ink, halo=p.ground)
        text = tr("Along {at}, {unit}").format(at=_with_unit(field.across, point[0]), unit=unit).strip(", ")
        draw_text(painter, QPointF(beside.right(), beside.bottom() + 34), text, font(SMALL), p.ink, align=RIGHT)


def axis_name(control: str, card: RigCard) -> str:
    """Return what an axis is called, with its unit."""
    known = card.control(control)
    return f"{known.title if known is not None else control}, {quantity_of(control).unit}"


def _with_unit(control: str, value: float) -> str:
    return quantity_of(control).with_unit(value)


def _note(shown: FieldPicture, made: Drawn, room_px: float) -> str:
    """Say what the lines and hatches mean, as far as there is room."""
    if shown.mapped.other is not None:
        words = [tr("Difference to {variant}").format(variant=shown.mapped.request.against), tr("hatched: no difference shown")]
    else:
        words = [tr("Hatched: {k} K of headroom not certain").format(k=f"{shown.mapped.limits.min_headroom_k:g}")]
        words += [tr("falling: failures nearby")] if made.unstable else []
    words += [tr("pale: not measured")] if made.outside else []
    words += [tr("solid: noise in the room")] if shown.lines.of_noise else []
    words += [tr("dashed: headroom")] if shown.lines.of_headroom else []
    words += [tr("dotted: quietest with the headroom")]
    while len(words) > 1 and text_width("; ".join(words), SMALL) > room_px:
        words.pop()
    return "; ".join(words)


def _guard_lines(shown: FieldPicture) -> list[tuple[str, list[Array]]]:
    """Return where guards on the core and on the package's power would trip, with their words."""
    predicted, field = shown.mapped.field.predicted, shown.mapped.field
    values = {"core_temperature_c": predicted.core_c, "package_power_w": predicted.power_w}
    found = []
    for guard in shown.guards:
        flat = values.get(guard.quantity)
        if flat is None or not float(np.fmin.reduce(flat)) < guard.trip < float(np.fmax.reduce(flat)):
            continue
        lines = contour_on(field, flat, guard.trip)
        found.append((tr("guard {level}").format(level=quantity_of(guard.quantity).with_unit(guard.trip)), lines))
    return found


def running_point(live: LiveRun | None, field: SettingGrid, stock: Setting) -> tuple[float, float] | None:
    """Return where the run under way lies in a field; ``None`` where none runs, or it lies outside."""
    if live is None or live.closed is not None:
        return None
    whole = live.opened.step.setting.over(stock)
    x, y = whole.value(field.across) or 0.0, whole.value(field.up) or 0.0
    inside = field.x[0] <= x <= field.x[-1] and field.y[0] <= y <= field.y[-1]
    return (x, y) if inside else None
