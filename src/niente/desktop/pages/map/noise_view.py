"""Noise against duty or speed: each fan group alone, all together, and the room they stand in."""

import math

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF

from niente.core.analysis.fan_noise import GroupNoise, Loudness
from niente.core.model.quantities import number_text
from niente.core.science.arrays import Array
from niente.core.science.dynamics import MARKS, Scale
from niente.desktop.services.theme import BODY, SMALL, Look, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import dashed, draw_level, draw_text, draw_upright, faint
from niente.desktop.widgets.canvas import draw_axis_ticks, draw_level_rules, spans
from niente.desktop.widgets.marks import draw_measured
from niente.desktop.widgets.plot import Plot, band, curve
from niente.desktop.widgets.scale import PixelSpan, apart, rounded, ticks

GUTTERS = (60, 22, 112, 46)
TICKS, TICKS_UP = 10, 9
RIGHT = Qt.AlignmentFlag.AlignRight
UNDER_ROOM_DB = 12.0
"""How far under the room the picture begins: there the machine cannot be heard, and its law is inferred."""
DASHES = ((0.0, 0.0), (7.0, 3.0), (2.0, 2.5), (8.0, 3.0), (4.0, 2.0))


class NoiseView(Plot):
    """The picture. ``selected`` gives the index of a group; the last one stands for all together."""

    selected = Signal(int)

    def __init__(self, look: Look) -> None:
        super().__init__(
            look,
            GUTTERS,
            tr("Noise of the fan groups; up and down arrow keys go from group to group, left and right along the duty"),
        )
        self.box = self.canvas.box(0, 0, 1)
        self._shown: Loudness | None = None
        self._scale = Scale()
        self.by_speed = False
        self.current = 0
        self.duty = 50.0

    def show_noise(self, shown: Loudness, scale: Scale, *, by_speed: bool) -> None:
        """Draw the groups over duty, or over speed."""
        self._shown, self._scale, self.by_speed = shown, scale, by_speed
        self.current = min(self.current, len(shown.groups))
        top = max([float(np.max(shown.together_dba)), *(float(np.max(one.in_room_dba)) for one in shown.groups)])
        most = max((float(one.rpm[-1]) for one in shown.groups), default=1000.0) if by_speed else 100.0
        levels = rounded(shown.background_dba - UNDER_ROOM_DB, top + 2.0, TICKS_UP)
        self.box.setRange(xRange=rounded(0.0, most, TICKS), yRange=levels, padding=0.0)
        self.draw_again()

    def group(self) -> GroupNoise | None:
        """Return the group that is selected; ``None`` where all together are."""
        if self._shown is None or self.current >= len(self._shown.groups):
            return None
        return self._shown.groups[self.current]

    # -- painting ------------------------------------------------------------------------------------------------

    def _under(self, painter: QPainter) -> None:
        shown = self._shown
        if shown is None:
            return
        p, area = self.look.palette, self.canvas.area(self.box)
        across, up = spans(self.canvas, self.box)
        room = up.px(shown.background_dba)
        painter.fillRect(QRectF(area.left(), room, area.width(), area.bottom() - room), QColor(p.shade))
        draw_level_rules(painter, self.canvas, self.box, TICKS_UP)
        for value in ticks(across.low, across.high, TICKS):
            draw_upright(painter, across.px(value), area.top(), area.bottom(), faint(p.rule, 0.7))

    def _over(self, painter: QPainter) -> None:
        shown = self._shown
        if shown is None:
            return
        p, area = self.look.palette, self.canvas.area(self.box)
        across, up = spans(self.canvas, self.box)
        painter.setClipRect(area)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._draw_room(painter, shown, across, up)
        names = [self._draw_group(painter, one, index, across, up) for index, one in enumerate(shown.groups)]
        if not self.by_speed:
            names.append(self._draw_together(painter, shown, across, up))
        self._draw_cursor(painter, across)
        painter.setClipping(False)
        self._draw_names(painter, names, area)
        draw_axis_ticks(painter, self.canvas, self.box, ticks(across.low, across.high, TICKS), bottom=True)
        draw_upright(painter, area.left() - 1, area.top(), area.bottom(), p.ink)
        draw_text(painter, QPointF(0, area.top() - 10), tr("Level, dBA"), font(SMALL), p.ink, halo=p.ground)
        words = tr("Speed, rpm") if self.by_speed else tr("Duty, %")
        draw_text(painter, QPointF(area.right(), area.bottom() + 34), words, font(SMALL), p.ink, align=RIGHT)
        note = tr("Full lines: in the room. Pale: the group without the room. Dots: readings in which it is the loudest.")
        draw_text(painter, QPointF(area.left(), area.bottom() + 34), note, font(SMALL), p.soft)

    def _draw_room(self, painter: QPainter, shown: Loudness, across: PixelSpan, up: PixelSpan) -> None:
        """Draw the room's level, and the limits of the dynamic scale over it with their marks."""
        p, area = self.look.palette, self.canvas.area(self.box)
        painter.setPen(dashed(p.ink, 4.0, 3.0))
        y = up.px(shown.background_dba)
        painter.drawLine(QLineF(area.left(), y, area.right(), y))
        words = tr("the room, {dba} ± {hw} dBA").format(
            dba=number_text(shown.background_dba, 1), hw=number_text(shown.background_hw, 1)
        )
        draw_text(painter, QPointF(area.right() - 6, y + 13), words, font(SMALL), p.ink, halo=p.shade, align=RIGHT)
        limits = list(self._scale.limits_dba)
        for level in limits:
            draw_level(painter, area.left(), area.right(), up.px(level), p.strong_rule)
        edges = [up.low, *limits, up.high]
        for mark, low, high in zip(MARKS, edges, edges[1:], strict=False):
            middle = (max(low, up.low) + min(high, up.high)) / 2
            if up.px(low) - up.px(min(high, up.high)) > 14 and low < up.high:
                at = QPointF(area.left() + 8, up.px(middle) + 4)
                draw_text(painter, at, mark, font(BODY, bold=True, italic=True), p.ink, halo=p.ground)

    def _x(self, one: GroupNoise) -> Array:
        return one.rpm if self.by_speed else one.duty

    def _draw_group(
        self, painter: QPainter, one: GroupNoise, index: int, across: PixelSpan, up: PixelSpan
    ) -> tuple[float, str, bool, float]:
        p, chosen = self.look.palette, index == self.current
        colour = p.accent if chosen else p.ink
        x = self._x(one)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if chosen:
            self._draw_band(painter, band(x, one.in_room_dba, one.in_room_hw, across, up))
        painter.setPen(dashed(p.soft, 3.0, 3.0) if chosen else dashed(faint(p.soft, 0.6).name(), 3.0, 3.0))
        painter.drawPolyline(curve(x, one.alone_dba, across, up))
        on, off = DASHES[index % len(DASHES)]
        painter.setPen(QPen(QColor(colour), 1.75) if on == 0.0 else dashed(colour, on, off, 1.5))
        painter.drawPolyline(curve(x, one.in_room_dba, across, up))
        for reading in one.heard:
            at = reading.rpm if self.by_speed else reading.duty
            if math.isfinite(at):
                draw_measured(painter, QPointF(across.px(at), up.px(reading.dba)), p)
        return up.px(float(one.in_room_dba[-1])), one.group, chosen, float(one.in_room_dba[-1])

    def _draw_together(
        self, painter: QPainter, shown: Loudness, across: PixelSpan, up: PixelSpan
    ) -> tuple[float, str, bool, float]:
        p, chosen = self.look.palette, self.current == len(shown.groups)
        if chosen:
            self._draw_band(painter, band(shown.duty, shown.together_dba, shown.together_hw, across, up))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(p.accent if chosen else p.ink), 2.5))
        painter.drawPolyline(curve(shown.duty, shown.together_dba, across, up))
        return up.px(float(shown.together_dba[-1])), tr("all together"), chosen, float(shown.together_dba[-1])

    def _draw_band(self, painter: QPainter, outline: QPolygonF) -> None:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(faint(self.look.palette.accent, 0.16))
        painter.drawPolygon(outline)
        painter.setBrush(Qt.BrushStyle.NoBrush)

    def _draw_cursor(self, painter: QPainter, across: PixelSpan) -> None:
        """Draw the duty that the margin tells of."""
        p, area, one = self.look.palette, self.canvas.area(self.box), self.group()
        at = float(np.interp(self.duty, one.duty, one.rpm)) if self.by_speed and one is not None else self.duty
        if not self.by_speed or one is not None:
            draw_upright(painter, across.px(at), area.top(), area.bottom(), p.ink)

    def _draw_names(self, painter: QPainter, names: list[tuple[float, str, bool, float]], area: QRectF) -> None:
        p = self.look.palette
        for (_, name, chosen, level), y in zip(names, apart([y for y, *_ in names], 26.0), strict=True):
            colour = p.accent if chosen else p.ink
            draw_text(painter, QPointF(area.right() + 8, y + 2), name, font(BODY, bold=chosen), colour)
            draw_text(painter, QPointF(area.right() + 8, y + 14), f"{number_text(level, 1)}\u00a0dBA", font(SMALL), p.soft)

    # -- selecting -------------------------------------------------------------------------------------------------

    def _curves(self) -> list[tuple[Array, Array]]:
        shown = self._shown
        if shown is None:
            return []
        curves = [(self._x(one), one.in_room_dba) for one in shown.groups]
        return curves if self.by_speed else [*curves, (shown.duty, shown.together_dba)]

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Select the curve nearest to where it is pressed, and the duty there."""
        curves = self._curves()
        if not curves:
            return
        across, up = spans(self.canvas, self.box)
        x = min(max(across.value(event.position().x()), across.low), across.high)
        gaps = [abs(up.px(float(np.interp(x, a, b))) - event.position().y()) for a, b in curves]
        self.current = gaps.index(min(gaps))
        one = self.group()
        self.duty = float(np.interp(x, one.rpm, one.duty)) if self.by_speed and one is not None else x
        self._said()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Drag the duty along."""
        if event.buttons():
            self.mousePressEvent(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Go from group to group, and along the duty."""
        key = Qt.Key(event.key())
        group = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(key)
        along = {Qt.Key.Key_Left: -1.0, Qt.Key.Key_Right: 1.0}.get(key)
        if group is None and along is None:
            super().keyPressEvent(event)
            return
        self.current = min(max(self.current + (group or 0), 0), max(len(self._curves()) - 1, 0))
        self.duty = min(max(self.duty + (along or 0.0), 0.0), 100.0)
        self._said()

    def _said(self) -> None:
        self.draw_again()
        self.selected.emit(self.current)
