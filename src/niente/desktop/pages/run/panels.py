"""The panels of the run page: which lines stand in which, on which scale, and the curves that draw them."""

import msgspec
import numpy as np
import pyqtgraph as pg

from niente.core.acquisition.strip_chart import MEAN_CORE, THROUGHPUT_PERCENT
from niente.core.model.rig_card import RigCard
from niente.core.science.arrays import Vector
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import dashed, pen
from niente.desktop.widgets.canvas import Canvas, Curve

CROWDED, BAND = 0.25, 4.0
"""Samples a pixel: from the first on lines are a pixel wide, from the second on they are not smoothed."""
HOT = "hot"
"""Stands for the channel of whichever core is hottest on average."""


class TraceLine(msgspec.Struct, frozen=True):
    """One line of a panel: its channel, name and quantity; ``second`` is drawn in the second colour on its own scale."""

    channel: str
    title: str
    quantity: str
    second: bool = False
    soft: bool = False
    thin: bool = False


class PanelSpec(msgspec.Struct, frozen=True):
    """One panel: its name, unit, share of the height, least span of its scale, and its lines."""

    title: str
    unit: str
    share: int
    least: float
    lines: tuple[TraceLine, ...]


FORECAST = PanelSpec("Settles at", "°C", 10, 12.0, ())


def panels_of(card: RigCard) -> tuple[PanelSpec, ...]:
    """Return the panels for a rig, with lines for what it reads."""
    fans = tuple(
        TraceLine(
            f"fan_speed_rpm.{group}", tr("{group} fans").format(group=group), "fan_speed_rpm", soft=index > 0, thin=index > 0
        )
        for index, group in enumerate(card.fan_groups()[::-1])
    )
    wanted = (
        FORECAST,
        PanelSpec(
            "Temperature",
            "°C",
            9,
            20.0,
            (
                TraceLine(HOT, tr("hottest core"), "hottest_core_c"),
                TraceLine(MEAN_CORE, tr("mean of cores"), "core_temperature_c", soft=True, thin=True),
                TraceLine("case_air_temperature_c", tr("case air"), "case_air_temperature_c", second=True),
                TraceLine("room_temperature_c", tr("room"), "room_temperature_c", soft=True, thin=True),
            ),
        ),
        PanelSpec("Power", "W", 5, 20.0, (TraceLine("package_power_w", tr("package"), "package_power_w"),)),
        PanelSpec(
            "Clock",
            "MHz",
            5,
            400.0,
            (
                TraceLine("effective_clock_mhz", tr("eff. clock"), "effective_clock_mhz"),
                TraceLine(THROUGHPUT_PERCENT, tr("throughput"), "throughput_percent", second=True),
            ),
        ),
        PanelSpec("Fans", "rpm", 7, 400.0, (*fans, TraceLine("noise_dba", tr("noise"), "noise_dba", second=True))),
    )

    def reads(line: TraceLine) -> bool:
        return line.channel in (HOT, MEAN_CORE, THROUGHPUT_PERCENT) or card.index(line.channel) is not None

    kept = [msgspec.structs.replace(panel, lines=tuple(filter(reads, panel.lines))) for panel in wanted]
    return tuple(panel for panel in kept if panel.lines or panel is FORECAST or panel.title == FORECAST.title)


class Panel:
    """One view box of the stack, a second one over it where a line has its own scale, and the curves in them."""

    def __init__(self, canvas: Canvas, row: int, spec: PanelSpec) -> None:
        self.spec = spec
        self.canvas = canvas
        self.box = canvas.box(row, 0, spec.share)
        self.own_second = any(line.second for line in spec.lines) and spec.title != "Temperature"
        self.second_box = pg.ViewBox(enableMenu=False, defaultPadding=0.0) if self.own_second else None
        self.box.disableAutoRange()  # every range is set; the plot library need not look at the lines for one
        if self.second_box is not None:
            self.second_box.disableAutoRange()
            canvas.scene().addItem(self.second_box)
            self.second_box.setMouseEnabled(x=False, y=False)
            self.second_box.setXLink(self.box)
            self.box.sigResized.connect(self._lay_second)
        self.curves: dict[str, Curve] = {}
        self.data: dict[str, tuple[Vector, Vector]] = {}
        self._plain = (False, False)
        for line in spec.lines:
            curve = Curve(antialias=True, connect="finite")
            self.box_of(line).addItem(curve)
            self.curves[line.channel] = curve

    def _lay_second(self) -> None:
        if self.second_box is not None:
            self.second_box.setGeometry(self.box.sceneBoundingRect())

    def box_of(self, line: TraceLine) -> pg.ViewBox:
        """Return the view box that a line is drawn in."""
        return self.second_box if line.second and self.second_box is not None else self.box

    def dress(self) -> None:
        """Give every curve its pen."""
        p = self.canvas.look.palette
        for index, line in enumerate(self.spec.lines):
            colour = p.second if line.second else p.soft if line.soft else p.ink
            made = pen(colour, 1.0 if line.thin or self._plain[0] else 1.5 if index == 0 else 1.25)
            if line.channel == "room_temperature_c" and not self._plain[1]:
                made = dashed(colour, 4.0, 3.0)
            self.curves[line.channel].setPen(made)

    def show(self, line: TraceLine, at: Vector, values: Vector, *, per_pixel: float = 0.0) -> None:
        """Draw a line; the more samples a pixel it has, the more plainly: thick strokes along noise are slow."""
        self.data[line.channel] = (at, values)
        plain = (per_pixel > CROWDED, per_pixel >= BAND)
        if plain != self._plain:
            self._plain = plain
            self.dress()
        self.curves[line.channel].setData(at, values, antialias=per_pixel < BAND)

    def _values(self, also: list[float], *, second: bool) -> Vector:
        """Return every finite value on one of the panel's scales, and those in ``also``."""
        lines = [line for line in self.spec.lines if (line.second and self.own_second) == second]
        parts = [self.data[line.channel][1] for line in lines if line.channel in self.data]
        values: Vector = np.concatenate([*parts, np.array(also, dtype=float)])
        return values[np.isfinite(values)]

    def fit(self, also: list[float], *, second: bool = False) -> None:
        """Show at least a span that matters: a steady reading then looks steady, and its noise stays small."""
        box = self.second_box if second else self.box
        known = self._values(also, second=second)
        if box is None or not known.shape[0]:
            return
        low, high = float(np.min(known)), float(np.max(known))
        least = self.spec.least if not second else 30.0
        wanted = max(least, 1.12 * (high - low))
        bottom, top = box.viewRange()[1]
        if bottom <= low and high <= top and wanted <= top - bottom <= 2.0 * wanted:
            return  # it still fits: scales move only when they have to
        spare = (1.2 * wanted - (high - low)) / 2
        start = low - spare
        if low >= 0.0 > start and self.spec.title in ("Power", "Fans"):
            start = 0.0
        box.setYRange(start, max(high + spare, start + 1.2 * wanted), padding=0.0)
