"""The answer to a choice: which setting, why that one, what it costs, and whether it holds."""

import msgspec
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from niente.core.answers.hand_over import entered_words
from niente.core.model.answer_document import AnswerDocument
from niente.core.model.kept_point import KeptPoint
from niente.core.model.limits import Limits, NoisePlace
from niente.core.model.quantities import NO_BREAK_SPACE, number_text, quantity_of
from niente.core.model.setting import Setting
from niente.core.science.dynamics import Scale
from niente.core.selection.explanation import (
    candidate_text,
    comparison_text,
    confirmation_text,
    limit_cost_text,
    limit_text,
    pick_reason,
    short_candidate_text,
)
from niente.core.selection.kept import Limit
from niente.core.selection.pick import Candidate, Choice, candidate_at
from niente.core.selection.points import PointStand
from niente.core.selection.setting_words import parts_text
from niente.core.selection.why_not import why_not
from niente.desktop.actions.registry import Actions
from niente.desktop.commands.choice_commands import ChoiceCommands
from niente.desktop.pages.answer.limits_panel import LimitsPanel
from niente.desktop.pages.answer.measures import UP, Measure
from niente.desktop.pages.answer.points_panel import PointsPanel
from niente.desktop.pages.answer.scatter import Scatter
from niente.desktop.pages.answer.ways import step_text
from niente.desktop.pages.answer.what_if_panel import WhatIfPanel
from niente.desktop.services.theme import Look
from niente.desktop.services.translation import tr
from niente.desktop.session.session import Session
from niente.desktop.widgets import form
from niente.desktop.widgets.blocks import Block, Buttons, Columns, Reading, Readings, Title, Words
from niente.desktop.widgets.empty import Empty
from niente.desktop.widgets.labels import label, rule
from niente.desktop.widgets.quantity_field import QuantityField
from niente.desktop.widgets.table import Cell, RowsModel, rows_view
from niente.desktop.widgets.views import Views

HEADS = ("Settings", "W", "% fans", "Throughput, %", "Noise, dBA", "", "Core, °C", "Headroom, K", "Against the pick")
FOOT_PX, QWIDGETSIZE_MAX = 70, 16777215
OF_LOADS = ("throughput_percent", "power_w", "core_k")
VIEWS = (
    ("Limits", "What a pick must keep, and what each limit costs"),
    ("What if", "Circumstances that were not measured: a hotter room, a clogged filter, a fan that fails"),
    ("Kept points", "Settings that are kept under names, against stock"),
)
LIMITS, WHAT_IF, POINTS = range(3)


class ChoiceView(QWidget):
    """Noise against throughput, the pick with its runners-up; below them limits, circumstances, and kept points.
    ``selection_changed`` comes when a person looks at another setting or point."""

    selection_changed = Signal()

    def __init__(self, session: Session, actions: Actions, look: Look) -> None:
        super().__init__()
        self.session = session
        self.body = QVBoxLayout(self)
        self.body.setContentsMargins(0, 0, 0, 0)
        self.body.setSpacing(8)
        self.scatter = Scatter(look)
        self.scatter.limit_moved.connect(self._limit_edited)
        self.problem = Empty(actions, look, "Answer")
        self.model = RowsModel([tr(head) for head in HEADS], {1, 2, 3, 4, 6, 7})
        self.table = rows_view(
            tr("The pick and its runners-up"), self.model, look, stretch=8, rows=4,
            least={0: 56, 3: 92, 4: 92, 5: 50, 6: 92, 7: 92},
        )  # fmt: skip
        self.commands = ChoiceCommands(session)
        self.limits = LimitsPanel(session, self.commands)
        self.what_ifs = WhatIfPanel(self.commands)
        self.points = PointsPanel(look, actions)
        self.views = Views([(tr(name), tr(tip)) for name, tip in VIEWS])
        self.below = QStackedWidget()
        names = [tr(measure.value) for measure in Measure]
        self.across = form.choice(tr("What stands across the picture"), names, self._axes_chosen)
        self.up = form.choice(tr("What stands up the picture"), names, self._axes_chosen)
        self.up.setCurrentIndex(list(Measure).index(UP))
        self._selected: Candidate | None = None
        self._of: Choice | None = None
        """The choice that the selected setting was looked at beside."""
        self._lay_out()

    @property
    def fields(self) -> dict[str, QuantityField]:
        """The fields of the limits, by name."""
        return self.limits.fields

    @property
    def selected(self) -> Candidate | None:
        """The setting that a person points at, in the picture or the table; ``None``: the pick."""
        return self._selected

    def _lay_out(self) -> None:
        self.body.addWidget(self.problem, 1)
        self.body.addWidget(self.scatter, 2)
        self.body.addWidget(self.table)
        self.body.addWidget(rule())
        row = QHBoxLayout()
        row.addWidget(self.views)
        row.addSpacing(16)
        row.addWidget(self.what_ifs.robust, 100)
        row.addStretch(1)
        self._axes = (label(tr("Drawn"), "soft"), self.up, label(tr("over"), "soft"), self.across)
        for widget in self._axes:
            row.addWidget(widget)
        self.body.addLayout(row)
        for panel in (self.limits, self.what_ifs, self.points):
            self.below.addWidget(panel)
        self.body.addWidget(self.below)
        self.what_ifs.robust.hide()
        self.views.chosen.connect(self._view_chosen)
        self.table.selectionModel().currentRowChanged.connect(lambda now, _: self._row_chosen(now.row()))
        self.points.selected.connect(self.selection_changed)
        self.scatter.pointed_at.connect(self._pointed_at)

    def _view_chosen(self, index: int) -> None:
        self.below.setCurrentIndex(index)
        self.what_ifs.robust.setVisible(index == WHAT_IF)
        for widget in self._axes:  # beside circumstances their place is wanted for what holds in all
            widget.setVisible(index != WHAT_IF)
        self.selection_changed.emit()

    def _axes_chosen(self, _: int) -> None:
        """Draw by what was chosen; what stands on one axis already changes places with it."""
        across, up = (list(Measure)[box.currentIndex()] for box in (self.across, self.up))
        if across == up:
            across, up = self.scatter.measures[::-1]
            self.across.setCurrentIndex(list(Measure).index(across))
            self.up.setCurrentIndex(list(Measure).index(up))
        self.scatter.show_axes(across, up)
        self.selection_changed.emit()

    def _row_chosen(self, row: int) -> None:
        choice = self.session.answer.choice
        if choice is not None and row >= 0:
            self._select(choice.runners_up[row - 1] if 1 <= row <= len(choice.runners_up) else None)

    def _pointed_at(self, index: int) -> None:
        """Look at one of the settings that the choice is made from."""
        answer, project = self.session.answer, self.session.project
        if answer.models is not None and answer.reached is not None and project is not None and index >= 0:
            self._select(candidate_at(answer.models, answer.reached, project.limits, index))
        else:
            self._select(None)

    def _select(self, candidate: Candidate | None) -> None:
        choice = self.session.answer.choice
        same = choice is not None and candidate is not None and candidate.setting == choice.pick.setting
        self._selected = None if same else candidate
        self.scatter.point_at(self._selected)
        self.selection_changed.emit()

    def to_pick(self) -> None:
        """Look at the pick again."""
        self._select(None)

    def kept_point(self) -> KeptPoint | None:
        """Return the kept point that a person looks at; ``None`` where kept points are not in view, or none is current."""
        return self.points.current if self.below.currentIndex() == POINTS else None

    def _limit_edited(self, name: str, value: float) -> None:
        self.limits.edit(name, value)

    def refresh(self) -> None:
        """Show the choice as it stands."""
        project, answer = self.session.project, self.session.answer
        if project is not None:
            self.limits.refresh(self.session.card, project.limits)
        choice = answer.choice
        missing = self.session.why_nothing() if choice is None else ""
        self.problem.show_problem(missing, outlined=answer.reached is None)
        self.problem.setMaximumHeight(FOOT_PX if answer.reached is not None else QWIDGETSIZE_MAX)
        self.table.setVisible(choice is not None)
        self.scatter.setVisible(answer.reached is not None)
        scale = answer.models.scale if answer.models is not None else Scale()
        self._show_table(choice, scale)
        if answer.reached is not None and project is not None:
            in_room = project.limits.noise_at == NoisePlace.ROOM
            limits = project.limits if in_room else msgspec.structs.replace(project.limits, max_noise_dba=None)
            self.scatter.show_settings(answer.reached, limits, choice, scale, answer.method_steps)
        if self._selected is not None and answer.choice is not self._of:
            self._select(None)
        self._of = answer.choice
        self.show_beside()

    def show_beside(self) -> None:
        """Show what stands beside the choice: circumstances and kept points."""
        project, card, beside = self.session.project, self.session.card, self.session.beside
        if project is not None and card is not None:
            self.what_ifs.refresh(project, card, beside)
            self.points.refresh(project.points, beside)
            stands = beside.points if beside is not None else ()
            self.scatter.show_points([one for one in stands if one.point in project.points])

    def _show_table(self, choice: Choice | None, scale: Scale) -> None:
        """Show the pick, those behind it and what each limit costs."""
        self.limits.show_costs(None if self.is_behind() else choice)
        if choice is None:
            self.model.set_rows([])
            return
        rows = [_row(tr("Pick"), choice.pick, confirmation_text(choice), scale)]
        rows += [_row(f"{n}", other, comparison_text(choice, other), scale) for n, other in enumerate(choice.runners_up, 2)]
        self.model.set_rows(rows)

    def _ways(self, limits: Limits) -> list[Block]:
        """Say what each way of limiting comes to, at its quietest rung that keeps the throughput."""
        best = self.scatter.ways.best(limits)
        if not best:
            return []
        rows = tuple(
            (name, step_text(rung), number_text(rung.throughput_percent, 1), number_text(rung.in_room_dba, 1))
            for name, rung in best
        )
        return [Columns(tr("Ways to limit power"), ("", "%", "dBA"), rows)]

    def _limit_line(self, limits: Limits, limit: Limit, *, binds: bool) -> Reading:
        value, unit = self.limits.reading(limits, limit)
        return Reading(self.limits.title_of(limit), value, unit=unit, dot=binds)

    def is_behind(self) -> bool:
        """Return whether the choice that shows was made for other limits than stand in the fields."""
        choice, project = self.session.answer.choice, self.session.project
        return choice is not None and project is not None and choice.limits != project.limits

    def head(self) -> tuple[str, str]:
        """Return the lead and the title of the page while a choice is shown."""
        choice = self.session.answer.choice
        if choice is None:
            return tr("Noise against throughput"), tr("No pick yet")
        if self.is_behind():
            lead = tr("For the earlier limits; the pick for the present ones is being worked out")
            return lead, candidate_text(choice.pick)
        across, up = (tr(measure.value) for measure in self.scatter.measures)
        settings = tr("{across} against {up}, {n} settings; headroom judged in a {room} °C room").format(
            across=across.capitalize(), up=up, n=choice.settings, room=f"{choice.limits.design_room_c:g}"
        )
        return f"{settings}: {tr(choice.standing.value)}", candidate_text(choice.pick)

    def live_line(self) -> str:
        """Return what the pick comes to, in a few words; its setting has too many controls to be named here."""
        choice = self.session.answer.choice
        if choice is None:
            return tr("no pick yet")
        if self.is_behind():
            return tr("being worked out")
        pick, models = choice.pick, self.session.answer.models
        mark = models.scale.mark(pick.in_room_dba) if models is not None else ""
        throughput = number_text(pick.throughput_percent, 1)
        return f"{number_text(pick.in_room_dba, 1)} dBA, {throughput} %, {mark}"

    def finished(self) -> bool:
        """The pick is confirmed."""
        choice = self.session.answer.choice
        return choice is not None and choice.confirmed

    def margin(self, document: AnswerDocument | None) -> list[Block]:
        """Give the reasons; ``document`` is the same choice as an answer: how it is entered, and what each load wins."""
        choice = self.session.answer.choice
        if choice is None:
            words = tr("The setting to keep, what it costs, and why the next quieter one was not chosen.")
            return [Words(tr("What will stand here"), words)]
        if self._selected is not None:
            return self._margin_of(choice, self._selected)
        if (point := self.kept_point()) is not None:
            return self._margin_of_point(point)
        binding = {cost.limit for cost in choice.costs if cost.instead is not None}
        limits = tuple(self._limit_line(choice.limits, cost.limit, binds=cost.limit in binding) for cost in choice.costs)
        return [
            Title(tr("The pick"), short_candidate_text(choice.pick)),
            *([Words(tr("Offsets"), parts)] if (parts := parts_text(choice.pick.others)) else []),
            *_entered(document),
            Words(tr("Why this one"), pick_reason(choice)),
            Words(tr("Does it hold?"), confirmation_text(choice)),
            *self._in_force(choice.pick.setting),
            Readings(tr("Limits"), limits, tr("• binds")),
            Words(tr("What each limit costs"), _costs(choice)),
            *_by_load(document),
            *self._ways(choice.limits),
            Words(
                tr("Caution"),
                tr(
                    "A passed run is evidence, not a guarantee. Keep within the maker's limits, and keep a backup: "
                    "an unstable processor corrupts files."
                ),
            ),
            Buttons(("answer.surer", "answer.keep", "answer.copy", "answer.card", "answer.stay")),
        ]

    def current(self) -> tuple[Setting, str] | None:
        """Return the setting that is pointed at, the kept point that is current, or the pick, with how well it is known."""
        choice, point = self.session.answer.choice, self.kept_point()
        if self._selected is not None:
            return self._selected.setting, _how_known(self._selected)
        if point is not None:
            return point.setting, _told_of(self.points.stand(point))
        return (choice.pick.setting, confirmation_text(choice)) if choice is not None else None

    def _in_force(self, setting: Setting) -> list[Block]:
        """Say that the machine keeps a setting, where it does."""
        bench, card = self.session.bench, self.session.card
        if bench is None or card is None or bench.stays != setting.over(card.stock):
            return []
        return [Words(tr("In force"), tr("The machine keeps this setting, also once Niente ends. No guard watches it."))]

    def _margin_of(self, choice: Choice, other: Candidate) -> list[Block]:
        """Say of another setting why it is not the pick, and what it comes to."""
        rows = (
            (tr("Throughput"), _told("throughput_percent", other.throughput_percent, other.throughput_hw)),
            (tr("Noise"), _told("noise_dba", other.in_room_dba, other.in_room_hw)),
            (tr("Headroom"), _told("headroom_k", other.headroom_k, other.core_hw)),
            (tr("Package"), _told("package_power_w", other.power_w, other.power_hw)),
        )
        return [
            Title(tr("A setting beside the pick"), short_candidate_text(other)),
            Words(tr("Why not this one"), why_not(choice, other)),
            Words(tr("What it comes to"), "\n".join(f"{name}: {figure}" for name, figure in rows)),
            Words(tr("How it is known"), _how_known(other)),
            *self._in_force(other.setting),
            Buttons(("answer.keep", "answer.run_here", "answer.copy", "answer.stay", "answer.to_pick")),
        ]

    def _margin_of_point(self, point: KeptPoint) -> list[Block]:
        """Say what a kept point is against stock, and whether it keeps its limits."""
        stand, card = self.points.stand(point), self.session.card
        steps = entered_words(card, point.setting) if card is not None else []
        entered = "; ".join(steps) or tr("It is the setting as found.")
        when = tr("Kept on {date}, with {variant}.").format(
            date=point.kept_at[:10], variant=point.variant or tr("this machine")
        )
        return [
            Title(tr("Kept as"), point.name),
            Words(tr("Enter it"), f"{entered}."),
            Words(tr("Against stock"), stand.words if stand is not None else tr("being worked out")),
            Words(tr("Does it hold?"), _told_of(stand)),
            Words(tr("When"), when),
            *self._in_force(point.setting),
            Buttons(("answer.run_here", "answer.card", "answer.stay", "answer.take_limits", "answer.let_go")),
        ]


def _how_known(other: Candidate) -> str:
    return tr("It was run.") if other.measured else tr("It is inferred: nothing was run at it.")


def _told_of(stand: PointStand | None) -> str:
    if stand is None:
        return tr("It is being worked out.")
    if stand.at is None:
        return stand.words
    return tr("It surely keeps every limit that it was kept for.") if stand.holds else tr("It does not surely keep its limits.")


def _told(quantity: str, value: float, half_width: float) -> str:
    return quantity_of(quantity).with_unit(value, half_width)


def _entered(document: AnswerDocument | None) -> list[Block]:
    """Say how the pick is entered, in order, with unit and sign."""
    remarks = document.remarks if document is not None else ()
    return [Words(tr("Enter it"), remark.words) for remark in remarks if remark.head == "Enter it"]


def _by_load(document: AnswerDocument | None) -> list[Block]:
    """Say what every load wins and loses against stock."""
    if document is None or document.table is None:
        return []
    shown = [index for index, column in enumerate(document.table.columns) if column.name in OF_LOADS]
    rows = []
    for row in document.table.rows:
        figures = [(row.values[index].value, document.table.columns[index].digits) for index in shown]
        rows.append((row.title, *("–" if value is None else number_text(value, digits) for value, digits in figures)))
    heads = ("", "%", "W", "K")
    return [Columns(tr("Against stock"), heads, tuple(rows))] if rows else []


def _costs(choice: Choice) -> str:
    return "\n".join(f"{limit_text(choice, cost.limit)}: {limit_cost_text(choice, cost.limit)}." for cost in choice.costs)


def _row(name: str, one: Candidate, words: str, scale: Scale) -> list[Cell | str]:
    pick = not name.isdigit()

    def figure(value: float, half_width: float, limit: Limit) -> Cell:
        under = "guard" if limit in one.breaks else ""
        return Cell(number_text(value, 1), f"±{NO_BREAK_SPACE}{number_text(half_width, 1)}", under=under)

    return [
        Cell(name, bold=pick),
        Cell(f"{one.limit_w:g}", bold=pick),
        Cell(f"{one.duty:g}", bold=pick),
        figure(one.throughput_percent, one.throughput_hw, Limit.THROUGHPUT),
        figure(one.in_room_dba, one.in_room_hw, Limit.NOISE),
        Cell(scale.mark(one.in_room_dba), mark=True),
        Cell(number_text(one.core_c, 1), f"±{NO_BREAK_SPACE}{number_text(one.core_hw, 1)}"),
        figure(one.headroom_k, one.core_hw, Limit.HEADROOM),
        Cell(words, soft=not pick),
    ]
