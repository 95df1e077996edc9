"""The plan in two lines: a ribbon of its runs to scale in time, and its cost against the full factorial."""

from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from niente.core.model.quantities import duration_text
from niente.core.planning.cost import PlanCost
from niente.core.planning.layout import StagePiece
from niente.core.planning.progress import RunStatus
from niente.desktop.services.theme import BODY, SMALL, Look, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import draw_text, stage_brush, text_width
from niente.desktop.widgets.scale import PixelSpan, ticks

RIBBON_PX, COST_PX, BAR = 56, 42, 14
RIGHT = Qt.AlignmentFlag.AlignRight
MIDDLE = Qt.AlignmentFlag.AlignHCenter


class Ribbon(QWidget):
    """Every run of the plan, as wide as it is long."""

    def __init__(self, look: Look) -> None:
        super().__init__()
        self._look = look
        self._runs: tuple[StagePiece, ...] = ()
        self._now_s: float | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(tr("Time ribbon of the plan"))
        look.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        """As high as its lines."""
        return QSize(400, RIBBON_PX)

    def show_runs(self, runs: tuple[StagePiece, ...], now_s: float | None = None) -> None:
        """Show a plan's runs; ``now_s`` is where in them the run under way begins."""
        if (runs, now_s) != (self._runs, self._now_s):
            self._runs, self._now_s = runs, now_s
            parts = [
                f"{stage}: {_count(own)}, {duration_text(sum(run.seconds for run in own))}"
                for stage, own in _by_stage(self._runs)
            ]
            self.setAccessibleDescription("; ".join(parts))
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw stages, runs, and what is done of them."""
        total = sum(run.seconds for run in self._runs)
        if total <= 0:
            return
        painter = QPainter(self)
        p, ratio = self._look.palette, self.devicePixelRatioF()
        scale = PixelSpan(0.0, total, 0.0, float(self.width()))
        self._draw_stages(painter, scale)
        top, at, done_to = 20.0, 0.0, 0.0
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        for run in self._runs:
            left, right = scale.px(at), scale.px(at + run.seconds)
            box = QRectF(round(left), top, max(round(right) - round(left) - 1, 1), BAR)
            painter.setBrushOrigin(QPointF(0, top))
            painter.fillRect(box, stage_brush(run.stage, p, ratio))
            if box.width() > 2:
                painter.setPen(QColor(p.soft))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(box.adjusted(0, 0, -1, -1))
            at += run.seconds
            if run.status in (RunStatus.DONE, RunStatus.FAILED):
                done_to = right
            if run.status == RunStatus.FAILED:
                painter.setPen(QPen(QColor(p.guard), 1.4))
                for way in (-1.0, 1.0):
                    painter.drawLine(QPointF(right - 5, top + BAR + 5 - 2.5 * way), QPointF(right, top + BAR + 5 + 2.5 * way))
        painter.fillRect(QRectF(0, top + BAR + 2, done_to, 2), QColor(p.accent))
        if self._now_s is not None:
            now = scale.px(self._now_s)
            painter.fillRect(QRectF(round(now), top - 5, 1, BAR + 13), QColor(p.ink))
        unit_s, unit = time_unit(total)
        for value in ticks(0.0, total / unit_s, max(self.width() // 90, 2)):
            text = f"{value:g}\u00a0{unit}"
            x = scale.px(value * unit_s)
            side = MIDDLE if 12 < x < self.width() - 14 else RIGHT if x > 20 else Qt.AlignmentFlag.AlignLeft
            painter.fillRect(QRectF(min(round(x), self.width() - 1), top + BAR + 4, 1, 4), QColor(p.strong_rule))
            draw_text(painter, QPointF(x, top + BAR + 18), text, font(SMALL), p.soft, align=side)
        painter.end()

    def _draw_stages(self, painter: QPainter, scale: PixelSpan) -> None:
        """Draw each stage's name over its first run, where there is room for it."""
        p, small, at, free = self._look.palette, font(SMALL), 0.0, -1.0
        for stage, own in _by_stage(self._runs):
            x = max(scale.px(at), free)
            count = f"{_count(own)}"
            wanted = text_width(f"{tr(stage)} {count}", SMALL) + 2
            x = max(min(x, self.width() - wanted), free)
            if x + wanted > self.width() + 1:
                break
            width = draw_text(painter, QPointF(x, 12), tr(stage), small, p.ink)
            draw_text(painter, QPointF(x + width + 5, 12), count, small, p.soft)
            free = x + width + 5 + QFontMetricsF(small).horizontalAdvance(count) + 10
            at += sum(run.seconds for run in own)


def time_unit(seconds: float) -> tuple[float, str]:
    """Return the unit that a length of time is drawn in: its seconds, and its sign."""
    return (3600.0, "h") if seconds >= 7200.0 else (60.0, "min")


def _count(pieces: Sequence[StagePiece]) -> int:
    return sum(piece.count for piece in pieces)


def _by_stage(runs: Sequence[StagePiece]) -> list[tuple[str, list[StagePiece]]]:
    found: list[tuple[str, list[StagePiece]]] = []
    for run in runs:
        if not found or found[-1][0] != run.stage:
            found.append((run.stage, []))
        found[-1][1].append(run)
    return found


class CostLine(QWidget):
    """The full factorial as a line to scale, and this plan on it."""

    def __init__(self, look: Look) -> None:
        super().__init__()
        self._look = look
        self._cost: PlanCost | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(tr("Cost of the plan against the full factorial"))
        look.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        """As high as its lines."""
        return QSize(400, COST_PX)

    def words(self) -> tuple[str, str]:
        """Return both costs in words: the full factorial's, and this plan's."""
        cost = self._cost
        if cost is None:
            return "", ""
        naive = tr("{n} runs, {t}").format(n=cost.naive_runs, t=duration_text(cost.naive_s))
        own = tr("{n} runs, about {t}").format(n=cost.runs, t=duration_text(cost.typical_s))
        return naive, own

    def show_cost(self, cost: PlanCost) -> None:
        """Show what a plan costs."""
        self._cost = cost
        naive, own = self.words()
        self.setAccessibleDescription(tr("Full factorial {naive}; this plan {own}").format(naive=naive, own=own))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw both."""
        cost = self._cost
        if cost is None:
            return
        painter = QPainter(self)
        p, width, y = self._look.palette, float(self.width()), 22.0
        naive, own = self.words()
        body, bold = font(BODY), font(BODY, bold=True)
        left = width - text_width(own, BODY, True) - 6
        room = left - text_width(tr("this plan"), BODY) - 12
        lead = tr("Full factorial by half hours") + " "
        if text_width(lead + naive, BODY) > room:
            lead = tr("Full factorial") + " "
        at = draw_text(painter, QPointF(0, 12), lead, body, p.soft)
        at += draw_text(painter, QPointF(at, 12), naive, body, p.ink)
        draw_text(painter, QPointF(width, 12), own, bold, p.ink, align=RIGHT)
        if at <= room:
            draw_text(painter, QPointF(left, 12), tr("this plan"), body, p.soft, align=RIGHT)
        longest = max(cost.naive_s, cost.typical_s)
        scale = PixelSpan(0.0, longest, 0.0, width)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.fillRect(QRectF(0, y, scale.px(cost.naive_s), 1), QColor(p.ink))
        painter.fillRect(QRectF(0, y - 3, scale.px(cost.typical_s), 6), QColor(p.accent))
        unit_s, unit = time_unit(longest)
        for value in ticks(0.0, longest / unit_s, 6)[1:]:
            x = min(scale.px(value * unit_s), width - 1)
            painter.fillRect(QRectF(round(x), y - 3, 1, 7), QColor(p.ink))
            side = MIDDLE if x < width - 16 else RIGHT
            draw_text(painter, QPointF(x, y + 17), f"{value:g}\u00a0{unit}", font(SMALL), p.soft, align=side)
        painter.end()
