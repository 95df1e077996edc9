"""What a person does to the plan: asks another question, changes an axis, edits the run list. Every edit can be undone."""

from collections.abc import Callable
from pathlib import Path

import msgspec
from PySide6.QtGui import QUndoCommand
from PySide6.QtWidgets import QWidget

from niente.core.model.errors import NienteError
from niente.core.model.plan import Exposure, Plan, Search, Step, read_plan
from niente.core.model.question import Axis, ListChange, ListEdit, Question
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.planning import own_templates as own
from niente.core.planning.builders import until_known
from niente.core.planning.missing_runs import missing_runs
from niente.core.planning.questions.quiet_point import for_points_of
from niente.core.planning.risk import raised_voltages
from niente.core.planning.templates import anew, plan_for, template
from niente.core.planning.validation import check_plan
from niente.core.storage.reader import BookReader
from niente.desktop.dialogs import prompts
from niente.desktop.services.files import bytes_of, write
from niente.desktop.services.translation import tr
from niente.desktop.session.edits import Edit, PlanTaken
from niente.desktop.session.notices import Notice, NoticeEnd
from niente.desktop.session.session import Session

WORDS = {
    ListChange.MOVE: "move of run {n}",
    ListChange.SKIP: "leaving out of run {n}",
    ListChange.TAKE_UP: "taking up of run {n}",
    ListChange.REPEAT: "repeat of run {n}",
    ListChange.INSERT: "inserted run",
    ListChange.REMOVE: "removal of run {n}",
}

SOAK_S = 8.0 * 3600.0
"""A soak lasts a night."""


class PlanCommands:
    """The plan's edits, on one session; ``over`` is the window that dialogs stand over."""

    def __init__(self, session: Session, over: QWidget) -> None:
        self._session = session
        self._over = over
        self.folder = own.own_folder()

    # -- plans as files ------------------------------------------------------------------------------------------

    def open(self) -> None:
        """Ask for a plan, and take it."""
        file = prompts.for_plan(self._over)
        if file is not None:
            self.take_plan(file)

    def save(self) -> None:
        """Ask where the plan is to be written, and write it."""
        file = prompts.where_to_save_plan(self._over)
        if file is not None:
            self.save_plan(file)

    def take_plan(self, file: Path) -> None:
        """Take a plan from a file in place of the question's own, until the question is edited again."""
        session, words = self._session, tr("plan from {file}").format(file=file.name)
        if self._takes(lambda: read_plan(bytes_of(file), source=file.name), words, file):
            told = tr("The plan now comes from {file}: {n} runs.").format(file=file.name, n=len(session.planner.rows))
            session.notice.emit(Notice(told, "plan.start", until=NoticeEnd.PLAN_BEGINS))

    def take_instead(self, words: str, plan: Plan) -> None:
        """Take a plan in place of the question's own, until that is edited again; undoable."""
        if self._takes(lambda: plan, words, None):
            told = tr("The plan is now: {what}. Undo (Ctrl+Z) brings the question's own back.").format(what=words)
            self._session.notice.emit(Notice(told, "plan.start", until=NoticeEnd.PLAN_BEGINS))

    def _takes(self, read: Callable[[], Plan], words: str, file: Path | None) -> bool:
        """Let a plan stand in place of the question's, if nothing runs and the rig can run it; say why not otherwise."""
        session = self._session
        if session.card is None:
            return False
        if session.busy():
            remedy = tr("Stop it, then open the other plan.")
            session.report(NienteError(tr("A plan is running."), safe=tr("It goes on."), remedy=remedy))
            return False
        try:
            plan = read()
            check_plan(plan, session.card)
        except NienteError as error:
            session.report(error)
            return False
        self._put_own(words, plan, file)
        return True

    def save_plan(self, file: Path) -> None:
        """Write the plan as JSON."""
        plan = self._session.plan
        if plan is None:
            return
        try:
            write(file, plan.to_json(), tr("The plan is unchanged."))
        except NienteError as error:
            self._session.report(error)

    def _put_own(self, words: str, plan: Plan | None, file: Path | None) -> None:
        """Let a plan stand in place of the question's, undoably; without one the question makes it again."""
        session, planner = self._session, self._session.planner

        def put(plan: Plan | None, file: Path | None) -> None:
            planner.take(plan, file)
            session.project_changed.emit()

        session.undo.push(PlanTaken(words, (planner.own, planner.file), (plan, file), put))

    # -- the question --------------------------------------------------------------------------------------------

    def change_question(self, words: str, question: Question) -> None:
        """Ask another question, undoably; one that puts a voltage above stock into a plan under way asks first."""
        project = self._session.project
        if project is None:
            return
        if self._session.card is None or self._may_become(plan_for(self._session.card, question)):
            self._session.edit(words, msgspec.structs.replace(project, question=question, question_chosen=True))
        else:
            self._session.project_changed.emit()  # the fields show again what stands

    def _may_become(self, other: Plan | None) -> bool:
        """Return whether a plan under way may become another one: a voltage that it would raise anew asks."""
        card, plan = self._session.card, self._session.plan
        if not self._session.busy() or card is None or plan is None or other is None:
            return True
        before = raised_voltages(plan, card)
        raised = tuple(one for one in raised_voltages(other, card) if one not in before)
        return not raised or prompts.whether_voltage_may_rise(self._over, raised)

    def undo(self) -> None:
        """Take the last edit back; where that puts a voltage above stock into a plan under way, it asks first."""
        stack = self._session.undo
        if stack.canUndo() and self._may_stand(stack.command(stack.index() - 1), back=True):
            stack.undo()

    def redo(self) -> None:
        """Make the edit that was taken back again; where that puts a voltage above stock into a plan under way, it asks."""
        stack = self._session.undo
        if stack.canRedo() and self._may_stand(stack.command(stack.index()), back=False):
            stack.redo()

    def _may_stand(self, edit: QUndoCommand, back: bool) -> bool:
        """Return whether what stood before an edit, or after it, may stand again."""
        card, project = self._session.card, self._session.project
        if card is None or project is None:
            return True
        if isinstance(edit, PlanTaken):
            plan, _ = edit.before if back else edit.after
            return self._may_become(plan or plan_for(card, project.question))
        if isinstance(edit, Edit):
            question = (edit.before if back else edit.after).question
            return question == project.question or self._may_become(plan_for(card, question))
        return True

    def choose(self, name: str) -> None:
        """Ask the question of a template, as it starts on this rig; the budget and the quiet hours stay."""
        kind, card, project = template(name), self._session.card, self._session.project
        if kind is None or card is None or project is None or kind.lacks(card):
            return
        before = project.question
        fresh = msgspec.structs.replace(kind.first(card), budget_h=before.budget_h, quiet=before.quiet)
        if kind.fresh:
            fresh = anew(fresh, self._last_written_s())
        if before.template != name or not project.question_chosen:
            self.change_question(tr("question: {title}").format(title=tr(kind.title)), fresh)
        elif self._session.planner.file is not None:
            self._put_own(tr("back to the question"), None, None)

    def change_axis(self, control: str, axis: Axis | float | None) -> None:
        """Vary a control, fix it at a value, or leave it as found."""
        question = self._session.project.question if self._session.project is not None else None
        card = self._session.card
        if question is None or card is None:
            return
        named = {"what": self._title(control)}
        others = tuple(one for one in question.axes if one.control != control)
        was_axis = len(others) != len(question.axes)
        fixed = self._without_fixed(question, control)
        if isinstance(axis, Axis):
            fresh = msgspec.structs.replace(fixed, axes=question.axes).with_axis(axis)
        elif axis is None:
            fresh = msgspec.structs.replace(fixed, axes=others)
        elif was_axis:
            fresh = question.with_axis(Axis(control, (axis,)))
        elif card.control(control) is not None:
            fresh = msgspec.structs.replace(question, base=question.base.replaced(control, axis))
        else:
            fresh = question.with_axis(Axis(control, (axis,)))
        fresh = for_points_of(fresh, control) if axis is not None else fresh
        self.change_question(tr("change of {what}").format(**named), fresh)

    def _without_fixed(self, question: Question, control: str) -> Question:
        """Return the question with a control not fixed any more."""
        if question.base.value(control) is None:
            return question
        return msgspec.structs.replace(question, base=question.base.without(control))

    def _title(self, control: str) -> str:
        card = self._session.card
        own_control = card.control(control) if card is not None else None
        return own_control.title.lower() if own_control is not None else control

    def measure_anew(self) -> None:
        """Let only runs from now on count as answers."""
        project = self._session.project
        if project is not None:
            self.change_question(tr("measuring again"), anew(project.question, self._last_written_s()))

    def _last_written_s(self) -> float:
        """Return when the book was last written, in seconds of the epoch; 0 where there is none."""
        if self._session.bench is None:
            return 0.0
        try:
            book = BookReader(self._session.bench.path)
        except NienteError:
            return 0.0
        try:
            return book.last_written_s()
        finally:
            book.close()

    # -- templates of one's own ----------------------------------------------------------------------------------

    def kept(self) -> list[str]:
        """Return the names of one's own templates."""
        return list(own.kept(self.folder))

    def keep_question(self, title: str) -> None:
        """Ask what the question is to be kept as, and keep it."""
        name = prompts.for_question_name(self._over, title)
        if name:
            self.keep(name)

    def keep(self, name: str) -> None:
        """Keep the question under a name."""
        project = self._session.project
        if project is None:
            return
        try:
            file = own.keep(self.folder, name, project.question)
        except NienteError as error:
            self._session.report(error)
            return
        words = tr("The question is kept as {name}, in {file}.")
        self._session.notice.emit(Notice(words.format(name=name, file=file)))

    def choose_own(self, name: str) -> None:
        """Ask a question that was kept."""
        file = own.kept(self.folder).get(name)
        if file is not None:
            self.take_question(file)

    def take_question(self, file: Path) -> None:
        """Ask the question in a file, as far as this rig can be asked it."""
        card = self._session.card
        if card is None:
            return
        try:
            kept = own.read_own(bytes_of(file), file.name)
        except NienteError as error:
            self._session.report(error)
            return
        question, left = own.for_rig(kept.question, card)
        self.change_question(tr("question: {title}").format(title=kept.name), question)
        if left:
            words = tr("{name} asks for what this rig does not have; left out: {what}.")
            self._session.notice.emit(Notice(words.format(name=kept.name, what=", ".join(left))))

    # -- the list ------------------------------------------------------------------------------------------------
    # Entries are named by their keys: on a long plan the next edit may come before the last one is laid out.

    def move(self, key: str, after: str) -> None:
        """Move an entry so that it stands after another (empty: first of all)."""
        self._edit(ListChange.MOVE, key, after)

    def shift(self, key: str, by: int) -> None:
        """Move an entry up or down by one."""
        listed = self._session.planner.listed
        if listed is None or key not in listed.keys:
            return
        at = listed.keys.index(key)
        if by < 0 and at > 0:
            self.move(key, listed.keys[at - 2] if at > 1 else "")
        elif by > 0 and at + 1 < len(listed.keys):
            self.move(key, listed.keys[at + 1])

    def skip(self, key: str) -> None:
        """Leave an entry out, or take it up again; one that is many runs asks first."""
        listed = self._session.planner.listed
        if listed is None or key not in listed.keys:
            return
        index = listed.keys.index(key)
        entry = listed.entries[index]
        if not entry.skip and isinstance(entry, Search) and not self._may_leave_out(index, entry):
            return
        self._edit(ListChange.TAKE_UP if entry.skip else ListChange.SKIP, key)

    def _may_leave_out(self, index: int, search: Search) -> bool:
        """Ask whether a whole search is to be left out: its runs depend on each other, and others take what it finds."""
        rows, entries = self._session.planner.rows, self._session.planner.listed
        taking = {at for at, one in enumerate(entries.entries if entries else ()) if getattr(one, "takes", "") == search.name}
        runs = sum(row.entry == index and not row.status.closed for row in rows)
        then = sum(row.entry in taking and not row.status.closed for row in rows)
        return prompts.whether_search_may_go(self._over, runs, then)

    def repeat(self, key: str) -> None:
        """Make an entry once more, after itself."""
        self._edit(ListChange.REPEAT, key)

    def insert(self, after: str, step: Step) -> None:
        """Insert a run after an entry (empty: first of all); into a plan under way, one above stock asks first."""
        plan = self._session.plan
        if self._session.busy() and plan is not None and not self._may_run(msgspec.structs.replace(plan, entries=(step,))):
            return
        self._edit(ListChange.INSERT, "", after, step)

    def plan_missing(self) -> None:
        """Insert the runs that the map still wants, next."""
        session, planner = self._session, self._session.planner
        if session.card is None or not planner.rows:
            return
        steps = missing_runs(session.card, session.answer.evidence)
        if not steps:
            session.notice.emit(Notice(tr("No run is missing: the map appears once the finished runs are worked out.")))
            return
        index = min(planner.closed() - (0 if session.busy() else 1), len(planner.rows) - 1)
        after = planner.key_of(index)
        for step in reversed(steps):
            self.insert(after, step)
        words = tr("{n} runs that the map needs come next in the plan.")
        action = "" if session.busy() else "plan.start"
        session.notice.emit(Notice(words.format(n=len(steps)), action, until=NoticeEnd.PLAN_BEGINS))

    def run_next(self, setting: Setting, load: str, why: str) -> None:
        """Insert a run that comes next: after the one that runs, or after those that are done."""
        if self._session.card is not None:
            self.run_step_next(Step(setting, load, until_known(self._session.card), "capacity", why))

    def may_raise_voltage(self) -> bool:
        """Return whether the plan may be started: one that puts a voltage above stock asks each time."""
        return self._session.plan is None or self._may_run(self._session.plan)

    def _may_run(self, plan: Plan) -> bool:
        card = self._session.card
        raised = raised_voltages(plan, card) if card is not None else ()
        return not raised or prompts.whether_voltage_may_rise(self._over, raised)

    def soak_next(self, setting: Setting, load: str) -> None:
        """Insert a long run of a setting that comes next, as long as a soak usually is."""
        self.run_step_next(Step(setting, load, Exposure(SOAK_S, SOAK_S), "soak", "Does it last?"))

    def run_step_next(self, step: Step) -> None:
        """Insert a step that comes next: after the one that runs, or after those that are done."""
        session, planner = self._session, self._session.planner
        if session.card is None or not planner.rows:
            return
        index = planner.closed() - (0 if session.busy() else 1)
        self.insert(planner.key_of(min(index, len(planner.rows) - 1)), step)
        words = tr("{what} comes next in the plan.").format(what=step.setting.text(planned_in(session.card)))
        session.notice.emit(Notice(words, "" if session.busy() else "plan.start", until=NoticeEnd.PLAN_BEGINS))

    def _edit(self, change: ListChange, key: str, after: str = "", step: Step | None = None) -> None:
        session, planner = self._session, self._session.planner
        if planner.laid is None or session.project is None or session.plan is None:
            return
        edit = ListEdit(change, key, after, step)
        words = tr(WORDS[change]).format(n=planner.number_of(key))
        if not planner.note(edit):
            return
        if planner.own is not None and planner.listed is not None:
            self._put_own(words, msgspec.structs.replace(session.plan, entries=planner.listed.done), planner.file)
            return
        question = session.project.question
        fresh = msgspec.structs.replace(question, edits=(*question.edits, edit))
        if step is None:
            self.change_question(words, fresh)
        else:  # it was asked for when it was inserted
            session.edit(words, msgspec.structs.replace(session.project, question=fresh))


def planned_in(card: RigCard) -> tuple[str, ...]:
    """Return the controls that a run is named by: power, clock, voltage and the fans."""
    plain = ("sustained_power_w", "voltage_offset_mv", "temperature_cap_c")
    return tuple(one.name for one in card.controls if one.name in plain or one.name.startswith("fan_duty."))
