"""The Choose page: which setting, why that one, what it costs, and whether it holds."""

import msgspec
from PySide6.QtWidgets import QGridLayout, QWidget

from niente.core.choosing.pick import Candidate, Choice
from niente.core.choosing.words import against, limit_cost, limit_name, place_text, standing, why_this
from niente.core.project import Limits
from niente.core.quantities import number_text, quantity_of
from niente.core.science.dynamics import dynamic_mark
from niente.desktop.pages.choose.scatter import Scatter
from niente.desktop.session import Session
from niente.desktop.theme import Palette
from niente.desktop.widgets.labels import label
from niente.desktop.widgets.page import Page
from niente.desktop.widgets.quantity_field import QuantityField
from niente.desktop.widgets.table import RowsModel, rows_view

HEADS = ["", "Limit, W", "Case, %", "Throughput, %", "Noise, dBA", "", "Core, °C", "Headroom, K", "Against the pick"]


class ChoosePage(Page):
    """Noise against throughput, the pick with its runners-up, the limits and what each costs."""

    name = "Choose"

    def __init__(self, session: Session, palette: Palette) -> None:
        super().__init__(session)
        self.scatter = Scatter(palette)
        self.problem = label("", "lead", wrap=True)
        self.model = RowsModel(HEADS, {1, 2, 3, 4, 6, 7})
        self.table = rows_view("The pick and its runners-up", self.model, stretch=8, rows=4)
        percent, headroom, room = (quantity_of(name) for name in ("throughput_percent", "headroom_k", "room_temperature_c"))
        self.fields = {
            "least_throughput_percent": QuantityField(percent, low=10, high=110, step=1, title="Throughput at least"),
            "least_headroom_k": QuantityField(headroom, low=0, high=60, step=1, title="Headroom at least"),
            "design_room_c": QuantityField(room, low=10, high=45, step=1, title="In a room of"),
            "clean_minutes": QuantityField(
                msgspec.structs.replace(quantity_of("burst_time_s"), unit="min"),
                low=1,
                high=1440,
                step=1,
                title="Heaviest load, clean, for",
            ),
        }
        self.costs = {
            name: label("", "soft", wrap=True) for name in ("least_throughput_percent", "least_headroom_k", "clean_minutes")
        }
        for name, field in self.fields.items():
            field.settled.connect(lambda value, name=name: self._limit_edited(name, value))
        self._lay_out()
        self.follow(session.answered, session.project_changed)

    def _lay_out(self) -> None:
        self.body.addWidget(self.problem)
        self.body.addWidget(self.scatter, 1)
        self.body.addWidget(self.table)
        limits = QWidget()
        grid = QGridLayout(limits)
        grid.setContentsMargins(0, 4, 0, 0)
        grid.setHorizontalSpacing(12)
        grid.addWidget(label("Limits", "section"), 0, 0)
        grid.addWidget(label("what it costs", "soft"), 0, 2)
        for row, (name, field) in enumerate(self.fields.items(), 1):
            grid.addWidget(label(field.accessibleName()), row, 0)
            grid.addWidget(field, row, 1)
            if name in self.costs:
                grid.addWidget(self.costs[name], row, 2)
        grid.setColumnStretch(2, 1)
        self.body.addWidget(limits)

    def _limit_edited(self, name: str, value: float) -> None:
        project = self.session.project
        if project is not None:
            limits: Limits = msgspec.structs.replace(project.limits, **{name: value})
            self.session.change_limits(f"change of “{self.fields[name].accessibleName()}”", limits)

    def refresh(self) -> None:
        """Show the choice as it stands."""
        project, answer = self.session.project, self.session.answer
        if project is not None:
            for name, field in self.fields.items():
                field.put(getattr(project.limits, name))
        choice = answer.choice
        self.problem.setVisible(choice is None)
        self.problem.setText(answer.problem)
        self.scatter.setVisible(answer.field is not None)
        if answer.field is not None and answer.models is not None and project is not None:
            self.scatter.show_field(answer.field, project.limits, choice)
        if choice is None:
            self.set_head("Noise against throughput", "No pick yet")
            self.model.set_rows([])
            for words in self.costs.values():
                words.setText("")
            return
        background = answer.models.noise.background_dba if answer.models is not None else float("nan")
        state = "confirmed" if choice.confirmed else "not confirmed yet"
        self.set_head(f"The quietest that keeps every limit, {state}", place_text(choice.pick))
        rows = [_row("Pick", choice.pick, standing(choice), background)]
        rows += [_row(f"{n}", other, against(choice, other), background) for n, other in enumerate(choice.runners_up, 2)]
        self.model.set_rows(rows)
        for cost in choice.costs:
            name = {"throughput": "least_throughput_percent", "headroom": "least_headroom_k", "results": "clean_minutes"}[
                cost.limit
            ]
            self.costs[name].setText(limit_cost(choice, cost.limit))

    def live_line(self) -> str:
        """Return the pick in a few words."""
        choice = self.session.answer.choice
        if choice is None:
            return "no pick yet"
        pick = choice.pick
        return f"{pick.limit_w:g} W, {pick.duty:g} %, {number_text(pick.in_room_dba, 1)} dBA"

    def finished(self) -> bool:
        """The pick is confirmed."""
        choice = self.session.answer.choice
        return choice is not None and choice.confirmed

    def margin(self) -> list[tuple[str, str]]:
        """Give the reasons."""
        choice = self.session.answer.choice
        if choice is None:
            return [("No pick yet", self.session.answer.problem)]
        return [
            ("Why this one", why_this(choice)),
            ("Does it hold?", standing(choice)),
            ("What each limit costs", _costs(choice)),
            (
                "Caution",
                "A passed run is evidence, not a guarantee. Keep within the maker's limits, and keep a backup: "
                "an unstable processor corrupts files.",
            ),
        ]


def _costs(choice: Choice) -> str:
    return "\n".join(f"{limit_name(choice, cost.limit)}: {limit_cost(choice, cost.limit)}." for cost in choice.costs)


def _row(name: str, one: Candidate, words: str, background_dba: float) -> list[str]:
    return [
        name,
        f"{one.limit_w:g}",
        f"{one.duty:g}",
        f"{number_text(one.throughput_percent, 1)} ± {number_text(one.throughput_hw, 1)}",
        f"{number_text(one.in_room_dba, 1)} ± {number_text(one.in_room_hw, 1)}",
        dynamic_mark(one.in_room_dba, background_dba),
        f"{number_text(one.core_c, 1)} ± {number_text(one.core_hw, 1)}",
        number_text(one.headroom_k, 1),
        words,
    ]
