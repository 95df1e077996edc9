"""Textures and marks that carry a meaning together with their colour, and text that stands over a picture."""

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QFont, QFontMetricsF, QPainter, QPainterPath, QPen, QPixmap

from niente.core.science.hold import Hold
from niente.desktop.theme import Palette


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


HOLDS = (Hold.NOTHING, Hold.CLOCK_CAP, Hold.POWER_LIMIT, Hold.HEAT, Hold.FAULT)


def hold_brush(hold: Hold, p: Palette, ratio: float = 1.0) -> tuple[QBrush, QColor]:
    """Return fill and outline of a piece of the hold band: five textures, told apart without their colours."""
    if hold == Hold.CLOCK_CAP:
        return _dots(p.second, ratio), QColor(p.second)
    if hold == Hold.POWER_LIMIT:
        return hatch(p.cap, 5, 2.0, ratio), QColor(p.cap_line)
    if hold == Hold.HEAT:
        return QBrush(QColor(p.guard)), QColor(p.guard)
    if hold == Hold.FAULT:
        return _crossed(p.fault, ratio), QColor(p.fault)
    return QBrush(QColor(p.surface)), QColor(p.rule)


def draw_hold(painter: QPainter, area: QRectF, hold: Hold, p: Palette, ratio: float) -> None:
    """Draw one piece of the hold band, its texture fixed to the band and not to the piece."""
    fill, line = hold_brush(hold, p, ratio)
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    painter.setBrushOrigin(QPointF(0.0, area.top()))
    painter.fillRect(area, fill)
    painter.setPen(QPen(line, 1.0))
    painter.drawRect(area.adjusted(0.5, 0.5, -0.5, -0.5))
    painter.restore()


STAGES = ("noise", "baseline", "undervolt", "capacity", "confirmation")


def stage_brush(stage: str, p: Palette, ratio: float) -> QBrush:
    """Return a stage's texture: one tone, and never a colour of the hold band."""
    if stage == "noise":
        return stripes(p.soft, 4, upright=True, ratio=ratio)
    if stage == "undervolt":
        return stripes(p.soft, 4, upright=False, ratio=ratio)
    if stage == "capacity":
        return QBrush(QColor(p.strong_rule))
    if stage == "confirmation":
        return hatch(p.soft, 5, 1.4, ratio, falling=True)
    return QBrush(QColor(p.ground))


def draw_text(
    painter: QPainter,
    at: QPointF,
    text: str,
    font: QFont,
    colour: str,
    *,
    halo: str = "",
    align: Qt.AlignmentFlag = Qt.AlignmentFlag.AlignLeft,
) -> float:
    """Draw a line of text with its baseline at a point; return its width. ``halo`` is the ground to stand out from."""
    width = QFontMetricsF(font).horizontalAdvance(text)
    if align & Qt.AlignmentFlag.AlignRight:
        at = QPointF(at.x() - width, at.y())
    elif align & Qt.AlignmentFlag.AlignHCenter:
        at = QPointF(at.x() - width / 2, at.y())
    if halo:
        path = QPainterPath()
        path.addText(at, font, text)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(halo), 4.0, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap, Qt.PenJoinStyle.RoundJoin))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(path)
        painter.restore()
    painter.setFont(font)
    painter.setPen(QColor(colour))
    painter.drawText(at, text)
    return width
