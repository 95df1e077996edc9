"""How the traces are painted: rules and time below the curves; names, levels, runs, notes, band and crosshair above."""

import math
from dataclasses import dataclass, field

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from niente.core.acquisition.strip_chart import StripChart
from niente.core.model.quantities import number_text, quantity_of
from niente.core.model.rig_card import RigCard
from niente.core.science.clock_limiter import ClockLimiter
from niente.core.science.dynamics import Scale
from niente.desktop.pages.run.panels import HOT, Panel, TraceLine
from niente.desktop.services.theme import BODY, SMALL, font
from niente.desktop.services.translation import tr
from niente.desktop.session.live_run import LiveRun, ShownNote
from niente.desktop.widgets.brushes import dashed, draw_level, draw_limiter, draw_text, draw_upright, level_dashes
from niente.desktop.widgets.canvas import Canvas, draw_level_rules, spans
from niente.desktop.widgets.scale import PixelSpan, apart, tick_text, ticks

LEFT, RIGHT = Qt.AlignmentFlag.AlignLeft, Qt.AlignmentFlag.AlignRight
MIDDLE = Qt.AlignmentFlag.AlignHCenter
BAND_PX = 16
MAX_TICKS = 6
WIDE_FORECAST_K = 15.0
"""A forecast that is wider than this says nothing yet and is not drawn."""


@dataclass
class Sight:
    """What is looked at: the samples of a rig over a span of its time, and where the crosshair reads."""

    card: RigCard
    canvas: Canvas
    panels: list[Panel]
    range_s: tuple[float, float]
    strip: StripChart | None = None
    live: LiveRun | None = None
    notes: list[ShownNote] = field(default_factory=list)
    scale: Scale = field(default_factory=Scale)
    cross_s: float | None = None
    hot: str = "core_temperature_c.1"

    def channel(self, line: TraceLine) -> str:
        """Return a line's channel; the hottest core is whichever is hottest on average."""
        return self.hot if line.channel == HOT else line.channel

    def time(self) -> PixelSpan:
        """Return the time axis in px."""
        return spans(self.canvas, self.panels[0].box)[0]

    def origin(self) -> float:
        """Return the rig time from which minutes are counted: the start of the run under way."""
        return float(self.live.samples.time_s[0]) if self.live is not None and self.live.samples.count else 0.0

    def latest(self) -> float:
        """Return the rig time of the newest sample."""
        return float(self.strip.time_s[-1]) if self.strip is not None and self.strip.time_s.shape[0] else 0.0


class Painting:
    """Paints a sight. Colours are read as it paints, so a change of look needs nothing more."""

    def __init__(self, sight: Sight) -> None:
        self.sight = sight

    def levels(self) -> list[tuple[float, str, bool]]:
        """Return the levels of the forecast's panel: the guard, and the cap that firmware enforces."""
        if self.sight.live is None:
            return []
        cap = self.sight.live.opened.step.setting.over(self.sight.card.stock).temperature_cap_c
        found = [(self.sight.card.limits.core_temperature_c, tr("guard: Niente ends the run"), False)]
        if cap is not None:
            found.append((cap, tr("temperature cap: firmware limits the clock"), True))
        return found

    # -- painting ------------------------------------------------------------------------------------------------

    def under(self, painter: QPainter) -> None:
        """Paint what lies below the curves."""
        if self.sight.strip is None:
            return
        last = self.sight.canvas.area(self.sight.panels[-1].box)
        for panel in self.sight.panels:
            height = self.sight.canvas.area(panel.box).height()
            draw_level_rules(painter, self.sight.canvas, panel.box, min(max(int(height / 11), 2), MAX_TICKS))
        self._draw_time(painter, last)

    def _draw_time(self, painter: QPainter, last: QRectF) -> None:
        low, high = self.sight.range_s
        origin = self.sight.origin()
        most = max(int(last.width() / 90), 2)
        values = [origin + 60.0 * minute for minute in minute_ticks((low - origin) / 60.0, (high - origin) / 60.0, most)]
        top = self.sight.canvas.area(self.sight.panels[0].box).top()
        foot = last.bottom() + 8 + BAND_PX
        across = self.sight.time()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        p = self.sight.canvas.look.palette
        for value in values:
            x = across.px(value)
            draw_upright(painter, x, top, foot + 4, p.rule)
            text = clock_text(value - origin)
            draw_text(painter, QPointF(x, foot + 15), text, font(SMALL), p.soft, align=MIDDLE)
        draw_text(painter, QPointF(0, foot + 15), tr("min of this run"), font(SMALL), p.soft)

    def over(self, painter: QPainter) -> None:
        """Paint what stands above the curves."""
        canvas, strip, live = self.sight.canvas, self.sight.strip, self.sight.live
        if strip is None or live is None or not strip.time_s.shape[0]:
            return
        p = self.sight.canvas.look.palette
        for panel in self.sight.panels:
            area = canvas.area(panel.box)
            draw_text(painter, QPointF(0, area.top() + 9), tr(panel.spec.title), font(SMALL), p.ink)
            draw_text(painter, QPointF(0, area.top() + 22), tr(panel.spec.unit), font(SMALL), p.soft)
            if panel.own_second:
                self._second_ticks(painter, panel, area)
        self._draw_levels(painter)
        self._draw_runs(painter)
        self._draw_band(painter)
        self._draw_forecast_end(painter)
        now = float(strip.time_s[-1])
        self._upright(painter, now, p.ink)
        at = now
        if self.sight.cross_s is not None:
            at = self.sight.cross_s
            self._upright(painter, at, p.accent)
            x, foot = self.sight.time().px(at), canvas.area(self.sight.panels[-1].box).bottom() + 8 + BAND_PX + 15
            text = clock_text(at - self.sight.origin(), fine=True)
            draw_text(
                painter,
                QPointF(x, foot),
                text,
                font(SMALL, bold=True),
                p.accent,
                halo=p.ground,
                align=MIDDLE,
            )
        self._draw_ends(painter, at)

    def _second_ticks(self, painter: QPainter, panel: Panel, area: QRectF) -> None:
        if panel.second_box is None:
            return
        unit = next(quantity_of(line.quantity).unit for line in panel.spec.lines if line.second)
        _, up = spans(self.sight.canvas, panel.second_box)
        values = ticks(up.low, up.high, min(max(int(area.height() / 22), 2), MAX_TICKS))
        step = values[1] - values[0] if len(values) > 1 else 1.0
        colour = self.sight.canvas.look.palette.second
        for index, value in enumerate(values):
            text = tick_text(value, step) + (f"\u00a0{unit}" if index == len(values) - 1 else "")
            at = QPointF(area.right() - 4, up.px(value) + 3.5)
            draw_text(painter, at, text, font(SMALL), colour, halo=self.sight.canvas.look.palette.ground, align=RIGHT)

    def _draw_levels(self, painter: QPainter) -> None:
        p, area = self.sight.canvas.look.palette, self.sight.canvas.area(self.sight.panels[0].box)
        _, up = spans(self.sight.canvas, self.sight.panels[0].box)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        for level, words, by_firmware in self.levels():
            y = up.px(level)
            if not area.top() - 1 <= y <= area.bottom():
                continue
            if by_firmware:
                self._dashes(painter, area, y)
            else:
                draw_level(painter, area.left(), area.right(), y, p.guard)
            at, side = (area.right() - 6, RIGHT) if by_firmware else (area.left() + 6, LEFT)  # two levels are often near
            draw_text(painter, QPointF(at, y - 4), words, font(SMALL), p.soft, halo=p.ground, align=side)
        limit = self._power_limit()
        power = next((panel for panel in self.sight.panels if panel.spec.title == "Power"), None)
        if limit and power is not None:
            _, up = spans(self.sight.canvas, power.box)
            begun = min(max(self.sight.time().px(self.sight.origin()), area.left()), area.right())
            own = QRectF(begun, area.top(), area.right() - begun, area.height())  # the limit is this run's alone
            self._dashes(painter, own, up.px(limit))

    def _dashes(self, painter: QPainter, area: QRectF, y: float) -> None:
        """Draw a level that firmware enforces: a dashed line, 6 px on and 3 px off."""
        tile = QRectF(area.left(), round(y), area.width(), 1.0)
        painter.setBrushOrigin(tile.topLeft())
        painter.fillRect(tile, level_dashes(self.sight.canvas.look.palette.cap_line))

    def _power_limit(self) -> float | None:
        if self.sight.live is None:
            return None
        return self.sight.live.opened.step.setting.over(self.sight.card.stock).sustained_power_w

    def _draw_runs(self, painter: QPainter) -> None:
        """Draw where runs begin, and notes, with their names above the panels."""
        assert self.sight.strip is not None
        p, across = self.sight.canvas.look.palette, self.sight.time()
        low, high = self.sight.range_s
        top = self.sight.canvas.area(self.sight.panels[0].box).top()
        foot = self.sight.canvas.area(self.sight.panels[-1].box).bottom()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        taken = -1e9
        current = self.sight.live.opened.run_id if self.sight.live is not None else -1
        for run in self.sight.strip.runs:
            if not low <= run.start_s <= high:
                continue
            x = across.px(run.start_s)
            draw_upright(painter, x, top - 14, foot, p.strong_rule)
            if x - taken > 46:
                text = tr("run {n}").format(n=run.number)
                draw_text(painter, QPointF(x + 4, top - 6), text, font(SMALL), p.ink if run.run_id == current else p.soft)
                taken = x
        for note in self.sight.notes:
            if low <= note.rig_time_s <= high:
                x = across.px(note.rig_time_s)
                draw_upright(painter, x, top, foot, p.accent)
                area = self.sight.canvas.area(
                    self.sight.panels[1].box if len(self.sight.panels) > 1 else self.sight.panels[0].box
                )
                draw_text(
                    painter,
                    QPointF(x, area.top() + 9),
                    f"N{note.number}",
                    font(SMALL, bold=True),
                    p.accent,
                    halo=p.ground,
                    align=MIDDLE,
                )

    def _draw_band(self, painter: QPainter) -> None:
        """Draw the limiter band: colour and texture, pieces merged where the hold stays the same."""
        assert self.sight.strip is not None
        p, across = self.sight.canvas.look.palette, self.sight.time()
        last = self.sight.canvas.area(self.sight.panels[-1].box)
        top, ratio = last.bottom() + 8, self.sight.canvas.devicePixelRatioF()
        draw_text(painter, QPointF(0, top + 12), tr("Limiter"), font(SMALL), p.ink)
        first, end = self.sight.strip.window(*self.sight.range_s)
        limiters, time_s = self.sight.strip.limiters[first:end], self.sight.strip.time_s[first:end]
        if limiters.shape[0] < 2:
            return
        x = np.clip(
            across.start_px + (time_s - across.low) / (across.high - across.low) * (across.end_px - across.start_px),
            last.left(),
            last.right(),
        )
        edges = np.flatnonzero(np.diff(limiters)) + 1
        starts = np.concatenate([[0], edges])
        ends = np.concatenate([edges, [limiters.shape[0] - 1]])
        begun: float | None = None
        for index, (a, b) in enumerate(zip(starts.tolist(), ends.tolist(), strict=True)):
            begun = float(x[a]) if begun is None else begun
            if x[b] - begun < 1.5 and index < starts.shape[0] - 1:
                continue  # narrower than a pixel and a half: it goes into the next piece
            draw_limiter(painter, QRectF(begun, top, x[b] - begun, BAND_PX), ClockLimiter(int(limiters[a])), p, ratio)
            begun = None
        words = (
            tr(ClockLimiter(int(self.sight.strip.limiters[self.sight.strip.index_of(self.sight.cross_s)])).words)
            if self.sight.cross_s is not None
            else tr(ClockLimiter(int(limiters[-1])).words)
        )
        draw_text(painter, QPointF(last.right() + 10, top + 12), words, font(SMALL), p.ink)

    def _draw_forecast_end(self, painter: QPainter) -> None:
        """Draw where the forecast is heading: dashed edges that close on a circle where it is known well enough."""
        live, p = self.sight.live, self.sight.canvas.look.palette
        if live is None or live.closed is not None or not live.forecasts or live.known_in_s is None:
            return
        now, value, half_width = live.forecasts[-1]
        if half_width >= WIDE_FORECAST_K or not math.isfinite(live.known_in_s):
            return
        across, (_, up) = self.sight.time(), spans(self.sight.canvas, self.sight.panels[0].box)
        end = QPointF(across.px(now + live.known_in_s), up.px(value))
        area = self.sight.canvas.area(self.sight.panels[0].box)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setClipRect(area)
        painter.setPen(dashed(p.accent, 3.0, 3.0, 1.25))
        for way in (-1.0, 1.0):
            painter.drawLine(QPointF(across.px(now), up.px(value + way * half_width)), end)
        painter.setPen(QPen(QColor(p.accent), 1.5))
        painter.setBrush(QColor(p.ground))
        painter.drawEllipse(end, 3.5, 3.5)
        painter.setClipping(False)

    def _upright(self, painter: QPainter, at: float, colour: str) -> None:
        low, high = self.sight.range_s
        if low <= at <= high:
            top = self.sight.canvas.area(self.sight.panels[0].box).top()
            foot = self.sight.canvas.area(self.sight.panels[-1].box).bottom() + 8 + BAND_PX
            draw_upright(painter, self.sight.time().px(at), top - 14, foot, colour)

    def _draw_end(self, painter: QPainter, line: TraceLine, value: float, at: QPointF) -> None:
        """Draw the name of one line from a point on, and its reading at the right edge."""
        p, quantity = self.sight.canvas.look.palette, quantity_of(line.quantity)
        colour = p.second if line.second else p.soft if line.soft else p.ink
        draw_text(painter, at, line.title, font(SMALL), colour)
        right, y = float(self.sight.canvas.width()), at.y()
        right -= draw_text(painter, QPointF(right, y), f"\u00a0{quantity.unit}", font(SMALL), p.soft, align=RIGHT)
        right -= draw_text(painter, QPointF(right, y), quantity.text(value), font(BODY), colour, align=RIGHT) + 7
        mark = self.sight.scale.mark(value) if line.channel == "noise_dba" else ""
        if mark:
            draw_text(painter, QPointF(right, y), mark, font(BODY, bold=True, italic=True), colour, align=RIGHT)

    def _draw_ends(self, painter: QPainter, at: float) -> None:
        """Draw each line's name and its reading at the right, moved apart where they would meet."""
        assert self.sight.strip is not None
        p = self.sight.canvas.look.palette
        for panel in self.sight.panels[1:]:
            area = self.sight.canvas.area(panel.box)
            readings = [self.sight.strip.at(self.sight.channel(line), at) for line in panel.spec.lines]
            shown = [(line, value) for line, value in zip(panel.spec.lines, readings, strict=True) if math.isfinite(value)]
            heights = []
            for line, value in shown:
                up = spans(self.sight.canvas, panel.box_of(line))[1]
                heights.append(min(max(up.px(value), area.top() + 4), area.bottom() - 2))
            extra = self._power_limit() if panel.spec.title == "Power" else None
            positions = apart(heights, 13.0)
            for (line, value), y in zip(shown, positions, strict=True):
                self._draw_end(painter, line, value, QPointF(area.right() + 10, y + 3.5))
            if extra and positions:
                text = tr("limit {w} W").format(w=number_text(extra, 0))
                draw_text(painter, QPointF(area.right() + 10, positions[-1] + 17), text, font(SMALL), p.soft)


def minute_ticks(low: float, high: float, most: int) -> list[float]:
    """Return round minutes: steps of 1, 2, 5, 10, 15, 30 or 60 and multiples."""
    rough = (high - low) / most
    steps = (0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 15.0, 30.0, 60.0, 120.0, 240.0, 480.0, 1440.0, 2880.0)
    step = next((one for one in steps if one >= rough), 2880.0)
    first = math.ceil(low / step)
    return [index * step for index in range(first, math.floor(high / step) + 1)]


def clock_text(seconds: float, *, fine: bool = False) -> str:
    """Return a time as minutes, or hours and minutes: ``12``, ``1:05``; finely as ``12:30``."""
    sign, seconds = ("−", -seconds) if seconds < -0.5 else ("", abs(seconds))
    hours, rest = divmod(round(seconds), 3600)
    minutes, rest = divmod(rest, 60)
    tail = f":{rest:02d}" if fine or rest else ""
    return f"{sign}{hours}\u00a0h\u00a0{minutes:02d}{tail}" if hours else f"{sign}{minutes}{tail}"
