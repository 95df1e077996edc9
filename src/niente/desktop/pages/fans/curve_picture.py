"""How a fan curve is drawn: axes, floor, where the fans stand, the curve compared with, the curve and its points."""

import math

import msgspec
import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from niente.core.fans.told import GroupFacts
from niente.core.model.fan_curve import FanCurve
from niente.core.model.quantities import NO_BREAK_SPACE, number_text
from niente.core.science.dynamics import Scale
from niente.desktop.services.theme import SMALL, Palette, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import dashed, draw_level, draw_text, draw_upright, faint, hatch, text_width
from niente.desktop.widgets.scale import PixelSpan, ticks

TOP_PX, RIGHT_PX = 18, 66
POINT_PX = 4.5
LEVELS_APART_PX, TICKS = 13.0, 6
SIDE = {"left": Qt.AlignmentFlag.AlignLeft, "right": Qt.AlignmentFlag.AlignRight, "middle": Qt.AlignmentFlag.AlignHCenter}


class Shown(msgspec.Struct, frozen=True):
    """What the picture shows beside a curve: its group; the room's dynamic scale; the curve it is compared with; where its
    sensors settle at full work (room, design room; none: not known) and the watts then; and what they read now (NaN:
    nothing)."""

    group: GroupFacts
    scale: Scale
    compared: FanCurve | None = None
    settles_c: tuple[float, float] | None = None
    full_w: float = math.nan
    now_c: float = math.nan


class CurvePicture(msgspec.Struct):
    """One drawing: the palette and the device's pixels, the two axes, the curve (none: a fixed duty) with its selected point,
    and whether that is being dragged."""

    palette: Palette
    ratio: float
    across: PixelSpan
    up: PixelSpan
    curve: FanCurve | None
    shown: Shown
    selected: int
    dragging: bool

    def paint(self, painter: QPainter) -> None:
        """Draw all of it."""
        shown, curve, across, up = self.shown, self.curve, self.across, self.up
        self._paint_rules(painter, across, up)
        if curve is None:
            self._paint_fixed(painter, shown, across, up)
            return
        self._paint_ground(painter, curve, across, up)
        self._paint_levels(painter, shown, up)
        if shown.compared is not None:
            painter.setPen(dashed(self.palette.soft, 5.0, 4.0, 1.25))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolyline(self._line(shown.compared, across, up))
        self._paint_settling(painter, shown, across, up)
        self._paint_curve(painter, curve, across, up)
        self._paint_points(painter, curve, across, up)
        self._paint_now(painter, curve, shown, across, up)
        self._paint_axes(painter, curve, across, up)

    def _line(self, curve: FanCurve, across: PixelSpan, up: PixelSpan, shift_k: float = 0.0) -> QPolygonF:
        """Return a curve's line in px, from edge to edge, not under its floor."""
        low, high = self.across.low, self.across.high
        at = sorted({low, high, *(celsius for celsius, _ in curve.points if low < celsius < high)})
        duties = curve.duty(np.array(at)).tolist()
        places = [across.px(min(max(celsius - shift_k, low), high)) for celsius in at]
        return QPolygonF([QPointF(x, up.px(duty)) for x, duty in zip(places, duties, strict=True)])

    def _paint_rules(self, painter: QPainter, across: PixelSpan, up: PixelSpan) -> None:
        p = self.palette
        for duty in (20.0, 40.0, 60.0, 80.0, 100.0):
            draw_level(painter, across.start_px, across.end_px, up.px(duty), p.rule)
        for duty in (0.0, 20.0, 40.0, 60.0, 80.0, 100.0):
            at = QPointF(across.start_px - 7, up.px(duty) + 3.5)
            draw_text(painter, at, f"{duty:.0f}", font(SMALL), p.soft, align=SIDE["right"])
        draw_text(painter, QPointF(across.start_px - 7, TOP_PX - 8), tr("% duty"), font(SMALL), p.ink, align=SIDE["right"])

    def _paint_axes(self, painter: QPainter, curve: FanCurve | None, across: PixelSpan, up: PixelSpan) -> None:
        p, foot = self.palette, up.start_px
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        draw_level(painter, across.start_px - 1, across.end_px, foot, p.ink)
        draw_upright(painter, across.start_px - 1, up.end_px, foot, p.ink)
        for celsius in ticks(across.low, across.high, TICKS):
            draw_upright(painter, across.px(celsius), foot, foot + 5, p.ink)
            at = QPointF(across.px(celsius), foot + 16)
            draw_text(painter, at, f"{celsius:.0f}", font(SMALL), p.soft, align=SIDE["middle"])
        follows = curve.source_words if curve is not None else tr("core temperature")
        words = tr("°C, {source}").format(source=follows)
        draw_text(
            painter,
            QPointF(0.5 * (across.start_px + across.end_px), foot + 30),
            words,
            font(SMALL),
            p.ink,
            align=SIDE["middle"],
        )
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)

    def _paint_ground(self, painter: QPainter, curve: FanCurve, across: PixelSpan, up: PixelSpan) -> None:
        """Draw what lies under the curve: floor, bands to avoid, and where the fans stand."""
        p = self.palette
        wide = across.end_px - across.start_px
        floor = curve.floor_percent
        if floor > 0.0:
            top = up.px(floor)
            painter.fillRect(QRectF(across.start_px, top, wide, up.start_px - top), QColor(p.shade))
            painter.setPen(dashed(p.ink, 3.0, 3.0))
            painter.drawLine(QLineF(across.start_px, top, across.end_px, top))
        for low, high in curve.avoided:
            area = QRectF(across.start_px, up.px(high), wide, up.px(low) - up.px(high))
            painter.fillRect(area, hatch(p.strong_rule, 6, 1.0, self.ratio, falling=True))
            words = tr("not between {low} and {high} %").format(low=f"{low:g}", high=f"{high:g}")
            draw_text(
                painter,
                QPointF(across.end_px - 8, area.top() - 3),
                words,
                font(SMALL),
                p.soft,
                halo=p.ground,
                align=SIDE["right"],
            )
        if curve.off_below_c is not None:
            right = across.px(curve.off_below_c)
            area = QRectF(across.start_px, TOP_PX, max(right - across.start_px, 0.0), up.start_px - TOP_PX)
            painter.fillRect(area, hatch(p.strong_rule, 8, 1.0, self.ratio))
            painter.setPen(dashed(p.ink, 3.0, 3.0))
            painter.drawLine(QLineF(right, TOP_PX, right, up.start_px))
            words = tr("off below {c} °C").format(c=f"{curve.off_below_c:g}")
            at = QPointF(max(right - 6, across.start_px + text_width(words, SMALL) + 6), TOP_PX + 13)
            draw_text(painter, at, words, font(SMALL), p.ink, halo=p.ground, align=SIDE["right"])
            if curve.off_below_w is not None:
                under = tr("and under {w} W").format(w=f"{curve.off_below_w:g}")
                draw_text(painter, at + QPointF(0, 14), under, font(SMALL), p.soft, halo=p.ground, align=SIDE["right"])
        if floor > 0.0:
            words = tr("floor {duty} %").format(duty=f"{floor:g}")
            draw_text(painter, QPointF(across.end_px - 8, up.px(floor) + 13), words, font(SMALL), p.ink, align=SIDE["right"])

    def _paint_fixed(self, painter: QPainter, shown: Shown, across: PixelSpan, up: PixelSpan) -> None:
        """Draw a group that is on no curve, at its duty."""
        p, y = self.palette, up.px(shown.group.fixed)
        self._paint_levels(painter, shown, up)
        painter.setPen(QPen(QColor(p.accent), 2.0))
        painter.drawLine(QLineF(across.start_px, y, across.end_px, y))
        words = tr("fixed at {duty} %").format(duty=f"{shown.group.fixed:g}")
        draw_text(painter, QPointF(across.start_px + 12, y - 6), words, font(SMALL), p.accent, halo=p.ground)
        self._paint_axes(painter, None, across, up)

    def _paint_levels(self, painter: QPainter, shown: Shown, up: PixelSpan) -> None:
        """Draw at the right what the group sounds like at these duties, by itself."""
        p, right, last = self.palette, self.across.end_px, math.inf
        draw_text(
            painter,
            QPointF(self.across.end_px + RIGHT_PX - 2, TOP_PX - 8),
            tr("dBA, alone"),
            font(SMALL),
            p.soft,
            align=SIDE["right"],
        )
        draw_upright(painter, right, TOP_PX, up.start_px, p.strong_rule)
        for duty in range(0, 101, 10):
            level, y = float(shown.group.level_dba[duty]), up.px(float(duty))
            if not math.isfinite(level) or last - y < LEVELS_APART_PX:
                continue
            last = y
            draw_level(painter, right, right + 5, y, p.strong_rule)
            width = draw_text(painter, QPointF(right + 8, y + 3.5), number_text(level, 0), font(SMALL), p.soft)
            mark = shown.scale.mark(float(shown.group.in_room_dba[duty]))
            draw_text(painter, QPointF(right + 13 + width, y + 3.5), mark, font(SMALL, bold=True, italic=True), p.ink)

    def _paint_settling(self, painter: QPainter, shown: Shown, across: PixelSpan, up: PixelSpan) -> None:
        """Draw at the foot where the sensors settle at full work, from the room to the design room."""
        if shown.settles_c is None:
            return
        p, y = self.palette, up.px(4.0)
        left, right = (min(max(across.px(one), across.start_px), across.end_px) for one in shown.settles_c)
        painter.setPen(QPen(QColor(p.ink), 3.0))
        painter.drawLine(QLineF(left, y, max(right, left + 2.0), y))
        words = tr("{w} W settles here").format(w=number_text(shown.full_w, 0))
        fits = left - text_width(words, SMALL) - 8 > across.start_px
        at = QPointF(left - 8, y + 4) if fits else QPointF(max(right, left) + 8, y + 4)
        draw_text(painter, at, words, font(SMALL), p.ink, halo=p.shade, align=SIDE["right" if fits else "left"])

    def _paint_curve(self, painter: QPainter, curve: FanCurve, across: PixelSpan, up: PixelSpan) -> None:
        p = self.palette
        rising, falling = self._line(curve, across, up), self._line(curve, across, up, curve.hysteresis_k)
        if curve.hysteresis_k > 0.0:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(faint(p.accent, 0.15))
            painter.drawPolygon(QPolygonF([*rising.toList(), *falling.toList()[::-1]]))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(p.accent), 1.0))
            painter.drawPolyline(falling)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(p.accent), 2.0))
        painter.drawPolyline(rising)

    def _paint_points(self, painter: QPainter, curve: FanCurve, across: PixelSpan, up: PixelSpan) -> None:
        p = self.palette
        for index, (celsius, duty) in enumerate(curve.points):
            at = QPointF(across.px(celsius), up.px(max(duty, curve.floor_percent)))
            if index == self.selected:
                painter.setPen(dashed(p.accent, 2.0, 2.0))
                painter.drawLine(QLineF(across.start_px, at.y(), at.x(), at.y()))
                painter.drawLine(QLineF(at.x(), at.y(), at.x(), up.start_px))
                painter.setPen(QPen(QColor(p.accent), 1.5))
                painter.setBrush(QColor(p.ground))
                painter.drawEllipse(at, 8.0, 8.0)
                painter.setBrush(QColor(p.accent))
                painter.drawEllipse(at, POINT_PX, POINT_PX)
                continue
            painter.setPen(QPen(QColor(p.accent), 2.0))
            painter.setBrush(QColor(p.ground))
            painter.drawEllipse(at, POINT_PX, POINT_PX)
        if self.dragging:
            celsius, duty = curve.points[self.selected]
            words = f"{celsius:g}{NO_BREAK_SPACE}°C, {duty:g}{NO_BREAK_SPACE}%"
            at = QPointF(across.px(celsius) - 12, up.px(duty) - 12)
            draw_text(painter, at, words, font(SMALL, bold=True), p.accent, halo=p.ground, align=SIDE["right"])

    def _paint_now(self, painter: QPainter, curve: FanCurve, shown: Shown, across: PixelSpan, up: PixelSpan) -> None:
        """Draw what the sensors read now, on the curve."""
        if not math.isfinite(shown.now_c) or not self.across.low <= shown.now_c <= self.across.high:
            return
        p, duty = self.palette, float(curve.duty(np.array([shown.now_c]))[0])
        at = QPointF(across.px(shown.now_c), up.px(duty))
        painter.setPen(QPen(QColor(p.ground), 1.5))
        painter.setBrush(QColor(p.ink))
        painter.drawEllipse(at, 4.0, 4.0)
        words = tr("now {c} °C").format(c=number_text(shown.now_c, 1))
        fits = at.x() + text_width(words, SMALL) + 12 < across.end_px
        beside = QPointF(9, 14) if fits else QPointF(-9, -8)
        draw_text(painter, at + beside, words, font(SMALL), p.ink, halo=p.ground, align=SIDE["left" if fits else "right"])
