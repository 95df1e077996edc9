"""The Plan page: the question first, then what to measure, in what order, at what cost."""

from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec
from PySide6.QtCore import Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QSplitter, QVBoxLayout, QWidget

from niente.core.model.quantities import duration_text
from niente.core.model.question import Axis, Question, TemplateName
from niente.core.planning.alternatives import Alternative
from niente.core.planning.layout import BUDGET, TARGET
from niente.core.planning.progress import Row
from niente.core.planning.templates import template
from niente.core.science.dynamics import Scale
from niente.desktop.actions.registry import Actions
from niente.desktop.commands.plan_commands import PlanCommands
from niente.desktop.dialogs.insert_run import ask_for_run
from niente.desktop.pages.page import Page
from niente.desktop.pages.plan.axis_rows import AxisTable
from niente.desktop.pages.plan.drawings import CostLine, Ribbon
from niente.desktop.pages.plan.explain import costs, dry, explain, instead
from niente.desktop.pages.plan.questions import QuestionList
from niente.desktop.pages.plan.rules import Rules
from niente.desktop.pages.plan.run_list import LOAD, MARK, SET, SET_COLUMNS, STAGE, WHY, RunList, RunListView, ShownRun
from niente.desktop.services.durations import left_text
from niente.desktop.services.theme import Look
from niente.desktop.services.translation import tr
from niente.desktop.session.notices import Notice
from niente.desktop.session.session import Session
from niente.desktop.widgets.blocks import Block, Buttons, Title, Words
from niente.desktop.widgets.column import ScrollingColumn
from niente.desktop.widgets.labels import ActionButton, ShortLabel, label, rule
from niente.desktop.widgets.outlines import Outline
from niente.desktop.widgets.table import rows_view

NARROW_PX = 880
SIDE_PX, MAX_SIDE_PX = 300, 400


class PlanPage(Page):
    """Ribbon above; question, axes, loads and rules at the left; the run list at the right, its cost below."""

    name = "Plan"

    def __init__(self, session: Session, actions: Actions, look: Look, commands: PlanCommands) -> None:
        super().__init__(session, actions, look)
        self.commands = commands
        self.total = label("", "reading")
        self.ribbon = Ribbon(look)
        self.warning = ShortLabel("lead")
        self.questions = QuestionList()
        self.axes = AxisTable()
        self.count = label("", "soft", wrap=True)
        self.rules = Rules()
        self.cost = CostLine(look)
        self.outline = QWidget()
        self.start = ActionButton(actions["plan.start"])
        self.start.setProperty("role", "primary")
        self.start.setMinimumWidth(120)
        self.model = RunList()
        least = {0: 20, WHY - 4: 72, WHY - 3: 36, WHY - 2: 36}
        view = RunListView(self.model)
        self.table = rows_view(tr("Run list"), self.model, look, stretch=WHY, least=least, view=view, fixed={STAGE: 92})
        self.table.selectionModel().currentRowChanged.connect(lambda *_: self._selected())
        self._focus = ""
        self._index = -1
        self._key, self._behind = "", 0
        self._shown: object = None
        self.offer(
            self.table,
            "plan.up", "plan.down", "plan.skip", "plan.repeat", "plan.insert", "plan.anew", "plan.start", "plan.open",
            "plan.save", "edit.undo", "edit.redo", "help.here",
        )  # fmt: skip
        self._lay_out()
        self._connect()
        session.project_changed.connect(self._question_changed)
        session.run_changed.connect(self._plan_changed)
        session.planner.changed.connect(self._plan_changed)
        session.planner.foreseen.connect(self._foreseen)

    def _lay_out(self) -> None:
        self.head.addWidget(self.total, 0, Qt.AlignmentFlag.AlignBottom)
        self.head.addWidget(self.start, 0, Qt.AlignmentFlag.AlignBottom)
        self.body.addWidget(self.ribbon)
        self.body.addWidget(self.warning)
        self._under = rule()
        self.body.addWidget(self._under)
        split = QSplitter(Qt.Orientation.Horizontal)
        split.setHandleWidth(1)
        split.setChildrenCollapsible(False)
        split.addWidget(self._question_side())
        split.addWidget(self._list_side())
        split.setStretchFactor(0, 1)  # a wide window has room for longer names of controls and loads
        split.setStretchFactor(1, 5)
        split.setSizes([SIDE_PX, 680])
        self.body.addWidget(split, 1)

    def _question_side(self) -> QWidget:
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(2, 2, 12, 2)  # room for the ring of the focus
        column.setSpacing(6)
        head = QHBoxLayout()
        head.addWidget(label(tr("Question"), "section"))
        head.addStretch(1)
        head.addWidget(label(tr("sets every part below"), "soft"))
        column.addLayout(head)
        column.addWidget(self.questions)
        self._follows = QWidget()  # what a question sets
        below = QVBoxLayout(self._follows)
        below.setContentsMargins(0, 0, 0, 0)
        below.setSpacing(6)
        below.addWidget(rule())
        below.addWidget(label(tr("Axes"), "section"))
        below.addWidget(self.axes)
        below.addWidget(self.count)
        self.caution = label(
            tr(
                "Lower a voltage in small steps: an unstable machine corrupts files. Back up first, and test on data that "
                "can be lost. The maker's limits come first."
            ),
            "soft",
            wrap=True,
        )
        self.caution.setProperty("help", "safety")
        below.addWidget(self.caution)
        below.addWidget(self.rules)
        column.addWidget(self._follows)
        column.addStretch(1)
        scrolling = ScrollingColumn(left, SIDE_PX)
        scrolling.setMaximumWidth(MAX_SIDE_PX)
        return scrolling

    def _list_side(self) -> QWidget:
        right = QWidget()
        rows = QVBoxLayout(right)
        rows.setContentsMargins(12, 0, 0, 0)
        rows.setSpacing(4)
        rows.addWidget(self.table, 1)
        empty = QVBoxLayout(self.outline)
        empty.setContentsMargins(0, 8, 0, 0)
        empty.addWidget(label(tr("Choose a question at the left.")))
        empty.addWidget(label(tr("Its runs, their order and their hours then stand here."), "soft"))
        empty.addSpacing(16)
        empty.addWidget(Outline(self.look, self.name), 100)
        empty.addStretch(1)
        rows.addWidget(self.outline, 1)
        self._above_cost = rule()
        rows.addWidget(self._above_cost)
        rows.addWidget(self.cost)
        return right

    def _connect(self) -> None:
        self.questions.chosen.connect(self.commands.choose)
        self.questions.own_chosen.connect(self.commands.choose_own)
        self.axes.edited.connect(self.commands.change_axis)
        self.axes.refused.connect(self._refuse)
        self.axes.focused.connect(self._focused)
        self.rules.edited.connect(self.commands.change_question)
        self.rules.refused.connect(self._refuse)
        self.rules.focused.connect(self._focused)
        self.model.moved.connect(self._dragged)
        self.session.planner.compared.connect(self.margin_changed)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """In a narrow window stage, load and dynamic mark give way: the ribbon shows the first, the margin says the others."""
        super().resizeEvent(event)
        for column in (STAGE, LOAD, MARK):
            self.table.setColumnHidden(column, self.width() < NARROW_PX)

    # -- edits ---------------------------------------------------------------------------------------------------

    def _refuse(self, why: str) -> None:
        """Say why an edit cannot be, and show the fields as they were."""
        self._shown = None
        self.show_question()
        self.session.notice.emit(Notice(why))

    def editors(self) -> tuple[QWidget, ...]:
        """Return the question, its axes and its rules."""
        return (self.questions, self.axes, self.rules)

    def handlers(self) -> dict[str, Callable[[], None]]:
        """Return what the page does for actions of the registry, by their names."""
        return {
            "plan.compare": lambda: self.commands.choose(TemplateName.VARIANTS),
            "plan.keep": self.keep,
            "plan.up": self.up,
            "plan.down": self.down,
            "plan.skip": self.leave_out,
            "plan.repeat": self.repeat,
            "plan.insert": self.insert,
            "plan.anew": self.measure_anew,
        }

    def up(self) -> None:
        """Let the selected run come earlier."""
        self.commands.shift(self._key, -1)

    def down(self) -> None:
        """Let the selected run come later."""
        self.commands.shift(self._key, 1)

    def leave_out(self) -> None:
        """Leave the selected run out, or take it up again."""
        self.commands.skip(self._key)

    def repeat(self) -> None:
        """Make the selected run once more."""
        self.commands.repeat(self._key)

    def keep(self) -> None:
        """Keep the question as a template of one's own."""
        self.commands.keep_question(self.title.text())
        self.questions.show_own(self.commands.kept())

    def measure_anew(self) -> None:
        """Let only runs from now on count."""
        self.commands.measure_anew()

    def _dragged(self, index: int, after: int) -> None:
        """Move the entry of a run behind that of another; runs of one search or confirmation go together."""
        planner = self.session.planner
        key, behind = planner.key_of(index), planner.key_of(after)
        if key != behind:
            self.commands.move(key, behind)

    def insert(self) -> None:
        """Ask for a run, and put it after the selected one."""
        rows, card = self.session.planner.rows, self.session.card
        if card is None or not rows:
            return
        index = self._index if 0 <= self._index < len(rows) else len(rows) - 1
        step = ask_for_run(self, card, rows[index].step, self.model.columns)
        if step is not None:
            self.commands.insert(self.session.planner.key_of(index), step)

    # -- what is selected ----------------------------------------------------------------------------------------

    def _selected(self) -> None:
        index = self.model.index_of(self.table.currentIndex().row())
        if index is not None:
            self._index, self._focus = index, ""
            self._key = self.session.planner.key_of(index)
            self._behind = index - (self.session.planner.index_of(self._key) or 0)
        self.margin_changed.emit()

    def _select_again(self) -> None:
        """Keep the run selected that was, wherever the list has it now."""
        first = self.session.planner.index_of(self._key) if self._key else None
        if first is None:
            return
        self._index = min(first + self._behind, len(self.session.planner.rows) - 1)
        item = self.model.item_of(self._index)
        if item >= 0 and item != self.table.currentIndex().row():
            self.table.selectRow(item)

    def _focused(self, control: str) -> None:
        """Let the margin say what another step of an axis would cost."""
        self._focus = control
        self.session.planner.compare(control)
        self.margin_changed.emit()

    def selected(self) -> tuple[int, Row] | None:
        """Return the run that is selected in the list: its index, and its status."""
        rows = self.session.planner.rows
        return (self._index, rows[self._index]) if 0 <= self._index < len(rows) else None

    # -- showing -------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the question and the plan as they stand."""
        self.questions.show_own(self.commands.kept())
        self.show_question()
        self.show_plan()

    def _question_changed(self) -> None:
        self.when_seen(self.show_question)
        self.when_seen(self._show_total)  # the pace may be another

    def _show_total(self) -> None:
        """Say runs and hours, and how long that takes here at the rig's pace."""
        laid, bench = self.session.planner.laid, self.session.bench
        if laid is not None:
            left = left_text(laid.cost.left_s, bench.pace if bench is not None else 1.0)
            words = tr("{n} runs   {t}").format(n=laid.cost.runs, t=duration_text(laid.cost.typical_s))
            self.total.setText("   ".join(part for part in (words, left) if part))

    def _plan_changed(self) -> None:
        self.when_seen(self.show_plan)

    def _foreseen(self) -> None:
        self.when_seen(self.show_foreseen)

    def show_question(self) -> None:
        """Show what is asked; the plan that follows from it comes by itself."""
        session, planner = self.session, self.session.planner
        card, project, laid = session.card, session.project, planner.laid
        if card is None or project is None:
            return
        question = msgspec.structs.replace(project.question, edits=())
        shown = (card, question, planner.file, planner.own is None, session.question_stands)
        if shown == self._shown:  # a change of the list by hand asks nothing else
            return
        self._shown = shown
        stands = session.question_stands
        lead, title = _heading(question, planner.file) if stands else (tr("What do you want to know?"), tr("No question yet"))
        self.set_head(lead, title)
        self.questions.show_choice(card, question.template if stands else "", title if planner.own is not None else "")
        for part in (self._follows, self.table, self.ribbon, self._under, self._above_cost, self.cost, self.total, self.start):
            part.setVisible(stands)
        self.outline.setVisible(not stands)
        self.axes.show_question(card, question)
        self.rules.show_question(card, question, laid.loads if laid is not None else {})
        self.caution.setVisible(any("offset" in axis.control or "voltage" in axis.control for axis in question.axes))

    def show_plan(self) -> None:
        """Show the runs, and what they cost."""
        session, laid = self.session, self.session.planner.laid
        if laid is None:
            return
        self.show_question()
        question = laid.request.question
        self.rules.show_runs(laid.loads)
        self.count.setText(self._count_words(laid.cost.naive_runs, question.axes))
        self._show_total()
        self.cost.show_cost(laid.cost)
        running = session.running_index()
        self.ribbon.show_runs(laid.pieces, sum(laid.seconds[:running]) if running is not None else None)
        self.show_foreseen()

    def show_foreseen(self) -> None:
        """Show the list with what is foreseen of its runs, and what to know before they are made."""
        session, planner, laid = self.session, self.session.planner, self.session.planner.laid
        if laid is None:
            return
        self._show_warning()
        models = session.answer.models
        scale = models.scale if models is not None else Scale()
        before = self.model.columns
        shown = ShownRun(laid.request.card, laid.rows, laid.seconds, laid.columns, planner.seen, scale, session.running_index())
        self.model.show(shown)
        if self.model.columns != before:
            for at in range(SET_COLUMNS):
                self.table.setColumnHidden(SET + at, at >= len(self.model.columns))
        self._select_again()

    def _count_words(self, naive: int, axes: tuple[Axis, ...]) -> str:
        if not axes:
            return tr("Nothing is varied.")
        points = " × ".join(f"{len(axis.points())}" for axis in axes)
        words = tr("{points} points: the full factorial under these loads is {n} runs.")
        return words.format(points=points, n=naive)

    def _show_warning(self) -> None:
        """Say the first thing to know before it runs, above the list; the margin has the rest."""
        run = self.session.planner.dry
        problems = [*run.wrong, *run.warnings] if run is not None and self.session.question_stands else []
        text = problems[0][0].upper() + problems[0][1:] if problems else ""
        more = tr(" And {n} more, in the margin.").format(n=len(problems) - 1) if len(problems) > 1 else ""
        self.warning.setText(("× " if run is not None and run.wrong else "! ") + text + more if problems else "")
        self.warning.setVisible(bool(problems))

    def live_line(self) -> str:
        """Return runs and hours."""
        laid = self.session.planner.laid
        if laid is None or not self.session.question_stands:
            return tr("no question yet") if laid is not None else ""
        return tr("{n} runs, {t}").format(n=laid.cost.runs, t=duration_text(laid.cost.typical_s))

    def finished(self) -> bool:
        """A plan is there that could run."""
        run = self.session.planner.dry
        return self.session.question_stands and self.session.plan is not None and not (run is not None and run.wrong)

    def _costs_in_focus(self, ways: Sequence[Alternative], budget_h: float | None) -> list[Block]:
        """Say what other values of the field in focus would cost."""
        row = self.axes.rows.get(self._focus)
        names = {TARGET: tr("How well it is known"), BUDGET: tr("Time budget")}
        headings = {TARGET: tr("What a target costs"), BUDGET: tr("What a budget buys")}
        name, unit = (row.name.text(), row.unit) if row is not None else (names.get(self._focus, self._focus), "")
        heading = headings.get(self._focus, tr("What a step costs"))
        return [Title(tr("In focus"), name), *costs(heading, unit, ways, budget_h)]

    def margin(self) -> list[Block]:
        """Explain the field in focus, the run that is selected, and what the dry run came to."""
        planner, card = self.session.planner, self.session.card
        laid, run, project = planner.laid, planner.dry, self.session.project
        if card is None or laid is None or project is None:
            return []
        blocks: list[Block] = []
        if not self.session.question_stands:
            words = tr("Every question comes with its runs, their order and their hours. You start them; nothing runs before.")
            return [Words(tr("What happens then"), words)]
        one = self.selected()
        ways = planner.comparison
        if self._focus and ways is not None and ways.of == self._focus:
            blocks += self._costs_in_focus(ways.ways, project.question.budget_h)
        elif one is not None:
            running = one[0] == self.session.running_index()
            blocks += explain(one[0], one[1], planner.seen(one[1]), card, self.model.told, running=running)
        if planner.instead is not None and laid.plan.budget_s is not None:
            blocks += instead(planner.instead, laid.plan.budget_s)
        if run is not None:
            blocks += dry(run, planner.dry_rows, planner.seen, card)
        blocks.append(Words(f"{card.title}, {card.variant}", card.summary + (tr(" (simulated)") if card.simulated else "")))
        blocks.append(Buttons(("edit.undo", "plan.keep")))
        return blocks


def _heading(question: Question, file: Path | None) -> tuple[str, str]:
    """Return what is asked, and the name of the question or of the file that the plan is from."""
    if file is not None:
        return tr("A plan from a file"), file.stem
    kind = template(question.template)
    return (tr(kind.asks), tr(kind.title)) if kind is not None else ("", question.template)
