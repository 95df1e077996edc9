"""The ways of limiting a machine, drawn over the settings: a line a way, a letter a rung, the name at its end."""

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from niente.core.model.limits import Limits
from niente.core.model.quantities import NO_BREAK_SPACE, number_text
from niente.core.science.arrays import Array
from niente.core.selection.methods import MethodStep, TuningMethod
from niente.desktop.services.theme import SMALL, Look, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import draw_text, text_width
from niente.desktop.widgets.scale import PixelSpan

LETTERS = {
    TuningMethod.OFFSET: "V",
    TuningMethod.LIMIT: "P",
    TuningMethod.BOTH: "B",
    TuningMethod.CAP: "T",
    TuningMethod.CLOCK: "F",
}
COLOURS = {
    TuningMethod.OFFSET: "#CC79A7",
    TuningMethod.LIMIT: "#0072B2",
    TuningMethod.BOTH: "#56B4E9",
    TuningMethod.CAP: "#E69F00",
    TuningMethod.CLOCK: "#009E73",
}
"""Of the Okabe-Ito set; letters and names say the same without colour."""


class MethodCurves:
    """The rungs of every way, where more than one way was measured; otherwise nothing, since the field says it all."""

    def __init__(self, look: Look) -> None:
        self._look = look
        self.method_steps: tuple[MethodStep, ...] = ()

    def take(self, method_steps: tuple[MethodStep, ...]) -> None:
        """Take what is to be drawn."""
        several = {rung.way for rung in method_steps} - {TuningMethod.LIMIT, TuningMethod.BOTH}
        self.method_steps = method_steps if several else ()

    def points(self) -> Array:
        """Return noise and throughput of every rung, ``(n, 2)``."""
        return np.array([[rung.in_room_dba, rung.throughput_percent] for rung in self.method_steps]).reshape(-1, 2)

    def by_way(self) -> list[tuple[TuningMethod, list[MethodStep]]]:
        """Return the rungs of each way that has any."""
        found = ((way, [rung for rung in self.method_steps if rung.way == way]) for way in TuningMethod)
        return [(way, own) for way, own in found if own]

    def draw(self, painter: QPainter, across: PixelSpan, up: PixelSpan) -> None:
        """Draw them."""
        p = self._look.palette
        taken: list[tuple[float, float]] = []
        for way, own in self.by_way():
            points = [QPointF(across.px(rung.in_room_dba), up.px(rung.throughput_percent)) for rung in own]
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(COLOURS[way]), 1.5))
            painter.drawPolyline(QPolygonF(points))
            for point in points:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(QColor(p.ground))
                painter.drawEllipse(point, 6.5, 6.5)
                painter.setPen(QPen(QColor(COLOURS[way]), 1.25))
                painter.drawEllipse(point, 6.5, 6.5)
                draw_text(
                    painter, point + QPointF(0, 3.5), LETTERS[way], font(SMALL, bold=True), p.ink,
                    align=Qt.AlignmentFlag.AlignHCenter,
                )  # fmt: skip
            right = points[-1].x() + 12 + text_width(tr(way.value), SMALL) > across.end_px
            end = points[-1] + QPointF(-11 if right else 11, -8 if right else 4)
            while any(abs(end.y() - y) < 12 and abs(end.x() - x) < 90 for x, y in taken):
                end += QPointF(0, 12)
            taken.append((end.x(), end.y()))
            side = Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft
            draw_text(painter, end, tr(way.value), font(SMALL), p.ink, halo=p.ground, align=side)

    def words(self) -> str:
        """Say them, for who does not see the picture."""
        parts = [
            tr("{way}: {n} rungs, {low} to {high} % of stock").format(
                way=tr(way.value),
                n=len(own),
                low=number_text(own[0].throughput_percent, 1),
                high=number_text(own[-1].throughput_percent, 1),
            )
            for way, own in self.by_way()
        ]
        return " " + "; ".join(parts) + "." if parts else ""

    def best(self, limits: Limits) -> list[tuple[str, MethodStep]]:
        """Return for each way, by its name, the quietest rung that keeps throughput and headroom."""
        found = []
        for way, own in self.by_way():
            keeping = [
                rung
                for rung in own
                if rung.throughput_percent >= limits.min_throughput_percent and rung.headroom_k >= limits.min_headroom_k
            ]
            if keeping:
                found.append((tr(way.value), min(keeping, key=lambda rung: rung.in_room_dba)))
        return found


def step_text(rung: MethodStep) -> str:
    """Return what a rung sets, as short as a margin has room for."""
    setting = rung.setting
    parts = {
        TuningMethod.OFFSET: f"{number_text(setting.voltage_offset_mv or 0.0, 0)}{NO_BREAK_SPACE}mV",
        TuningMethod.LIMIT: f"{number_text(setting.sustained_power_w or 0.0, 0)}{NO_BREAK_SPACE}W",
        TuningMethod.BOTH: f"{number_text(setting.sustained_power_w or 0.0, 0)}{NO_BREAK_SPACE}W",
        TuningMethod.CAP: f"{number_text(setting.temperature_cap_c or 0.0, 0)}{NO_BREAK_SPACE}°C",
        TuningMethod.CLOCK: f"{number_text(setting.fixed_clock_mhz or setting.clock_cap_mhz or 0.0, 0)}{NO_BREAK_SPACE}MHz",
    }
    return parts[rung.way]
