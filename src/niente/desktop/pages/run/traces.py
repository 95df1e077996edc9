"""The traces as a widget: it follows the run, and lets a person look back, zoom, and read under a crosshair."""

import math
import time

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QWheelEvent
from PySide6.QtWidgets import QVBoxLayout, QWidget

from niente.core.acquisition.strip_chart import StripChart
from niente.core.analysis.evidence import hottest_core
from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import RigCard
from niente.core.science.dynamics import Scale
from niente.desktop.pages.run.painting import WIDE_FORECAST_K, Painting, Sight, clock_text
from niente.desktop.pages.run.panels import Panel, panels_of
from niente.desktop.services.theme import Look
from niente.desktop.services.translation import tr
from niente.desktop.session.live_run import LiveRun, ShownNote
from niente.desktop.widgets.brushes import faint, pen
from niente.desktop.widgets.canvas import Canvas, Curve

DRAW_S = 0.025
GUTTERS = (96, 24, 142, 46)
MIN_MINUTES, FUTURE = 12.0, 0.30
"""The time axis shows at least this long, and leaves this share of it free for what is still to come."""
ZOOM, NARROWEST_S = 1.25, 30.0
NEAR_K = 25.0
"""The forecast's scale takes a guard or cap in that is this near."""
ROOM_K = 6.0


class Traces(QWidget):
    """The stack of panels. Wheel and + − zoom, drag and arrow keys look back, the pointer (or Ctrl and arrows) reads."""

    looked_back = Signal(bool)

    def __init__(self, look: Look) -> None:
        super().__init__()
        self.look = look
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setMinimumHeight(300)
        self.setAccessibleName(tr("Traces of the run; arrow keys look back, plus and minus zoom, Home follows"))
        self._rows = QVBoxLayout(self)
        self._rows.setContentsMargins(0, 0, 0, 0)
        self.sight: Sight | None = None
        self.following = True
        self._grabbed: tuple[float, tuple[float, float]] | None = None
        self._drawn_at = 0.0
        self._drawn: tuple[int, int] = (-1, -1)
        self._spoken_at = 0.0
        look.changed.connect(self._dress)

    def attach(self, card: RigCard) -> None:
        """Make the panels for a rig; a window keeps to one."""
        if self.sight is not None:
            return
        canvas = Canvas(self.look, GUTTERS, spacing=8)
        canvas.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self._rows.addWidget(canvas)
        panels = [Panel(canvas, row, spec) for row, spec in enumerate(panels_of(card))]
        self.sight = Sight(card, canvas, panels, (0.0, MIN_MINUTES * 60.0))
        painting = Painting(self.sight)
        canvas.under, canvas.over = painting.under, painting.over
        self._levels = painting.levels
        forecast = panels[0].box
        for panel in panels[1:]:
            panel.box.setXLink(forecast)
        self._low, self._high, self._centre = (Curve(antialias=True) for _ in range(3))
        self._between = pg.FillBetweenItem(self._low, self._high)
        for item in (self._between, self._low, self._high, self._centre):
            forecast.addItem(item)
        self._dress()

    def _dress(self) -> None:
        if self.sight is None:
            return
        p = self.look.palette
        for panel in self.sight.panels:
            panel.dress()
        self._between.setBrush(faint(p.accent, 0.16))
        for edge in (self._low, self._high):
            edge.setPen(pen(p.accent, 1.25))
        self._centre.setPen(pen(p.ink, 1.5))

    # -- showing -------------------------------------------------------------------------------------------------

    def show_run(self, strip: StripChart, live: LiveRun, notes: list[ShownNote], scale: Scale) -> None:
        """Draw what has come; what comes sooner than ``DRAW_S`` after the last drawing waits for the next."""
        sight, count, now = self.sight, live.samples.count, time.monotonic()
        if sight is None or (count, live.opened.run_id) == self._drawn or now - self._drawn_at < DRAW_S:
            return
        self._drawn, self._drawn_at = (count, live.opened.run_id), now
        sight.strip, sight.live, sight.notes, sight.scale = strip, live, notes, scale
        strip.catch_up()
        if not strip.time_s.shape[0]:
            return
        if self.following:
            self._follow(sight)
        self.draw()

    @staticmethod
    def _follow(sight: Sight) -> None:
        """Keep now in view, with room for what is to come; in steps, so that the axis does not crawl."""
        now = sight.latest()
        start = sight.origin() or now
        low, high = sight.range_s
        length, gone = high - low, max(now - start, MIN_MINUTES * 20.0)
        if low <= start and now <= high - 0.1 * length and length <= 3 * gone:
            return
        length = max((now - start) / (1.0 - FUTURE) * 1.15, MIN_MINUTES * 60.0)
        before = min(120.0, 0.15 * length)
        sight.range_s = (start - before, start - before + length)

    def follow_now(self) -> None:
        """Come back to now."""
        if self.sight is None:
            return
        self.following = True
        self.sight.range_s = (math.inf, math.inf)
        self._follow(self.sight)
        self.looked_back.emit(False)
        self.draw()

    def draw(self) -> None:
        """Draw the span in view, as finely as its pixels can show."""
        sight = self.sight
        if sight is None or sight.strip is None or sight.live is None:
            return
        low, high = sight.range_s
        pixels = max(int(sight.canvas.area(sight.panels[0].box).width()), 100)
        hot = hottest_core(sight.card, sight.live.samples.values)
        if hot is not None:
            sight.hot = sight.card.channels[hot].name
        setting = sight.live.opened.step.setting.over(sight.card.stock)
        first, last = sight.strip.window(low, high)
        per_pixel = (last - first) / pixels
        for panel in sight.panels[1:]:
            for line in panel.spec.lines:
                panel.show(line, *sight.strip.line(sight.channel(line), low, high, pixels), per_pixel=per_pixel)
            limit = setting.sustained_power_w if panel.spec.title == "Power" else None
            panel.fit([limit] if limit else [])
            panel.fit([], second=True)
        self._show_forecast(sight, sight.live)
        sight.panels[0].box.setXRange(low, high, padding=0.0)
        sight.canvas.redraw()
        self._speak(sight)

    def _show_forecast(self, sight: Sight, live: LiveRun) -> None:
        known = np.array([item for item in live.forecasts if item[2] < WIDE_FORECAST_K]).reshape(-1, 3)
        edges = known[:, 1] - known[:, 2], known[:, 1] + known[:, 2]
        self._centre.setData(known[:, 0], known[:, 1])
        self._low.setData(known[:, 0], edges[0])
        self._high.setData(known[:, 0], edges[1])
        above = [level + ROOM_K for level, _, _ in self._levels()]  # room for their words
        near = [level for level in above if not known.shape[0] or abs(level - known[-1, 1]) < NEAR_K]
        now = [] if known.shape[0] else [sight.strip.at(sight.hot, sight.latest())] if sight.strip is not None else []
        sight.panels[0].fit([*edges[0].tolist(), *edges[1].tolist(), *near, *now])

    # -- looking -------------------------------------------------------------------------------------------------

    def _look_at(self, low: float, high: float) -> None:
        sight = self.sight
        if sight is None or sight.strip is None or not sight.strip.time_s.shape[0]:
            return
        first, last = float(sight.strip.time_s[0]), sight.latest()
        length = min(max(high - low, NARROWEST_S), max(2.0 * (last - first), MIN_MINUTES * 60.0))
        low = min(max(low, first - 0.5 * length), last - 0.2 * length)
        sight.range_s = (low, low + length)
        self.following = False
        self.looked_back.emit(True)
        self.draw()

    def zoom(self, factor: float, at: float | None = None) -> None:
        """Show a longer or shorter span round a rig time (the span's middle where none is given)."""
        if self.sight is not None:
            low, high = self.sight.range_s
            middle = (low + high) / 2 if at is None else at
            self._look_at(middle - (middle - low) * factor, middle + (high - middle) * factor)

    def pan(self, share: float) -> None:
        """Look earlier or later by a share of the span."""
        if self.sight is not None:
            low, high = self.sight.range_s
            self._look_at(low + share * (high - low), high + share * (high - low))

    def read_at(self, rig_time_s: float | None) -> None:
        """Put the crosshair at a rig time, or take it away."""
        if self.sight is not None:
            self.sight.cross_s = rig_time_s
            self.sight.canvas.viewport().update()
            self._speak(self.sight, at_once=True)

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Zoom round the pointer."""
        if self.sight is not None and event.angleDelta().y():
            at = self.sight.time().value(event.position().x())
            self.zoom(1 / ZOOM if event.angleDelta().y() > 0 else ZOOM, at)
        event.accept()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take hold of the time axis."""
        if self.sight is not None:
            self._grabbed = (event.position().x(), self.sight.range_s)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Let go of it."""
        self._grabbed = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Come back to now."""
        self.follow_now()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Drag the time axis, or read under the pointer."""
        if self.sight is None:
            return
        across, x = self.sight.time(), event.position().x()
        if self._grabbed is not None and event.buttons():
            begun, (low, high) = self._grabbed
            shift = (begun - x) * (across.high - across.low) / (across.end_px - across.start_px)
            if abs(begun - x) > 2:
                self._look_at(low + shift, high + shift)
            return
        self.read_at(across.value(x) if across.start_px <= x <= across.end_px else None)

    def leaveEvent(self, event: object) -> None:
        """Take the crosshair away."""
        self.read_at(None)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Look back and zoom; with Ctrl the arrows move the crosshair."""
        key = Qt.Key(event.key())
        step = {Qt.Key.Key_Left: -1.0, Qt.Key.Key_Right: 1.0}.get(key)
        if self.sight is not None and step is not None and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            low, high = self.sight.range_s
            at = self.sight.cross_s if self.sight.cross_s is not None else min(high, self.sight.latest())
            self.read_at(min(max(at + step * (high - low) / 60.0, low), high))
        elif step is not None:
            self.pan(0.1 * step)
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom(1 / ZOOM)
        elif key == Qt.Key.Key_Minus:
            self.zoom(ZOOM)
        elif key == Qt.Key.Key_Home:
            self.follow_now()
        elif key == Qt.Key.Key_Escape:
            self.read_at(None)
        else:
            super().keyPressEvent(event)

    def _speak(self, sight: Sight, *, at_once: bool = False) -> None:
        """Keep the text alternative up to date, at the pace of hearing."""
        now = time.monotonic()
        if sight.strip is None or (now - self._spoken_at < 1.0 and not at_once):
            return
        self._spoken_at = now
        at = sight.cross_s if sight.cross_s is not None else sight.latest()
        parts = [tr("At minute {t}").format(t=clock_text(at - sight.origin(), fine=True))]
        for panel in sight.panels[1:]:
            for line in panel.spec.lines:
                value = sight.strip.at(sight.channel(line), at)
                if math.isfinite(value):
                    parts.append(f"{line.title} {quantity_of(line.quantity).with_unit(value)}")
        self.setAccessibleDescription("; ".join(parts))
