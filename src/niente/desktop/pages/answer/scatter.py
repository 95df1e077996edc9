"""Every setting by two measures: the front, the pick with its runners-up, and the limits as handles."""

import math
from collections.abc import Sequence
from itertools import pairwise

import msgspec
import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF

from niente.core.analysis.judged import JudgedSettings
from niente.core.model.limits import Limits
from niente.core.model.quantities import number_text
from niente.core.science.arrays import Array, Vector
from niente.core.science.dynamics import MARKS, Scale
from niente.core.selection.explanation import candidate_text, short_candidate_text
from niente.core.selection.methods import MethodStep
from niente.core.selection.pick import Candidate, Choice
from niente.core.selection.points import PointStand
from niente.desktop.pages.answer.measures import ACROSS, UP, Measure
from niente.desktop.pages.answer.scatter_labels import draw_marks_legend, label_place
from niente.desktop.pages.answer.scatter_points import TICKS_UP, ScatterPoints, ranges_of, sort_settings
from niente.desktop.pages.answer.ways import MethodCurves
from niente.desktop.services.theme import BODY, SMALL, Look, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import draw_beside, draw_text, faint
from niente.desktop.widgets.canvas import draw_axis_ticks, spans
from niente.desktop.widgets.marks import draw_inferred, draw_measured, draw_picked, draw_rejected, draw_ringed
from niente.desktop.widgets.plot import Plot
from niente.desktop.widgets.scale import PixelSpan, QuietSpan, ticks, ticks_along

GUTTERS = (60, 32, 56, 50)
MIDDLE, RIGHT = Qt.AlignmentFlag.AlignHCenter, Qt.AlignmentFlag.AlignRight
GRAB_PX, TICK_PX, TICKS_ACROSS = 9.0, 38.0, 10
THROUGHPUT, NOISE = "min_throughput_percent", "max_noise_dba"
STEPS = {THROUGHPUT: 1.0, NOISE: 0.5}


class Scatter(Plot):
    """The picture of the choice, by noise and throughput unless other ``measures`` are wanted. ``limit_moved`` gives a limit's
    name and where its handle was let go."""

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
        self.setMinimumHeight(212)
        self.box = self.canvas.box(0, 0, 1)
        self._settings: ScatterPoints | None = None
        self._limits = Limits()
        self._choice: Choice | None = None
        self._scale = Scale()
        self._grabbed = ""
        self._pointed: Candidate | None = None
        self.measures = (ACROSS, UP)
        self._judged: JudgedSettings | None = None
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
        self._limits, self._choice, self._scale, self._judged = limits, choice, scale, judged
        self.ways.take(method_steps)
        self._sort(judged)

    def show_axes(self, across: Measure, up: Measure) -> None:
        """Draw the settings by other measures."""
        self.measures = (across, up)
        if self._judged is not None:
            self._sort(self._judged)

    def _sort(self, judged: JudgedSettings) -> None:
        self._settings = made = sort_settings(judged, self._limits, self.ways.method_steps, self.measures)
        rungs = [self.ways.points()] if self.measures == (ACROSS, UP) else []
        every = np.concatenate([made.measured, made.inferred, made.front, *rungs])
        every = every if every.shape[0] else np.concatenate([made.rejected, made.worse])
        if every.shape[0]:  # otherwise nothing is known of any setting
            wide, high = ranges_of(every, self._limits, self.measures)
            self.box.setRange(xRange=wide, yRange=high, padding=0.0)
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
        across, up = (tr(measure.value) for measure in self.measures)
        words += " " + tr("Drawn: {up} over {across}.").format(up=up, across=across)
        words += self.ways.words() if self.measures == (ACROSS, UP) else ""
        self.setAccessibleDescription(words)

    def axes(self) -> tuple[PixelSpan, PixelSpan]:
        """Return the two axes; that of noise gives its quiet end, where settings are chosen from, the most room."""
        across, up = spans(self.canvas, self.box)
        quiet = QuietSpan(across.low, across.high, across.start_px, across.end_px)
        return quiet if self.measures[0] == ACROSS else across, up

    # -- painting ------------------------------------------------------------------------------------------------

    def _under(self, painter: QPainter) -> None:
        """Draw what the limits exclude, and rules at the marks' limits."""
        if self._settings is None:
            return
        p, area = self.look.palette, self.canvas.area(self.box)
        across, up = self.axes()
        y = area.bottom()
        if self.measures[1] == UP:
            y = min(max(up.px(self._limits.min_throughput_percent), area.top()), area.bottom())
            painter.fillRect(QRectF(area.left(), y, area.width(), area.bottom() - y), QColor(p.shade))
        if self.measures[0] == ACROSS and self._limits.max_noise_dba is not None:
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
        limits = self._scale.limits_dba if self.measures[0] == ACROSS else ()
        return [limit for limit in limits if across.low < limit < across.high]

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
        if self.measures == (ACROSS, UP):
            self.ways.draw(painter, across, up)
        for point in made.measured:
            draw_measured(painter, at(point), p)
        painter.setClipping(False)
        usual = self.measures[0] == ACROSS
        at_px = ticks_along(across, TICK_PX) if usual else ticks(across.low, across.high, TICKS_ACROSS)
        draw_axis_ticks(painter, self.canvas, self.box, at_px, bottom=True, along=across)
        draw_axis_ticks(painter, self.canvas, self.box, ticks(up.low, up.high, TICKS_UP), bottom=False)
        draw_text(painter, QPointF(0, area.top() - 22), tr(self.measures[1].axis_title), font(SMALL), p.ink, halo=p.ground)
        if usual:
            draw_text(painter, QPointF(area.right() + 16, area.bottom() + 16), tr("dBA"), font(SMALL), p.ink)
            self._draw_dynamics(painter, area, across)
        else:
            draw_text(painter, QPointF(area.left(), area.bottom() + 38), tr(self.measures[0].axis_title), font(SMALL), p.ink)
        self._draw_handles(painter, area, across, up)
        self._draw_names(painter, area, across, up)
        draw_marks_legend(painter, area, p)

    def _draw_front(self, painter: QPainter, made: ScatterPoints, across: PixelSpan, up: PixelSpan) -> None:
        if made.front.shape[0] < 2:
            return
        p = self.look.palette
        points = [(across.px(x), up.px(y)) for x, y in made.front.tolist()]
        spread = list(zip(made.front.tolist(), made.spread.tolist(), strict=True))
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
        """Draw the limits as handles, where their axes are drawn."""
        p, least, limit = self.look.palette, self._limits.min_throughput_percent, self._limits.max_noise_dba
        y = min(max(up.px(least), area.top()), area.bottom())
        left, top = area.left() - 1, area.top() - 1
        if self.measures[1] == UP:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
            painter.setPen(QColor(p.ink))
            painter.drawLine(QLineF(area.left(), round(y) + 0.5, area.right(), round(y) + 0.5))
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(p.ink))
            painter.drawPolygon(QPolygonF([QPointF(left - 10, y - 6), QPointF(left - 10, y + 6), QPointF(left, y)]))
            text = tr("at least {t} %").format(t=f"{least:g}")
            draw_text(painter, QPointF(area.right() - 6, y - 5), text, font(SMALL), p.ink, halo=p.ground, align=RIGHT)
        if self.measures[0] != ACROSS:
            return
        x = across.px(self._noise_at(across))
        painter.setPen(QColor(p.ink))
        painter.setBrush(QColor(p.ground if limit is None else p.ink))
        if limit is not None:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
            painter.drawLine(QLineF(round(x) + 0.5, area.top(), round(x) + 0.5, area.bottom()))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.drawPolygon(QPolygonF([QPointF(x - 6, top - 10), QPointF(x + 6, top - 10), QPointF(x, top)]))
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
            return QPointF(across.px(self.measures[0].of(one)), up.px(self.measures[1].of(one)))

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
        if not math.isfinite(pick.x() + pick.y()):
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        dotted = QPen(QColor(p.accent), 1.0)
        dotted.setDashPattern([2.0, 3.0])
        painter.setPen(dotted)
        painter.drawLine(QLineF(area.left(), round(pick.y()) + 0.5, pick.x(), round(pick.y()) + 0.5))
        painter.drawLine(QLineF(round(pick.x()) + 0.5, pick.y(), round(pick.x()) + 0.5, area.bottom()))
        draw_picked(painter, pick, p)
        words = short_candidate_text(choice.pick)
        x, y, side = label_place(words, pick, area, self._marks_px(across, up), [at(other) for other in choice.runners_up])
        draw_text(painter, QPointF(x, y), tr("the pick"), font(SMALL), p.accent, halo=p.ground, align=side)
        draw_text(painter, QPointF(x, y + 14), words, font(BODY, bold=True), p.ink, halo=p.ground, align=side)

    def _marks_px(self, across: PixelSpan, up: PixelSpan) -> tuple[Vector, Vector]:
        """Return where marks stand, in px across and up ``(n,)``."""
        made = self._settings
        groups = [] if made is None else [made.measured, made.inferred, made.rejected, made.front]
        marks = np.concatenate([np.empty((0, 2)), *groups])
        x = np.array([across.px(value) for value in marks[:, 0].tolist()])
        return x, np.array([up.px(value) for value in marks[:, 1].tolist()])

    # -- the handles ---------------------------------------------------------------------------------------------

    def _handle_at(self, point: QPointF) -> str:
        if self._settings is None:
            return ""
        area = self.canvas.area(self.box)
        across, up = self.axes()
        y = min(max(up.px(self._limits.min_throughput_percent), area.top()), area.bottom())
        x = across.px(self._noise_at(across)) if self.measures[0] == ACROSS else math.inf
        if self.measures[1] == UP and abs(point.y() - y) < GRAB_PX and (point.x() <= area.right()):
            return THROUGHPUT
        if abs(point.x() - x) < GRAB_PX and (point.y() < area.top() + 4 or self._limits.max_noise_dba is not None):
            return NOISE
        return ""

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
        place = tuple(measure.of(here) for measure in self.measures)
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
        drawn = {THROUGHPUT: self.measures[1] == UP, NOISE: self.measures[0] == ACROSS}
        if move is None or self._settings is None or not drawn[move[0]]:  # a limit moves along its own axis
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
