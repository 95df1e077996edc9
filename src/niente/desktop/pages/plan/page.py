"""The Plan page: what to measure, in what order, how many hours, and what the naive way would cost."""

import math

import msgspec
from PySide6.QtCore import QDateTime, Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QCheckBox, QGridLayout, QHBoxLayout, QLabel, QScrollArea, QSplitter, QVBoxLayout, QWidget

from niente.core.evidence import RunSummary
from niente.core.plan import Step
from niente.core.planning.confirmation import STAGE
from niente.core.planning.cost import cost_of, typical_seconds
from niente.core.planning.foresight import Seen, foresee
from niente.core.project import Axis, QuietPoint
from niente.core.quantities import duration_text, number_text, quantity_of
from niente.core.rigcard import LoadKind, RigCard
from niente.core.rigs.protocol import Paced
from niente.core.science.dynamics import Scale
from niente.desktop.actions import Actions
from niente.desktop.live import Notice
from niente.desktop.pages.plan.drawings import CostLine, Ribbon, RibbonRun
from niente.desktop.pages.plan.explain import about, explain
from niente.desktop.pages.plan.fields import ListField
from niente.desktop.session import Session
from niente.desktop.theme import Look
from niente.desktop.tongue import tr
from niente.desktop.widgets.blocks import Block, Deeds
from niente.desktop.widgets.labels import ActionButton, label, rule
from niente.desktop.widgets.page import Page
from niente.desktop.widgets.quantity_field import QuantityField
from niente.desktop.widgets.table import Cell, RowsModel, rows_view

HEADS = ("", "Run", "Stage", "Limit, W", "Fans, %", "Load", "Core, °C", "dBA", "", "Min", "Why it is here")
REASON = 10
FANS_ROW, OTHER_ROW = 1, 2
NARROW_PX = 880
CORE_K = "core_rise_k"


class PlanPage(Page):
    """Ribbon above; question, axes, loads and exposure at the left; the run list at the right, its cost below."""

    name = "Plan"

    def __init__(self, session: Session, actions: Actions, look: Look) -> None:
        super().__init__(session, actions, look)
        self.total = label("", "reading")
        self.ribbon = Ribbon(look)
        self.power = ListField(tr("Sustained power limits"), "W")
        self.fans = ListField(tr("Duties of the fans that are swept"), "%")
        offset, rise = quantity_of("voltage_offset_mv"), quantity_of(CORE_K)
        self.offset = QuantityField(offset, low=-150, high=0, step=5, default=0.0)
        self.offset.setProperty("help", "safety")
        self.known = QuantityField(rise, low=0.5, high=5.0, step=0.1, title=tr("Settled temperature known to ±"), default=1.0)
        self.cooler = QuantityField(
            quantity_of("fan_duty"), low=0, high=100, step=1, title=tr("Duty of the fans that are held"), default=40.0
        )
        self._names: dict[int, QLabel] = {}
        self.places = {"power": label("", "soft"), "fans": label("", "soft")}
        self.count = label("", "soft", wrap=True)
        self.loads: dict[str, QCheckBox] = {}
        self._load_notes: dict[str, QWidget] = {}
        self._load_rows = QGridLayout()
        self.cost = CostLine(look)
        self.start = ActionButton(actions["plan.start"])
        self.start.setMinimumWidth(120)
        self.model = RowsModel([tr(head) for head in HEADS], {1, 3, 4, 6, 7, 9})
        self.table = rows_view(tr("Run list"), self.model, look, stretch=REASON, least={0: 22, 6: 86, 7: 42, 8: 46})
        self.table.selectionModel().currentRowChanged.connect(lambda *_: self.said.emit())
        self.offer(self.table, "plan.start", "plan.open", "plan.save", "edit.undo", "edit.redo", "help.here")
        self._lay_out()
        self.power.editingFinished.connect(self._axes_edited)
        self.fans.editingFinished.connect(self._axes_edited)
        self.offset.settled.connect(lambda value: self._base_edited("voltage_offset_mv", value))
        self.cooler.settled.connect(self._other_fans_edited)
        self.known.settled.connect(self._known_edited)
        self.follow(session.project_changed, session.run_changed, session.answered)

    def _lay_out(self) -> None:
        self.head.addWidget(self.total, 0, Qt.AlignmentFlag.AlignBottom)
        self.head.addWidget(self.start, 0, Qt.AlignmentFlag.AlignBottom)
        self.body.addWidget(self.ribbon)
        self.body.addWidget(rule())
        split = QSplitter(Qt.Orientation.Horizontal)
        split.setHandleWidth(1)
        split.setChildrenCollapsible(False)
        split.addWidget(self._question_side())
        split.addWidget(self._list_side())
        split.setStretchFactor(1, 1)
        split.setSizes([246, 700])
        self.body.addWidget(split, 1)

    def _question_side(self) -> QWidget:
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(0, 2, 12, 0)
        column.setSpacing(6)
        head = QHBoxLayout()
        head.addWidget(label(tr("Axes"), "section"))
        head.addStretch(1)
        head.addWidget(label(tr("places"), "soft"))
        column.addLayout(head)
        grid = QGridLayout()
        grid.setVerticalSpacing(6)
        grid.setHorizontalSpacing(6)
        for row, (text, field, unit, places) in enumerate(
            (
                (tr("Power limit"), self.power, "W", self.places["power"]),
                ("", self.fans, "%", self.places["fans"]),
                ("", self.cooler, "", None),
                (tr("Offset"), self.offset, "", None),
            )
        ):
            name = label(text)
            name.setBuddy(field)
            self._names[row] = name
            grid.addWidget(name, row, 0)
            grid.addWidget(field, row, 1)
            grid.addWidget(label(unit, "soft"), row, 2)
            if places is not None:
                grid.addWidget(places, row, 3)
        grid.setColumnStretch(1, 1)
        column.addLayout(grid)
        column.addWidget(self.count)
        caution = tr(
            "Lower a voltage in small steps: an unstable machine corrupts files. Back up first, and test on data that "
            "can be lost. The maker's limits come first."
        )
        column.addWidget(label(caution, "soft", wrap=True))
        column.addSpacing(4)
        column.addWidget(rule())
        head = QHBoxLayout()
        head.addWidget(label(tr("Loads"), "section"))
        head.addStretch(1)
        head.addWidget(label(tr("checked by"), "soft"))
        column.addLayout(head)
        self._load_rows.setColumnStretch(0, 1)
        column.addLayout(self._load_rows)
        column.addSpacing(4)
        column.addWidget(rule())
        column.addWidget(label(tr("Exposure"), "section"))
        grid = QGridLayout()
        grid.addWidget(label(tr("Until known to ±")), 0, 0)
        grid.addWidget(self.known, 0, 1)
        column.addLayout(grid)
        column.addStretch(1)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setMinimumWidth(230)
        area.setWidget(left)
        return area

    def _list_side(self) -> QWidget:
        right = QWidget()
        rows = QVBoxLayout(right)
        rows.setContentsMargins(12, 0, 0, 0)
        rows.setSpacing(4)
        rows.addWidget(self.table, 1)
        rows.addWidget(rule())
        rows.addWidget(self.cost)
        return right

    def resizeEvent(self, event: QResizeEvent) -> None:
        """In a narrow window stage and load give way: the ribbon shows the one, the margin says the other."""
        super().resizeEvent(event)
        narrow = self.width() < NARROW_PX
        self.table.setColumnHidden(2, narrow)
        self.table.setColumnHidden(5, narrow)

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
                said = (
                    tr("{value} lies outside {range}").format(value=f"{outside[0]:g}", range=control.range_text())
                    if outside
                    else tr("that is no list of figures")
                )
                rest = tr("The plan is unchanged. Type figures with commas between them.")
                self.session.notice.emit(Notice(f"{control.title}: {said}. {rest}"))
                field.put(axis.values)
                continue
            changed = msgspec.structs.replace(question, **{member: Axis(axis.control, figures)})
            self._change(tr("change of {what}").format(what=control.title.lower()), changed)
            question = changed

    def _base_edited(self, control: str, value: float) -> None:
        question = self._question()
        if question is not None and question.base.value(control) != value:
            base = question.base.replaced(control, value)
            words = tr("change of {what}").format(what=quantity_of(control).title.lower())
            self._change(words, msgspec.structs.replace(question, base=base))

    def _known_edited(self, value: float) -> None:
        question = self._question()
        if question is not None:
            self._change(tr("change of the exposure"), msgspec.structs.replace(question, known_to_k=value))

    def _loads_edited(self) -> None:
        question, card = self._question(), self.session.card
        if question is None or card is None:
            return
        chosen = tuple(name for name, box in self.loads.items() if box.isChecked())
        heavy = card.load_of(LoadKind.HEAVY)
        if heavy is not None and heavy.name not in chosen:
            words = tr("{load} is what the machine must survive: a quiet point is not judged without it.")
            self.session.notice.emit(Notice(words.format(load=heavy.title)))
            self.loads[heavy.name].setChecked(True)
            return
        if chosen != question.loads:
            self._change(tr("change of loads"), msgspec.structs.replace(question, loads=chosen))

    def _other_fans_edited(self, duty: float) -> None:
        card = self.session.card
        if card is not None and card.held_group():
            self._base_edited(f"fan_duty.{card.held_group()}", duty)

    def _name_fans(self, card: RigCard) -> None:
        """Name the rows of fans after the rig's groups."""
        lead, other = card.lead_group() or "", (card.held_group() or "")
        self._names[FANS_ROW].setText(tr("{group} fans").format(group=lead.capitalize()) if lead else tr("No fans"))
        self._names[OTHER_ROW].setText(tr("{group} fan").format(group=other.capitalize()))
        for part in (self._names[OTHER_ROW], self.cooler):
            part.setVisible(bool(other))

    # -- showing -------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the project and the plan as they stand."""
        card, question, plan = self.session.card, self._question(), self.session.plan
        if card is None or question is None or plan is None:
            return
        self.power.put(question.power.values)
        self.fans.put(question.fans.values)
        self.offset.put(question.base.over(card.stock).voltage_offset_mv or 0.0)
        self._name_fans(card)
        self.cooler.put(question.base.over(card.stock).fan_duty.get((card.held_group() or ""), 0.0))
        self.known.put(question.known_to_k)
        power, fans, loads = len(question.power.values), len(question.fans.values), len(question.loads)
        self.places["power"].setText(f"{power}")
        self.places["fans"].setText(f"{fans}")
        words = tr("{a} × {b} settings under {c} loads = {n} runs of the full factorial.")
        self.count.setText(words.format(a=power, b=fans, c=loads, n=power * fans * loads))
        self._show_loads(question)
        cost = cost_of(plan, question)
        own = self.session.own_plan
        lead = tr("The question first: which setting is quiet, fast enough and sound?")
        self.set_head(tr("A plan from a file") if own else lead, own.stem if own else tr("Quiet point"))
        states = self._states()
        self.total.setText(self._total(cost.runs, cost.typical_s, states))
        self.cost.show_cost(cost)
        self._show_ribbon(states)
        self.model.set_rows(self._rows(states))

    def _total(self, runs: int, typical_s: float, states: list[tuple[str, RunSummary | None]]) -> str:
        """Say runs and hours, and at what time of the clock on the wall it ends."""
        words = tr("{n} runs   {t}").format(n=runs, t=duration_text(typical_s))
        session, plan = self.session, self.session.plan
        if plan is None or session.bench is None or not session.busy():
            return words
        left = sum(
            typical_seconds(step.exposure) for step, (state, _) in zip(plan.steps, states, strict=True) if state == "ahead"
        )
        left += plan.confirm.exposure_s if plan.confirm is not None else 0.0
        pace = session.bench.rig.pace if isinstance(session.bench.rig, Paced) else 1.0
        if pace is None:
            return words
        ends = QDateTime.currentDateTime().addSecs(int(left / pace)).toString("HH:mm")
        return words + "   " + tr("ends {time}").format(time=ends)

    def _show_loads(self, question: QuietPoint) -> None:
        card = self.session.card
        for load in card.loads if card is not None else ():
            if load.kind == LoadKind.IDLE:
                continue
            if load.name not in self.loads:
                box = QCheckBox(load.title)
                checked = tr("its results") if load.checks_results else tr("nothing")
                box.setToolTip(tr("checked by {what}").format(what=checked))
                box.clicked.connect(self._loads_edited)
                note = label(checked, "soft")
                row = len(self.loads)
                self.loads[load.name], self._load_notes[load.name] = box, note
                self._load_rows.addWidget(box, row, 0)
                self._load_rows.addWidget(note, row, 1, Qt.AlignmentFlag.AlignRight)
            self.loads[load.name].setChecked(load.name in question.loads)

    def _measured(self) -> dict[tuple[object, str], RunSummary]:
        evidence = self.session.answer.evidence
        return {(run.setting.key(), run.load): run for run in (evidence.runs if evidence is not None else ())}

    def _states(self) -> list[tuple[str, RunSummary | None]]:
        """Return for each step what became of it (done, failed, running, ahead), and its run."""
        session, plan, card = self.session, self.session.plan, self.session.card
        if plan is None or card is None:
            return []
        runs, live = self._measured(), session.live
        now = live.opened.index if live is not None and live.closed is None and session.busy() else None
        found: list[tuple[str, RunSummary | None]] = []
        for index, step in enumerate(plan.steps):
            run = runs.get((step.setting.over(card.stock).key(), step.load))
            if index == now:
                found.append(("running", run))
            elif run is not None and not run.running and run.failures:
                found.append(("failed", run))
            elif index in session.done or (run is not None and run.how == "done"):
                found.append(("done", run))
            else:
                found.append(("ahead", None))
        return found

    def _show_ribbon(self, states: list[tuple[str, RunSummary | None]]) -> None:
        plan = self.session.plan
        if plan is None:
            return
        runs = [
            RibbonRun(step.stage, run.seconds if run is not None and state in ("done", "failed") else length, state)
            for step, (state, run), length in zip(
                plan.steps, states, (typical_seconds(step.exposure) for step in plan.steps), strict=True
            )
        ]
        if plan.confirm is not None:
            choice = self.session.answer.choice
            done = len(self.session.done) >= len(plan.steps) and choice is not None and choice.confirmed
            runs.append(RibbonRun(STAGE, plan.confirm.exposure_s, "done" if done else "ahead"))
        self.ribbon.show_runs(runs)

    def _rows(self, states: list[tuple[str, RunSummary | None]]) -> list[list[Cell | str]]:
        session, plan, card = self.session, self.session.plan, self.session.card
        if plan is None or card is None:
            return []
        models = session.answer.models
        scale = models.scale if models is not None else Scale()
        rows: list[list[Cell | str]] = []
        stage = ""
        for index, (step, (state, run), seen) in enumerate(zip(plan.steps, states, foresee(models, plan.steps), strict=True)):
            whole = step.setting.over(card.stock)
            core, noise, level = _figures(run, seen)
            rows.append(
                [
                    Cell(sign=state),
                    f"{index + 1}",
                    Cell(step.stage if step.stage != stage else "", soft=True, chip=step.stage),
                    quantity_of("sustained_power_w").text(whole.sustained_power_w or 0.0),
                    f"{whole.fan_duty.get(card.lead_group() or '', 0.0):g}",
                    Cell(step.load, soft=True),
                    core,
                    noise,
                    Cell(scale.mark(level), mark=True, soft=state == "ahead"),
                    f"{(run.seconds if run is not None and not run.running else typical_seconds(step.exposure)) / 60.0:.0f}",
                    Cell(step.reason, soft=state != "running"),
                ]
            )
            stage = step.stage
        return rows

    def live_line(self) -> str:
        """Return runs and hours."""
        if self.session.plan is None:
            return ""
        cost = cost_of(self.session.plan)
        return tr("{n} runs, {t}").format(n=cost.runs, t=duration_text(cost.typical_s))

    def finished(self) -> bool:
        """A plan is there."""
        return self.session.plan is not None

    def selected(self) -> tuple[int, Step] | None:
        """Return the run that is selected in the list: its place and its step."""
        plan, row = self.session.plan, self.table.currentIndex().row()
        return (row, plan.steps[row]) if plan is not None and 0 <= row < len(plan.steps) else None

    def margin(self) -> list[Block]:
        """Explain the run that is selected, the order, and when a run ends."""
        question, card, plan = self._question(), self.session.card, self.session.plan
        if question is None or card is None or plan is None:
            return []
        blocks: list[Block] = []
        one = self.selected()
        if one is not None:
            run = self._measured().get((one[1].setting.over(card.stock).key(), one[1].load))
            blocks += explain(one[0], one[1], card, run, self.session.answer.models)
        blocks += about(card, question)
        blocks.append(Deeds(("edit.undo", "plan.save")))
        return blocks


def _figures(run: RunSummary | None, seen: Seen) -> tuple[Cell, Cell, float]:
    """Return temperature and noise of a run as cells, and the level: measured in ink, foreseen soft."""
    core, noise, level = Cell(), Cell(), math.nan
    if run is not None and run.settled.known:
        under = "cap_line" if run.heat_held else ""
        core = Cell(number_text(run.settled.value_c, 1), f"±{number_text(run.settled.half_width_k, 1)}", under=under)
    elif run is not None and run.failures:
        core = Cell(tr("{n} wrong").format(n=run.failures), under="guard")
    elif math.isfinite(seen.core_c):
        core = Cell(number_text(seen.core_c, 1), f"±{number_text(seen.core_hw, 1)}", soft=True)
    if run is not None and math.isfinite(run.noise_dba):
        level = run.noise_dba
        noise = Cell(number_text(level, 1))
    elif math.isfinite(seen.noise_dba):
        level = seen.noise_dba
        noise = Cell(number_text(level, 1), soft=True)
    return core, noise, level
