"""Noise against throughput for every setting, with the front, the limit and the pick."""

import numpy as np
import pyqtgraph as pg
from PySide6.QtGui import QPainterPath
from PySide6.QtWidgets import QVBoxLayout, QWidget

from niente.core.choosing.field import Field
from niente.core.choosing.pick import Choice, Limit, front, keeps
from niente.core.project import Limits
from niente.desktop.theme import BODY, SMALL, Palette, font
from niente.desktop.widgets.plots import canvas, dress, pen


class Scatter(QWidget):
    """The picture of the choice."""

    def __init__(self, palette: Palette) -> None:
        super().__init__()
        self._palette = p = palette
        self._canvas = canvas(p, "Noise against throughput; the table below gives the same settings in figures")
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.addWidget(self._canvas)
        self._plot = self._canvas.addPlot(row=0, col=0)
        dress(self._plot, p, "Throughput, % of stock", "Noise in the room, dBA")
        self._plot.setMouseEnabled(x=False, y=False)
        self._excluded = pg.LinearRegionItem(
            orientation="horizontal", movable=False, brush=pg.mkBrush(p.shade), pen=pen(p.shade)
        )
        self._excluded.setZValue(-10)
        self._rejected = pg.ScatterPlotItem(symbol=_cross(), size=5, pen=pen(p.strong_rule), brush=None)
        self._inferred = pg.ScatterPlotItem(symbol="o", size=6, pen=pen(p.soft), brush=pg.mkBrush(p.ground))
        self._measured = pg.ScatterPlotItem(symbol="o", size=8, pen=pen(p.ground), brush=p.ink)
        self._pick = pg.ScatterPlotItem(symbol="o", size=15, pen=pen(p.accent, 2), brush=None)
        self._dot = pg.ScatterPlotItem(symbol="o", size=8, pen=None, brush=p.accent)
        self._front = pg.PlotCurveItem(pen=pen(p.ink, 1.5))
        self._limit = pg.InfiniteLine(angle=0, pen=pen(p.ink))
        self._name = pg.TextItem("", color=p.accent, anchor=(0, 2.6))
        self._name.setFont(font(BODY, bold=True))
        self._limit_name = pg.TextItem("", color=p.ink, anchor=(1, 1))
        self._limit_name.setFont(font(SMALL))
        for item in (
            self._excluded,
            self._rejected,
            self._inferred,
            self._measured,
            self._front,
            self._limit,
            self._pick,
            self._dot,
        ):
            self._plot.addItem(item)
        self._plot.addItem(self._name, ignoreBounds=True)
        self._plot.addItem(self._limit_name, ignoreBounds=True)

    def show_field(self, field: Field, limits: Limits, choice: Choice | None) -> None:
        """Draw every setting of a field."""
        said = field.predicted
        noise, throughput = said.in_room_dba, said.throughput_percent
        kept = keeps(field, limits)
        eligible = np.logical_and.reduce(list(kept.values()))
        thin = np.zeros(eligible.shape, dtype=bool)
        thin.reshape(field.duty.shape[0], -1)[::2, ::2] = True
        self._rejected.setData(noise[thin & ~eligible & ~field.measured], throughput[thin & ~eligible & ~field.measured])
        self._inferred.setData(noise[thin & eligible & ~field.measured], throughput[thin & eligible & ~field.measured])
        self._measured.setData(noise[field.measured], throughput[field.measured])
        fit = kept[Limit.HEADROOM] & kept[Limit.RESULTS]
        self._front.setData(*front(noise[fit], throughput[fit]))
        least = limits.least_throughput_percent
        low, high = float(np.min(throughput)) - 2, float(np.max(throughput)) + 3
        self._excluded.setRegion((low - 50, least))
        self._limit.setValue(least)
        right = float(np.max(noise)) + 0.6
        self._limit_name.setText(f"at least {least:g} %")
        self._limit_name.setPos(right, least)
        pick = choice.pick if choice is not None else None
        at = ([pick.in_room_dba], [pick.throughput_percent]) if pick is not None else ([], [])
        self._pick.setData(*at)
        self._dot.setData(*at)
        self._name.setVisible(pick is not None)
        if pick is not None:
            self._name.setText(f"the pick, {pick.limit_w:g} W, {pick.duty:g} %")
            self._name.setPos(pick.in_room_dba, pick.throughput_percent)
        self._plot.setXRange(float(np.min(noise)) - 0.8, right, padding=0)
        self._plot.setYRange(low, high, padding=0)


def _cross() -> QPainterPath:
    """Return the mark of what breaks a limit: two thin strokes."""
    path = QPainterPath()
    for sign in (-1.0, 1.0):
        path.moveTo(-0.5, -0.5 * sign)
        path.lineTo(0.5, 0.5 * sign)
    return path
