"""How deep the voltage went: a rail a load, passes and failures on it, where it fails once an hour, and what is recommended."""

import math

from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from niente.core.model.answer_document import Depths, Mark, Rail
from niente.core.model.quantities import duration_text, number_text
from niente.desktop.services.theme import BODY, SMALL, Look, Palette, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import dashed, draw_level, draw_text, draw_upright, faint
from niente.desktop.widgets.scale import PixelSpan, rounded, tick_text, ticks

HEAD, FOOT, LEFT_PX, RIGHT_PX = 44.0, 22.0, 52.0, 118.0
PARTS_SHARE, MOST_PARTS = 0.42, 32
TICKS, TICKS_OF_PARTS = 9, 6
BAR, HANDLE, LINE_PX = 7.0, 9.0, 11.0
RIGHT, MIDDLE = Qt.AlignmentFlag.AlignRight, Qt.AlignmentFlag.AlignHCenter
BEYOND_MV = 12.0


def draw_depths(painter: QPainter, area: QRectF, shown: Depths, look: Look) -> None:
    """Draw the loads at the left, and single cores at the right where errors named some."""
    p = look.palette
    left = area
    if shown.parts:
        split = area.left() + area.width() * (1.0 - PARTS_SHARE)
        left = QRectF(area.left(), area.top(), split - area.left() - 12.0, area.height())
        right = QRectF(split + 4.0, area.top(), area.right() - split - 4.0, area.height())
        draw_upright(painter, split - 4.0, area.top() + 4.0, area.bottom(), p.rule)
        _draw_parts(painter, right, shown, p)
    _draw_rails(painter, left, shown, p)


def _deepest(rails: tuple[Rail, ...], more: list[float | None]) -> float:
    """Return the deepest offset of all marks and lines (mV, negative)."""
    found = [mark.mv for rail in rails for mark in rail.marks]
    found += [value for rail in rails for value in (rail.hourly.low,) if value is not None]
    found += [value for value in more if value is not None]
    return min([*found, -20.0]) - BEYOND_MV


def _draw_rails(painter: QPainter, area: QRectF, shown: Depths, p: Palette) -> None:
    marks = tuple(rail for rail in shown.rails)
    down = PixelSpan(
        0.0,
        rounded(_deepest(marks, [shown.recommended]), 0.0, TICKS)[0],
        area.top() + HEAD,
        area.bottom() - FOOT,
    )
    left, right = area.left() + LEFT_PX, area.right() - RIGHT_PX
    draw_text(painter, QPointF(area.left(), area.top() + 14.0), tr("Offset"), font(BODY, bold=True), p.ink)
    draw_text(painter, QPointF(area.left(), area.top() + 29.0), "mV", font(SMALL), p.soft)
    for value in ticks(down.high, 0.0, TICKS):
        y = down.px(value)
        draw_level(painter, left, right, y, p.ink if abs(value) < 1e-9 else p.rule)
        if shown.recommended is None or abs(down.px(shown.recommended) - y) > HANDLE:
            draw_text(painter, QPointF(left - 8.0, y + 3.5), tick_text(value, 10.0), font(SMALL), p.soft, align=RIGHT)
    _draw_recommended(painter, shown, down, left, right, p)
    step = (right - left) / max(len(shown.rails), 1)
    for index, rail in enumerate(shown.rails):
        x = left + step * (index + 0.5)
        draw_text(painter, QPointF(x, area.top() + 14.0), rail.title, font(BODY, bold=rail.leads), p.ink, align=MIDDLE)
        draw_text(painter, QPointF(x, area.top() + 29.0), rail.detail, font(SMALL), p.soft, align=MIDDLE)
        _draw_rail(painter, rail, x, down, p, times=True)
    words = tr("dot: passed, for so long; ×: failed after; bar: a failure an hour, 95 %")
    draw_text(painter, QPointF(left, area.bottom() - 5.0), words, font(SMALL), p.soft)


def _draw_recommended(painter: QPainter, shown: Depths, down: PixelSpan, left: float, right: float, p: Palette) -> None:
    """Draw the interval of the depth at which the goal's chance lies, and the line that is recommended."""
    goal = shown.goal
    if goal.low is not None and goal.high is not None:
        top, foot = (min(max(down.px(min(value, 0.0)), down.start_px), down.end_px) for value in (goal.high, goal.low))
        painter.fillRect(QRectF(left, top, right - left, foot - top), faint(p.accent, 0.12))
        if goal.value is not None:
            painter.setPen(dashed(p.accent, 3.0, 3.0))
            y = down.px(max(min(goal.value, 0.0), down.high))
            painter.drawLine(QLineF(left, y, right, y))
    if shown.recommended is None:
        return
    y = down.px(shown.recommended)
    painter.fillRect(QRectF(left, round(y) - 1.0, right - left, 2.0), QColor(p.accent))
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor(p.accent))
    painter.drawPolygon(QPolygonF([QPointF(left - 1, y), QPointF(left - 11, y - 6), QPointF(left - 11, y + 6)]))
    text = tr("take {mv} mV").format(mv=number_text(shown.recommended, 0))
    draw_text(painter, QPointF(right + 8.0, y + 4.0), text, font(BODY, bold=True), p.accent)
    if goal.low is not None and goal.high is not None:
        words = tr("the goal lies at")
        draw_text(painter, QPointF(right + 8.0, y + 20.0), words, font(SMALL), p.soft)
        ends = tr("{high} to {low}").format(high=number_text(min(goal.high, 0.0), 0), low=number_text(goal.low, 0))
        draw_text(painter, QPointF(right + 8.0, y + 33.0), ends, font(SMALL), p.soft)


def _draw_rail(painter: QPainter, rail: Rail, x: float, down: PixelSpan, p: Palette, *, times: bool) -> None:
    deepest = min((mark.mv for mark in rail.marks), default=0.0)
    draw_upright(painter, x, down.px(0.0), down.px(deepest), p.strong_rule)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    hourly = rail.hourly
    if hourly.value is not None and hourly.low is not None and hourly.high is not None:
        beside = x - (16.0 if times else 7.0)
        top, foot = down.px(min(hourly.high, 0.0)), down.px(max(hourly.low, down.high))
        painter.fillRect(QRectF(beside - BAR / 2, top, BAR, foot - top), faint(p.accent, 0.38))
        draw_level(painter, beside - BAR, beside + BAR, down.px(max(hourly.value, down.high)), p.accent)
    failed_at = {mark.mv for mark in rail.marks if mark.failed}
    for mark in rail.marks:
        beside = -9.0 if not mark.failed and mark.mv in failed_at else 0.0
        _draw_mark(painter, mark, QPointF(x + beside, down.px(mark.mv)), p, 4.0 if times else 3.0)
    if times:
        _draw_times(painter, rail, x, down, p)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)


def _draw_mark(painter: QPainter, mark: Mark, at: QPointF, p: Palette, r: float) -> None:
    """Draw a pass as a dot, failures as a cross."""
    if not mark.failed:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(p.ink))
        painter.drawEllipse(at, r, r)
        return
    painter.setPen(QPen(QColor(p.guard), 1.8))
    for way in (-1.0, 1.0):
        painter.drawLine(QLineF(at.x() - r, at.y() - r * way, at.x() + r, at.y() + r * way))


def _draw_times(painter: QPainter, rail: Rail, x: float, down: PixelSpan, p: Palette) -> None:
    """Write beside the marks how long each took, failures first; where lines would meet, the later one is left out."""
    written: list[float] = []
    for mark in sorted(rail.marks, key=lambda one: (not one.failed, -one.mv)):
        y = down.px(mark.mv)
        if any(abs(y - other) < LINE_PX for other in written):
            continue
        written.append(y)
        many = f"{mark.times} × " if mark.failed and mark.times > 1 else ""
        words = f"{many}{duration_text(mark.seconds)}"
        draw_text(painter, QPointF(x + 13.0, y + 4.0), words, font(SMALL), p.ink, halo=p.ground)


def _draw_parts(painter: QPainter, area: QRectF, shown: Depths, p: Palette) -> None:
    """Draw one rail a core: its own failures, and where it alone would fail once an hour; inferred ones open."""
    parts = shown.parts[:MOST_PARTS]
    deepest, _ = rounded(_deepest(parts, [shown.recommended]), 0.0, TICKS_OF_PARTS)
    down = PixelSpan(0.0, deepest, area.top() + HEAD, area.bottom() - FOOT)
    left, right = area.left() + 36.0, area.right() - 6.0
    draw_text(painter, QPointF(area.left() + 6.0, area.top() + 14.0), tr("Core by core"), font(BODY, bold=True), p.ink)
    for value in ticks(down.high, 0.0, TICKS_OF_PARTS):
        y = down.px(value)
        draw_level(painter, left, right, y, p.ink if abs(value) < 1e-9 else p.rule)
        draw_text(painter, QPointF(left - 6.0, y + 3.5), tick_text(value, 10.0), font(SMALL), p.soft, align=RIGHT)
    if shown.recommended is not None:
        painter.fillRect(QRectF(left, round(down.px(shown.recommended)) - 1.0, right - left, 2.0), QColor(p.accent))
    step = (right - left) / max(len(parts), 1)
    for index, rail in enumerate(parts):
        x = left + step * (index + 0.5)
        draw_text(painter, QPointF(x, area.top() + 34.0), rail.title, font(SMALL, bold=rail.leads), p.ink, align=MIDDLE)
        if not rail.marks and rail.hourly.low is not None and rail.hourly.high is not None:
            _draw_inferred(painter, rail, x, down, p)
        else:
            _draw_rail(painter, rail, x, down, p, times=False)
    words = tr("×: its errors; bar: it alone once an hour; open: inferred")
    draw_text(painter, QPointF(left, area.bottom() - 5.0), words, font(SMALL), p.soft)


def _draw_inferred(painter: QPainter, rail: Rail, x: float, down: PixelSpan, p: Palette) -> None:
    low, high, middle = rail.hourly.low, rail.hourly.high, rail.hourly.value
    if low is None or high is None or middle is None or not math.isfinite(middle):
        return
    top, foot = down.px(min(high, 0.0)), down.px(max(low, down.high))
    painter.setPen(QPen(QColor(p.accent), 1.0))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRect(QRectF(round(x - 2.5) + 0.5, top, 5.0, foot - top))
    if middle > down.high:
        draw_level(painter, x - 4.0, x + 4.0, down.px(middle), p.accent)
