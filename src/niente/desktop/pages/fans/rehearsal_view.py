"""A rehearsed day: work, core, level in the room and changes that are heard, under the curves as they are and as compared."""

import math
from collections.abc import Sequence

import msgspec
import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from niente.core.fans.told import DayTrace, PointFacts, RehearsedDay, WorstCase
from niente.core.model.quantities import number_text
from niente.core.science.arrays import Vector
from niente.core.science.dynamics import Scale
from niente.desktop.services.qt_errors import guarded
from niente.desktop.services.theme import SMALL, Look, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import dashed, draw_level, draw_text, draw_upright, elided
from niente.desktop.widgets.scale import PixelSpan, apart, ticks

LEFT_PX, RIGHT_PX = 60, 136
WORK_PX, RAMPS_PX, FOOT_PX, GAP_PX = 22.0, 30.0, 20.0, 10.0
STEPS_H = (4.0, 1.0, 0.5, 0.25, 1 / 6, 1 / 12, 1 / 60)
"""Steps of the clock under a day or a run, the widest that gives enough ticks."""
ENOUGH_TICKS = 4
TICKS, LABELS_APART_PX = 4, 13.0
RIGHT = Qt.AlignmentFlag.AlignRight
MIDDLE = Qt.AlignmentFlag.AlignHCenter


class DayShown(msgspec.Struct, frozen=True):
    """What the picture shows: the point; the day now, and the one that it is compared with (none: not there yet), with what
    that is called; what goes wrong on it; and the room's dynamic scale."""

    facts: PointFacts
    now: RehearsedDay
    compared: RehearsedDay | None
    compared_name: str
    worst: tuple[WorstCase, ...]
    scale: Scale


class RehearsalView(QWidget):
    """The picture of a rehearsed day; it is only looked at."""

    def __init__(self, look: Look) -> None:
        super().__init__()
        self._look = look
        self._shown: DayShown | None = None
        self.setMinimumHeight(210)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(tr("The rehearsed day: work, core temperature, level and changes that are heard"))
        look.changed.connect(self.update)

    def show_day(self, shown: DayShown | None) -> None:
        """Draw a day."""
        self._shown = shown
        self.setAccessibleDescription(self.words())
        self.update()

    def words(self) -> str:
        """Say the picture, for who does not see it."""
        if self._shown is None:
            return ""
        figures = self._shown.now.figures
        return tr("core at most {c} °C, mean level {dba} dBA, {n} changes heard").format(
            c=number_text(figures.hottest_c, 1), dba=number_text(figures.mean_dba, 1), n=figures.ramps
        )

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the day."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        guarded(lambda: self._paint(painter))
        painter.end()

    def _paint(self, painter: QPainter) -> None:
        shown = self._shown
        if shown is None:
            return
        trace = shown.now.trace
        across = PixelSpan(0.0, float(trace.hour[-1] + trace.hour[1]), LEFT_PX, self.width() - RIGHT_PX)
        panels = self.height() - WORK_PX - RAMPS_PX - FOOT_PX - 2 * GAP_PX
        core = QRectF(LEFT_PX, WORK_PX, across.end_px - LEFT_PX, 0.5 * panels)
        level = QRectF(LEFT_PX, core.bottom() + GAP_PX, core.width(), 0.5 * panels)
        self._paint_work(painter, shown.now.trace, across)
        for hour in _hours(across):
            draw_upright(painter, across.px(hour), WORK_PX, level.bottom(), self._look.palette.rule)
        self._paint_core(painter, shown, core, across)
        self._paint_level(painter, shown, level, across)
        self._paint_ramps(painter, shown, level.bottom() + GAP_PX, across)
        self._paint_hours(painter, across)

    def _name(self, painter: QPainter, y: float, *lines: str) -> None:
        p = self._look.palette
        for index, line in enumerate(lines):
            draw_text(painter, QPointF(0, y + 12 * index), line, font(SMALL), p.soft if index else p.ink)

    def _paint_work(self, painter: QPainter, trace: DayTrace, across: PixelSpan) -> None:
        """Draw how hard the machine works: as high as its share, dark where that is the heaviest load."""
        p, foot, high = self._look.palette, WORK_PX - 7.0, 12.0
        self._name(painter, foot, tr("Work"))
        wide = across.px(float(trace.hour[1])) - across.px(0.0)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        for hour, works, heavy in zip(trace.hour.tolist(), trace.activity.tolist(), trace.heavy.tolist(), strict=True):
            if works > 0.02:
                area = QRectF(across.px(hour), foot - high * works, wide + 0.5, high * works)
                painter.fillRect(area, QColor(p.ink if heavy > 0.5 else p.strong_rule))
        draw_level(painter, across.start_px, across.end_px, foot, p.strong_rule)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if np.any(trace.heavy > 0.5):
            draw_text(painter, QPointF(across.end_px + 8, foot), tr("dark: heaviest load"), font(SMALL), p.soft)

    def _paint_core(self, painter: QPainter, shown: DayShown, area: QRectF, across: PixelSpan) -> None:
        p, facts = self._look.palette, shown.facts
        days = [one for one in (shown.compared, shown.now) if one is not None]
        kept_c = facts.ceiling_c - facts.headroom_k
        low = min(float(one.trace.core_low_c.min()) for one in days)
        high = max(kept_c + 4.0, *(float(one.trace.core_high_c.max()) for one in days), *(one.hottest_c for one in shown.worst))
        up = PixelSpan(math.floor(low / 5.0) * 5.0, min(math.ceil((high + 1.0) / 5.0) * 5.0, 130.0), area.bottom(), area.top())
        self._name(painter, area.top() + 10, tr("Core"), tr("°C"))
        self._paint_rules(painter, area, up)
        painter.setPen(dashed(p.cap_line, 6.0, 3.0))
        painter.drawLine(QLineF(area.left(), up.px(kept_c), area.right(), up.px(kept_c)))
        words = tr("{c} °C: headroom kept").format(c=number_text(kept_c, 0))
        draw_text(painter, QPointF(area.left() + 6, up.px(kept_c) - 4), words, font(SMALL), p.ink, halo=p.ground)
        if up.low < facts.limit_c < up.high:
            draw_level(painter, area.left(), area.right(), up.px(facts.limit_c), p.guard)
            draw_text(
                painter,
                QPointF(area.left() + 6, up.px(facts.limit_c) - 4),
                tr("maker's limit"),
                font(SMALL),
                p.ink,
                halo=p.ground,
            )
        self._paint_days(painter, shown, across, up, of_core=True)
        self._paint_measured(painter, shown.now, across, up, of_core=True)
        self._paint_worst(painter, shown.worst, area, up)

    def _paint_measured(self, painter: QPainter, day: RehearsedDay, across: PixelSpan, up: PixelSpan, *, of_core: bool) -> None:
        """Draw what a run read over its rehearsal, and how far off that is."""
        if day.measured is None:
            return
        p, read = self._look.palette, day.measured
        values = read.core_c if of_core else read.level_dba
        points = zip(day.trace.hour.tolist(), values.tolist(), strict=True)
        line = [QPointF(across.px(hour), up.px(value)) for hour, value in points if math.isfinite(value)]
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(p.ink), 1.0))
        painter.drawPolyline(QPolygonF(line))
        if not line:
            return
        words = (tr("ink: measured,"), tr("within {k} K").format(k=number_text(read.off_k, 1)))
        if not of_core:
            side = tr("{db} dB quieter") if read.off_db > 0.0 else tr("{db} dB louder")
            words = (tr("measured mean:"), side.format(db=number_text(abs(read.off_db), 1)))
        for index, one in enumerate(words):
            draw_text(painter, QPointF(across.end_px + 8, up.end_px + 10 + 13 * index), one, font(SMALL), p.ink)

    def _paint_worst(self, painter: QPainter, worst: Sequence[WorstCase], area: QRectF, up: PixelSpan) -> None:
        """Draw as ticks at the right how hot the day becomes with something gone wrong."""
        p = self._look.palette
        places = [up.px(one.hottest_c) for one in worst]
        for one, at, y in zip(worst, places, apart([place + 4.0 for place in places], LABELS_APART_PX), strict=True):
            colour = p.guard if one.warning else p.ink
            draw_level(painter, area.right() + 2, area.right() + 9, at, colour)
            painter.setPen(QPen(QColor(p.strong_rule), 1.0))
            painter.drawLine(QLineF(area.right() + 9, at, area.right() + 13, y - 4.0))
            value = f" {number_text(one.hottest_c, 0)}"
            name = elided(one.name, SMALL, RIGHT_PX - 36)
            draw_text(painter, QPointF(area.right() + 15, y), name + value, font(SMALL, bold=bool(one.warning)), p.ink)

    def _paint_level(self, painter: QPainter, shown: DayShown, area: QRectF, across: PixelSpan) -> None:
        p, room = self._look.palette, shown.facts.background_dba
        days = [one for one in (shown.compared, shown.now) if one is not None]
        read = shown.now.measured
        high = max(float(one.trace.level_high_dba.max()) for one in days)
        high = max(high, float(np.nanmax(read.level_dba)) if read is not None and np.isfinite(read.level_dba).any() else high)
        up = PixelSpan(math.floor(room - 2.0), max(math.ceil(high + 1.0), room + 6.0), area.bottom(), area.top())
        self._name(painter, area.top() + 10, tr("Level"), tr("dBA"))
        painter.fillRect(QRectF(area.left(), up.px(room), area.width(), area.bottom() - up.px(room)), QColor(p.shade))
        draw_text(
            painter, QPointF(area.center().x(), area.bottom() - 3), tr("the room by itself"), font(SMALL), p.ink, align=MIDDLE
        )
        self._paint_rules(painter, area, up)
        self._paint_days(painter, shown, across, up, of_core=False)
        self._paint_measured(painter, shown.now, across, up, of_core=False)
        names = [(tr("rehearsed") if shown.now.measured is not None else tr("now"), shown.now, p.accent)]
        names += [(shown.compared_name, shown.compared, p.soft)] if shown.compared is not None else []
        places = apart([up.px(day.figures.mean_dba) + 4.0 for _, day, _ in names], LABELS_APART_PX)
        for (name, day, colour), y in zip(names, places, strict=True):
            mean = number_text(day.figures.mean_dba, 1)
            words = f"{elided(name, SMALL, RIGHT_PX - 78)} {mean}"
            wide = draw_text(painter, QPointF(area.right() + 8, y), words, font(SMALL), colour)
            mark = shown.scale.mark(day.figures.mean_dba)
            draw_text(painter, QPointF(area.right() + 13 + wide, y), mark, font(SMALL, bold=True, italic=True), p.ink)

    def _paint_rules(self, painter: QPainter, area: QRectF, up: PixelSpan) -> None:
        p = self._look.palette
        for value in ticks(up.low, up.high, TICKS):
            draw_level(painter, area.left(), area.right(), up.px(value), p.rule)
            draw_text(painter, QPointF(area.left() - 7, up.px(value) + 3.5), f"{value:.0f}", font(SMALL), p.soft, align=RIGHT)

    def _paint_days(self, painter: QPainter, shown: DayShown, across: PixelSpan, up: PixelSpan, *, of_core: bool) -> None:
        """Draw the day that is compared with, and over it the day now."""
        p = self._look.palette
        for day, colour in ((shown.compared, p.strong_rule), (shown.now, p.accent)):
            if day is not None:
                trace = day.trace
                low, high = (trace.core_low_c, trace.core_high_c) if of_core else (trace.level_low_dba, trace.level_high_dba)
                self._paint_span(painter, trace.hour, low, high, across, up, colour)

    def _paint_span(
        self, painter: QPainter, hours: Vector, low: Vector, high: Vector, across: PixelSpan, up: PixelSpan, colour: str
    ) -> None:
        """Draw a trace with all it does between two pixels: a line of its highest values, filled down to its lowest."""
        xs = [across.px(hour) for hour in hours.tolist()]
        top = [QPointF(x, up.px(value)) for x, value in zip(xs, high.tolist(), strict=True)]
        foot = [QPointF(x, up.px(value)) for x, value in zip(xs, low.tolist(), strict=True)]
        fill = QColor(colour)
        fill.setAlphaF(0.35)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(fill)
        painter.drawPolygon(QPolygonF([*top, *foot[::-1]]))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(colour), 1.5))
        painter.drawPolyline(QPolygonF(top))

    def _paint_ramps(self, painter: QPainter, shown: DayShown, top: float, across: PixelSpan) -> None:
        """Draw a tick for each change that is heard, a row a set of curves."""
        p = self._look.palette
        self._name(painter, top + 10, tr("Heard"), tr("changes"))
        rows = [(shown.now, p.accent, tr("now"))]
        rows += [(shown.compared, p.soft, shown.compared_name)] if shown.compared is not None else []
        for index, (day, colour, name) in enumerate(rows):
            y = top + 14.0 * index
            for second in day.figures.ramp_s:
                painter.fillRect(QRectF(across.px(second / 3600.0) - 0.75, y, 1.5, 9.0), QColor(colour))
            count = tr("{name} {n} a day").format(name=elided(name, SMALL, RIGHT_PX - 60), n=day.figures.ramps)
            draw_text(painter, QPointF(across.end_px + 8, y + 9), count, font(SMALL), p.ink if not index else p.soft)

    def _paint_hours(self, painter: QPainter, across: PixelSpan) -> None:
        p, foot = self._look.palette, self.height() - FOOT_PX
        draw_level(painter, across.start_px, across.end_px, foot, p.ink)
        for hour in _hours(across):
            draw_upright(painter, across.px(hour), foot, foot + 4, p.ink)
            clock = f"{int(hour):02d}:{round(60 * (hour % 1)):02d}"
            draw_text(painter, QPointF(across.px(hour), foot + 15), clock, font(SMALL), p.soft, align=MIDDLE)


def _hours(across: PixelSpan) -> list[float]:
    """Return the hours that are ruled: every few of a day, minutes of a run."""
    step = next((one for one in STEPS_H if across.high / one >= ENOUGH_TICKS), STEPS_H[-1])
    return [at * step for at in range(math.floor(across.high / step + 1e-9) + 1)]
