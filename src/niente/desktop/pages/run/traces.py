"""The traces of a run: forecast, temperature, power and clock, noise, on one time axis with the hold band beneath."""

import time

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QVBoxLayout, QWidget

from niente.core.evidence import column, holds_of, hottest_core
from niente.core.rigcard import LoadKind, RigCard
from niente.core.science.hold import Hold
from niente.desktop.session import LiveRun
from niente.desktop.theme import SMALL, Palette, font
from niente.desktop.widgets.plots import canvas, dress, pen

DRAW_S = 0.1
BRUSHES = {
    Hold.NOTHING: Qt.BrushStyle.NoBrush,
    Hold.CLOCK_CAP: Qt.BrushStyle.Dense5Pattern,
    Hold.POWER_LIMIT: Qt.BrushStyle.BDiagPattern,
    Hold.HEAT: Qt.BrushStyle.SolidPattern,
    Hold.FAULT: Qt.BrushStyle.DiagCrossPattern,
}


class Traces(QWidget):
    """Four stacked panels over minutes of the rig's time, and the hold band."""

    def __init__(self, palette: Palette) -> None:
        super().__init__()
        self._palette = p = palette
        self._canvas = canvas(p, "Traces of the run: temperature, power, clock and noise over minutes")
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.addWidget(self._canvas)
        self._temperature = self._panel(0, "Core °C")
        self._power = self._panel(1, "Power W")
        self._clock = self._panel(2, "Clock MHz")
        self._noise = self._panel(3, "Noise dBA")
        self._hold = self._panel(4, "Hold", "Minutes of the rig's time")
        layout = self._canvas.ci.layout
        for row, share in enumerate((9, 4, 4, 4, 1)):
            layout.setRowStretchFactor(row, share)
        self._hold.getAxis("left").setTicks([[]])
        self._hold.setYRange(0, 1)
        self._hold.setMaximumHeight(58)
        self.curves = {
            "hot": self._temperature.plot(pen=pen(p.ink, 1.5), name="hottest core"),
            "air": self._temperature.plot(pen=pen(p.second, 1.25)),
            "room": self._temperature.plot(pen=pen(p.soft, 1, Qt.PenStyle.DashLine)),
            "forecast": self._temperature.plot(pen=pen(p.accent, 1.5)),
            "power": self._power.plot(pen=pen(p.ink, 1.5)),
            "clock": self._clock.plot(pen=pen(p.ink, 1.5)),
            "noise": self._noise.plot(pen=pen(p.ink, 1.25)),
        }
        low, high = self._temperature.plot(pen=pen(p.accent, 1)), self._temperature.plot(pen=pen(p.accent, 1))
        tint = QColor(p.accent)
        tint.setAlphaF(0.16)
        self._band = (low, high)
        self._temperature.addItem(pg.FillBetweenItem(low, high, brush=tint))
        self._cap = pg.InfiniteLine(angle=0, pen=pen(p.cap, 1, Qt.PenStyle.DashLine))
        self._limit = pg.InfiniteLine(angle=0, pen=pen(p.cap, 1, Qt.PenStyle.DashLine))
        self._temperature.addItem(self._cap)
        self._power.addItem(self._limit)
        self._names = [
            self._name(text, colour)
            for text, colour in (
                ("hottest core", p.ink),
                ("case air", p.second),
                ("room", p.soft),
                ("settles at", p.accent),
                ("temperature cap", p.cap),
            )
        ]
        self._holds = {hold: self._bar(hold, colour) for hold, colour in self._hold_colours().items()}
        self._drawn = (-1, -1)
        self._drawn_at = 0.0
        self._right = 0.0

    def _hold_colours(self) -> dict[Hold, str]:
        p = self._palette
        return {
            Hold.NOTHING: p.strong_rule,
            Hold.CLOCK_CAP: p.second,
            Hold.POWER_LIMIT: p.cap,
            Hold.HEAT: p.guard,
            Hold.FAULT: p.fault,
        }

    def _bar(self, hold: Hold, colour: str) -> pg.BarGraphItem:
        brush = pg.mkBrush(colour)
        brush.setStyle(BRUSHES[hold])
        bar = pg.BarGraphItem(x0=[], x1=[], y0=0.0, y1=1.0, brush=brush, pen=pen(colour))
        self._hold.addItem(bar)
        return bar

    def _panel(self, row: int, left: str, bottom: str = "") -> pg.PlotItem:
        panel = self._canvas.addPlot(row=row, col=0)
        dress(panel, self._palette, left, bottom)
        if row:
            panel.setXLink(self._temperature)
        if not bottom:
            panel.hideAxis("bottom")
        panel.setMouseEnabled(x=True, y=False)
        return panel

    def _name(self, text: str, colour: str) -> pg.TextItem:
        item = pg.TextItem(text, color=colour, anchor=(0, 0.5), fill=self._palette.ground)
        item.setFont(font(SMALL))
        self._temperature.addItem(item, ignoreBounds=True)
        return item

    def show_run(self, card: RigCard, live: LiveRun) -> None:
        """Draw a run as far as it has come; what comes sooner than ``DRAW_S`` after the last drawing waits for the next."""
        count, now = live.samples.count, time.monotonic()
        same_run = self._drawn[0] == live.opened.run_id
        if count < 2 or (same_run and (count == self._drawn[1] or now - self._drawn_at < DRAW_S)):
            return
        self._drawn, self._drawn_at = (live.opened.run_id, count), now
        time_s, values = live.samples.time_s, live.samples.values
        minutes = (time_s - time_s[0]) / 60.0
        stride = max(1, count // 1000)
        at = minutes[::stride]

        def trace(name: str) -> np.ndarray:
            return column(card, values, name)[::stride]

        hot = hottest_core(card, values)
        if hot is not None:
            self.curves["hot"].setData(at, values[::stride, hot])
        self.curves["air"].setData(at, trace("case_air_temperature_c"))
        self.curves["room"].setData(at, trace("room_temperature_c"))
        self.curves["power"].setData(at, trace("package_power_w"))
        self.curves["clock"].setData(at, trace("effective_clock_mhz"))
        self.curves["noise"].setData(at, trace("noise_dba"))
        whole = live.opened.step.setting.over(card.stock)
        self._cap.setVisible(whole.temperature_cap_c is not None)
        self._cap.setValue(whole.temperature_cap_c or 0.0)
        self._limit.setValue(whole.sustained_power_w or 0.0)
        self._show_forecast(live, float(time_s[0]))
        self._name_lines(card, live, minutes, hot)
        self._show_holds(card, live, minutes)
        shown = [self.curves[name].getData()[1] for name in ("hot", "air", "room")]
        _keep_open(self._temperature, np.concatenate([*shown, [whole.temperature_cap_c or shown[0][-1]]]), 20.0)
        for panel, name, least in ((self._power, "power", 20.0), (self._clock, "clock", 200.0), (self._noise, "noise", 6.0)):
            _keep_open(panel, self.curves[name].getData()[1], least)
        wanted = max(5.0, float(minutes[-1]) * 1.12)
        if not wanted <= self._right <= 1.5 * wanted:  # in steps, so that the axes are not drawn anew at every sample
            self._right = 1.25 * wanted
            self._temperature.setXRange(0.0, self._right, padding=0.0)

    def _show_forecast(self, live: LiveRun, start_s: float) -> None:
        known = np.array([item for item in live.forecasts if item[2] < 15.0]).reshape(-1, 3)
        at = (known[:, 0] - start_s) / 60.0
        self.curves["forecast"].setData(at, known[:, 1])
        self._band[0].setData(at, known[:, 1] - known[:, 2])
        self._band[1].setData(at, known[:, 1] + known[:, 2])

    def _name_lines(self, card: RigCard, live: LiveRun, minutes: np.ndarray, hot: int | None) -> None:
        """Names stand at the line ends, moved apart where they would meet."""
        values = live.samples.values
        whole = live.opened.step.setting.over(card.stock)
        heights = [
            float(values[-1, hot]) if hot is not None else None,
            float(column(card, values[-1:], "case_air_temperature_c")[0]),
            float(column(card, values[-1:], "room_temperature_c")[0]),
            live.forecasts[-1][1] if live.forecasts and live.forecasts[-1][2] < 15.0 else None,
            whole.temperature_cap_c,
        ]
        low, high = self._temperature.viewRange()[1]
        apart = (high - low) * 16.0 / max(self._temperature.height(), 60.0)
        taken: list[float] = []
        for item, height in sorted(zip(self._names, heights, strict=True), key=lambda pair: pair[1] or -1e9):
            item.setVisible(height is not None and height == height)
            if height is None or height != height:
                continue
            place = max([height, *(other + apart for other in taken[-1:])])
            taken.append(place)
            item.setPos(float(minutes[-1]), place)

    def _show_holds(self, card: RigCard, live: LiveRun, minutes: np.ndarray) -> None:
        """Draw the hold band: colour and texture, pieces merged where the hold stays the same."""
        load = card.load(live.opened.step.load)
        idle = load is None or load.kind == LoadKind.IDLE
        held = holds_of(card, live.samples.values, live.opened.step.setting)
        edges = np.flatnonzero(np.diff(held)) + 1
        starts, ends = np.concatenate([[0], edges]), np.concatenate([edges, [held.shape[0] - 1]])
        for hold, bar in self._holds.items():
            mine = (held[starts] == hold) & (not idle)
            bar.setOpts(x0=minutes[starts[mine]], x1=minutes[ends[mine]])


def _keep_open(panel: pg.PlotItem, values: np.ndarray, least: float) -> None:
    """Show at least a span that matters: a steady reading then looks steady, and its noise stays small."""
    known = values[np.isfinite(values)]
    if not known.shape[0]:
        return
    low, high = float(np.min(known)), float(np.max(known))
    wanted = max(least, 1.1 * (high - low))
    bottom, top = panel.viewRange()[1]
    if bottom <= low and high <= top and wanted <= top - bottom <= 2.0 * wanted:
        return  # it still fits: axes are drawn anew only when they have to be
    spare = (1.25 * wanted - (high - low)) / 2
    panel.setYRange(low - spare, high + spare, padding=0.0)
