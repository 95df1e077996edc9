"""Rise against watts: a line per fan setting, the runs on it, its slope, and the watts at which it meets the limit."""

import math

from PySide6.QtCore import QLineF, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPen, QPolygonF

from niente.core.analysis.rise_lines import WattLine, WattLines
from niente.core.model.plan import Guard
from niente.core.model.quantities import number_text, quantity_of
from niente.desktop.services.theme import BODY, SMALL, Look, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import dashed, draw_text, draw_upright, faint
from niente.desktop.widgets.canvas import draw_axis_ticks, draw_level_rules, spans
from niente.desktop.widgets.marks import draw_inferred, draw_measured
from niente.desktop.widgets.plot import Plot, band, curve
from niente.desktop.widgets.scale import PixelSpan, apart, rounded, ticks

GUTTERS = (60, 22, 64, 76)
LEFT, MIDDLE, RIGHT = Qt.AlignmentFlag.AlignLeft, Qt.AlignmentFlag.AlignHCenter, Qt.AlignmentFlag.AlignRight
BAND, BAND_CURRENT = 0.07, 0.2
TICKS, TICKS_UP = 9, 8
CAPACITY_DOWN = 52
OVER_LIMIT = 0.3
"""How much of the picture lies over the limit, of what lies under it: room for the names of the lines."""
NAME_PX, KEY_PX = 54.0, 176


class WattsView(Plot):
    """The picture. ``selected`` gives the index of a line."""

    selected = Signal(int)

    def __init__(self, look: Look) -> None:
        super().__init__(look, GUTTERS, tr("Rise against watts; up and down arrow keys go from line to line"))
        self.box = self.canvas.box(0, 0, 1)
        self._shown: WattLines | None = None
        self._guards: tuple[Guard, ...] = ()
        self._picked: tuple[float, float] | None = None
        self._limit_words = ""
        self.current = 0

    def show_lines(
        self, lines: WattLines, guards: tuple[Guard, ...], picked: tuple[float, float] | None, limit_words: str
    ) -> None:
        """Draw lines; ``picked`` is the pick's power and rise, ``limit_words`` what the limit is."""
        if self._shown is None or len(self._shown.lines) != len(lines.lines):
            self.current = len(lines.lines) // 2
        self._shown, self._guards, self._picked, self._limit_words = lines, guards, picked, limit_words
        if lines.lines:
            power = lines.lines[0].power_w
            low = max(min(float((line.rise_k - line.half_width_k).min()) for line in lines.lines) - 3.0, 0.0)
            met = [one.power_w for line in lines.lines for one in line.capacities[:1] if math.isfinite(one.power_w)]
            right = min(max([1.12 * lines.measured_w, *(1.12 * watts for watts in met)]), float(power[-1]))
            over = max((point.rise_k for line in lines.lines for point in line.points), default=0.0)
            top = max(lines.limit_k + OVER_LIMIT * (lines.limit_k - low), over + 2.0)
            watts, kelvins = rounded(float(power[0]), right, TICKS), rounded(low, top, TICKS_UP)
            self.box.setRange(xRange=watts, yRange=kelvins, padding=0.0)
        self.draw_again()

    def line(self) -> WattLine | None:
        """Return the line that is selected."""
        if self._shown is None or not 0 <= self.current < len(self._shown.lines):
            return None
        return self._shown.lines[self.current]

    # -- painting ------------------------------------------------------------------------------------------------

    def _under(self, painter: QPainter) -> None:
        shown = self._shown
        if shown is None or not shown.lines:
            return
        p, area = self.look.palette, self.canvas.area(self.box)
        across, up = spans(self.canvas, self.box)
        above = up.px(shown.limit_k)
        painter.fillRect(QRectF(area.left(), area.top(), area.width(), max(above - area.top(), 0.0)), QColor(p.shade))
        for guard in self._guards:
            if guard.quantity == "package_power_w" and across.low < guard.trip < across.high:
                x = across.px(guard.trip)
                painter.fillRect(QRectF(x, area.top(), area.right() - x, area.height()), QColor(p.shade))
        draw_level_rules(painter, self.canvas, self.box, TICKS_UP)
        for value in ticks(across.low, across.high, TICKS):
            draw_upright(painter, across.px(value), area.top(), area.bottom(), faint(p.rule, 0.7))
        painter.setClipRect(area)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for index, line in enumerate(shown.lines):
            self._draw_band(painter, shown, line, across, up, current=index == self.current)
        painter.setClipping(False)

    def _draw_band(
        self, painter: QPainter, shown: WattLines, line: WattLine, across: PixelSpan, up: PixelSpan, *, current: bool
    ) -> None:
        """Draw a line's interval, up to where it meets the limit: its width there is the capacity's."""
        p, area = self.look.palette, self.canvas.area(self.box)
        path, under_limit = QPainterPath(), QPainterPath()
        path.addPolygon(band(line.power_w, line.rise_k, line.half_width_k, across, up))
        under_limit.addRect(QRectF(area.left(), up.px(shown.limit_k), area.width(), area.bottom() - up.px(shown.limit_k)))
        colour = p.accent if current else p.ink
        painter.fillPath(path.intersected(under_limit), faint(colour, BAND_CURRENT if current else BAND))

    def _over(self, painter: QPainter) -> None:
        shown = self._shown
        if shown is None or not shown.lines:
            return
        p, area = self.look.palette, self.canvas.area(self.box)
        across, up = spans(self.canvas, self.box)
        painter.setClipRect(area)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for index, line in enumerate(shown.lines):
            if index != self.current:
                self._draw_line(painter, shown, line, across, up, current=False)
        if self.line() is not None:
            self._draw_line(painter, shown, shown.lines[self.current], across, up, current=True)
        painter.setClipping(False)
        self._draw_limits(painter, shown, across, up)
        for index, line in enumerate(shown.lines):
            for point in line.points:
                self._draw_point(painter, point.limited, QPointF(across.px(point.power_w), up.px(point.rise_k)), index)
        self._draw_pick(painter, across, up)
        self._draw_ends(painter, shown, across, up)
        self._draw_capacities(painter, shown, across, up)
        draw_axis_ticks(painter, self.canvas, self.box, ticks(across.low, across.high, TICKS), bottom=True)
        draw_upright(painter, area.left() - 1, area.top(), area.bottom(), p.ink)
        names = tr("{group} fans; slope near {w} W, K/W, 95 %").format(
            group=shown.group.capitalize(), w=f"{shown.lines[0].near_w:.0f}"
        )
        draw_text(painter, QPointF(area.right(), area.top() - 10), names, font(SMALL), p.soft, align=RIGHT)
        draw_text(painter, QPointF(0, area.top() - 10), tr("Core rise, K"), font(SMALL), p.ink, halo=p.ground)
        draw_text(painter, QPointF(area.right(), area.bottom() + 34), tr("Package, W"), font(SMALL), p.ink, align=RIGHT)
        self._draw_key(painter, area)

    def _draw_line(
        self, painter: QPainter, shown: WattLines, line: WattLine, across: PixelSpan, up: PixelSpan, *, current: bool
    ) -> None:
        p = self.look.palette
        measured = max((point.power_w for point in line.points), default=shown.measured_w)
        points = curve(line.power_w, line.rise_k, across, up).toList()
        last = int((line.power_w <= measured).sum())
        painter.setBrush(Qt.BrushStyle.NoBrush)
        colour, width = (p.accent, 2.0) if current else (p.ink, 1.25)
        painter.setPen(QPen(QColor(colour), width))
        painter.drawPolyline(QPolygonF(points[:last]))
        painter.setPen(dashed(colour, 3.0, 3.0, width))
        painter.drawPolyline(QPolygonF(points[max(last - 1, 0) :]))

    def _draw_limits(self, painter: QPainter, shown: WattLines, across: PixelSpan, up: PixelSpan) -> None:
        p, area = self.look.palette, self.canvas.area(self.box)
        y = up.px(shown.limit_k)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        for colour, width, down in ((p.ink, 1.0, 1.5), (p.cap_line, 2.0, 0.0)):
            painter.setPen(QPen(QColor(colour), width))
            painter.drawLine(QLineF(area.left(), y + down, area.right(), y + down))
        draw_text(painter, QPointF(area.left() + 6, y - 6), self._limit_words, font(SMALL), p.ink, halo=p.shade)
        for guard in self._guards:
            if guard.quantity == "package_power_w" and across.low < guard.trip < across.high:
                x = across.px(guard.trip)
                painter.setPen(QPen(QColor(p.guard), 1.0))
                painter.drawLine(QLineF(x, area.top(), x, area.bottom()))
                words = tr("guard {w} W").format(w=f"{guard.trip:g}")
                draw_text(painter, QPointF(x + 5, area.bottom() - 8), words, font(SMALL), p.ink, halo=p.shade)

    def _draw_point(self, painter: QPainter, limited: bool, at: QPointF, index: int) -> None:
        p = self.look.palette
        if limited:
            painter.setPen(QPen(QColor(p.cap_line), 2.0))
            painter.drawLine(QLineF(at.x() - 8, at.y(), at.x() + 8, at.y()))
        draw_measured(painter, at, p)
        if index == self.current:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(p.accent))
            painter.drawEllipse(at, 3.0, 3.0)

    def _draw_pick(self, painter: QPainter, across: PixelSpan, up: PixelSpan) -> None:
        shown, p = self._shown, self.look.palette
        if self._picked is None or shown is None:
            return
        watts, rise = self._picked
        if not (across.low <= watts <= across.high):
            return
        at, limit = QPointF(across.px(watts), up.px(rise)), up.px(shown.limit_k)
        painter.setPen(dashed(p.ink, 2.0, 3.0))
        painter.drawLine(QLineF(at.x(), limit, at.x(), self.canvas.area(self.box).bottom()))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(p.accent), 1.5))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(at, 7.5, 7.5)
        words = tr("the pick: {k} K under it").format(k=number_text(shown.limit_k - rise, 1))
        draw_text(painter, QPointF(at.x() - 12, (at.y() + limit) / 2), words, font(SMALL), p.ink, halo=p.ground, align=RIGHT)

    def _draw_ends(self, painter: QPainter, shown: WattLines, across: PixelSpan, up: PixelSpan) -> None:
        """Name the lines where they leave the picture: in a row at its top, or one under the other at its right."""
        area = self.canvas.area(self.box)
        leave = [_leaves(line, across.high, up.high) for line in shown.lines]
        at_top = [index for index, (_, rise) in enumerate(leave) if rise >= up.high]
        for index, x in zip(at_top, apart([across.px(leave[index][0]) for index in at_top], NAME_PX), strict=True):
            self._name(painter, shown.lines[index], QPointF(x - 4.0, area.top() + 12), index, MIDDLE)
        at_right = [index for index in range(len(leave)) if index not in at_top]
        for index, y in zip(at_right, apart([up.px(leave[index][1]) for index in at_right], 26.0), strict=True):
            self._name(painter, shown.lines[index], QPointF(area.right() + 6, y), index, LEFT)

    def _name(self, painter: QPainter, line: WattLine, at: QPointF, index: int, align: Qt.AlignmentFlag) -> None:
        p = self.look.palette
        chosen = index == self.current
        colour = p.accent if chosen else p.ink
        if align == MIDDLE:  # a plate, where lines go by behind it
            painter.fillRect(QRectF(at.x() - NAME_PX / 2 + 2, at.y() - 12, NAME_PX - 4, 42), QColor(p.shade))
        draw_text(painter, at, f"{line.duty:g}\u00a0%", font(BODY, bold=chosen), colour, align=align)
        draw_text(painter, at + QPointF(0, 13), number_text(line.slope_kpw, 3), font(SMALL), p.ink, align=align)
        spread = f"±\u00a0{number_text(line.slope_hw, 3)}"
        draw_text(painter, at + QPointF(0, 25), spread, font(SMALL), p.soft, align=align)

    def _draw_capacities(self, painter: QPainter, shown: WattLines, across: PixelSpan, up: PixelSpan) -> None:
        """Drop a line from where each meets the limit to a second scale of watts under the first."""
        p, area = self.look.palette, self.canvas.area(self.box)
        foot, y = area.bottom(), up.px(shown.limit_k)
        draw_text(painter, QPointF(0, foot + CAPACITY_DOWN), tr("Capacity, W"), font(SMALL, bold=True), p.ink)
        room = quantity_of("room_temperature_c").with_unit(shown.rooms_c[0])
        at_room = tr("in a {room} room").format(room=room)
        draw_text(painter, QPointF(0, foot + CAPACITY_DOWN + 14), at_room, font(SMALL), p.soft)
        seen = [(index, line.capacities[0]) for index, line in enumerate(shown.lines)]
        inside = [(index, one) for index, one in seen if math.isfinite(one.power_w) and one.power_w <= across.high]
        positions = apart([across.px(one.power_w) for _, one in inside], 40.0)
        for (index, one), x in zip(inside, positions, strict=True):
            colour = p.accent if index == self.current else p.soft
            painter.setPen(dashed(colour, 2.0, 3.0))
            painter.drawLine(QLineF(across.px(one.power_w), y, across.px(one.power_w), foot + 22))
            painter.drawLine(QLineF(across.px(one.power_w), foot + 22, x, foot + CAPACITY_DOWN - 12))
            draw_inferred(painter, QPointF(across.px(one.power_w), y), p)
            bold = font(BODY, bold=index == self.current)
            ink = p.accent if index == self.current else (p.soft if one.inferred else p.ink)
            draw_text(painter, QPointF(x, foot + CAPACITY_DOWN), number_text(one.power_w, 0), bold, ink, align=MIDDLE)
            spread = "± " + number_text(one.half_width_w, 0) if math.isfinite(one.half_width_w) else tr("and more")
            draw_text(painter, QPointF(x, foot + CAPACITY_DOWN + 13), spread, font(SMALL), p.soft, align=MIDDLE)

    def _draw_key(self, painter: QPainter, area: QRectF) -> None:
        p, x, y = self.look.palette, area.right() - KEY_PX, area.bottom() - 50
        entries = ((False, tr("measured")), (True, tr("limited by its cap: a bound")))
        for limited, words in entries:
            self._draw_point(painter, limited, QPointF(x + 6, y), -1)
            draw_text(painter, QPointF(x + 22, y + 3.5), words, font(SMALL), p.ink, halo=p.ground)
            y += 17
        painter.setPen(dashed(p.ink, 3.0, 3.0, 1.25))
        painter.drawLine(QLineF(x - 2, y, x + 14, y))
        draw_text(painter, QPointF(x + 22, y + 3.5), tr("inferred, past every run"), font(SMALL), p.ink, halo=p.ground)

    # -- selecting -------------------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Select the line nearest to where it is pressed."""
        shown = self._shown
        if shown is None or not shown.lines:
            return
        across, up = spans(self.canvas, self.box)
        watts = min(max(across.value(event.position().x()), across.low), across.high)
        gaps = [abs(up.px(line.at(watts)[0]) - event.position().y()) for line in shown.lines]
        self._select(gaps.index(min(gaps)))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Go to the line above or below."""
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()))
        if step is None or self._shown is None:
            super().keyPressEvent(event)
            return
        self._select(min(max(self.current + step, 0), len(self._shown.lines) - 1))

    def _select(self, index: int) -> None:
        self.current = index
        self.draw_again()
        self.selected.emit(index)


def _leaves(line: WattLine, right_w: float, top_k: float) -> tuple[float, float]:
    """Return power and rise where a line leaves the picture."""
    over = [w for w, k in zip(line.power_w.tolist(), line.rise_k.tolist(), strict=True) if k >= top_k and w <= right_w]
    return (over[0], top_k) if over else (right_w, line.at(right_w)[0])
