"""What runs read against what the models say of them: in figures over each other, what is left over, and a row a run."""

from PySide6.QtCore import QItemSelectionModel, QLineF, QPointF, QSignalBlocker, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import QHBoxLayout, QWidget

from niente.core.analysis.residuals import HEAT, NOISE, POWER, Residual
from niente.core.model.quantities import NO_BREAK_SPACE, number_text, quantity_of, signed_text
from niente.core.model.rig_card import RigCard
from niente.core.selection.setting_words import told_apart
from niente.desktop.services.theme import BODY, SMALL, Look, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.blocks import Block, Reading, Readings, Title, Words
from niente.desktop.widgets.brushes import draw_level, draw_text, draw_upright
from niente.desktop.widgets.canvas import draw_axis_ticks, draw_level_rules, spans
from niente.desktop.widgets.marks import draw_measured
from niente.desktop.widgets.plot import Plot
from niente.desktop.widgets.scale import PixelSpan, rounded, ticks
from niente.desktop.widgets.table import Cell, RowsModel, rows_view

QUANTITIES = ((HEAT, "Core rise"), (NOISE, "Noise"), (POWER, "Package power"))
GUTTERS = (60, 24, 12, 44)
TICKS, TICKS_LEFT = 8, 4
MIDDLE, RIGHT = Qt.AlignmentFlag.AlignHCenter, Qt.AlignmentFlag.AlignRight
LEAST_SPAN = {HEAT: 1.0, NOISE: 0.5, POWER: 1.0}
"""What is left over is drawn over no less than this on each side: a perfect fit is not to look like a bad one."""
WIDEST_SHOWN = 0.85
"""The intervals of so many runs are seen whole; the few that are known far worse reach over the edge."""
NAMED, NAME_PX = 3, 64.0
"""So many of the runs that fit worst are named in the picture."""


class FitPlot(Plot):
    """Two panels over one axis: what was read over what is modelled, and what that leaves. ``selected`` gives a row's index."""

    selected = Signal(int)

    def __init__(self, look: Look) -> None:
        super().__init__(look, GUTTERS, tr("Read against modelled; up and down arrow keys go from run to run"), spacing=26)
        self.above, self.below = self.canvas.box(0, 0, 3), self.canvas.box(1, 0, 2)
        self._shown: tuple[Residual, ...] = ()
        self.current = 0

    def show_residuals(self, shown: tuple[Residual, ...]) -> None:
        """Draw the residuals of one quantity."""
        self._shown, self.current = shown, 0
        if shown:
            values = [value for one in shown for value in (one.measured, one.modelled)]
            air = 0.06 * (max(values) - min(values)) + 0.5
            span = rounded(min(values) - air, max(values) + air, TICKS)
            wide = sorted(abs(one.left) + one.half_width for one in shown)[int(WIDEST_SHOWN * (len(shown) - 1))]
            most = max(*(1.1 * abs(one.left) for one in shown), wide, LEAST_SPAN[shown[0].quantity])
            self.above.setRange(xRange=span, yRange=span, padding=0.0)
            self.below.setRange(xRange=span, yRange=rounded(-most, most, TICKS_LEFT), padding=0.0)
        self.draw_again()

    def select(self, index: int) -> None:
        """Show another run as selected."""
        if self.current != index:
            self.current = index
            self.draw_again()

    # -- painting ------------------------------------------------------------------------------------------------

    def _under(self, painter: QPainter) -> None:
        if not self._shown:
            return
        p = self.look.palette
        for box, most in ((self.above, TICKS), (self.below, TICKS_LEFT)):
            draw_level_rules(painter, self.canvas, box, most)
            across, _ = spans(self.canvas, box)
            area = self.canvas.area(box)
            for value in ticks(across.low, across.high, TICKS):
                draw_upright(painter, across.px(value), area.top(), area.bottom(), p.rule)
        across, up = spans(self.canvas, self.above)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(p.soft), 1.0))
        ends = (QPointF(across.px(value), up.px(value)) for value in (across.low, across.high))
        painter.drawLine(*ends)
        area = self.canvas.area(self.below)
        draw_level(painter, area.left(), area.right(), spans(self.canvas, self.below)[1].px(0.0), p.soft)

    def _over(self, painter: QPainter) -> None:
        if not self._shown:
            return
        p = self.look.palette
        quantity = quantity_of(self._shown[0].quantity)
        across, left = spans(self.canvas, self.below)
        _, read = spans(self.canvas, self.above)
        for index in range(len(self._shown)):
            if index != self.current:
                self._draw_run(painter, index, across, left, read)
        self._draw_run(painter, self.current, across, left, read)
        self._draw_names(painter, across, left)
        area, below = self.canvas.area(self.above), self.canvas.area(self.below)
        draw_axis_ticks(painter, self.canvas, self.below, ticks(across.low, across.high, TICKS), bottom=True)
        for each in (area, below):
            draw_upright(painter, each.left() - 1, each.top(), each.bottom(), p.ink)
        unit = quantity.unit
        draw_text(painter, QPointF(0, area.top() - 10), tr("Read, {unit}").format(unit=unit), font(SMALL), p.ink)
        words = tr("Left over, {unit}, with the 95 % interval").format(unit="dB" if unit == "dBA" else unit)
        draw_text(painter, QPointF(0, below.top() - 10), words, font(SMALL), p.ink)
        words = tr("Modelled, {unit}").format(unit=unit)
        draw_text(painter, QPointF(area.right(), below.bottom() + 34), words, font(SMALL), p.ink, align=RIGHT)

    def _draw_run(self, painter: QPainter, index: int, across: PixelSpan, left: PixelSpan, read: PixelSpan) -> None:
        """Draw a run in both panels: a dot, below with its interval; what does not fit has the guard's colour there."""
        p, one, chosen = self.look.palette, self._shown[index], index == self.current
        x = across.px(one.modelled)
        colour = p.accent if chosen else p.soft if one.fits else p.guard
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(colour), 2.0 if chosen else 1.0))
        top, foot = (left.px(one.left + way * one.half_width) for way in (1.0, -1.0))
        painter.drawLine(QLineF(x, max(top, left.end_px), x, min(foot, left.start_px)))
        for up, value in ((left, one.left), (read, one.measured)):
            at = QPointF(x, up.px(value))
            draw_measured(painter, at, p)
            if chosen:
                painter.setPen(QPen(QColor(p.accent), 1.75))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawEllipse(at, 7.5, 7.5)

    def _draw_names(self, painter: QPainter, across: PixelSpan, up: PixelSpan) -> None:
        """Name those that fit worst, and the one that is selected, at the end of their intervals; none on another."""
        p, area = self.look.palette, self.canvas.area(self.below)
        worst = [index for index in range(min(NAMED, len(self._shown))) if not self._shown[index].fits]
        taken: list[QPointF] = []
        for index in dict.fromkeys((self.current, *worst)):
            one = self._shown[index]
            away = one.half_width if one.left >= 0 else -one.half_width
            y = min(max(up.px(one.left + away) + (-6.0 if away >= 0 else 13.0), area.top() + 10.0), area.bottom() - 3.0)
            x = min(max(across.px(one.modelled), area.left() + NAME_PX / 2), area.right() - NAME_PX / 2)
            if any(abs(x - other.x()) < NAME_PX and abs(y - other.y()) < 14.0 for other in taken):
                continue
            taken.append(QPointF(x, y))
            name = tr("run {n}").format(n=one.run_id)
            bold = index == self.current
            colour = p.accent if bold else p.ink
            draw_text(painter, QPointF(x, y), name, font(BODY, bold=bold), colour, halo=p.ground, align=MIDDLE)

    # -- selecting -------------------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Select the run whose mark is nearest to where it is pressed."""
        if not self._shown:
            return
        at = event.position()
        below = at.y() > (self.canvas.area(self.above).bottom() + self.canvas.area(self.below).top()) / 2
        across, up = spans(self.canvas, self.below if below else self.above)
        gaps = [
            abs(across.px(one.modelled) - at.x()) + abs(up.px(one.left if below else one.measured) - at.y())
            for one in self._shown
        ]
        self.selected.emit(gaps.index(min(gaps)))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Go to the run that fits next worst, or next better."""
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()))
        if step is None or not self._shown:
            super().keyPressEvent(event)
            return
        self.selected.emit(min(max(self.current + step, 0), len(self._shown) - 1))


class FitView(QWidget):
    """The picture beside a row a run, those that fit worst first. ``selected`` comes when another run is."""

    selected = Signal()

    def __init__(self, look: Look) -> None:
        super().__init__()
        self.picture = FitPlot(look)
        self.model = RowsModel([tr("Run"), tr("Setting"), tr("Read"), tr("Modelled"), tr("Left over")], {0, 2, 3, 4})
        self.table = rows_view(tr("Runs against the models"), self.model, look, stretch=1)
        self.table.selectionModel().currentRowChanged.connect(lambda now, _: self._select(now.row()))
        self.picture.selected.connect(self._select)
        self._shown: tuple[Residual, ...] = ()
        self._names: list[str] = []
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(20)
        row.addWidget(self.picture, 3)
        row.addWidget(self.table, 3)
        self.setFocusProxy(self.picture)

    @property
    def current(self) -> Residual | None:
        """The run that is selected."""
        return self._shown[self.picture.current] if self._shown else None

    def show_residuals(self, residuals: tuple[Residual, ...], quantity: str) -> None:
        """Show the residuals of one quantity."""
        shown = tuple(one for one in residuals if one.quantity == quantity)
        if shown == self._shown:
            return
        known, before = quantity_of(quantity), self.current
        self._shown = shown
        self._names = told_apart([one.setting for one in shown])
        with QSignalBlocker(self.table.selectionModel()):
            self.model.set_rows([_row(one, name, known.digits) for one, name in zip(shown, self._names, strict=True)])
        self.picture.show_residuals(shown)
        fitting = sum(one.fits for one in shown)
        words = tr("{n} runs, {m} of them inside their intervals.").format(n=len(shown), m=fitting)
        self.picture.setAccessibleDescription(words)
        runs = [one.run_id for one in shown]
        self._select(runs.index(before.run_id) if before is not None and before.run_id in runs else 0)

    def _select(self, index: int) -> None:
        if not 0 <= index < len(self._shown):
            return
        self.picture.select(index)
        there = self.model.index(index, 0)
        rows = QItemSelectionModel.SelectionFlag.ClearAndSelect | QItemSelectionModel.SelectionFlag.Rows
        with QSignalBlocker(self.table.selectionModel()):
            self.table.selectionModel().setCurrentIndex(there, rows)
        self.table.scrollTo(there)
        self.table.viewport().update()
        self.selected.emit()

    def margin(self, card: RigCard) -> list[Block]:
        """Explain the run that is selected, and how all of them fit."""
        one = self.current
        if one is None:
            return [Words(tr("Nothing to compare"), tr("No run of this machine has read this yet."))]
        known, load = quantity_of(one.quantity), card.load(one.load)
        unit = "dB" if known.unit == "dBA" else known.unit
        spread = f"±{NO_BREAK_SPACE}{number_text(one.half_width, known.digits)}"
        lines = (
            Reading(tr("Read"), known.text(one.measured), unit=known.unit),
            Reading(tr("Modelled"), known.text(one.modelled), unit=known.unit),
            Reading(tr("Left over"), signed_text(one.left, known.digits), interval=spread, unit=unit),
        )
        setting = self._names[self.picture.current]
        name = f"{setting}, {load.title}" if load is not None else setting
        fitting = sum(each.fits for each in self._shown)
        all_of_them = tr("{m} of {n} runs lie inside their 95 % intervals; about one in twenty may lie outside by chance.")
        blocks: list[Block] = [Title(tr("Run {n}").format(n=one.run_id), name), Readings(tr("Against the models"), lines)]
        if not one.fits:
            doubt = tr("The models do not explain this run: look at what was different, or run it again.")
            blocks.append(Words(tr("Outside its interval"), doubt))
        return [
            *blocks,
            Words(tr("All together"), all_of_them.format(m=fitting, n=len(self._shown))),
            Words(
                tr("What this shows"),
                tr(
                    "The models have seen these runs: it shows whether they can explain them, and not how well they foretell a "
                    "setting that was not run. The intervals of the map say that."
                ),
            ),
        ]


def _row(one: Residual, name: str, digits: int) -> list[Cell | str]:
    spread = f"±{NO_BREAK_SPACE}{number_text(one.half_width, digits)}"
    left = Cell(signed_text(one.left, digits), aside=spread, under="" if one.fits else "guard")
    return [f"{one.run_id}", name, number_text(one.measured, digits), number_text(one.modelled, digits), left]
