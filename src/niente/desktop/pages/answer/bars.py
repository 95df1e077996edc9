"""Temperatures as bars: from the room over the mean of the cores to the hottest, with what limits the clock at the end."""

from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPen

from niente.core.model.answer_document import Bar, Bars, Track
from niente.core.model.quantities import number_text
from niente.core.science.clock_limiter import ClockLimiter
from niente.desktop.services.theme import BODY, SMALL, Look, Palette, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import dashed, draw_level, draw_limiter, draw_text, draw_upright, text_width
from niente.desktop.widgets.scale import PixelSpan, rounded, tick_text, ticks

HEAD, ROW, BAR, FOOT, TRACKS = 40.0, 36.0, 16.0, 26.0, 46.0
LABEL, RIGHT_PX = 144.0, 96.0
TICKS = 10
LOW_C = 20.0
NAME_ROOM = 64.0
RIGHT, MIDDLE = Qt.AlignmentFlag.AlignRight, Qt.AlignmentFlag.AlignHCenter
BY_WORDS = {limiter.words: limiter for limiter in ClockLimiter}


def bars_px(bars: Bars) -> int:
    """Return how high a picture of bars wants to be."""
    return round(HEAD + ROW * len(bars.bars) + FOOT + (TRACKS if bars.tracks else 0.0))


def draw_bars(painter: QPainter, area: QRectF, bars: Bars, look: Look) -> None:
    """Draw the bars, hottest first, over one axis of temperature, and the tracks of what protects the machine under them."""
    p = look.palette
    foot = area.top() + HEAD + ROW * len(bars.bars)
    high = max([100.0, *(value for value in (bars.guard, bars.cap) if value is not None)]) + 2.0
    low, high = rounded(LOW_C, high, TICKS)
    across = PixelSpan(low, high, area.left() + LABEL, area.right() - RIGHT_PX)
    _draw_ground(painter, area, bars, across, foot, p)
    draw_text(painter, QPointF(area.left(), area.top() + 14), tr("Load"), font(BODY, bold=True), p.ink)
    draw_text(painter, QPointF(area.left(), area.top() + 29), tr("hottest first"), font(SMALL), p.soft)
    right = area.right()
    draw_text(painter, QPointF(right, area.top() + 14), tr("Settled"), font(SMALL), p.soft, align=RIGHT)
    draw_text(painter, QPointF(right, area.top() + 29), "°C", font(SMALL), p.soft, align=RIGHT)
    longest = max(bars.bars, key=lambda bar: (bar.hottest.value or 0.0) - (bar.mean or 0.0), default=None)
    for index, bar in enumerate(bars.bars):
        top = area.top() + HEAD + ROW * index
        _draw_bar(painter, area, bar, top, across, look, named=bar is longest)
        if index:
            draw_level(painter, area.left(), area.left() + LABEL - 10.0, top, p.rule)
    _draw_axis(painter, area, across, foot, p)
    _draw_limits(painter, area, bars, across, foot, p)
    if bars.tracks:
        _draw_tracks(painter, QRectF(area.left(), foot + FOOT, area.width(), TRACKS), bars.tracks, p)


def _draw_ground(painter: QPainter, area: QRectF, bars: Bars, across: PixelSpan, foot: float, p: Palette) -> None:
    top = area.top() + HEAD - 4.0
    if bars.guard is not None:
        left = across.px(bars.guard)
        painter.fillRect(QRectF(left, top, across.end_px - left, foot - top), QColor(p.shade))
    for value in ticks(across.low, across.high, TICKS):
        draw_upright(painter, across.px(value), top, foot, p.rule)


def _draw_limits(painter: QPainter, area: QRectF, bars: Bars, across: PixelSpan, foot: float, p: Palette) -> None:
    top = area.top() + HEAD - 4.0
    if bars.guard is not None:
        x = across.px(bars.guard)
        painter.setPen(QPen(QColor(p.guard), 1.25))
        painter.drawLine(QLineF(x, top, x, foot))
        draw_text(painter, QPointF(x + 4.0, top - 4.0), tr("guard {c}").format(c=f"{bars.guard:g}"), font(SMALL), p.ink)
    if bars.cap is not None:
        x = across.px(bars.cap)
        painter.setPen(QPen(QColor(p.ink), 1.0))
        painter.drawLine(QLineF(x, top, x, foot))
        painter.setPen(dashed(p.cap, 6.0, 3.0, 2.0))
        painter.drawLine(QLineF(x, top, x, foot))
        draw_text(
            painter, QPointF(x - 4.0, top - 4.0), tr("cap {c}").format(c=f"{bars.cap:g}"), font(SMALL), p.ink, align=RIGHT
        )


def _draw_axis(painter: QPainter, area: QRectF, across: PixelSpan, foot: float, p: Palette) -> None:
    draw_level(painter, across.start_px, across.end_px, foot, p.ink)
    values = ticks(across.low, across.high, TICKS)
    for value in values:
        draw_upright(painter, across.px(value), foot, foot + 5.0, p.ink)
        draw_text(painter, QPointF(across.px(value), foot + 17.0), tick_text(value, 10.0), font(SMALL), p.soft, align=MIDDLE)
    draw_text(painter, QPointF(area.left(), foot + 17.0), tr("Temperature, °C"), font(SMALL), p.ink)


def _draw_bar(painter: QPainter, area: QRectF, bar: Bar, top: float, across: PixelSpan, look: Look, *, named: bool) -> None:
    """Draw one load: its name, the bar, its whisker, and the figure at the right."""
    p = look.palette
    title = QFontMetricsF(font(BODY, bold=True)).elidedText(bar.title, Qt.TextElideMode.ElideRight, LABEL - 10.0)
    draw_text(painter, QPointF(area.left(), top + 16.0), title, font(BODY, bold=True), p.ink)
    draw_text(painter, QPointF(area.left(), top + 30.0), bar.detail, font(SMALL), p.soft)
    if bar.hottest.value is None or bar.room is None:
        return
    hottest, mean = bar.hottest.value, bar.mean if bar.mean is not None else bar.hottest.value
    y = top + 8.0
    left, middle, right = (across.px(max(value, across.low)) for value in (bar.room, mean, hottest))
    whole = QRectF(left, y, max(middle - left, 1.0), BAR)
    if bar.open:
        painter.setPen(QPen(QColor(p.ink), 1.0))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(whole.adjusted(0.5, 0.5, -0.5, -0.5))
    else:
        painter.fillRect(whole, QColor(p.ink))
    limiter = BY_WORDS.get(bar.limiter, ClockLimiter.NOTHING)
    if right - middle > 2.0:
        draw_limiter(painter, QRectF(middle, y, right - middle, BAR), limiter, p, painter.device().devicePixelRatioF())
    _draw_name(painter, bar, whole, y, right, p)
    if bar.peak is not None and bar.peak > hottest:
        peak = across.px(bar.peak)
        draw_level(painter, right, peak, y + BAR / 2, p.ink)
        draw_upright(painter, peak, y + 2.0, y + BAR - 2.0, p.ink)
        if named:
            draw_text(painter, QPointF(peak + 4.0, y - 1.0), tr("peak"), font(SMALL), p.soft)
    if named:
        _name_ends(painter, left, middle, y - 1.0, p)
    width = bar.hottest.half_width
    if width is not None:
        line = y + BAR + 5.5
        ends = across.px(hottest - width), across.px(hottest + width)
        draw_level(painter, ends[0], ends[1], line, p.ink)
        for x in ends:
            draw_upright(painter, x, line - 2.0, line + 3.0, p.ink)
    at = QPointF(area.right(), top + 16.0)
    draw_text(painter, at, number_text(hottest, 1), font(BODY, bold=True), p.ink, align=RIGHT)
    if width is not None:
        draw_text(painter, QPointF(at.x(), top + 30.0), f"± {number_text(width, 1)}", font(SMALL), p.soft, align=RIGHT)


def _name_ends(painter: QPainter, left: float, middle: float, y: float, p: Palette) -> None:
    """Say what a bar goes from and to: the room only where both have room."""
    mean, room = tr("mean of cores"), tr("room")
    draw_text(painter, QPointF(middle - 4.0, y), mean, font(SMALL), p.soft, align=RIGHT)
    if middle - 8.0 - text_width(mean, SMALL) > left + text_width(room, SMALL):
        draw_text(painter, QPointF(left, y), room, font(SMALL), p.soft)


def _draw_name(painter: QPainter, bar: Bar, whole: QRectF, y: float, right: float, p: Palette) -> None:
    """Name what limits the clock: in the bar, or behind it where that is too short."""
    words = tr(bar.limiter)
    if not words:
        return
    if whole.width() > max(NAME_ROOM, text_width(words, SMALL) + 16.0):
        colour = p.ink if bar.open else p.ground
        draw_text(painter, QPointF(whole.right() - 8.0, y + 12.0), words, font(SMALL), colour, align=RIGHT)
    else:
        draw_text(painter, QPointF(right + 24.0, y + 12.0), words, font(SMALL), p.ink)


def _draw_tracks(painter: QPainter, area: QRectF, tracks: tuple[Track, ...], p: Palette) -> None:
    """Draw how near the loads came to what protects the machine, the nearest first."""
    draw_level(painter, area.left(), area.right(), area.top() + 6.0, p.rule)
    draw_text(painter, QPointF(area.left(), area.top() + 24.0), tr("Nearest to its limit"), font(BODY, bold=True), p.ink)
    shown = tracks[:4]
    step = (area.width() - LABEL) / max(len(shown), 1)
    for index, track in enumerate(shown):
        left, right = area.left() + LABEL + step * index, area.left() + LABEL + step * (index + 1) - 14.0
        room = right - left - text_width(track.left, SMALL, bold=True) - 8.0
        title = track.title if text_width(track.title, SMALL) <= room else track.title.partition(",")[0]
        draw_text(painter, QPointF(left, area.top() + 24.0), title, font(SMALL), p.ink)
        draw_text(
            painter, QPointF(right, area.top() + 24.0), track.left, font(SMALL, bold=track.share >= 1.0), p.ink, align=RIGHT
        )
        line = area.top() + 31.0
        draw_level(painter, left, right, line, p.strong_rule)
        painter.fillRect(QRectF(left, line - 0.5, (right - left) * track.share, 2.0), QColor(p.ink))
        painter.fillRect(QRectF(right - 1.0, line - 4.0, 2.0, 9.0), QColor(p.cap_line if track.holds else p.guard))
        draw_text(painter, QPointF(left, area.top() + 44.0), track.detail, font(SMALL), p.soft)
