"""Curves over one axis: measured points filled, others open, with their intervals; lines ruled where a limit lies."""

import math
from collections.abc import Sequence

import msgspec
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from niente.core.model.answer_document import AnswerCurve, CurvePoint, Curves, Ruled
from niente.desktop.services.theme import SMALL, Look, Palette, font
from niente.desktop.widgets.brushes import dashed, draw_level, draw_text, draw_upright, text_width
from niente.desktop.widgets.scale import PixelSpan, apart, rounded, tick_text, ticks

TOP, FOOT, LEFT_PX, RIGHT_PX = 30.0, 40.0, 52.0, 150.0
RIGHT, MIDDLE = Qt.AlignmentFlag.AlignRight, Qt.AlignmentFlag.AlignHCenter
DOT, CROSS = 3.6, 3.2
MANY = 30
"""A curve of more points than this is drawn as a line alone."""
RATIOS = (1.0, 2.0, 5.0, 10.0, 15.0, 30.0, 60.0, 120.0, 300.0, 600.0)


class _Frame(msgspec.Struct, frozen=True):
    """Where a picture of curves lies, and its two axes in px."""

    area: QRectF
    across: PixelSpan
    up: PixelSpan
    by_ratio: bool

    def at(self, point: CurvePoint) -> QPointF:
        """Return where a point lies."""
        x = math.log10(max(point.x, 1e-9)) if self.by_ratio else point.x
        return QPointF(self.across.px(x), self.up.px(point.y.value or 0.0))


def draw_curves(painter: QPainter, area: QRectF, shown: Curves, look: Look) -> None:
    """Draw axes, ruled lines, curves, and each curve's name at its right end."""
    p = look.palette
    points = [point for curve in shown.curves for point in curve.points if point.y.value is not None]
    if not points:
        return
    frame = _frame(area, shown, points)
    _draw_axes(painter, frame, shown, p)
    for ruled in shown.ruled:
        _draw_ruled(painter, frame, ruled, p)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    colours = _colours(shown.curves, p)
    for curve, colour in zip(shown.curves, colours, strict=True):
        _draw_curve(painter, frame, curve, colour, p)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    _draw_names(painter, frame, shown.curves, colours, p)


def _frame(area: QRectF, shown: Curves, points: Sequence[CurvePoint]) -> _Frame:
    own = QRectF(
        area.left() + LEFT_PX, area.top() + TOP, area.width() - LEFT_PX - RIGHT_PX, max(area.height() - TOP - FOOT, 40.0)
    )
    xs = [point.x for point in points] + [ruled.x for ruled in shown.ruled if ruled.x is not None]
    ys = [value for point in points for value in (point.y.value, point.y.low, point.y.high) if value is not None]
    ys += [ruled.y for ruled in shown.ruled if ruled.y is not None]
    if shown.by_ratio:
        xs = [math.log10(max(x, 1e-9)) for x in xs]
    y0, y1 = rounded(*_wider(min(ys), max(ys), 0.08), _most_up(own))
    x0, x1 = _wider(min(xs), max(xs), 0.04)
    if not shown.by_ratio:
        x0, x1 = rounded(x0, x1, _most_across(own))
    return _Frame(own, PixelSpan(x0, x1, own.left(), own.right()), PixelSpan(y0, y1, own.bottom(), own.top()), shown.by_ratio)


def _most_up(area: QRectF) -> int:
    return max(int(area.height() // 36), 3)


def _most_across(area: QRectF) -> int:
    return max(int(area.width() // 72), 3)


def _wider(low: float, high: float, share: float) -> tuple[float, float]:
    room = max(share * (high - low), 1e-6 * max(abs(high), 1.0), 1e-9)
    return (low - room, high + room) if high > low else (low - 1.0, high + 1.0)


def _colours(curves: Sequence[AnswerCurve], p: Palette) -> list[str]:
    """Return a colour for each curve: the one that leads in accent, others in ink and the second, then soft."""
    rest = [p.ink, p.second, p.fault, p.cap_line, p.soft]
    found, index = [], 0
    for curve in curves:
        if curve.leads:
            found.append(p.accent)
        else:
            found.append(rest[min(index, len(rest) - 1)])
            index += 1
    return found


def _draw_axes(painter: QPainter, frame: _Frame, shown: Curves, p: Palette) -> None:
    area = frame.area
    values = ticks(frame.up.low, frame.up.high, _most_up(area))
    step = values[1] - values[0] if len(values) > 1 else 1.0
    for value in values:
        y = frame.up.px(value)
        draw_level(painter, area.left(), area.right(), y, p.rule)
        draw_text(painter, QPointF(area.left() - 8.0, y + 3.5), tick_text(value, step), font(SMALL), p.soft, align=RIGHT)
    draw_level(painter, area.left(), area.right(), area.bottom(), p.ink)
    draw_upright(painter, area.left() - 1.0, area.top(), area.bottom(), p.ink)
    if frame.by_ratio:
        marks = [(math.log10(value), f"{value:g}") for value in RATIOS]
        marks = [one for one in marks if frame.across.low <= one[0] <= frame.across.high]
    else:
        places = ticks(frame.across.low, frame.across.high, _most_across(area))
        wide = places[1] - places[0] if len(places) > 1 else 1.0
        marks = [(value, tick_text(value, wide)) for value in places]
    for value, text in marks:
        x = frame.across.px(value)
        draw_upright(painter, x, area.bottom(), area.bottom() + 5.0, p.ink)
        draw_text(painter, QPointF(x, area.bottom() + 17.0), text, font(SMALL), p.soft, align=MIDDLE)
    named = f"{shown.x.title}, {shown.x.unit}" if shown.x.unit else shown.x.title
    draw_text(painter, QPointF(area.right(), area.bottom() + 33.0), named, font(SMALL), p.ink, align=RIGHT)
    upright = f"{shown.y.title}, {shown.y.unit}" if shown.y.unit else shown.y.title
    draw_text(painter, QPointF(area.left() - LEFT_PX, area.top() - 12.0), upright, font(SMALL), p.ink)


def _draw_ruled(painter: QPainter, frame: _Frame, ruled: Ruled, p: Palette) -> None:
    area = frame.area
    colour = p.guard if ruled.ends else p.cap_line if ruled.holds else p.soft
    painter.setPen(QPen(QColor(colour), 2.0) if ruled.holds else dashed(colour, 4.0, 3.0))
    if ruled.y is not None:
        y = frame.up.px(ruled.y)
        painter.drawLine(QLineF(area.left(), y, area.right(), y))
        draw_text(painter, QPointF(area.left() + 6.0, y - 4.0), ruled.words, font(SMALL), p.ink, halo=p.ground)
    if ruled.x is not None:
        x = frame.across.px(math.log10(ruled.x) if frame.by_ratio else ruled.x)
        painter.drawLine(QLineF(x, area.top(), x, area.bottom()))
        draw_text(painter, QPointF(x, area.top() - 4.0), ruled.words, font(SMALL), p.ink, halo=p.ground, align=MIDDLE)


def _draw_curve(painter: QPainter, frame: _Frame, curve: AnswerCurve, colour: str, p: Palette) -> None:
    points = [point for point in curve.points if point.y.value is not None]
    places = [frame.at(point) for point in points]
    if curve.joined and len(places) > 1:
        painter.setPen(QPen(QColor(colour), 1.5 if curve.leads else 1.25))
        painter.drawPolyline(places)
    for point, at in zip(points, places, strict=True):
        if point.failed:
            painter.setPen(QPen(QColor(p.guard), 1.8))
            for way in (-1.0, 1.0):
                painter.drawLine(QLineF(at.x() - CROSS, at.y() - CROSS * way, at.x() + CROSS, at.y() + CROSS * way))
            continue
        if len(points) > MANY:
            continue
        if point.y.low is not None and point.y.high is not None:
            painter.setPen(QPen(QColor(colour), 1.0))
            painter.drawLine(QLineF(at.x(), frame.up.px(point.y.low), at.x(), frame.up.px(point.y.high)))
        measured = not point.y.forecast
        painter.setPen(QPen(QColor(p.ground if measured else colour), 1.0))
        painter.setBrush(QColor(colour if measured else p.ground))
        painter.drawEllipse(at, DOT, DOT)


def _draw_names(painter: QPainter, frame: _Frame, curves: Sequence[AnswerCurve], colours: Sequence[str], p: Palette) -> None:
    """Name each curve right of its last point, apart from each other."""
    ends = [(curve, colour, curve.points[-1]) for curve, colour in zip(curves, colours, strict=True) if curve.points]
    wanted = [frame.up.px(point.y.value if point.y.value is not None else frame.up.low) for _, _, point in ends]
    for (curve, colour, _), y in zip(ends, apart(wanted, 14.0), strict=True):
        room = RIGHT_PX - 14.0
        text = curve.title
        while text_width(text, SMALL, bold=curve.leads) > room and len(text) > 4:
            text = f"{text[:-2].rstrip()}…"
        at = QPointF(frame.area.right() + 10.0, min(max(y, frame.area.top() + 8.0), frame.area.bottom()) + 4.0)
        draw_text(painter, at, text, font(SMALL, bold=curve.leads), colour, halo=p.ground)
