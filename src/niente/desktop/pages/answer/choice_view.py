"""The answer to a choice: which setting, why that one, what it costs, and whether it holds."""

import math

import msgspec
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from niente.core.model.answer_document import AnswerDocument
from niente.core.model.limits import Aim, Limits, NoisePlace
from niente.core.model.quantities import NO_BREAK_SPACE, number_text, quantity_of
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
from niente.core.selection.pick import Candidate, Choice
from niente.core.selection.setting_words import parts_text
from niente.desktop.actions.registry import Actions
from niente.desktop.pages.answer.scatter import Scatter
from niente.desktop.pages.answer.ways import step_text
from niente.desktop.services.theme import Look
from niente.desktop.services.translation import tr
from niente.desktop.session.session import Session
from niente.desktop.widgets import form
from niente.desktop.widgets.blocks import Block, Buttons, Columns, Reading, Readings, Title, Words
from niente.desktop.widgets.empty import Empty
from niente.desktop.widgets.labels import label, rule
from niente.desktop.widgets.quantity_field import QuantityField
from niente.desktop.widgets.table import Cell, RowsModel, rows_view

HEADS = ("Settings", "W", "% fans", "Throughput, %", "Noise, dBA", "", "Core, °C", "Headroom, K", "Against the pick")
FOOT_PX, QWIDGETSIZE_MAX = 70, 16777215
OFF_DBA = 9.5
"""The noise limit's field stands here for "none"."""
OF_LOADS = ("throughput_percent", "power_w", "core_k")
FAILURE = "failure"
"""The chance of a failure, in per cent, in the field of that name."""
LIMIT_OF = {
    Limit.THROUGHPUT: "min_throughput_percent",
    Limit.HEADROOM: "min_headroom_k",
    Limit.RESULTS: "clean_minutes",
    Limit.NOISE: "max_noise_dba",
    Limit.FAILURES: FAILURE,
}


class ChoiceView(QWidget):
    """Noise against throughput, the pick with its runners-up, the limits and what each costs."""

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
        self.fields = self._make_fields()
        self.costs = {name: label("", "soft", wrap=True) for name in LIMIT_OF.values()}
        for name, field in self.fields.items():
            field.settled.connect(lambda value, name=name: self._limit_edited(name, value))
        self.aim = form.choice(tr("What the choice is for"), [tr(aim.value) for aim in Aim], self._aimed)
        self.noise_at = form.choice(
            tr("Where the most noise is judged"), [tr(place.value) for place in NoisePlace], self._placed
        )
        self._lay_out()

    def _make_fields(self) -> dict[str, QuantityField]:
        usual = Limits()
        percent, headroom, noise, room = (
            quantity_of(name) for name in ("throughput_percent", "headroom_k", "noise_dba", "room_temperature_c")
        )
        chance = msgspec.structs.replace(percent, digits=2)
        minutes = msgspec.structs.replace(quantity_of("burst_time_s"), unit="min")
        return {
            "min_throughput_percent": QuantityField(
                percent, low=10, high=110, step=1, title=tr("Throughput at least"), default=usual.min_throughput_percent
            ),
            "max_noise_dba": QuantityField(
                noise, low=OFF_DBA, high=80, step=0.5, title=tr("Noise at most"), default=OFF_DBA, off_words=tr("no limit")
            ),
            "min_headroom_k": QuantityField(
                headroom, low=0, high=60, step=1, title=tr("Headroom at least"), default=usual.min_headroom_k
            ),
            "design_room_c": QuantityField(
                room, low=10, high=45, step=1, title=tr("In a room of"), default=usual.design_room_c
            ),
            "clean_minutes": QuantityField(
                minutes, low=1, high=1440, step=1, title=tr("Heaviest load, clean, for"), default=usual.clean_minutes
            ),
            FAILURE: QuantityField(
                chance,
                low=0.01,
                high=99.0,
                step=0.5,
                title=tr("A failure at most"),
                default=100.0 * usual.failure.chance,
            ),
        }

    def _lay_out(self) -> None:
        self.body.addWidget(self.problem, 1)
        self.body.addWidget(self.scatter, 2)
        self.body.addWidget(self.table)
        self.body.addWidget(rule())
        limits = QHBoxLayout()
        limits.setSpacing(16)
        for name, field in self.fields.items():
            column = QVBoxLayout()
            column.setSpacing(2)
            text = label(field.title, "soft", wrap=True)
            text.setBuddy(field)
            column.addWidget(text)
            field.setFixedWidth(96)
            column.addWidget(field)
            if name in self.costs:
                self.costs[name].setAlignment(Qt.AlignmentFlag.AlignTop)
                column.addWidget(self.costs[name])
            column.addStretch(1)
            limits.addLayout(column, 1)
        row = QHBoxLayout()
        row.setSpacing(12)
        row.addWidget(label(tr("Limits"), "section"))
        row.addStretch(1)
        for words, box in ((tr("Of those, the"), self.aim), (tr("Noise is judged"), self.noise_at)):
            text = label(words, "soft")
            text.setBuddy(box)
            row.addWidget(text)
            row.addWidget(box)
        self.body.addLayout(row)
        self.body.addLayout(limits)

    def _aimed(self, index: int) -> None:
        project = self.session.project
        if project is not None:
            words = tr("change of “{what}”").format(what=tr("what the choice is for"))
            self.session.change_limits(words, msgspec.structs.replace(project.limits, aim=list(Aim)[index]))

    def _placed(self, index: int) -> None:
        project = self.session.project
        if project is not None:
            words = tr("change of “{what}”").format(what=tr("where noise is judged"))
            self.session.change_limits(words, msgspec.structs.replace(project.limits, noise_at=list(NoisePlace)[index]))

    def _limit_edited(self, name: str, value: float) -> None:
        project, field = self.session.project, self.fields[name]
        if project is None:
            return
        words = tr("change of “{what}”").format(what=field.title)
        if name == FAILURE:
            chance = min(max(value, field.minimum()), field.maximum()) / 100.0
            self.session.change_goal(words, msgspec.structs.replace(project.limits.failure, chance=chance))
            return
        off = name == "max_noise_dba" and (not math.isfinite(value) or value <= OFF_DBA)
        wanted = None if off else min(max(value, field.minimum()), field.maximum())
        limits: Limits = msgspec.structs.replace(project.limits, **{name: wanted})
        self.session.change_limits(words, limits)

    def refresh(self) -> None:
        """Show the choice as it stands."""
        project, answer = self.session.project, self.session.answer
        if project is not None:
            for name, field in self.fields.items():
                kept = _kept(project.limits, name)
                field.put(OFF_DBA if kept is None else kept)
            self.aim.setCurrentIndex(list(Aim).index(project.limits.aim))
            self.noise_at.setCurrentIndex(list(NoisePlace).index(project.limits.noise_at))
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

    def _show_table(self, choice: Choice | None, scale: Scale) -> None:
        """Show the pick, those behind it and what each limit costs."""
        for words in self.costs.values():
            words.setText("")
        if choice is None:
            self.model.set_rows([])
            return
        rows = [_row(tr("Pick"), choice.pick, confirmation_text(choice), scale)]
        rows += [_row(f"{n}", other, comparison_text(choice, other), scale) for n, other in enumerate(choice.runners_up, 2)]
        self.model.set_rows(rows)
        if self.is_behind():
            return
        for cost in choice.costs:
            self.costs[LIMIT_OF[cost.limit]].setText(limit_cost_text(choice, cost.limit))

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
        field = self.fields[LIMIT_OF[limit]]
        value = _kept(limits, LIMIT_OF[limit])
        return Reading(field.title, f"{value:g}", unit=field.quantity.unit, dot=binds)

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
        settings = tr("Noise against throughput, {n} settings; headroom judged in a {room} °C room").format(
            n=choice.settings, room=f"{choice.limits.design_room_c:g}"
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
        binding = {cost.limit for cost in choice.costs if cost.instead is not None}
        limits = tuple(self._limit_line(choice.limits, cost.limit, binds=cost.limit in binding) for cost in choice.costs)
        return [
            Title(tr("The pick"), short_candidate_text(choice.pick)),
            *([Words(tr("Offsets"), parts)] if (parts := parts_text(choice.pick.others)) else []),
            *_entered(document),
            Words(tr("Why this one"), pick_reason(choice)),
            Words(tr("Does it hold?"), confirmation_text(choice)),
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
            Buttons(("answer.card", "edit.undo")),
        ]


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


def _kept(limits: Limits, name: str) -> float | None:
    """Return a limit as its field shows it; ``None`` where there is none."""
    if name == FAILURE:
        return 100.0 * limits.failure.chance
    value: float | None = getattr(limits, name)
    return value


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
