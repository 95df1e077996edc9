"""Depth: what was run how deep and at which clock, where failures come how often, and the chance of one over the depth."""

import math

import msgspec
import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from niente.core.analysis.stability import RunExposure
from niente.core.model.quantities import NO_BREAK_SPACE, number_text
from niente.core.science.arrays import Vector
from niente.core.selection.explanation import risk_text
from niente.core.selection.proof import CONTOURS, DepthCurves, Proof
from niente.core.selection.proof_words import fact_text, horizon_text
from niente.desktop.services.theme import SMALL, Look, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import dashed, draw_level, draw_text, draw_upright, faint, text_width
from niente.desktop.widgets.canvas import draw_axis_ticks, draw_level_rules, spans
from niente.desktop.widgets.marks import draw_picked
from niente.desktop.widgets.plot import Plot, curve
from niente.desktop.widgets.scale import PixelSpan, rounded, ticks

GUTTERS = (60, 26, 20, 40)
SPACING = 34
LEAST_CHANCE = 1e-5
LEAST_HIGH_PX = 340
LEFT, MIDDLE, RIGHT = Qt.AlignmentFlag.AlignLeft, Qt.AlignmentFlag.AlignHCenter, Qt.AlignmentFlag.AlignRight
LEAST_PX, MOST_PX = 2.0, 6.5
TICKS, TICKS_UP = 9, 5
GROUND = 0.07
CLOCKS_ALIKE_MHZ = 150.0
BAND = 0.16


class _Place(msgspec.Struct, frozen=True):
    """What was run under one load at one depth and about one clock."""

    depth_mv: float
    clock_mhz: float
    deciding: bool
    clean_s: float
    failures: int
    crashes: int


def _places(proof: Proof) -> list[_Place]:
    """Return the exposures by depth, clock and load; those of the load that decides last, so that they lie on top."""
    found: dict[tuple[bool, float, int], list[RunExposure]] = {}
    for one in proof.exposures:
        if math.isfinite(one.seen.clock_mhz):
            key = (one.load == proof.load, one.seen.depth_mv, round(one.seen.clock_mhz / CLOCKS_ALIKE_MHZ))
            found.setdefault(key, []).append(one)
    return [
        _Place(
            depth_mv=depth,
            clock_mhz=float(np.mean([one.seen.clock_mhz for one in own])),
            deciding=deciding,
            clean_s=sum(one.seen.seconds for one in own if not one.seen.failed),
            failures=sum(one.seen.failed for one in own),
            crashes=sum(one.crashed for one in own),
        )
        for (deciding, depth, _), own in sorted(found.items(), key=lambda item: item[0])
    ]


def _chance_words(proof: Proof) -> str:
    return tr("Chance of a failure in {horizon}, %").format(horizon=horizon_text(proof))


class DepthView(Plot):
    """Two pictures over one axis of depth: clocks with the exposures, and the chance of a failure within the horizon."""

    def __init__(self, look: Look) -> None:
        super().__init__(look, GUTTERS, tr("Exposures by depth and clock, and the chance of a failure"), spacing=SPACING)
        self.clocks = self.canvas.box(0, 0, 3)
        self.chances = self.canvas.box(1, 0, 2)
        self.setMinimumHeight(LEAST_HIGH_PX)
        self._proof: Proof | None = None

    def show_proof(self, proof: Proof) -> None:
        """Draw a proof."""
        self._proof = proof
        depths = [one.seen.depth_mv for one in proof.exposures] or [0.0]
        low, high = min([0.0, *depths, proof.depth_mv]), max([*depths, proof.depth_mv + 20.0]) + 12.0
        clocks = [one.seen.clock_mhz for one in proof.exposures if math.isfinite(one.seen.clock_mhz)] or [1000.0]
        least, most = min(clocks), max(clocks)
        room = max(0.08 * (most - least), 40.0)
        depths_mv = (low - 4.0, rounded(low, high, TICKS)[1])  # marks at no depth stand off the axis
        clocks_mhz = rounded(least - 2.2 * room, most + 0.35 * max(most - least, 300.0), TICKS_UP)
        self.clocks.setRange(xRange=depths_mv, yRange=clocks_mhz, padding=0.0)
        self.chances.setRange(xRange=depths_mv, yRange=(math.log10(LEAST_CHANCE), 0.15), padding=0.0)
        self.setAccessibleDescription(self.words())
        self.draw_again()

    def words(self) -> str:
        """Say the picture, for who does not see it."""
        proof = self._proof
        if proof is None:
            return ""
        failed = [one.seen.depth_mv for one in proof.exposures if one.seen.failed]
        seen = tr("{n} exposures").format(n=len(proof.exposures))
        if not failed:
            return tr("{seen}, none failed").format(seen=seen)
        return tr("{seen}, {k} failed, the gentlest at {mv} mV").format(
            seen=seen, k=len(failed), mv=number_text(-min(failed), 0)
        )

    # -- painting ------------------------------------------------------------------------------------------------

    def _under(self, painter: QPainter) -> None:
        proof = self._proof
        if proof is None:
            return
        p = self.look.palette
        for box in (self.clocks, self.chances):
            area, (across, _) = self.canvas.area(box), spans(self.canvas, box)
            band = proof.guard_band_mv.value
            if math.isfinite(band) and band > 0.0:
                left, right = across.px(proof.depth_mv), min(across.px(proof.depth_mv + band), area.right())
                painter.fillRect(QRectF(left, area.top(), right - left, area.height()), faint(p.accent, GROUND))
            for value in ticks(across.low, across.high, TICKS):
                draw_upright(painter, across.px(value), area.top(), area.bottom(), faint(p.rule, 0.7))
        draw_level_rules(painter, self.canvas, self.clocks, TICKS_UP)
        self._draw_chance_rules(painter)

    def _draw_chance_rules(self, painter: QPainter) -> None:
        p, area = self.look.palette, self.canvas.area(self.chances)
        _, up = spans(self.canvas, self.chances)
        for power in range(math.ceil(up.low), 1):
            y = up.px(float(power))
            draw_level(painter, area.left(), area.right(), y, p.rule)
            label = f"{100.0 * 10.0**power:g}"
            draw_text(painter, QPointF(area.left() - 7, y + 3.5), label, font(SMALL), p.soft, align=RIGHT)

    def _over(self, painter: QPainter) -> None:
        proof = self._proof
        if proof is None:
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._draw_clocks(painter, proof)
        self._draw_chances(painter, proof)

    def _draw_clocks(self, painter: QPainter, proof: Proof) -> None:
        p, area = self.look.palette, self.canvas.area(self.clocks)
        across, up = spans(self.canvas, self.clocks)
        painter.setClipRect(area)
        if proof.curves is not None:
            self._draw_contours(painter, proof.curves, across, up)
        for place in _places(proof):
            self._draw_place(painter, place, QPointF(across.px(place.depth_mv), up.px(place.clock_mhz)))
        painter.setClipping(False)
        deciding = next((one for one in proof.loads if one.load == proof.load), None)
        if deciding is not None and math.isfinite(deciding.clock_mhz):
            draw_picked(painter, QPointF(across.px(proof.depth_mv), up.px(deciding.clock_mhz)), p)
        self._draw_guard_band(painter, proof, area, across)
        draw_upright(painter, area.left() - 1, area.top(), area.bottom(), p.ink)
        draw_text(painter, QPointF(0, area.top() - 10), tr("Clock, MHz"), font(SMALL), p.ink, halo=p.ground)
        room = area.right() - text_width(tr("Clock, MHz"), SMALL) - 12.0
        keys = (
            tr("dot: clean, by its time; open: another load; ×: failed, how often; ringed: it went down"),
            tr("dot: clean; open: another load; ×: failed"),
        )
        key = next((words for words in keys if text_width(words, SMALL) < room), "")
        draw_text(painter, QPointF(area.right(), area.top() - 10), key, font(SMALL), p.soft, align=RIGHT)

    def _draw_contours(self, painter: QPainter, curves: DepthCurves, across: PixelSpan, up: PixelSpan) -> None:
        """Draw where failures come so often, over the clocks, each named at its top."""
        p = self.look.palette
        area = self.canvas.area(self.clocks)
        for index, (words, _) in enumerate(CONTOURS):
            line = curve(curves.contours_mv[index], curves.clock_mhz, across, up)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(p.soft), 1.0) if index < len(CONTOURS) - 1 else dashed(p.soft, 3.0, 3.0))
            painter.drawPolyline(line)
            foot = line.at(0)
            if area.left() < foot.x() < area.right():
                painter.save()
                painter.translate(foot.x() + 12.0, area.bottom() - 6)
                painter.rotate(-90.0)
                draw_text(painter, QPointF(0, 0), tr(words), font(SMALL), p.soft)
                painter.restore()

    def _draw_place(self, painter: QPainter, place: _Place, at: QPointF) -> None:
        """Draw what was run at one depth and clock: the clean time as a dot, failures as a cross with their number over it."""
        p = self.look.palette
        if place.clean_s > 0.0:
            size = min(max(LEAST_PX + 1.4 * math.log10(max(place.clean_s, 10.0) / 10.0), LEAST_PX), MOST_PX)
            painter.setPen(QPen(QColor(p.ground if place.deciding else p.ink), 1.0))
            painter.setBrush(QColor(p.ink) if place.deciding else QColor(p.ground))
            painter.drawEllipse(at, size, size)
        if not place.failures:
            return
        cross = at - QPointF(0, 13) if place.clean_s > 0.0 else at
        painter.setPen(QPen(QColor(p.guard), 1.6))
        for way in (-1.0, 1.0):
            painter.drawLine(QLineF(cross.x() - 3.2, cross.y() - 3.2 * way, cross.x() + 3.2, cross.y() + 3.2 * way))
        if place.crashes:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(cross, 6.0, 6.0)
        if place.failures > 1:
            draw_text(painter, cross + QPointF(0, -9), f"{place.failures}", font(SMALL), p.ink, halo=p.ground, align=MIDDLE)

    def _draw_guard_band(self, painter: QPainter, proof: Proof, area: QRectF, across: PixelSpan) -> None:
        """Draw how far the setting lies before the depth of a failure an hour, with arrow heads, at the picture's foot."""
        p, band = self.look.palette, proof.guard_band_mv
        if not math.isfinite(band.value) or band.value <= 2.0:
            return
        left, right, y = across.px(proof.depth_mv), across.px(proof.depth_mv + band.value), area.bottom() + 14
        painter.setPen(QPen(QColor(p.accent), 1.25))
        painter.drawLine(QLineF(left, y, right, y))
        painter.setBrush(QColor(p.accent))
        for x, way in ((left, 1.0), (right, -1.0)):
            painter.drawPolygon(QPolygonF([QPointF(x, y), QPointF(x + 7 * way, y - 3), QPointF(x + 7 * way, y + 3)]))
        value, spread = fact_text(band)
        words = tr("guard band {mv} mV, to a failure an hour").format(mv=f"{value} {spread}")
        beside = text_width(_chance_words(proof), SMALL) + 12.0 + text_width(words, SMALL) / 2  # the lower picture's title
        middle = max((left + right) / 2, beside)
        draw_text(painter, QPointF(middle, y + 13), words, font(SMALL), p.accent, halo=p.ground, align=MIDDLE)

    def _draw_chances(self, painter: QPainter, proof: Proof) -> None:
        p, area = self.look.palette, self.canvas.area(self.chances)
        across, up = spans(self.canvas, self.chances)
        goal = up.px(math.log10(proof.goal.chance))
        painter.setClipRect(area)
        painter.setPen(dashed(p.guard, 2.0, 3.0))
        painter.drawLine(QLineF(area.left(), goal, area.right(), goal))
        if proof.curves is not None:
            self._draw_band(painter, proof, proof.curves, across, up)
        draw_upright(painter, across.px(proof.depth_mv), area.top(), area.bottom(), p.accent)
        painter.setClipping(False)
        wanted = tr("{percent} % allowed").format(percent=f"{100.0 * proof.goal.chance:g}")
        draw_text(painter, QPointF(area.right() - 4, goal - 4), wanted, font(SMALL), p.ink, halo=p.ground, align=RIGHT)
        if math.isfinite(proof.at_most):
            y = up.px(math.log10(max(proof.at_most, LEAST_CHANCE)))
            draw_picked(painter, QPointF(across.px(proof.depth_mv), y), p)
            at = QPointF(across.px(proof.depth_mv) + 12, y - 8)
            draw_text(painter, at, risk_text(proof.at_most), font(SMALL, bold=True), p.accent, halo=p.ground)
        values = ticks(across.low, across.high, TICKS)
        draw_axis_ticks(painter, self.canvas, self.chances, values, bottom=True)
        draw_upright(painter, area.left() - 1, area.top(), area.bottom(), p.ink)
        draw_text(painter, QPointF(0, area.top() - 8), _chance_words(proof), font(SMALL), p.ink, halo=p.ground)
        foot = tr("Depth under 1.2 V, mV") if proof.setting.fixed_voltage_v else tr("Depth under the maker's voltage, mV")
        if any(proof.setting.core_offset_mv.values()):
            foot = tr("Depth of all cores beside their own offsets, mV")
        draw_text(painter, QPointF(area.right(), area.bottom() + 34), foot, font(SMALL), p.ink, align=RIGHT)

    def _draw_band(self, painter: QPainter, proof: Proof, curves: DepthCurves, across: PixelSpan, up: PixelSpan) -> None:
        p = self.look.palette

        def line(values: Vector) -> QPolygonF:
            return curve(curves.depth_mv, np.log10(np.maximum(values, 1e-9)), across, up)

        outline = line(curves.at_most).toList() + line(curves.at_least).toList()[::-1]
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(faint(p.accent, BAND))
        painter.drawPolygon(QPolygonF(outline))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for values, pen in (
            (curves.at_least, dashed(p.accent, 3.0, 3.0)),
            (curves.even, QPen(QColor(p.ink), 1.25)),
            (curves.at_most, QPen(QColor(p.accent), 1.5)),
        ):
            painter.setPen(pen)
            painter.drawPolyline(line(values))
        sure = tr("{percent} % sure").format(percent=f"{100.0 * proof.goal.sure:g}")
        self._name(painter, _at_chance(curves.depth_mv, curves.at_most, 3e-4), across, up, f"{sure}{NO_BREAK_SPACE}", p.accent)
        self._name(painter, _at_chance(curves.depth_mv, curves.even, 3e-2), across, up, tr("even odds"), p.ink, right=True)

    def _name(
        self,
        painter: QPainter,
        at: tuple[float, float],
        across: PixelSpan,
        up: PixelSpan,
        words: str,
        colour: str,
        *,
        right: bool = False,
    ) -> None:
        """Name a curve at a depth and the chance there, left or right of it."""
        point = QPointF(across.px(at[0]), up.px(math.log10(max(at[1], LEAST_CHANCE))))
        right = right or point.x() < self.canvas.area(self.chances).left() + 80
        align, beside = (LEFT, QPointF(6, 4)) if right else (RIGHT, QPointF(-6, 4))
        draw_text(painter, point + beside, words, font(SMALL), colour, halo=self.look.palette.ground, align=align)


def _at_chance(depth_mv: Vector, chance: Vector, wanted: float) -> tuple[float, float]:
    """Return the depth at which a curve first comes to a chance, and the chance there."""
    index = int(np.argmax(chance >= wanted))
    return float(depth_mv[index]), float(chance[index])
