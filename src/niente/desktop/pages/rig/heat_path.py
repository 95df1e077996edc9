"""The heat path: a ladder from the hottest core to the room whose rungs are as long as the kelvins lost there."""

import msgspec
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QFontMetricsF, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from niente.core.model.quantities import number_text
from niente.core.science.heat.rungs import Rung
from niente.desktop.pages.rig.watt_axis import WattAxis, draw_watt_axis
from niente.desktop.services.theme import BODY, SMALL, Look, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import draw_text, elided
from niente.desktop.widgets.scale import PixelSpan, ticks

NAMES_PX, LADDER_TOP, BAR = 132, 60, 14
RUNG_PX, MIN_RUNG_PX, MAX_RUNG_PX, BELOW_PX = 76, 48, 132, 66
"""A rung's height, as it is wanted, where there is little room and where there is much; and what stands under the ladder."""
LEAST_RUNGS = 3
POWER_STEP_W = 5.0
KEY_PX, GAP_PX, VALUE_PX = 190, 16, 56
RIGHT = Qt.AlignmentFlag.AlignRight
MIDDLE = Qt.AlignmentFlag.AlignHCenter


class Ladder(msgspec.Struct, frozen=True):
    """What is drawn: the rungs, core first, at a power and a room; ``names`` and ``sub`` say what each runs through.

    ``typical`` is drawn open: nothing has been fitted yet. ``other`` is a second source of heat with watts of its own. With a
    ``half_width_k`` of the whole rise rungs are told in kelvins, otherwise in K/W. Rungs at the place ``selected`` stand out.
    """

    rungs: tuple[Rung, ...]
    names: tuple[str, ...]
    sub: tuple[str, ...]
    power: WattAxis
    room_c: float
    typical: bool
    other: WattAxis | None = None
    half_width_k: float | None = None
    selected: str = ""

    @property
    def power_w(self) -> float:
        """What the package draws."""
        return self.power.watts

    @property
    def core_c(self) -> float:
        """Where the ladder stands at its top."""
        return self.room_c + sum(rung.kelvin for rung in self.rungs)

    @property
    def by_fans_k(self) -> float:
        """What the fans at their fastest would take away."""
        return sum(rung.by_fans_k for rung in self.rungs)


class LadderView(QWidget):
    """The ladder, and the scales of watts above it that mouse and keys move along."""

    power_moved = Signal(float)
    other_moved = Signal(float)
    place_chosen = Signal(str)
    """A person points at a rung that stands for a place of the air."""

    def __init__(self, look: Look) -> None:
        super().__init__()
        self._look = look
        self._ladder: Ladder | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(tr("Heat path; left and right arrow keys change the power, up and down another source's watts"))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(420, LADDER_TOP + LEAST_RUNGS * MIN_RUNG_PX + BELOW_PX)
        look.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        """As in the picture at 1280 px."""
        return QSize(596, LADDER_TOP + 3 * RUNG_PX + BELOW_PX)

    def show_ladder(self, ladder: Ladder | None) -> None:
        """Draw another ladder."""
        self._ladder = ladder
        rungs = max(len(ladder.rungs), LEAST_RUNGS) if ladder is not None else LEAST_RUNGS
        self.setMinimumHeight(LADDER_TOP + rungs * MIN_RUNG_PX + BELOW_PX)
        self.setAccessibleDescription(heat_path_text(ladder) if ladder is not None else "")
        self.update()

    # -- the scales of watts -----------------------------------------------------------------------------------

    def _cut(self, ladder: Ladder) -> float:
        """Where the scale of the package's watts ends and that of the other source begins."""
        return float(self.width()) if ladder.other is None else round(0.6 * self.width())

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take the watts from where a scale is pressed, or choose the place of a rung."""
        ladder = self._ladder
        if ladder is not None and event.position().y() >= LADDER_TOP - 24:
            row = int((event.position().y() - LADDER_TOP) // self._rung_px(ladder))
            if 0 <= row < len(ladder.rungs) and ladder.rungs[row].at:
                self.place_chosen.emit(ladder.rungs[row].at)
        self.mouseMoveEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Drag watts along their scale."""
        ladder, x = self._ladder, event.position().x()
        if ladder is None or not event.buttons() or event.position().y() >= LADDER_TOP - 24:
            return
        cut = self._cut(ladder)
        if x < cut or ladder.other is None:
            self.power_moved.emit(ladder.power.within(ladder.power.span(0.0, cut - GAP_PX * (cut < self.width())).value(x)))
        else:
            self.other_moved.emit(ladder.other.within(ladder.other.span(cut, self.width()).value(x)))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Move watts by a step: the package's along, the other source's up and down."""
        along = {Qt.Key.Key_Left: -POWER_STEP_W, Qt.Key.Key_Right: POWER_STEP_W}.get(Qt.Key(event.key()))
        up = {Qt.Key.Key_Down: -POWER_STEP_W, Qt.Key.Key_Up: POWER_STEP_W}.get(Qt.Key(event.key()))
        ladder = self._ladder
        if ladder is not None and along is not None:
            self.power_moved.emit(ladder.power.within(ladder.power.watts + along))
        elif ladder is not None and up is not None and ladder.other is not None:
            self.other_moved.emit(ladder.other.within(ladder.other.watts + up))
        else:
            super().keyPressEvent(event)

    # -- painting ------------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the scale of watts, the ladder, and what of it the fans can change."""
        if self._ladder is None:
            return
        painter = QPainter(self)
        cut = self._cut(self._ladder)
        draw_watt_axis(painter, self._ladder.power, 0.0, cut - GAP_PX * (cut < self.width()), self._look.palette)
        if self._ladder.other is not None:
            draw_watt_axis(painter, self._ladder.other, cut, float(self.width()), self._look.palette)
        across = self._celsius(self._ladder)
        self._draw_grid(painter, self._ladder, across)
        self._draw_rungs(painter, self._ladder, across)
        self._draw_shares(painter, self._ladder, across)
        last = across.px(self._ladder.room_c + self._ladder.rungs[-1].kelvin)
        if self.width() > KEY_PX * 2.8 and self._rung_px(self._ladder) > 64 and last < self.width() - KEY_PX - 90:
            self._draw_key(painter, self._ladder)
        painter.end()

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
        whole, unit = (ladder.power_w, "K/W") if ladder.half_width_k is None else (1.0, "K")
        digits = 3 if ladder.half_width_k is None else 1
        for point, (rung, name, sub) in enumerate(zip(ladder.rungs, ladder.names, ladder.sub, strict=True)):
            top = LADDER_TOP + self._rung_px(ladder) * point
            if ladder.selected and rung.at == ladder.selected:
                painter.fillRect(QRectF(0, top - 2, self.width(), self._rung_px(ladder) - 2), QColor(p.surface))
                painter.fillRect(QRectF(0, top - 2, 3, self._rung_px(ladder) - 2), QColor(p.accent))
            x = 8.0 if ladder.selected else 0.0
            fixed = hot - (rung.kelvin - rung.by_fans_k)
            room = max(across.px(fixed) - VALUE_PX, float(NAMES_PX)) - x
            draw_text(painter, QPointF(x, top + 14), elided(name, BODY, room), font(BODY), p.ink)
            draw_text(painter, QPointF(x, top + 28), elided(sub, SMALL, room), font(SMALL), p.soft)
            theta = number_text(rung.kelvin / whole, digits)
            width = draw_text(painter, QPointF(x, top + 42), theta, font(SMALL, bold=True), p.ink)
            spread = "" if ladder.typical else f"± {number_text(rung.half_width_k / whole, digits)}\u00a0"
            spread += tr("{unit}, typical").format(unit=unit) if ladder.typical else unit
            draw_text(painter, QPointF(x + width + 4, top + 42), spread, font(SMALL), p.soft)
            bar = top + 6.0
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
        draw_text(
            painter, QPointF(0, y + 11), tr("Of this") if ladder.half_width_k is None else tr("Together"), font(BODY), p.soft
        )
        if ladder.half_width_k is not None:
            joint = f"{number_text(ladder.core_c - ladder.room_c, 1)} ± {number_text(ladder.half_width_k, 1)}\u00a0K"
            draw_text(painter, QPointF(0, y + BAR + 14), joint, font(SMALL, bold=True), p.ink)
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
