"""The Plan page: what to measure, in what order, how many hours, and what the naive way would cost."""

import re

import msgspec
from PySide6.QtWidgets import QCheckBox, QGridLayout, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from niente.core.evidence import RunSummary
from niente.core.planning.cost import cost_of, typical_seconds
from niente.core.project import Axis, QuietPoint
from niente.core.quantities import NO_BREAK_SPACE, duration_text, quantity_of
from niente.core.rigcard import LoadKind
from niente.desktop.actions import Actions
from niente.desktop.session import Notice, Session
from niente.desktop.widgets.labels import label
from niente.desktop.widgets.page import Page
from niente.desktop.widgets.quantity_field import QuantityField
from niente.desktop.widgets.table import RowsModel, rows_view

HEADS = ["Run", "Stage", "Limit, W", "Case, %", "Cooler, %", "Load", "Min", "Result", "Why it is here"]
CORE_K = "core_rise_k"


class ListField(QLineEdit):
    """A field for a list of figures: ``80, 100, 125``."""

    def __init__(self, title: str) -> None:
        super().__init__()
        self.setAccessibleName(title)
        self.setToolTip(f"{title}: figures with commas between them")

    def put(self, values: tuple[float, ...]) -> None:
        """Show the figures."""
        self.setText(", ".join(f"{value:g}" for value in values))

    def figures(self) -> tuple[float, ...] | None:
        """Return what was typed, sorted and each once; ``None`` where it is no list of figures."""
        parts = [part for part in re.split(r"[,;\s]+", self.text().strip()) if part]
        try:
            return tuple(sorted({float(part) for part in parts})) or None
        except ValueError:
            return None


class PlanPage(Page):
    """Question, axes, loads and exposure at the left; the run list at the right; the cost below."""

    name = "Plan"

    def __init__(self, session: Session, actions: Actions) -> None:
        super().__init__(session)
        self.power = ListField("Sustained power limits in W")
        self.fans = ListField("Case-fan duties in %")
        offset, rise = quantity_of("voltage_offset_mv"), quantity_of(CORE_K)
        self.offset = QuantityField(offset, low=-150, high=0, step=5)
        self.known = QuantityField(rise, low=0.5, high=5.0, step=0.1, title="Settled temperature known to ±")
        self.cooler = QuantityField(quantity_of("fan_duty"), low=0, high=100, step=1, title="Cooler-fan duty")
        self.loads: dict[str, QCheckBox] = {}
        self._load_rows = QVBoxLayout()
        self.cost = label("", "", wrap=True)
        self.start = QPushButton("Start")
        self.start.setToolTip(actions["plan.start"].toolTip())
        self.start.clicked.connect(actions["plan.start"].trigger)
        self.model = RowsModel(HEADS, {0, 2, 3, 4, 6})
        self.table = rows_view("Run list", self.model, stretch=8, least={7: 100})
        self._lay_out()
        self.power.editingFinished.connect(self._axes_edited)
        self.fans.editingFinished.connect(self._axes_edited)
        self.offset.settled.connect(lambda value: self._base_edited("voltage_offset_mv", value))
        self.cooler.settled.connect(lambda value: self._base_edited("fan_duty.cooler", value))
        self.known.settled.connect(self._known_edited)
        self.follow(session.project_changed, session.run_changed, session.answered)

    def _lay_out(self) -> None:
        left = QWidget()
        left.setFixedWidth(250)
        column = QVBoxLayout(left)
        column.setContentsMargins(0, 0, 12, 0)
        column.addWidget(label("Axes", "section"))
        grid = QGridLayout()
        grid.setVerticalSpacing(6)
        for row, (text, field, unit) in enumerate(
            (
                ("Power limit", self.power, "W"),
                ("Case fans", self.fans, "%"),
                ("Cooler fan", self.cooler, ""),
                ("Voltage offset", self.offset, ""),
            )
        ):
            grid.addWidget(label(text), row, 0)
            grid.addWidget(field, row, 1)
            grid.addWidget(label(unit, "soft"), row, 2)
        column.addLayout(grid)
        column.addWidget(
            label(
                "Lower a voltage in small steps: an unstable machine corrupts files. Back up first, and test on data that can "
                "be lost. "
                "The maker's limits come first.",
                "soft",
                wrap=True,
            )
        )
        column.addSpacing(8)
        column.addWidget(label("Loads", "section"))
        column.addLayout(self._load_rows)
        column.addSpacing(8)
        column.addWidget(label("Exposure", "section"))
        grid = QGridLayout()
        grid.addWidget(label("Until known to ±"), 0, 0)
        grid.addWidget(self.known, 0, 1)
        column.addLayout(grid)
        column.addStretch(1)
        column.addWidget(self.cost)
        both = QHBoxLayout()
        both.addWidget(left)
        both.addWidget(self.table, 1)
        self.body.addLayout(both, 1)
        self.head.addWidget(self.start)

    # -- edits ---------------------------------------------------------------------------------------------------

    def _question(self) -> QuietPoint | None:
        return self.session.project.question if self.session.project is not None else None

    def _change(self, words: str, question: QuietPoint) -> None:
        if self.session.project is not None:
            self.session.edit(words, msgspec.structs.replace(self.session.project, question=question))

    def _axes_edited(self) -> None:
        question, card = self._question(), self.session.card
        if question is None or card is None:
            return
        for field, axis, member in ((self.power, question.power, "power"), (self.fans, question.fans, "fans")):
            figures, control = field.figures(), card.control(axis.control)
            if figures == axis.values or control is None:
                continue
            outside = [value for value in figures or () if not control.low <= value <= control.high]
            if figures is None or outside:
                said = f"{outside[0]:g} lies outside {control.range_text()}" if outside else "that is no list of figures"
                self.session.notice.emit(
                    Notice(f"{control.title}: {said}. The plan is unchanged. Type figures with commas between them.")
                )
                field.put(axis.values)
                continue
            changed = msgspec.structs.replace(question, **{member: Axis(axis.control, figures)})
            self._change(f"change of {control.title.lower()}", changed)
            question = changed

    def _base_edited(self, control: str, value: float) -> None:
        question = self._question()
        if question is not None and question.base.value(control) != value:
            base = question.base.replaced(control, value)
            self._change(f"change of {quantity_of(control).title.lower()}", msgspec.structs.replace(question, base=base))

    def _known_edited(self, value: float) -> None:
        question = self._question()
        if question is not None:
            self._change("change of the exposure", msgspec.structs.replace(question, known_to_k=value))

    def _loads_edited(self) -> None:
        question, card = self._question(), self.session.card
        if question is None or card is None:
            return
        chosen = tuple(name for name, box in self.loads.items() if box.isChecked())
        heavy = card.load_of(LoadKind.HEAVY)
        if heavy is not None and heavy.name not in chosen:
            self.session.notice.emit(
                Notice(f"{heavy.title} is what the machine must survive: a quiet point is not judged without it.")
            )
            self.loads[heavy.name].setChecked(True)
            return
        if chosen != question.loads:
            self._change("change of loads", msgspec.structs.replace(question, loads=chosen))

    # -- showing -------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the project and the plan as they stand."""
        card, question, plan = self.session.card, self._question(), self.session.plan
        if card is None or question is None or plan is None:
            return
        self.power.put(question.power.values)
        self.fans.put(question.fans.values)
        self.offset.put(question.base.over(card.stock).voltage_offset_mv or 0.0)
        self.cooler.put(question.base.over(card.stock).fan_duty.get("cooler", 0.0))
        self.known.put(question.known_to_k)
        self._show_loads(question)
        cost = cost_of(plan, question)
        self.set_head("Which setting is quiet, fast enough and sound?", "Quiet point")
        hours = duration_text(cost.typical_s)
        self.cost.setText(
            f"This plan: {cost.runs} runs, about {hours}.\n"
            f"Full factorial by half hours: {cost.naive_runs} runs, {duration_text(cost.naive_s)}."
        )
        self.start.setText("Go on" if self.session.done and len(self.session.done) < len(plan.steps) else "Start")
        self.start.setEnabled(not self.session.busy())
        self.model.set_rows(self._rows())

    def _show_loads(self, question: QuietPoint) -> None:
        card = self.session.card
        for load in card.loads if card is not None else ():
            if load.kind == LoadKind.IDLE:
                continue
            if load.name not in self.loads:
                box = QCheckBox(load.title)
                box.setToolTip("checked by its results" if load.checks_results else "its results are not checked")
                box.clicked.connect(self._loads_edited)
                self.loads[load.name] = box
                self._load_rows.addWidget(box)
            self.loads[load.name].setChecked(load.name in question.loads)

    def _rows(self) -> list[list[str]]:
        session, plan, card = self.session, self.session.plan, self.session.card
        if plan is None or card is None:
            return []
        evidence = session.answer.evidence
        runs = {(run.setting.key(), run.load): run for run in (evidence.runs if evidence is not None else ())}
        live = session.live
        now = live.opened.index if live is not None and live.closed is None and session.busy() else None
        rows = []
        for index, step in enumerate(plan.steps):
            whole = step.setting.over(card.stock)
            run = runs.get((whole.key(), step.load))
            rows.append(
                [
                    f"{index + 1}",
                    step.stage,
                    quantity_of("sustained_power_w").text(whole.sustained_power_w or 0.0),
                    f"{whole.fan_duty.get('case', 0.0):g}",
                    f"{whole.fan_duty.get('cooler', 0.0):g}",
                    step.load,
                    f"{typical_seconds(step.exposure) / 60.0:.0f}",
                    "running" if index == now else _result(run),
                    step.reason,
                ]
            )
        return rows

    def live_line(self) -> str:
        """Return runs and hours."""
        if self.session.plan is None:
            return ""
        cost = cost_of(self.session.plan)
        return f"{cost.runs} runs, {duration_text(cost.typical_s)}"

    def finished(self) -> bool:
        """A plan is there."""
        return self.session.plan is not None

    def margin(self) -> list[tuple[str, str]]:
        """Explain the question and its order."""
        question, card = self._question(), self.session.card
        if question is None or card is None:
            return []
        room = quantity_of("core_temperature_c").with_unit(card.limits.core_temperature_c)
        return [
            (f"{card.title}, {card.variant}", card.summary + (" (simulated)" if card.simulated else "")),
            (
                "In which order",
                "Noise first: it needs a minute a duty and no heat. Then stock, as found. Then the heaviest load, "
                "power ascending and the machine kept warm. The pick is confirmed last.",
            ),
            (
                "When a run ends",
                f"When the hottest core's settled temperature is known to ±{question.known_to_k:g}{NO_BREAK_SPACE}K "
                f"(95 %), at the latest after {question.most_minutes:g}{NO_BREAK_SPACE}min.",
            ),
            (
                "Guard",
                f"The load goes off and the safe setting comes back when the hottest core reads {room} for three seconds, "
                "when a core's sensor goes silent or stands still, or when a fan stalls.",
            ),
        ]


def _result(run: RunSummary | None) -> str:
    """Return what a run came to, in a few figures."""
    if run is None or run.running:
        return ""
    if run.failures:
        return f"{run.failures} wrong"
    if run.settled.known:
        return quantity_of("hottest_core_c").with_unit(run.settled.value_c, run.settled.half_width_k)
    return quantity_of("noise_dba").with_unit(run.noise_dba)
