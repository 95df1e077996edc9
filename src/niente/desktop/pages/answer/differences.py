"""Differences between two states: intervals about zero, row by row, and the turns in which they were measured."""

from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from niente.core.model.answer_document import Differences, Spread, Spreads
from niente.core.model.quantities import number_text
from niente.desktop.services.theme import BODY, SMALL, Look, Palette, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import draw_level, draw_text, draw_upright, faint, text_width
from niente.desktop.widgets.scale import PixelSpan, rounded, tick_text, ticks

HEAD, ROW, FOOT, TURNS = 30.0, 36.0, 30.0, 130.0
LABEL, VERDICT = 168.0, 340.0
RIGHT, MIDDLE = Qt.AlignmentFlag.AlignRight, Qt.AlignmentFlag.AlignHCenter
CAP, DOT = 3.5, 4.0
TICKS = 8
LEAST_SIDE = 1.5
"""A picture goes so many times as far as what is too small to matter, at least."""


def differences_px(shown: Differences) -> int:
    """Return how high the picture wants to be."""
    rows = sum(HEAD + ROW * len(block.rows) + FOOT for block in shown.blocks)
    return round(rows + (TURNS if len(shown.turns) > 1 else 0.0))


def draw_differences(painter: QPainter, area: QRectF, shown: Differences, look: Look) -> None:
    """Draw the blocks one under the other, better always on the left, and the turns under them."""
    p, top = look.palette, area.top()
    for index, block in enumerate(shown.blocks):
        height = HEAD + ROW * len(block.rows) + FOOT
        if index == 0:
            _draw_states(painter, area, shown, p)
        _draw_block(painter, QRectF(area.left(), top, area.width(), height), block, p)
        top += height
    if len(shown.turns) > 1:
        _draw_turns(painter, QRectF(area.left(), top, area.width(), min(TURNS, area.bottom() - top)), shown, p)


def _draw_states(painter: QPainter, area: QRectF, shown: Differences, p: Palette) -> None:
    """Name the two states at the right of the first head."""
    x, y = area.right() - VERDICT + 70.0, area.top() + 16.0
    for letter, name, colour in (("A", shown.first, p.ink), ("B", shown.second, p.accent)):
        draw_text(painter, QPointF(x, y), letter, font(BODY, bold=True), colour)
        draw_text(painter, QPointF(x + 16.0, y), name, font(SMALL), p.soft)
        x += 32.0 + text_width(name, SMALL)


def _reach(block: Spreads) -> float:
    """Return how far a block goes to either side."""
    ends = [LEAST_SIDE * block.too_small]
    for row in block.rows:
        ends += [abs(value) for value in (row.value.low, row.value.high, row.value.value, *row.pairs) if value is not None]
    return rounded(0.0, 1.08 * max(ends), TICKS // 2)[1]


def _draw_block(painter: QPainter, area: QRectF, block: Spreads, p: Palette) -> None:
    reach = _reach(block)
    left, right = area.left() + LABEL, area.right() - VERDICT - 20.0
    across = PixelSpan(reach, -reach, left, right) if block.rises else PixelSpan(-reach, reach, left, right)
    top, foot, zero = area.top() + HEAD, area.top() + HEAD + ROW * len(block.rows), across.px(0.0)
    draw_text(painter, QPointF(area.left(), area.top() + 16.0), tr(block.title), font(BODY, bold=True), p.ink)
    draw_text(painter, QPointF(zero - 10.0, area.top() + 16.0), tr(block.better), font(SMALL), p.soft, align=RIGHT)
    draw_text(painter, QPointF(zero + 10.0, area.top() + 16.0), tr(block.worse), font(SMALL), p.soft)
    draw_text(painter, QPointF(area.right() - VERDICT, area.top() + 16.0), tr("Verdict"), font(BODY, bold=True), p.ink)
    ends = sorted((across.px(block.too_small), across.px(-block.too_small)))
    zone = QRectF(ends[0], top - 4.0, ends[1] - ends[0], foot - top + 4.0)
    painter.fillRect(zone, QColor(p.shade))
    painter.fillRect(zone, faint(p.ink, 0.045))
    for value in ticks(-reach, reach, TICKS):
        draw_upright(painter, across.px(value), top, foot, p.rule)
    draw_upright(painter, zero, top - 4.0, foot + 5.0, p.ink)
    for index, row in enumerate(block.rows):
        y = top + ROW * index
        if index:
            draw_level(painter, area.left(), area.right(), y, p.rule)
        _draw_row(painter, area, row, y, across, p)
    draw_level(painter, left, right, foot, p.ink)
    values = ticks(-reach, reach, TICKS)
    step = values[1] - values[0] if len(values) > 1 else 1.0
    for value in values:
        text = f"+{tick_text(value, step)}" if value > 1e-9 else tick_text(value, step)
        draw_text(painter, QPointF(across.px(value), foot + 15.0), text, font(SMALL), p.soft, align=MIDDLE)
    draw_text(painter, QPointF(area.left(), foot + 15.0), tr("ticks: single pairs"), font(SMALL), p.soft)
    words = tr("shaded: too small to matter, {n} {unit}").format(n=f"{block.too_small:g}", unit=block.unit)
    draw_text(painter, QPointF(area.right() - VERDICT, foot + 15.0), words, font(SMALL), p.soft)


def _draw_row(painter: QPainter, area: QRectF, row: Spread, y: float, across: PixelSpan, p: Palette) -> None:
    draw_text(painter, QPointF(area.left(), y + 15.0), row.title, font(BODY), p.ink)
    draw_text(painter, QPointF(area.left(), y + 29.0), row.detail, font(SMALL), p.soft)
    x = area.right() - VERDICT
    draw_text(painter, QPointF(x, y + 15.0), tr(row.verdict), font(BODY, bold=True), p.ink)
    draw_text(painter, QPointF(x, y + 29.0), row.words, font(SMALL), p.soft)
    value = row.value.value
    if value is None:
        return
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    line = y + 14.0
    if row.value.low is not None and row.value.high is not None:
        low, high = across.px(row.value.low), across.px(row.value.high)
        painter.setPen(QPen(QColor(p.accent), 1.5))
        painter.drawLine(QLineF(low, line, high, line))
        for end in (low, high):
            painter.drawLine(QLineF(end, line - CAP, end, line + CAP))
    painter.setPen(QPen(QColor(p.ground), 1.0))
    painter.setBrush(QColor(p.accent))
    painter.drawEllipse(QPointF(across.px(value), line), DOT, DOT)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    for pair in row.pairs:
        draw_upright(painter, across.px(pair), line + 7.0, line + 13.0, p.soft)


def _draw_turns(painter: QPainter, area: QRectF, shown: Differences, p: Palette) -> None:
    """Draw what each turn came to, in the order of time, with the difference of each pair, and the room under it."""
    draw_level(painter, area.left(), area.right(), area.top() + 2.0, p.rule)
    draw_text(painter, QPointF(area.left(), area.top() + 20.0), tr("Turns"), font(BODY, bold=True), p.ink)
    words = shown.turns_of
    draw_text(painter, QPointF(area.left() + 48.0, area.top() + 20.0), words, font(SMALL), p.soft)
    cores = [core for _, core, _ in shown.turns]
    rooms = [room for _, _, room in shown.turns]
    left, right = area.left() + LABEL, area.right() - 40.0
    step = min((right - left) / max(len(cores) - 1, 1), 96.0)
    up = PixelSpan(min(cores) - 0.5, max(cores) + 0.5, area.top() + 92.0, area.top() + 50.0)
    flat = PixelSpan(min(rooms) - 0.5, max(rooms) + 0.5, area.top() + 122.0, area.top() + 104.0)
    for title, y in ((tr("Core, °C"), area.top() + 72.0), (tr("Room, °C"), area.top() + 116.0)):
        draw_text(painter, QPointF(area.left(), y), title, font(SMALL), p.soft)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    places = [QPointF(left + step * index, up.px(core)) for index, core in enumerate(cores)]
    painter.setPen(QPen(QColor(p.strong_rule), 1.0))
    painter.drawPolyline(places)
    painter.drawPolyline([QPointF(left + step * index, flat.px(room)) for index, room in enumerate(rooms)])
    for (state, core, room), at in zip(shown.turns, places, strict=True):
        colour = p.accent if state else p.ink
        draw_text(painter, QPointF(at.x(), area.top() + 38.0), "AB"[state], font(BODY, bold=True), colour, align=MIDDLE)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(colour))
        painter.drawEllipse(at, DOT, DOT)
        painter.drawEllipse(QPointF(at.x(), flat.px(room)), 2.5, 2.5)
        label = QPointF(at.x() + 8.0, at.y() + 4.0)
        draw_text(painter, label, number_text(core, 1), font(SMALL), p.soft, halo=p.ground)
