"""The heat path: a ladder from the hottest core to the room whose rungs are as long as the kelvins lost there."""

import msgspec
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QFontMetricsF, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from niente.core.model.quantities import number_text
from niente.core.science.heat.rungs import Rung
from niente.desktop.services.theme import BODY, SMALL, Look, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import draw_text
from niente.desktop.widgets.scale import PixelSpan, end_ticks, ticks

NAMES_PX, LADDER_TOP, BAR = 132, 60, 14
RUNG_PX, MIN_RUNG_PX, MAX_RUNG_PX, BELOW_PX = 76, 48, 132, 66
"""A rung's height, as it is wanted, where there is little room and where there is much; and what stands under the ladder."""
POWER_STEP_W = 5.0
KEY_PX = 190
RIGHT = Qt.AlignmentFlag.AlignRight
MIDDLE = Qt.AlignmentFlag.AlignHCenter


class Ladder(msgspec.Struct, frozen=True):
    """What is drawn: the rungs, core first, at a power and a room; ``names`` and ``sub`` say what each runs through.

    ``typical`` is drawn open: nothing has been fitted yet.
    """

    rungs: tuple[Rung, ...]
    names: tuple[str, ...]
    sub: tuple[str, ...]
    power_w: float
    power_range_w: tuple[float, float]
    room_c: float
    typical: bool

    @property
    def core_c(self) -> float:
        """Where the ladder stands at its top."""
        return self.room_c + sum(rung.kelvin for rung in self.rungs)

    @property
    def by_fans_k(self) -> float:
        """What the fans at their fastest would take away."""
        return sum(rung.by_fans_k for rung in self.rungs)


class LadderView(QWidget):
    """The ladder, and the scale of watts above it that mouse and keys move along."""

    power_moved = Signal(float)

    def __init__(self, look: Look) -> None:
        super().__init__()
        self._look = look
        self._ladder: Ladder | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(tr("Heat path; left and right arrow keys change the power it is drawn at"))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(420, LADDER_TOP + 3 * MIN_RUNG_PX + BELOW_PX)
        look.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        """As in the picture at 1280 px."""
        return QSize(596, LADDER_TOP + 3 * RUNG_PX + BELOW_PX)

    def show_ladder(self, ladder: Ladder | None) -> None:
        """Draw another ladder."""
        self._ladder = ladder
        self.setAccessibleDescription(heat_path_text(ladder) if ladder is not None else "")
        self.update()

    # -- the scale of watts ------------------------------------------------------------------------------------

    def _watts(self) -> PixelSpan:
        low, high = self._ladder.power_range_w if self._ladder is not None else (0.0, 1.0)
        return PixelSpan(low, high, 32.0, self.width() - 8.0)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take the power from where the scale is pressed."""
        self.mouseMoveEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Drag the power along its scale."""
        if self._ladder is not None and event.buttons() and event.position().y() < LADDER_TOP - 24:
            self._move(self._watts().value(event.position().x()))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Move the power by a step."""
        step = {Qt.Key.Key_Left: -POWER_STEP_W, Qt.Key.Key_Right: POWER_STEP_W}.get(Qt.Key(event.key()))
        if step is None or self._ladder is None:
            super().keyPressEvent(event)
            return
        self._move(self._ladder.power_w + step)

    def _move(self, power_w: float) -> None:
        if self._ladder is not None:
            low, high = self._ladder.power_range_w
            self.power_moved.emit(min(max(float(round(power_w)), low), high))

    # -- painting ------------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the scale of watts, the ladder, and what of it the fans can change."""
        if self._ladder is None:
            return
        painter = QPainter(self)
        self._draw_watts(painter, self._ladder)
        across = self._celsius(self._ladder)
        self._draw_grid(painter, self._ladder, across)
        self._draw_rungs(painter, self._ladder, across)
        self._draw_shares(painter, self._ladder, across)
        last = across.px(self._ladder.room_c + self._ladder.rungs[-1].kelvin)
        if self.width() > KEY_PX * 2.8 and self._rung_px(self._ladder) > 64 and last < self.width() - KEY_PX - 90:
            self._draw_key(painter, self._ladder)
        painter.end()

    def _draw_watts(self, painter: QPainter, ladder: Ladder) -> None:
        p, scale = self._look.palette, self._watts()
        draw_text(painter, QPointF(0, 20), tr("At"), font(BODY), p.soft)
        painter.setPen(QPen(QColor(p.soft), 1.0))
        painter.drawLine(QPointF(scale.start_px, 16.5), QPointF(scale.end_px, 16.5))
        for value in end_ticks(scale.low, scale.high, 7):
            x = round(scale.px(value)) + 0.5
            painter.setPen(QPen(QColor(p.soft), 1.0))
            painter.drawLine(QPointF(x, 13.5), QPointF(x, 19.5))
            text = number_text(value, 0)
            if abs(scale.px(value) - scale.px(ladder.power_w)) > 26:
                at_end = x > self.width() - 14
                point = QPointF(self.width() - 1.0 if at_end else x, 34)
                draw_text(painter, point, text, font(SMALL), p.soft, align=RIGHT if at_end else MIDDLE)
        x = scale.px(ladder.power_w)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(p.accent))
        painter.drawPolygon(QPolygonF([QPointF(x - 6, 5), QPointF(x + 6, 5), QPointF(x, 15)]))
        text = number_text(ladder.power_w, 0) + "\u00a0W"
        draw_text(painter, QPointF(x, 34), text, font(SMALL), p.ink, align=MIDDLE)

    def _celsius(self, ladder: Ladder) -> PixelSpan:
        return PixelSpan(ladder.room_c, max(ladder.core_c, ladder.room_c + 5.0), NAMES_PX + 8.0, self.width() - 48.0)

    def _foot(self, ladder: Ladder) -> float:
        return LADDER_TOP + self._rung_px(ladder) * len(ladder.rungs) + 6.0

    def _rung_px(self, ladder: Ladder) -> float:
        room = (self.height() - LADDER_TOP - BELOW_PX) / len(ladder.rungs)
        return min(max(room, MIN_RUNG_PX), MAX_RUNG_PX)

    def _draw_grid(self, painter: QPainter, ladder: Ladder, across: PixelSpan) -> None:
        p = self._look.palette
        draw_text(painter, QPointF(0, LADDER_TOP - 10), tr("Temperature, °C"), font(SMALL), p.soft)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        for value in ticks(across.low, across.high, 6):
            x = round(across.px(value)) + 0.5
            painter.setPen(QColor(p.rule))
            painter.drawLine(QPointF(x, LADDER_TOP), QPointF(x, self._foot(ladder)))
            if abs(x - across.px(ladder.core_c)) > 30 and abs(x - across.px(ladder.room_c)) > 20:
                text = number_text(value, 0)
                draw_text(painter, QPointF(x, LADDER_TOP - 10), text, font(SMALL), p.soft, align=MIDDLE)
        x = across.px(ladder.core_c)
        text = number_text(ladder.core_c, 1)
        draw_text(painter, QPointF(x, LADDER_TOP - 10), text, font(SMALL), p.ink, align=MIDDLE)

    def _draw_rungs(self, painter: QPainter, ladder: Ladder, across: PixelSpan) -> None:
        p, hot = self._look.palette, ladder.core_c
        y = LADDER_TOP - 6.0
        for point, (rung, name, sub) in enumerate(zip(ladder.rungs, ladder.names, ladder.sub, strict=True)):
            top = LADDER_TOP + self._rung_px(ladder) * point
            draw_text(painter, QPointF(0, top + 14), name, font(BODY), p.ink)
            draw_text(painter, QPointF(0, top + 28), sub, font(SMALL), p.soft)
            theta = number_text(rung.kelvin / ladder.power_w, 3)
            width = draw_text(painter, QPointF(0, top + 42), theta, font(SMALL, bold=True), p.ink)
            spread = "" if ladder.typical else f"± {number_text(rung.half_width_k / ladder.power_w, 3)}\u00a0"
            spread += tr("K/W, typical") if ladder.typical else "K/W"
            draw_text(painter, QPointF(width + 4, top + 42), spread, font(SMALL), p.soft)
            fixed, bar = hot - (rung.kelvin - rung.by_fans_k), top + 6.0
            self._rail(painter, across.px(hot), y, bar)
            self._bar(painter, QRectF(across.px(fixed), bar, across.px(hot) - across.px(fixed), BAR), p.ink, ladder.typical)
            amount = number_text(rung.kelvin - rung.by_fans_k, 1)
            self._say(painter, across, hot, fixed, bar, amount, tr("K"), p.ink)
            y, end = bar + BAR, fixed
            if rung.by_fans_k > 0.05:
                end, low = fixed - rung.by_fans_k, bar + self._rung_px(ladder) / 3.0
                self._rail(painter, across.px(fixed), y, low)
                area = QRectF(across.px(end), low, across.px(fixed) - across.px(end), BAR)
                self._bar(painter, area, p.accent, ladder.typical)
                self._say(painter, across, fixed, end, low, number_text(rung.by_fans_k, 1), tr("K fans can change"), p.accent)
                y = low + BAR
            if not ladder.typical:
                self._whisker(painter, across, end, y + 4.5, rung.half_width_k)
            hot = end
        self._rail(painter, across.px(hot), y, self._foot(ladder))
        text = tr("{room} room").format(room=number_text(ladder.room_c, 1))
        draw_text(painter, QPointF(across.px(hot) - 10, self._foot(ladder) + 13), text, font(SMALL), p.ink)

    def _draw_key(self, painter: QPainter, ladder: Ladder) -> None:
        """Say what bars and whiskers mean, where the ladder leaves room: under its hot end."""
        p = self._look.palette
        x, y = self.width() - KEY_PX, self._foot(ladder) - 58.0
        body = tr("typical until fitted") if ladder.typical else tr("fans cannot change this")
        for line, (colour, words) in enumerate(((p.ink, body), (p.accent, tr("more fan speed can gain this")))):
            self._bar(painter, QRectF(x, y + 16 * line, 18, 8), colour, ladder.typical)
            draw_text(painter, QPointF(x + 26, y + 8 + 16 * line), words, font(SMALL), p.soft, halo=p.ground)
        if ladder.typical:
            return
        painter.setPen(QColor(p.soft))
        level = y + 36.5
        painter.drawLine(QPointF(x, level), QPointF(x + 18, level))
        for end in (x, x + 18):
            painter.drawLine(QPointF(end, level - 3), QPointF(end, level + 3))
        draw_text(painter, QPointF(x + 26, y + 40), tr("95 % interval of the rung"), font(SMALL), p.soft, halo=p.ground)

    def _rail(self, painter: QPainter, x: float, top: float, foot: float) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setPen(QColor(self._look.palette.ink))
        painter.drawLine(QPointF(round(x), top), QPointF(round(x), foot))

    def _bar(self, painter: QPainter, area: QRectF, colour: str, typical: bool) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setPen(QPen(QColor(colour), 1.5))
        painter.setBrush(QColor(self._look.palette.ground if typical else colour))
        painter.drawRect(area)

    def _say(
        self, painter: QPainter, across: PixelSpan, hot: float, cold: float, bar: float, amount: str, words: str, colour: str
    ) -> None:
        """Name a bar at whichever end has room."""
        p, text = self._look.palette, f"\u00a0{words}"
        room = self.width() - across.px(hot)
        halo = p.ground
        if room > 60 + 7 * len(words):
            width = draw_text(painter, QPointF(across.px(hot) + 10, bar + 11), amount, font(BODY), colour, halo=halo)
            draw_text(painter, QPointF(across.px(hot) + 10 + width, bar + 11), text, font(SMALL), p.soft, halo=halo)
            return
        left = across.px(cold) - 10
        width = draw_text(painter, QPointF(left, bar + 11), text, font(SMALL), p.soft, halo=halo, align=RIGHT)
        draw_text(painter, QPointF(left - width, bar + 11), amount, font(BODY), colour, halo=halo, align=RIGHT)

    def _whisker(self, painter: QPainter, across: PixelSpan, at: float, y: float, half_width_k: float) -> None:
        a, b = across.px(at - half_width_k), across.px(at + half_width_k)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setPen(QColor(self._look.palette.soft))
        painter.drawLine(QPointF(max(a, NAMES_PX), y), QPointF(b, y))
        for x in (max(a, NAMES_PX), b):
            painter.drawLine(QPointF(x, y - 3), QPointF(x, y + 3))

    def _draw_shares(self, painter: QPainter, ladder: Ladder, across: PixelSpan) -> None:
        """Draw all of it in one bar: what fans can change, and what only watts or parts can."""
        p, y = self._look.palette, self._foot(ladder) + 19.0
        draw_text(painter, QPointF(0, y + 11), tr("Of this"), font(BODY), p.soft)
        start, end = across.px(ladder.room_c), across.px(ladder.core_c)
        cut = across.px(ladder.room_c + ladder.by_fans_k)
        self._bar(painter, QRectF(start, y, cut - start, BAR), p.accent, ladder.typical)
        self._bar(painter, QRectF(cut + 1, y, end - cut - 1, BAR), p.ink, ladder.typical)
        total = ladder.core_c - ladder.room_c
        by_fans = tr("{k} K fans can change").format(k=number_text(ladder.by_fans_k, 1))
        rest = number_text(total - ladder.by_fans_k, 1)
        others = tr("{k} K they cannot; only watts or parts can").format(k=rest)
        small = QFontMetricsF(font(SMALL))
        if small.horizontalAdvance(by_fans) + small.horizontalAdvance(others) + 16 > end - start:
            others = tr("{k} K they cannot").format(k=rest)
        draw_text(painter, QPointF(start, y + BAR + 14), by_fans, font(SMALL), p.accent)
        draw_text(painter, QPointF(end, y + BAR + 14), others, font(SMALL), p.ink, align=RIGHT)


def heat_path_text(ladder: Ladder) -> str:
    """Return a ladder in words."""
    parts = [
        tr("{name}: {k} K ± {hw} K, of which fans can change {fans} K").format(
            name=name,
            k=number_text(rung.kelvin, 1),
            hw=number_text(rung.half_width_k, 1),
            fans=number_text(rung.by_fans_k, 1),
        )
        for rung, name in zip(ladder.rungs, ladder.names, strict=True)
    ]
    head = tr("At {w} W in a {room} °C room the hottest core reads {core} °C.").format(
        w=number_text(ladder.power_w, 0), room=number_text(ladder.room_c, 1), core=number_text(ladder.core_c, 1)
    )
    return "; ".join([head, *parts, tr("typical, not measured yet") if ladder.typical else tr("fitted")])
