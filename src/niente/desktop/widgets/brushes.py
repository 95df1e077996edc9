"""Textures and marks that carry a meaning together with their colour, and text that stands over a picture."""

from functools import lru_cache

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QFont, QFontMetricsF, QImage, QPainter, QPainterPath, QPen, QPixmap

from niente.core.science.clock_limiter import ClockLimiter
from niente.desktop.services.decimal_sign import in_locale
from niente.desktop.services.theme import SMALL, Palette, font


def pen(colour: str, width: float = 1.0, style: Qt.PenStyle = Qt.PenStyle.SolidLine) -> QPen:
    """Return a cosmetic pen."""
    made = QPen(QColor(colour), width)
    made.setStyle(style)
    made.setCosmetic(True)
    return made


def dashed(colour: str, on: float, off: float, width: float = 1.0) -> QPen:
    """Return a cosmetic pen of dashes, lengths in px."""
    made = pen(colour, width)
    made.setDashPattern([on / width, off / width])
    return made


def faint(colour: str, share: float) -> QColor:
    """Return a colour at a share of its opacity."""
    made = QColor(colour)
    made.setAlphaF(share)
    return made


def _tile(size: int, ratio: float) -> tuple[QPixmap, QPainter]:
    pixels = round(size * ratio)
    tile = QPixmap(pixels, pixels)
    tile.fill(Qt.GlobalColor.transparent)
    painter = QPainter(tile)
    painter.scale(pixels / size, pixels / size)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    return tile, painter


def _textured(tile: QPixmap, size: int) -> QBrush:
    tile.setDevicePixelRatio(tile.width() / size)
    return QBrush(tile)


def hatch(colour: str, every: int, width: float, ratio: float = 1.0, *, falling: bool = False) -> QBrush:
    """Return lines at 45°, ``width`` px wide, every so many px along the edge of their tile; repeats without a seam."""
    tile, painter = _tile(every, ratio)
    painter.setPen(QPen(QColor(colour), width))
    for shift in (-every, 0, every):
        ends = (QPointF(shift - 1, every + 1), QPointF(shift + every + 1, -1))
        if falling:
            ends = (QPointF(shift - 1, -1), QPointF(shift + every + 1, every + 1))
        painter.drawLine(*ends)
    painter.end()
    return _textured(tile, every)


def stripes(colour: str, every: int, *, upright: bool, ratio: float = 1.0) -> QBrush:
    """Return lines of 1 px every so many px, upright or level."""
    tile, painter = _tile(every, ratio)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    painter.fillRect(QRectF(0, 0, 1, every) if upright else QRectF(0, 0, every, 1), QColor(colour))
    painter.end()
    return _textured(tile, every)


@lru_cache(maxsize=8)
def level_dashes(colour: str) -> QBrush:
    """Return dashes for a level line, 6 px on and 3 px off."""
    tile = QImage(9, 1, QImage.Format.Format_ARGB32_Premultiplied)
    tile.fill(Qt.GlobalColor.transparent)
    for x in range(6):
        tile.setPixelColor(x, 0, QColor(colour))
    return QBrush(tile)


def _dots(colour: str, ratio: float) -> QBrush:
    """Dots in a quincunx on a cell of 6 px."""
    tile, painter = _tile(6, ratio)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor(colour))
    for x, y in ((1.5, 1.5), (4.5, 4.5)):
        painter.drawEllipse(QPointF(x, y), 1.25, 1.25)
    painter.end()
    return _textured(tile, 6)


def _crossed(colour: str, ratio: float) -> QBrush:
    tile, painter = _tile(6, ratio)
    painter.setPen(QPen(QColor(colour), 1.6))
    painter.drawLine(QPointF(-1, 7), QPointF(7, -1))
    painter.drawLine(QPointF(-1, -1), QPointF(7, 7))
    painter.end()
    return _textured(tile, 6)


ASCENT = 0.75
"""How high capitals and figures stand over the baseline, as a share of a font's size."""
HALO = 4.0
"""How wide the ground round a text is that stands over a picture, in px."""
LIMITERS = (
    ClockLimiter.NOTHING,
    ClockLimiter.CLOCK_CAP,
    ClockLimiter.SUSTAINED_LIMIT,
    ClockLimiter.BURST_LIMIT,
    ClockLimiter.TEMPERATURE_CAP,
    ClockLimiter.FAULT,
    ClockLimiter.UNKNOWN,
)
"""The textures; work that drops out is a fault and has its texture."""


def limiter_brush(limiter: ClockLimiter, p: Palette, ratio: float = 1.0) -> tuple[QBrush, QColor]:
    """Return fill and outline of a piece of the limiter band: its textures are told apart without their colours."""
    if limiter == ClockLimiter.CLOCK_CAP:
        return _dots(p.second, ratio), QColor(p.second)
    if limiter == ClockLimiter.SUSTAINED_LIMIT:
        return hatch(p.cap, 5, 2.0, ratio), QColor(p.cap_line)
    if limiter == ClockLimiter.BURST_LIMIT:
        return hatch(p.cap, 4, 1.4, ratio, falling=True), QColor(p.cap_line)
    if limiter == ClockLimiter.TEMPERATURE_CAP:
        return QBrush(QColor(p.guard)), QColor(p.guard)
    if limiter in (ClockLimiter.FAULT, ClockLimiter.DROP_OUT):
        return _crossed(p.fault, ratio), QColor(p.fault)
    if limiter == ClockLimiter.UNKNOWN:
        return hatch(p.strong_rule, 6, 1.0, ratio, falling=True), QColor(p.rule)
    return QBrush(QColor(p.surface)), QColor(p.rule)


def draw_limiter(painter: QPainter, area: QRectF, limiter: ClockLimiter, p: Palette, ratio: float) -> None:
    """Draw one piece of the limiter band, its texture fixed to the band and not to the piece."""
    fill, line = limiter_brush(limiter, p, ratio)
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    painter.setBrushOrigin(QPointF(0.0, area.top()))
    painter.fillRect(area, fill)
    painter.setPen(QPen(line, 1.0))
    painter.drawRect(area.adjusted(0.5, 0.5, -0.5, -0.5))
    painter.restore()


def stage_brush(stage: str, p: Palette, ratio: float) -> QBrush:
    """Return a stage's texture: one tone, and never a colour of the limiter band."""
    if stage == "noise":
        return stripes(p.soft, 4, upright=True, ratio=ratio)
    if stage in ("undervolt", "voltage"):
        return stripes(p.soft, 4, upright=False, ratio=ratio)
    if stage in ("capacity", "ladder", "power limit", "free", "A", "soak"):
        return QBrush(QColor(p.strong_rule))
    if stage in ("confirmation", "B"):
        return hatch(p.soft, 5, 1.4, ratio, falling=True)
    if stage in ("temperature cap", "cap sweep", "heat"):
        return hatch(p.soft, 5, 1.4, ratio, falling=False)
    if stage in ("fixed clock", "burst", "near pick"):
        return stripes(p.strong_rule, 2, upright=True, ratio=ratio)
    return QBrush(QColor(p.ground))


def text_drawn(painter: QPainter, area: QRectF, text: str) -> None:
    """Take note of where a text is drawn, in the painter's own units: nothing by itself. Tests put a function of their own in
    its place, to see that no text lies on another."""


def draw_text(
    painter: QPainter,
    at: QPointF,
    text: str,
    type_: QFont,
    colour: str,
    *,
    halo: str = "",
    align: Qt.AlignmentFlag = Qt.AlignmentFlag.AlignLeft,
) -> float:
    """Draw a line of text with its baseline at a point, its numbers with the locale's decimal sign; return its width.

    ``halo`` is the ground to stand out from.
    """
    text = in_locale(text)
    size, bold, italic = type_.pixelSize(), type_.bold(), type_.italic()
    width = text_width(text, size, bold, italic)
    if align & Qt.AlignmentFlag.AlignRight:
        at = QPointF(at.x() - width, at.y())
    elif align & Qt.AlignmentFlag.AlignHCenter:
        at = QPointF(at.x() - width / 2, at.y())
    text_drawn(painter, QRectF(at.x(), at.y() - ASCENT * size, width, ASCENT * size), text)
    if halo:
        ratio = painter.device().devicePixelRatioF()
        picture, ascent = _haloed(text, size, bold, italic, colour, halo, ratio)
        painter.drawImage(QPointF(round(at.x()) - HALO, round(at.y()) - ascent - HALO), picture)
        return width
    painter.setFont(type_)
    painter.setPen(_ink(colour))
    painter.drawText(at, text)
    return width


@lru_cache(maxsize=4096)
def text_width(text: str, size: int, bold: bool = False, italic: bool = False) -> float:
    """Return how wide a text is in px."""
    return QFontMetricsF(font(size, bold=bold, italic=italic)).horizontalAdvance(text)


@lru_cache(maxsize=64)
def _ink(colour: str) -> QColor:
    return QColor(colour)


def elided(text: str, size: int, room: float) -> str:
    """Return a text that takes no more px than there is room for, its end left out where it must be."""
    return QFontMetricsF(font(size)).elidedText(text, Qt.TextElideMode.ElideRight, room)


def draw_level(painter: QPainter, left: float, right: float, y: float, colour: str | QColor) -> None:
    """Draw a crisp level line, one pixel high: a filled strip is much faster than a pen."""
    painter.fillRect(QRectF(left, round(y), right - left, 1.0), _ink(colour) if isinstance(colour, str) else colour)


def draw_upright(painter: QPainter, x: float, top: float, foot: float, colour: str | QColor) -> None:
    """Draw a crisp upright line, one pixel wide."""
    painter.fillRect(QRectF(round(x), top, 1.0, foot - top), _ink(colour) if isinstance(colour, str) else colour)


@lru_cache(maxsize=512)
def _haloed(text: str, size: int, bold: bool, italic: bool, colour: str, halo: str, ratio: float) -> tuple[QImage, float]:
    """Return a text in its halo as a picture, and where its baseline lies in it: outlines are slow to stroke."""
    own = font(size, bold=bold, italic=italic)
    metrics = QFontMetricsF(own)
    ascent = round(metrics.ascent())
    wide, high = metrics.horizontalAdvance(text) + 2 * HALO + 4, metrics.height() + 2 * HALO
    picture = QImage(round(wide * ratio), round(high * ratio), QImage.Format.Format_ARGB32_Premultiplied)
    picture.setDevicePixelRatio(ratio)
    picture.fill(Qt.GlobalColor.transparent)
    path = QPainterPath()
    path.addText(QPointF(HALO, HALO + ascent), own, text)
    painter = QPainter(picture)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(QColor(halo), HALO, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap, Qt.PenJoinStyle.RoundJoin))
    painter.drawPath(path)
    painter.setFont(own)
    painter.setPen(QColor(colour))
    painter.drawText(QPointF(HALO, HALO + ascent), text)
    painter.end()
    return picture, ascent


def draw_beside(painter: QPainter, point: QPointF, name: str, p: Palette, taken: list[QRectF]) -> None:
    """Write a name beside a mark, where none of the names ``taken`` stands yet, and add it to them."""
    width = text_width(name, SMALL)
    spots = [point + QPointF(dx, dy) for dy in (-5.0, 13.0, -19.0, 27.0) for dx in (9.0, -9.0 - width)]
    boxes = [QRectF(spot.x() - 1, spot.y() - 11, width + 2, 14) for spot in spots]
    free = [not any(box.intersects(other) for other in taken) for box in boxes]
    index = free.index(True) if any(free) else 0
    taken.append(boxes[index])
    draw_text(painter, spots[index], name, font(SMALL), p.ink, halo=p.ground)
