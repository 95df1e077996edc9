"""The field: a layer in colour, isolines of noise, marks, hatching, and a crosshair that mouse and keys move."""

from collections.abc import Callable

import msgspec
import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QPainterPath
from PySide6.QtWidgets import QVBoxLayout, QWidget

from niente.core.choosing.field import Field
from niente.core.choosing.models import Predicted
from niente.core.choosing.pick import Choice
from niente.core.project import Limits
from niente.core.quantities import number_text
from niente.core.setting import Setting
from niente.desktop.theme import SMALL, Palette, font
from niente.desktop.widgets.plots import canvas, cividis, dress, pen

NOISE_STEP_DB = 4.0
FINE = 0.25
"""Step of the picture's own grid, in W and % duty."""


class Layer(msgspec.Struct, frozen=True):
    """One layer of the field: its title, the colours' step, and where it comes from."""

    title: str
    unit: str
    step: float
    of: Callable[[Predicted], NDArray[np.float64]]


LAYERS = (
    Layer("Hottest core", "°C", 2.5, lambda said: said.core_c),
    Layer("Headroom", "K", 2.5, lambda said: said.headroom_k),
    Layer("Noise", "dBA", 1.0, lambda said: said.in_room_dba),
    Layer("Throughput", "%", 2.5, lambda said: said.throughput_percent),
)


class FieldView(QWidget):
    """The picture. ``selected`` gives the place of a setting in the field's arrays."""

    selected = Signal(int)

    def __init__(self, palette: Palette) -> None:
        super().__init__()
        self._palette = p = palette
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Field of settings; arrow keys move the crosshair")
        self._canvas = canvas(p, "Field over power limit and case-fan duty")
        self._canvas.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.addWidget(self._canvas)
        self._plot = self._canvas.addPlot(row=0, col=0)
        dress(self._plot, p, "Case fans, % duty", "Sustained power limit, W")
        self._plot.setMouseEnabled(x=False, y=False)
        self._image = pg.ImageItem()
        self._plot.addItem(self._image)
        self._bar = pg.ColorBarItem(colorMap=cividis(), interactive=False, width=12)
        self._bar.setImageItem(self._image, insert_in=self._plot)
        self._over: list[pg.GraphicsObject] = []
        self._measured = pg.ScatterPlotItem(symbol="o", size=9, brush=p.ink, pen=pen(p.ground, 1.5))
        self._grid = pg.ScatterPlotItem(symbol="o", size=5, brush=None, pen=pen(p.ground, 1))
        self._running = pg.ScatterPlotItem(symbol=_half_disc(), size=13, brush=p.ink, pen=pen(p.ground, 1.5))
        self._pick = pg.ScatterPlotItem(symbol="o", size=16, brush=None, pen=pen(p.accent, 3))
        self._cross = (pg.InfiniteLine(angle=90, pen=pen(p.ink)), pg.InfiniteLine(angle=0, pen=pen(p.ink)))
        for depth, item in enumerate((self._grid, self._measured, self._running, self._pick, *self._cross)):
            item.setZValue(20 + depth)
            self._plot.addItem(item)
        for line in self._cross:
            line.hide()
        self._plot.scene().sigMouseClicked.connect(self._clicked)
        self._field: Field | None = None
        self._at: tuple[int, int] | None = None

    def measured_marks(self) -> int:
        """Return how many measured settings are marked."""
        return len(self._measured.data)

    def show_field(self, field: Field, layer: Layer, limits: Limits, choice: Choice | None, running: Setting | None) -> None:
        """Draw a field with everything on it."""
        self._field = field
        values = field.as_grid(layer.of(field.predicted))
        x, y = field.limit_w, field.duty
        even_x, even_y = np.arange(x[0], x[-1] + 0.5), np.arange(y[0], y[-1] + 0.5)
        fine_x, fine_y = np.arange(x[0], x[-1] + FINE, FINE), np.arange(y[0], y[-1] + FINE, FINE)
        shown = _resample(values, x, y, fine_x, fine_y)
        low = float(np.floor(np.min(shown) / layer.step) * layer.step)
        high = float(np.ceil(np.max(shown) / layer.step) * layer.step)
        steps = np.floor(shown / layer.step) * layer.step + layer.step / 2
        area = QRectF(x[0] - FINE / 2, y[0] - FINE / 2, fine_x.shape[0] * FINE, fine_y.shape[0] * FINE)
        self._image.setImage(steps.T, autoLevels=False)
        self._image.setRect(area)
        self._bar.setLevels((low, max(high, low + layer.step)))
        self._bar.axis.setLabel(f"{layer.title}, {layer.unit}")
        self._draw_over(field, limits, even_x, even_y, fine_y)
        places = [field.place(int(index)) for index in np.flatnonzero(field.measured)]
        self._measured.setData(pos=np.array(places).reshape(-1, 2))
        self._grid.setData(pos=np.array(_between(places)).reshape(-1, 2))
        now = [(running.sustained_power_w, running.fan_duty.get("case", 0.0))] if running is not None else []
        self._running.setData(pos=np.array(now, dtype=float).reshape(-1, 2))
        pick = [(choice.pick.limit_w, choice.pick.duty)] if choice is not None else []
        self._pick.setData(pos=np.array(pick).reshape(-1, 2))
        self._plot.setXRange(even_x[0] - 3, even_x[-1] + 3, padding=0)
        self._plot.setYRange(even_y[0] - 3, even_y[-1] + 3, padding=0)

    def _draw_over(
        self,
        field: Field,
        limits: Limits,
        even_x: NDArray[np.float64],
        even_y: NDArray[np.float64],
        fine_y: NDArray[np.float64],
    ) -> None:
        """Draw noise lines with their labels, and hatch where headroom is not sure."""
        for item in self._over:
            self._plot.removeItem(item)
        self._over = []
        said, p = field.predicted, self._palette
        noise = _resample(field.as_grid(said.in_room_dba), field.limit_w, field.duty, even_x, even_y)
        for level in np.arange(np.ceil(np.min(noise)), np.max(noise), NOISE_STEP_DB):
            for colour, width in ((p.ground, 3.0), (p.ink, 1.25)):
                line = pg.IsocurveItem(data=noise.T, level=float(level), pen=pen(colour, width))
                line.setPos(even_x[0] - 0.5, even_y[0] - 0.5)
                line.setZValue(10)
                self._add(line)
            row = int(np.argmin(np.abs(noise[:, 0] - level)))
            text = pg.TextItem(f"{number_text(float(level), 0)} dBA", color=p.ink, anchor=(0, 0.5), fill=p.ground)
            text.setFont(font(SMALL))
            text.setPos(even_x[0] + 1, even_y[row])
            text.setZValue(12)
            self._add(text)
        path = _unsure(field, limits, fine_y)
        if path.isEmpty():
            return
        hatch = pg.QtWidgets.QGraphicsPathItem(path)
        faint = QColor(p.ink)
        faint.setAlphaF(0.45)
        brush = pg.mkBrush(faint)
        brush.setStyle(Qt.BrushStyle.BDiagPattern)
        hatch.setBrush(brush)
        hatch.setPen(pen(p.ink, 1.75))
        hatch.setZValue(8)
        self._add(hatch)

    def _add(self, item: pg.GraphicsObject) -> None:
        self._plot.addItem(item, ignoreBounds=True)
        self._over.append(item)

    # -- selecting -------------------------------------------------------------------------------------------------

    def _clicked(self, event: object) -> None:
        if self._field is None:
            return
        place: QPointF = self._plot.vb.mapSceneToView(event.scenePos())  # type: ignore[attr-defined]
        column = int(np.argmin(np.abs(self._field.limit_w - place.x())))
        row = int(np.argmin(np.abs(self._field.duty - place.y())))
        self.setFocus()
        self._move_to(row, column)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Move the crosshair by a place."""
        moves = {Qt.Key.Key_Left: (0, -1), Qt.Key.Key_Right: (0, 1), Qt.Key.Key_Up: (1, 0), Qt.Key.Key_Down: (-1, 0)}
        move = moves.get(Qt.Key(event.key()))
        if move is None or self._field is None:
            super().keyPressEvent(event)
            return
        row, column = self._at or (0, 0)
        self._move_to(row + move[0], column + move[1])

    def _move_to(self, row: int, column: int) -> None:
        field = self._field
        if field is None:
            return
        row = min(max(row, 0), field.duty.shape[0] - 1)
        column = min(max(column, 0), field.limit_w.shape[0] - 1)
        self._at = (row, column)
        self._cross[0].setValue(float(field.limit_w[column]))
        self._cross[1].setValue(float(field.duty[row]))
        for line in self._cross:
            line.show()
        self.selected.emit(row * field.limit_w.shape[0] + column)


def _resample(
    values: NDArray[np.float64],
    x: NDArray[np.float64],
    y: NDArray[np.float64],
    even_x: NDArray[np.float64],
    even_y: NDArray[np.float64],
) -> NDArray[np.float64]:
    """Bring values ``(y, x)`` onto an even grid by straight lines, for a picture whose pixels are all alike."""
    across = np.stack([np.interp(even_x, x, row) for row in values])
    return np.stack([np.interp(even_y, y, column) for column in across.T], axis=1)


def _between(places: list[tuple[float, float]]) -> list[tuple[float, float]]:
    """Return the places of the sweep's grid that were not measured; single confirmations open no row of their own."""
    limits = [limit for limit, _ in places]
    duties = [duty for _, duty in places]
    across = sorted({limit for limit in limits if limits.count(limit) > 1})
    up = sorted({duty for duty in duties if duties.count(duty) > 1})
    return [(limit, duty) for limit in across for duty in up if (limit, duty) not in places]


def _unsure(field: Field, limits: Limits, fine_y: NDArray[np.float64]) -> QPainterPath:
    """Return the area where the headroom's interval does not keep its limit: right of an edge, as power heats."""
    said = field.predicted
    sure = field.as_grid(said.headroom_k - said.core_hw) - limits.least_headroom_k
    right = float(field.limit_w[-1])
    edges = np.array([_falls_below_zero(field.limit_w, row, right) for row in sure])
    path = QPainterPath()
    if np.all(edges >= right):
        return path
    along = np.interp(fine_y, field.duty, edges)
    path.moveTo(right, float(fine_y[0]))
    for x, y in zip(along.tolist(), fine_y.tolist(), strict=True):
        path.lineTo(x, y)
    path.lineTo(right, float(fine_y[-1]))
    path.closeSubpath()
    return path


def _falls_below_zero(x: NDArray[np.float64], values: NDArray[np.float64], never: float) -> float:
    """Return where falling values cross zero, by a straight line between neighbours; ``never`` where they do not."""
    below = np.flatnonzero(values < 0.0)
    if not below.shape[0]:
        return never
    place = int(below[0])
    if place == 0:
        return float(x[0])
    before, after = values[place - 1], values[place]
    return float(x[place - 1] + (x[place] - x[place - 1]) * before / (before - after))


def _half_disc() -> QPainterPath:
    """Return the mark of what is running: a ring with its left half filled."""
    path = QPainterPath()
    path.addEllipse(QRectF(-0.5, -0.5, 1.0, 1.0))
    cut = QPainterPath()
    cut.moveTo(0.0, -0.38)
    cut.arcTo(QRectF(-0.38, -0.38, 0.76, 0.76), 90.0, -180.0)
    cut.closeSubpath()
    return path.subtracted(cut)
