"""Noise against throughput for every setting: the front, the pick and its runners-up, and the limits as handles."""

import math
from collections.abc import Sequence
from itertools import pairwise

import msgspec
import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QFontMetricsF, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF

from niente.core.analysis.judged import JudgedSettings
from niente.core.model.limits import Limits
from niente.core.model.quantities import number_text
from niente.core.science.arrays import Array
from niente.core.science.dynamics import MARKS, Scale
from niente.core.selection.explanation import candidate_text, short_candidate_text
from niente.core.selection.methods import MethodStep
from niente.core.selection.pick import Candidate, Choice
from niente.core.selection.points import PointStand
from niente.desktop.pages.answer.scatter_points import ScatterPoints, sort_settings
from niente.desktop.pages.answer.ways import MethodCurves
from niente.desktop.services.theme import BODY, SMALL, Look, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import draw_beside, draw_text, faint
from niente.desktop.widgets.canvas import draw_axis_ticks, spans
from niente.desktop.widgets.marks import draw_inferred, draw_measured, draw_picked, draw_rejected, draw_ringed
from niente.desktop.widgets.plot import Plot
from niente.desktop.widgets.scale import PixelSpan, QuietSpan, rounded, ticks, ticks_along

GUTTERS = (60, 32, 56, 50)
MIDDLE, RIGHT = Qt.AlignmentFlag.AlignHCenter, Qt.AlignmentFlag.AlignRight
GRAB_PX, TICK_PX, TICKS_UP = 9.0, 38.0, 6
NAMED = 1000.0
"""A mark with a number is worth so many others, where a label is to meet few."""
THROUGHPUT, NOISE = "min_throughput_percent", "max_noise_dba"
STEPS = {THROUGHPUT: 1.0, NOISE: 0.5}


class Scatter(Plot):
    """The picture of the choice. ``limit_moved`` gives a limit's name and where its handle was let go."""

    limit_moved = Signal(str, float)
    pointed_at = Signal(int)
    """A person points at a setting, by its index among those that the choice is made from; -1: at the pick again."""

    def __init__(self, look: Look) -> None:
        super().__init__(
            look,
            GUTTERS,
            tr(
                "Noise against throughput; up and down move the least throughput, left and right the most noise; Page Up and "
                "Page Down walk along the settings, Home is the pick"
            ),
        )
        self.setMouseTracking(True)
        self.setMinimumHeight(240)
        self.box = self.canvas.box(0, 0, 1)
        self._settings: ScatterPoints | None = None
        self._limits = Limits()
        self._choice: Choice | None = None
        self._scale = Scale()
        self._grabbed = ""
        self._pointed: Candidate | None = None
        self._stands: tuple[PointStand, ...] = ()
        self.ways = MethodCurves(look)

    def show_settings(
        self,
        judged: JudgedSettings,
        limits: Limits,
        choice: Choice | None,
        scale: Scale,
        method_steps: tuple[MethodStep, ...] = (),
    ) -> None:
        """Draw the settings that a choice is made from, and over them the ways of limiting a machine, where more than one was
        measured."""
        self._limits, self._choice, self._scale = limits, choice, scale
        self.ways.take(method_steps)
        self._settings = made = sort_settings(judged, limits, self.ways.method_steps)
        every = np.concatenate([made.measured, made.inferred, made.front, self.ways.points()])
        every = every if every.shape[0] else np.concatenate([made.rejected, made.worse])
        low, high = np.min(every, axis=0), np.max(every, axis=0)
        low[1] = min(low[1], limits.min_throughput_percent - 5.0)
        if limits.max_noise_dba is not None:  # a handle stands where it was put
            low[0], high[0] = min(low[0], limits.max_noise_dba), max(high[0], limits.max_noise_dba)
        levels = (math.floor(low[0] - 0.3), math.ceil(max(high[0] + 0.5, low[0] + 6.0)))
        self.box.setRange(xRange=levels, yRange=rounded(low[1] - 2.0, high[1] + 2.0, TICKS_UP), padding=0.0)
        self._speak()
        self.draw_again()

    def point_at(self, candidate: Candidate | None) -> None:
        """Ring a setting beside the pick; ``None`` rings none."""
        self._pointed = candidate
        self.draw_again()

    def show_points(self, stands: Sequence[PointStand]) -> None:
        """Draw kept points with their names."""
        if tuple(stands) != self._stands:
            self._stands = tuple(stands)
            self.draw_again()

    def _speak(self) -> None:
        made, choice = self._settings, self._choice
        if made is None:
            return
        total = sum(group.shape[0] for group in (made.measured, made.inferred))
        words = tr("{n} settings drawn keep every limit or were measured. Least throughput {t} %.").format(
            n=total, t=f"{self._limits.min_throughput_percent:g}"
        )
        if choice is not None:
            words += " " + tr("The pick: {point}, {dba} dBA, {t} %. The table below gives the runners-up.").format(
                point=candidate_text(choice.pick),
                dba=number_text(choice.pick.in_room_dba, 1),
                t=number_text(choice.pick.throughput_percent, 1),
            )
        words += self.ways.words()
        self.setAccessibleDescription(words)

    def axes(self) -> tuple[PixelSpan, PixelSpan]:
        """Return the two axes; that of noise gives its quiet end, where settings are chosen from, the most room."""
        across, up = spans(self.canvas, self.box)
        return QuietSpan(across.low, across.high, across.start_px, across.end_px), up

    # -- painting ------------------------------------------------------------------------------------------------

    def _under(self, painter: QPainter) -> None:
        """Draw what the limits exclude, and rules at the marks' limits."""
        if self._settings is None:
            return
        p, area = self.look.palette, self.canvas.area(self.box)
        across, up = self.axes()
        y = min(max(up.px(self._limits.min_throughput_percent), area.top()), area.bottom())
        painter.fillRect(QRectF(area.left(), y, area.width(), area.bottom() - y), QColor(p.shade))
        if self._limits.max_noise_dba is not None:
            x = min(max(across.px(self._limits.max_noise_dba), area.left()), area.right())
            painter.fillRect(QRectF(x, area.top(), area.right() - x, y - area.top()), QColor(p.shade))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setPen(QColor(p.rule))
        for value in ticks(up.low, up.high, TICKS_UP):
            level = round(up.px(value)) + 0.5
            painter.drawLine(QLineF(area.left(), level, area.right(), level))
        for limit in self._mark_limits(across):
            x = round(across.px(limit)) + 0.5
            painter.drawLine(QLineF(x, area.top(), x, area.bottom()))

    def _mark_limits(self, across: PixelSpan) -> list[float]:
        return [limit for limit in self._scale.limits_dba if across.low < limit < across.high]

    def _over(self, painter: QPainter) -> None:
        made = self._settings
        if made is None:
            return
        p, area = self.look.palette, self.canvas.area(self.box)
        across, up = self.axes()

        def at(point: Array) -> QPointF:
            return QPointF(across.px(float(point[0])), up.px(float(point[1])))

        painter.setClipRect(area.adjusted(-6, -6, 6, 6))
        for point in made.worse:
            draw_rejected(painter, at(point), faint(p.soft, 0.35))
        for point in made.rejected:
            draw_rejected(painter, at(point), faint(p.soft, 0.8))
        for point in made.inferred:
            draw_inferred(painter, at(point), p)
        self._draw_front(painter, made, across, up)
        self.ways.draw(painter, across, up)
        for point in made.measured:
            draw_measured(painter, at(point), p)
        painter.setClipping(False)
        draw_axis_ticks(painter, self.canvas, self.box, ticks_along(across, TICK_PX), bottom=True, along=across)
        draw_axis_ticks(painter, self.canvas, self.box, ticks(up.low, up.high, TICKS_UP), bottom=False)
        draw_text(painter, QPointF(0, area.top() - 22), tr("Throughput, % of stock"), font(SMALL), p.ink, halo=p.ground)
        draw_text(painter, QPointF(area.right() + 16, area.bottom() + 16), tr("dBA"), font(SMALL), p.ink)
        self._draw_dynamics(painter, area, across)
        self._draw_handles(painter, area, across, up)
        self._draw_names(painter, area, across, up)
        self._draw_legend(painter, area)

    def _draw_front(self, painter: QPainter, made: ScatterPoints, across: PixelSpan, up: PixelSpan) -> None:
        if made.front.shape[0] < 2:
            return
        p = self.look.palette
        points = [(across.px(x), up.px(y)) for x, y in made.front.tolist()]
        spread = list(zip(made.front.tolist(), made.spread_db.tolist(), strict=True))
        band = [QPointF(across.px(x - s), up.px(y)) for (x, y), s in spread]
        band += [QPointF(across.px(x + s), up.px(y)) for (x, y), s in spread[::-1]]
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(faint(p.ink, 0.16))
        painter.drawPolygon(QPolygonF(band))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(p.ink), 1.5))
        painter.drawPolyline(QPolygonF([QPointF(x, y) for x, y in points]))

    def _draw_dynamics(self, painter: QPainter, area: QRectF, across: PixelSpan) -> None:
        """Write the dynamic marks under the axis, between the limits that part them."""
        limits = self._scale.limits_dba
        if not limits:
            return
        p, y = self.look.palette, area.bottom() + 38
        draw_text(painter, QPointF(0, y - 2), tr("In the room"), font(SMALL), p.soft)
        edges = [-1e9, *limits, 1e9]
        here = self._scale.mark(self._choice.pick.in_room_dba) if self._choice is not None else ""
        for mark, (low, high) in zip(MARKS, pairwise(edges), strict=True):
            a, b = max(across.px(low), area.left()), min(across.px(high), area.right())
            if b - a > 26:
                colour = p.accent if mark == here else p.ink
                draw_text(painter, QPointF((a + b) / 2, y), mark, font(BODY, bold=True, italic=True), colour, align=MIDDLE)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setPen(QColor(p.strong_rule))
        for limit in self._mark_limits(across):
            x = round(across.px(limit)) + 0.5
            painter.drawLine(QLineF(x, y - 10, x, y + 3))

    def _noise_at(self, across: PixelSpan) -> float:
        """Return where the noise limit's handle stands; at the axis' end while there is no such limit."""
        limit = self._limits.max_noise_dba
        return across.high if limit is None else min(max(limit, across.low), across.high)

    def _draw_handles(self, painter: QPainter, area: QRectF, across: PixelSpan, up: PixelSpan) -> None:
        p, least = self.look.palette, self._limits.min_throughput_percent
        y = min(max(up.px(least), area.top()), area.bottom())
        x = across.px(self._noise_at(across))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setPen(QColor(p.ink))
        painter.drawLine(QLineF(area.left(), round(y) + 0.5, area.right(), round(y) + 0.5))
        if self._limits.max_noise_dba is not None:
            painter.drawLine(QLineF(round(x) + 0.5, area.top(), round(x) + 0.5, area.bottom()))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(p.ink))
        left, top = area.left() - 1, area.top() - 1
        painter.drawPolygon(QPolygonF([QPointF(left - 10, y - 6), QPointF(left - 10, y + 6), QPointF(left, y)]))
        if self._limits.max_noise_dba is None:
            painter.setBrush(QColor(p.ground))
            painter.setPen(QPen(QColor(p.ink), 1.0))
        painter.drawPolygon(QPolygonF([QPointF(x - 6, top - 10), QPointF(x + 6, top - 10), QPointF(x, top)]))
        text = tr("at least {t} %").format(t=f"{least:g}")
        draw_text(painter, QPointF(area.right() - 6, y - 5), text, font(SMALL), p.ink, halo=p.ground, align=RIGHT)
        limit = self._limits.max_noise_dba
        words = tr("at most {n} dBA").format(n=number_text(limit, 1)) if limit is not None else tr("no noise limit: drag")
        side = RIGHT if x > area.right() - 110 else Qt.AlignmentFlag.AlignLeft
        shift = -10.0 if side == RIGHT else 10.0
        draw_text(painter, QPointF(x + shift, top - 2), words, font(SMALL), p.ink if limit is not None else p.soft, align=side)

    def _draw_names(self, painter: QPainter, area: QRectF, across: PixelSpan, up: PixelSpan) -> None:
        """Draw the pick with lines to its axes, and the runners-up by their numbers in the table."""
        choice, p = self._choice, self.look.palette
        if choice is None:
            return

        def at(one: Candidate) -> QPointF:
            return QPointF(across.px(one.in_room_dba), up.px(one.throughput_percent))

        for number, other in enumerate(choice.runners_up, 2):
            point = at(other)
            draw_ringed(painter, point, p)
            draw_text(painter, point + QPointF(9, 4), f"{number}", font(SMALL, bold=True), p.ink, halo=p.ground)
        taken = [QRectF(at(one).x(), at(one).y() - 8, 20, 16) for one in choice.runners_up]
        for stand in self._stands:
            if stand.at is not None and stand.at.setting != choice.pick.setting and area.contains(at(stand.at)):
                draw_ringed(painter, at(stand.at), p)
                draw_beside(painter, at(stand.at), stand.point.name, p, taken)
        if self._pointed is not None and area.contains(at(self._pointed)):
            draw_ringed(painter, at(self._pointed), p, wide=True)
        pick = at(choice.pick)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        dotted = QPen(QColor(p.accent), 1.0)
        dotted.setDashPattern([2.0, 3.0])
        painter.setPen(dotted)
        painter.drawLine(QLineF(area.left(), round(pick.y()) + 0.5, pick.x(), round(pick.y()) + 0.5))
        painter.drawLine(QLineF(round(pick.x()) + 0.5, pick.y(), round(pick.x()) + 0.5, area.bottom()))
        draw_picked(painter, pick, p)
        words = short_candidate_text(choice.pick)
        x, y, side = self._room_for(words, pick, area, across, up)
        draw_text(painter, QPointF(x, y), tr("the pick"), font(SMALL), p.accent, halo=p.ground, align=side)
        draw_text(painter, QPointF(x, y + 14), words, font(BODY, bold=True), p.ink, halo=p.ground, align=side)

    def _room_for(
        self, words: str, pick: QPointF, area: QRectF, across: PixelSpan, up: PixelSpan
    ) -> tuple[float, float, Qt.AlignmentFlag]:
        """Return where the pick's label meets the fewest marks: left or right of it, above or below."""
        made = self._settings
        if made is None:
            return pick.x(), pick.y(), RIGHT
        marks = np.concatenate([made.measured, made.inferred, made.rejected, made.front])
        x = np.array([across.px(level) for level in marks[:, 0].tolist()])
        y = up.start_px + (marks[:, 1] - up.low) / (up.high - up.low) * (up.end_px - up.start_px)
        others = self._choice.runners_up if self._choice is not None else ()
        named = [(across.px(other.in_room_dba), up.px(other.throughput_percent)) for other in others]
        width = QFontMetricsF(font(BODY, bold=True)).horizontalAdvance(words) + 6
        best, least = (pick.x() + 14, pick.y() - 26, Qt.AlignmentFlag.AlignLeft), math.inf
        for side, way in ((Qt.AlignmentFlag.AlignLeft, 1.0), (RIGHT, -1.0)):
            for top in (-34.0, -54.0, 18.0, 34.0):
                start = pick.x() + way * 12
                left, high = (start if way > 0 else start - width), pick.y() + top
                met = float(np.count_nonzero((x > left - 4) & (x < left + width) & (y > high - 2) & (y < high + 28)))
                met += NAMED * sum(left - 24 < px < left + width + 8 and high - 8 < py < high + 36 for px, py in named)
                inside = area.adjusted(2, 0, 0, 0).contains(QRectF(left, high, width, 28))
                met += abs(top) / 200.0 if inside else 100.0
                if met < least:
                    best, least = (start, high + 9, side), met
        return best

    def _draw_legend(self, painter: QPainter, area: QRectF) -> None:
        p, x, y = self.look.palette, area.right() - 14.0, area.bottom() - 12.0
        words = tr("breaks a limit")
        width = draw_text(painter, QPointF(x, y + 3.5), words, font(SMALL), p.ink, halo=p.shade, align=RIGHT)
        draw_rejected(painter, QPointF(x - width - 9, y), QColor(p.soft))
        x -= width + 32
        width = draw_text(painter, QPointF(x, y + 3.5), tr("inferred"), font(SMALL), p.ink, halo=p.shade, align=RIGHT)
        draw_inferred(painter, QPointF(x - width - 9, y), p)
        x -= width + 32
        width = draw_text(painter, QPointF(x, y + 3.5), tr("measured"), font(SMALL), p.ink, halo=p.shade, align=RIGHT)
        draw_measured(painter, QPointF(x - width - 9, y), p)

    # -- the handles ---------------------------------------------------------------------------------------------

    def _handle_at(self, point: QPointF) -> str:
        if self._settings is None:
            return ""
        area = self.canvas.area(self.box)
        across, up = self.axes()
        y = min(max(up.px(self._limits.min_throughput_percent), area.top()), area.bottom())
        x = across.px(self._noise_at(across))
        if abs(point.y() - y) < GRAB_PX and (point.x() < area.left() + 4 or self._on_line(point, area)):
            return THROUGHPUT
        if abs(point.x() - x) < GRAB_PX and (point.y() < area.top() + 4 or self._limits.max_noise_dba is not None):
            return NOISE
        return ""

    @staticmethod
    def _on_line(point: QPointF, area: QRectF) -> bool:
        return area.left() <= point.x() <= area.right()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take hold of a handle."""
        self._grabbed = self._handle_at(event.position())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Drag a handle; nothing is decided until it is let go."""
        if not self._grabbed:
            shapes = {THROUGHPUT: Qt.CursorShape.SizeVerCursor, NOISE: Qt.CursorShape.SizeHorCursor}
            self.setCursor(shapes.get(self._handle_at(event.position()), Qt.CursorShape.ArrowCursor))
            return
        self._put(self._grabbed, self._value_under(self._grabbed, event.position()))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Decide."""
        grabbed, self._grabbed = self._grabbed, ""
        if grabbed:
            self.limit_moved.emit(grabbed, self._value_under(grabbed, event.position()))
        elif (index := self._setting_at(event.position())) is not None:
            self.pointed_at.emit(index)

    def _setting_at(self, point: QPointF) -> int | None:
        """Return the setting whose mark is nearest to a point, by its index; ``None`` where none is near."""
        made = self._settings
        if made is None or not made.drawn.shape[0]:
            return None
        across, up = self.axes()
        x = np.array([across.px(level) for level in made.at[:, 0].tolist()])
        y = np.array([up.px(share) for share in made.at[:, 1].tolist()])
        away = np.hypot(x - point.x(), y - point.y())
        nearest = int(np.argmin(away))
        return int(made.drawn[nearest]) if away[nearest] <= GRAB_PX else None

    def _walk(self, way: int) -> None:
        """Point at the next setting to the louder or the quieter side of the one pointed at, or of the pick."""
        made, choice = self._settings, self._choice
        if made is None or choice is None:
            return
        here = self._pointed or choice.pick
        order = np.lexsort((made.at[:, 1], made.at[:, 0]))
        place = (here.in_room_dba, here.throughput_percent)
        keys = [tuple(made.at[index]) for index in order.tolist()]
        beyond = [at for at, key in enumerate(keys) if (key > place if way > 0 else key < place)]
        if beyond:
            self.pointed_at.emit(int(made.drawn[order[beyond[0] if way > 0 else beyond[-1]]]))

    def _value_under(self, name: str, point: QPointF) -> float:
        across, up = self.axes()
        if name == THROUGHPUT:
            return float(round(min(max(up.value(point.y()), up.low), up.high)))
        value = across.value(point.x())
        return math.inf if value >= across.high - 0.3 else round(2.0 * max(value, across.low)) / 2.0

    def _put(self, name: str, value: float) -> None:
        shown: float | None = None if name == NOISE and not math.isfinite(value) else value
        self._limits = msgspec.structs.replace(self._limits, **{name: shown})
        self.draw_again()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Move a limit by a step; walk along the settings, and back to the pick."""
        walks = {Qt.Key.Key_PageDown: 1, Qt.Key.Key_PageUp: -1}
        if event.key() in (*walks, Qt.Key.Key_Home):
            if event.key() == Qt.Key.Key_Home:
                self.pointed_at.emit(-1)
            else:
                self._walk(walks[Qt.Key(event.key())])
            return
        moves = {
            Qt.Key.Key_Up: (THROUGHPUT, 1.0),
            Qt.Key.Key_Down: (THROUGHPUT, -1.0),
            Qt.Key.Key_Right: (NOISE, 1.0),
            Qt.Key.Key_Left: (NOISE, -1.0),
        }
        move = moves.get(Qt.Key(event.key()))
        if move is None or self._settings is None:
            super().keyPressEvent(event)
            return
        name, way = move
        if name == THROUGHPUT:
            self.limit_moved.emit(name, self._limits.min_throughput_percent + way * STEPS[name])
            return
        high = self.axes()[0].high
        now = self._limits.max_noise_dba
        first = math.ceil(2.0 * high) / 2.0 - STEPS[NOISE] if way < 0 else math.inf
        value = first if now is None else now + way * STEPS[NOISE]
        self.limit_moved.emit(name, value if value < high else math.inf)
