"""Plots in the look: thin axes left and bottom, no boxes, type from the theme. Imported only after the window shows."""

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QPen

from niente.desktop.theme import SMALL, Palette, font

Array = NDArray[np.float64]


def pen(colour: str, width: float = 1.0, style: Qt.PenStyle = Qt.PenStyle.SolidLine) -> QPen:
    """Return a cosmetic pen."""
    made = QPen(QColor(colour), width)
    made.setStyle(style)
    made.setCosmetic(True)
    return made


def dress(plot: pg.PlotItem, p: Palette, left: str, bottom: str = "") -> None:
    """Dress a plot: axis names with their units, small type, horizontal rules only."""
    plot.hideButtons()
    plot.setMenuEnabled(False)
    plot.showGrid(x=False, y=False)
    for side, text in (("left", left), ("bottom", bottom)):
        axis = plot.getAxis(side)
        axis.setPen(pen(p.strong_rule))
        axis.setTextPen(pen(p.soft))
        axis.setTickFont(font(SMALL))
        axis.setStyle(tickLength=4, tickTextOffset=4)
        if text:
            axis.setLabel(text, color=p.soft, **{"font-size": f"{SMALL}px"})
        axis.enableAutoSIPrefix(False)
    plot.getAxis("left").setWidth(52)


def canvas(p: Palette, name: str) -> pg.GraphicsLayoutWidget:
    """Return an empty drawing area with an accessible name."""
    made = pg.GraphicsLayoutWidget()
    made.setBackground(p.ground)
    made.setAccessibleName(name)
    made.setAntialiasing(True)
    made.ci.layout.setSpacing(2)
    made.ci.setContentsMargins(0, 4, 0, 0)
    return made


def cividis() -> pg.ColorMap:
    """Return the field's colour map: perceptually uniform and safe for the colour-blind."""
    return pg.colormap.get("cividis")
