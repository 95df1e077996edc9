"""The Rig page's first view while a book has no run: what the machine is, what to check, and which question to ask."""

import math
from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QAbstractButton,
    QButtonGroup,
    QGridLayout,
    QHBoxLayout,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from niente.core.model.frame import Frame
from niente.core.model.plan import Guard
from niente.core.model.quantities import duration_text, quantity_of
from niente.core.model.question import TemplateName
from niente.core.model.rig_card import Part, RigCard
from niente.core.planning.offers import Offer
from niente.core.planning.templates import template
from niente.desktop.services.durations import here_text
from niente.desktop.services.plain_text import plain
from niente.desktop.services.theme import BODY, READING, SMALL, Look, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.blocks import Block, Reading, Readings, Title, Words
from niente.desktop.widgets.brushes import draw_text, text_width
from niente.desktop.widgets.column import ScrollingColumn
from niente.desktop.widgets.labels import label, rule
from niente.desktop.widgets.outlines import PageOutlines

FIRST = (
    TemplateName.BASELINE,
    TemplateName.CAPACITY_LADDER,
    TemplateName.VARIANTS,
    TemplateName.UNDERVOLT_LADDER,
    TemplateName.QUIET_POINT,
)
"""The questions that a newcomer is offered, in the order in which they build on each other."""
WHY = {
    TemplateName.BASELINE: "Every later answer is told against it: stock temperature, stock noise, 100 % of throughput.",
    TemplateName.CAPACITY_LADDER: "It says what the cooler can do before anything else is changed.",
    TemplateName.VARIANTS: "It says what one change of the hardware is worth, and whether that is more than chance.",
    TemplateName.UNDERVOLT_LADDER: "A lower voltage is cooler and quieter at the same speed, as deep as it holds.",
    TemplateName.QUIET_POINT: "It takes all the others in: one setting to keep, with its reasons.",
}
CHECKED = 3
"""So many guards are shown, the first ones."""
ROW_PX, LIMIT_PX = 40, 38
TRACK_LEFT, TRACK_WIDE, VALUE_WIDE = 250.0, 100.0, 64.0
FLOOR_C = 20.0
"""Where the track of a temperature begins."""
OUTLINES_FROM_PX = 520
"""In a lower view the outlines give way."""


def guard_title(guard: Guard) -> str:
    """Return what a guard watches, in words."""
    return tr("Hottest core") if guard.quantity == "core_temperature_c" else quantity_of(guard.quantity).title


class LimitRow(QWidget):
    """One guard: what it watches and why, how near it is now, and where it ends a run."""

    def __init__(self, look: Look) -> None:
        super().__init__()
        self._look = look
        self._guard: Guard | None = None
        self._title = self._why = ""
        self._now = math.nan
        look.changed.connect(self.update)
        self.setFixedHeight(LIMIT_PX)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_guard(self, guard: Guard, title: str, why: str) -> None:
        """Show a guard."""
        self._guard, self._title, self._why = guard, title, why
        level = quantity_of(guard.quantity).with_unit(guard.trip)
        self.setAccessibleName(tr("{what}, a run ends at {level}").format(what=title, level=level))
        self.setToolTip(plain(why))
        self.update()

    def show_now(self, now: float) -> None:
        """Show what is read now."""
        if now != self._now and not (math.isnan(now) and math.isnan(self._now)):
            self._now = now
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw name and reason at the left, track and level at the right."""
        if self._guard is None:
            return
        painter, p = QPainter(self), self._look.palette
        quantity, right = quantity_of(self._guard.quantity), float(self.width())
        draw_text(painter, QPointF(0.0, 14.0), self._title, font(BODY, bold=True), p.ink)
        left = right - VALUE_WIDE - 12.0 - TRACK_WIDE
        why = self.fontMetrics().elidedText(self._why, Qt.TextElideMode.ElideRight, int(left - 12.0))
        draw_text(painter, QPointF(0.0, 30.0), why, font(SMALL), p.soft)
        low = FLOOR_C if quantity.unit == "°C" else 0.0
        share = (self._now - low) / max(self._guard.trip - low, 1e-9)
        painter.fillRect(QRectF(left, 18.0, TRACK_WIDE, 1.0), QColor(p.strong_rule))
        if math.isfinite(share):
            end = min(max(share, 0.0), 1.0) * TRACK_WIDE
            painter.fillRect(QRectF(left, 17.5, end, 2.0), QColor(p.ink))
            words = tr("{now} now").format(now=quantity.text(self._now))
            at = min(left + end + 4.0, left + TRACK_WIDE - text_width(words, SMALL) - 4.0)
            draw_text(painter, QPointF(max(at, left), 13.0), words, font(SMALL), p.soft)
        painter.fillRect(QRectF(left + TRACK_WIDE, 14.0, 2.0, 9.0), QColor(p.guard))
        level, unit = f"{self._guard.trip:g}", quantity.unit
        room = text_width(unit, SMALL) + 4.0
        draw_text(painter, QPointF(right, 22.0), unit, font(SMALL), p.soft, align=Qt.AlignmentFlag.AlignRight)
        draw_text(painter, QPointF(right - room, 22.0), level, font(READING), p.ink, align=Qt.AlignmentFlag.AlignRight)
        painter.end()


class QuestionRow(QAbstractButton):
    """One question: what it asks and what it gives at the left, its runs and hours at the right."""

    def __init__(self, look: Look, offer: Offer) -> None:
        super().__init__()
        self.offer = offer
        kind = template(offer.question.template)
        assert kind is not None
        self._look, self._here = look, ""
        self._what = tr("{title}: {words}").format(title=tr(kind.title), words=tr(kind.words))
        self.setText(tr(kind.asks))
        self.setCheckable(True)
        self.setFixedHeight(ROW_PX)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        look.changed.connect(self.update)

    def show_pace(self, pace: float | None) -> None:
        """Say how long it takes here at a pace."""
        self._here = here_text(self.offer.seconds, pace)
        words = (self._what, tr("{n} runs").format(n=self.offer.runs), duration_text(self.offer.seconds), self._here)
        self.setAccessibleDescription(", ".join(word for word in words if word))
        self.setToolTip(plain(f"{self.text()}\n{self._what}"))
        self.update()

    def sizeHint(self) -> QSize:
        """As wide as there is room."""
        return QSize(300, ROW_PX)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the two lines, and what it costs."""
        painter, p = QPainter(self), self._look.palette
        right, on = self.width() - 12.0, self.isChecked()
        if on or self.underMouse():
            painter.fillRect(self.rect(), QColor(p.surface))
        if on:
            painter.fillRect(QRectF(0.0, 0.0, 3.0, self.height()), QColor(p.accent))
        else:
            painter.fillRect(QRectF(12.0, self.height() - 1.0, self.width() - 12.0, 1.0), QColor(p.rule))
        room = int(right - 12.0 - 132.0)
        asks = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, room)
        draw_text(painter, QPointF(12.0, 16.0), asks, font(BODY, bold=on), p.ink)
        what = self.fontMetrics().elidedText(self._what, Qt.TextElideMode.ElideRight, room + 30)
        draw_text(painter, QPointF(12.0, 32.0), what, font(SMALL), p.soft)
        end = Qt.AlignmentFlag.AlignRight
        draw_text(painter, QPointF(right - 96.0, 16.0), f"{self.offer.runs}", font(BODY), p.ink, align=end)
        draw_text(painter, QPointF(right, 16.0), duration_text(self.offer.seconds), font(BODY), p.ink, align=end)
        draw_text(painter, QPointF(right, 32.0), self._here, font(SMALL), p.soft, align=end)
        painter.end()


class StartView(QWidget):
    """Three blocks: what the machine is, what to check, what to ask; and the other pages in outline."""

    planned = Signal(str)
    """A person wants the plan of a question, by its template's name."""
    limits_wanted = Signal()
    questions_wanted = Signal()
    selected = Signal()
    """Another question is selected."""

    def __init__(self, look: Look) -> None:
        super().__init__()
        self._look = look
        self._parts: tuple[Part, ...] = ()
        self._offers: tuple[Offer, ...] = ()
        self._group = QButtonGroup(self)
        self._group.buttonClicked.connect(lambda _: self.show_selected())
        self.limits: list[LimitRow] = []
        self.guards: tuple[Guard, ...] = ()
        self.rows: list[QuestionRow] = []
        self.machine = label("", "", wrap=True)
        self.plan = QPushButton()
        self.plan.setProperty("role", "primary")
        self.plan.clicked.connect(self._plan)
        self.lays_out = label("", "soft")
        self.more = self._link(self.questions_wanted.emit)
        self.more.hide()
        self.outlines = PageOutlines(look)
        self._lay_out()
        self.show_selected()

    def _link(self, do: object) -> QPushButton:
        button = QPushButton()
        button.setProperty("role", "link")
        button.setCursor(Qt.CursorShape.PointingHandCursor)
        button.clicked.connect(do)
        return button

    def _lay_out(self) -> None:
        columns = QHBoxLayout()
        columns.setSpacing(28)
        columns.setContentsMargins(0, 0, 8, 0)
        columns.addLayout(self._machine_side(), 36)
        columns.addLayout(self._question_side(), 64)
        inside = QWidget()
        inside.setLayout(columns)
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(6)
        rows.addWidget(ScrollingColumn(inside), 1)
        self._foot = QWidget()
        foot = QVBoxLayout(self._foot)
        foot.setContentsMargins(0, 0, 0, 0)
        foot.setSpacing(6)
        foot.addWidget(rule())
        foot.addLayout(_head(tr("What will stand on the other pages"), tr("and what fills it")))
        foot.addWidget(self.outlines)
        rows.addWidget(self._foot)

    def _machine_side(self) -> QVBoxLayout:
        rows = QVBoxLayout()
        rows.setSpacing(6)
        rows.addLayout(_head(tr("What it is"), ""))
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(12)
        self._grid.setVerticalSpacing(5)
        self._grid.setColumnStretch(1, 1)
        rows.addLayout(self._grid)
        rows.addSpacing(4)
        rows.addWidget(self.machine)
        rows.addStretch(1)
        return rows

    def _question_side(self) -> QVBoxLayout:
        side = QVBoxLayout()
        side.setSpacing(4)
        change = self._link(self.limits_wanted.emit)
        change.setText(tr("Change them on Limits"))
        side.addLayout(_head(tr("Check these first"), "", change))
        self._limits = QVBoxLayout()
        self._limits.setSpacing(0)
        side.addLayout(self._limits)
        side.addWidget(rule())
        side.addLayout(_head(tr("Then ask one question"), tr("runs, and time on the machine's clock")))
        self._questions = QVBoxLayout()
        self._questions.setSpacing(0)
        side.addLayout(self._questions)
        line = QHBoxLayout()
        line.setSpacing(12)
        line.addWidget(self.plan)
        line.addWidget(self.lays_out, 1)
        line.addWidget(self.more)
        side.addSpacing(2)
        side.addLayout(line)
        side.addStretch(1)
        return side

    def show_machine(self, card: RigCard, parts: tuple[Part, ...]) -> None:
        """Show what the machine is, and what its being simulated, or real, means."""
        made_up = tr("A made-up machine in a made-up room. Niente computes its heat, its sound and its faults: every page can ")
        made_up += tr("be tried, and no harm done.")
        real = tr("A real machine. Read the cautions in the margin before the first run.")
        self.machine.setText(made_up if card.simulated else real)
        if parts == self._parts:
            return
        self._parts = parts
        while (item := self._grid.takeAt(0)) is not None:
            if (old := item.widget()) is not None:
                old.deleteLater()
        for row, part in enumerate(parts):
            self._grid.addWidget(label(part.name), row, 0, Qt.AlignmentFlag.AlignTop)
            said = f"{part.words}, {part.tag}" if part.tag and part.tag not in part.words else part.words
            self._grid.addWidget(label(said, "soft", wrap=True), row, 1)

    def show_guards(self, guards: Sequence[Guard]) -> None:
        """Show the first guards."""
        shown = tuple(guards[:CHECKED])
        while len(self.limits) < len(shown):
            row = LimitRow(self._look)
            self.limits.append(row)
            self._limits.addWidget(row)
        for row in self.limits[len(shown) :]:
            row.hide()
        for row, guard in zip(self.limits, shown, strict=False):
            row.show_guard(guard, guard_title(guard), guard.reason)
            row.show()
        self.guards = shown

    def show_frame(self, card: RigCard, frame: Frame) -> None:
        """Show what is read now beside each limit."""
        for row, guard in zip(self.limits, self.guards, strict=False):
            read = [float(frame.values[index]) for index in card.indices(guard.quantity)]
            known = [value for value in read if math.isfinite(value)]
            row.show_now((min if guard.falling else max)(known) if known else math.nan)

    def show_offers(self, offers: tuple[Offer, ...]) -> None:
        """Show the questions that a newcomer is offered first."""
        if offers == self._offers:
            return
        self._offers = offers
        for old in self.rows:
            self._group.removeButton(old)
            self._questions.removeWidget(old)
            old.deleteLater()
        by_name = {offer.question.template: offer for offer in offers}
        self.rows = [QuestionRow(self._look, by_name[name]) for name in FIRST if name in by_name]
        for row in self.rows:
            self._group.addButton(row)
            self._questions.addWidget(row)
        if self.rows:
            self.rows[0].setChecked(True)
        left = len(offers) - len(self.rows)
        self.more.setText(tr("{n} more questions").format(n=left))
        self.more.setVisible(left > 0)
        self.show_selected()

    def show_pace(self, pace: float | None) -> None:
        """Say how long each question takes here."""
        for row in self.rows:
            row.show_pace(pace)

    def show_selected(self) -> None:
        """Let the button speak of the question that is selected."""
        offer = self.offer()
        self.plan.setVisible(offer is not None)
        self.lays_out.setVisible(offer is not None)
        if offer is not None:
            kind = template(offer.question.template)
            self.plan.setText(tr("Plan it: {title}").format(title=tr(kind.title) if kind is not None else ""))
            self.lays_out.setText(tr("Lays out {n} runs. You start them.").format(n=offer.runs))
        self.selected.emit()

    def offer(self) -> Offer | None:
        """Return the question that is selected."""
        row = self._group.checkedButton()
        return row.offer if isinstance(row, QuestionRow) else None

    def _plan(self) -> None:
        offer = self.offer()
        if offer is not None:
            self.planned.emit(offer.question.template)

    def fit(self, height: int) -> None:
        """Let the outlines give way in a low window."""
        self._foot.setVisible(height >= OUTLINES_FROM_PX)

    def margin(self, card: RigCard, pace: float | None) -> list[Block]:
        """Say what the selected question does, and what the machine's being simulated means."""
        blocks: list[Block] = []
        offer = self.offer()
        kind = template(offer.question.template) if offer is not None else None
        if offer is not None and kind is not None:
            lines = tuple(
                Reading(title, f"{seconds / 60.0:.0f}", unit="min", interval="" if runs == 1 else tr("{n} runs").format(n=runs))
                for title, runs, seconds in offer.parts
            )
            blocks += [
                Title(tr("Question, selected"), tr(kind.title)),
                Readings(tr("Its runs"), lines, tr("the machine's clock")),
                Words(tr("What it gives"), tr(kind.words)[0].upper() + tr(kind.words)[1:] + "."),
            ]
            if kind.name in WHY:
                blocks.append(Words(tr("Why"), tr(WHY[kind.name])))
        if card.simulated:
            faster = tr("Its clock runs {n:g} times as fast as yours.").format(n=pace) if pace else ""
            told = tr("{machine} is computed, and so is the room around it. {faster}")
            blocks.append(Words(tr("What simulated means"), told.format(machine=card.title, faster=faster).strip()))
            own = tr("The same page opens, and the same limits come first. There they are checked for real.")
            blocks.append(Words(tr("With a machine of your own"), own))
        return blocks


def _head(title: str, aside: str, link: QWidget | None = None) -> QHBoxLayout:
    line = QHBoxLayout()
    line.addWidget(label(title, "section"))
    line.addStretch(1)
    if aside:
        line.addWidget(label(aside, "soft"))
    if link is not None:
        line.addWidget(link)
    return line
