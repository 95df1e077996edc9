"""The session: the open book, the bench on it, the project, and the answers; pages read it and are told when it changes."""

import msgspec
from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QUndoStack

from niente.core.acquisition.client import BenchClient, Heard
from niente.core.acquisition.strip_chart import StripChart
from niente.core.analysis.maps import MapRequest
from niente.core.answers.answering import Answering
from niente.core.answers.beside_choice import BesideChoice
from niente.core.fans.point_curves import PointCurves
from niente.core.model.answer_document import AnswerDocument
from niente.core.model.commands import Command
from niente.core.model.errors import NienteError, UntrustedDriverError
from niente.core.model.frame import Frame
from niente.core.model.plan import Plan
from niente.core.model.project import Project
from niente.core.model.records import RunOpened
from niente.core.model.rig_card import RigCard
from niente.core.model.rig_sheet import RigSheet
from niente.core.model.setting import Setting
from niente.core.model.states import BenchState
from niente.core.planning.layout import PlanLayout
from niente.core.planning.templates import default_project
from niente.core.selection.answer import Answer
from niente.core.selection.worker import WorkHere, WorkProcess
from niente.desktop.services.translation import tr
from niente.desktop.services.turns import Turns
from niente.desktop.session.analyst import Analyst
from niente.desktop.session.bridge import Bridge
from niente.desktop.session.curve_rehearser import CurveRehearser
from niente.desktop.session.edits import Edit
from niente.desktop.session.hand_work import HandWork
from niente.desktop.session.live_run import LiveRun, ShownNote
from niente.desktop.session.notices import Notice, commanding, looking_on
from niente.desktop.session.opener import Opener, Prepare
from niente.desktop.session.planner import Planner
from niente.desktop.session.record_intake import RecordIntake
from niente.desktop.session.rig_sheets import Sheets


class Session(QObject):
    """One open book. Everything here belongs to the window's thread."""

    opened = Signal()
    sampled = Signal()
    run_changed = Signal()
    state_changed = Signal()
    project_changed = Signal()
    answered = Signal()
    documents_changed = Signal()
    mapped = Signal(object)
    proved = Signal(object)
    """Another setting than the pick was proved: its proof, or ``None`` where the pick counts again."""
    proof_wanted = Signal(object)
    """A page wants to see how surely a setting lasts."""
    notice = Signal(object)
    broke = Signal(str)
    progress = Signal(str)
    cancelled = Signal()
    dropped = Signal()
    busy_changed = Signal(bool)
    command_changed = Signal()
    ended = Signal(object)
    working = Signal(bool)
    untrusted = Signal(object)
    """The book that is being opened names code that nobody has said may run."""

    def __init__(self, parent: QObject | None = None, *, own_processes: bool = False) -> None:
        """With ``own_processes`` fits, maps and forecasts are worked out in processes of their own, else in threads."""
        super().__init__(parent)
        self.bench: BenchClient | None = None
        self.project: Project | None = None
        self.answer = Answer()
        self.state = BenchState.IDLE
        self.state_text, self.pauses_after = "", False
        """What the bench says of its state, in words (often nothing), and whether it pauses after the run under way."""
        self.frame: Frame | None = None
        self.live: LiveRun | None = None
        self.strip: StripChart | None = None
        self.notes: list[ShownNote] = []
        self.planner = Planner(WorkProcess(PlanLayout) if own_processes else WorkHere(PlanLayout), self)
        self.sheets = Sheets(self)
        self.hands = HandWork(self, self)
        self.hands.noticed.connect(self.notice)
        self.hands.wanted.connect(self.ended)
        self.undo = QUndoStack(self)
        self._records = RecordIntake(self)
        self.turns = Turns(self)
        self._bridge = Bridge(self.turns, self)
        self._bridge.arrived.connect(self._hear)
        self.analyst = Analyst(WorkProcess(Answering) if own_processes else WorkHere(Answering), self)
        self.analyst.answered.connect(self._take_answer)
        self.analyst.documented.connect(self.documents_changed)
        self.analyst.mapped.connect(self.mapped)
        self.analyst.proved.connect(self.proved)
        self.curves = CurveRehearser(WorkProcess(PointCurves) if own_processes else WorkHere(PointCurves), self)
        self.planner.broke.connect(self.broke)
        for works in (self.analyst, self.curves):
            works.broke.connect(self.broke)
            works.working.connect(self.working)
        self.planner.changed.connect(self._plan_changed)
        self._opener = Opener(self)
        self._opener.ready.connect(self._take_bench)
        self._opener.failed.connect(self._open_failed)
        self._opener.broke.connect(self.broke)
        self._opener.progress.connect(self.progress)
        self._opener.cancelled.connect(self.cancelled)
        self._then_start = False
        self._was_busy = False
        self._early: list[Heard] = []
        self._closed = False
        self.command_asked = False
        """Whether another client asks for command."""
        self._running: Plan | None = None

    @property
    def documents(self) -> tuple[AnswerDocument, ...]:
        """The answers to all questions of the book, the one that is asked now first."""
        return self.analyst.documents

    @property
    def beside(self) -> BesideChoice | None:
        """What stands beside the choice: circumstances, and kept points; ``None`` before it is known."""
        return self.analyst.beside

    @property
    def plan(self) -> Plan | None:
        """The plan that is run next."""
        return self.planner.plan

    @property
    def question_stands(self) -> bool:
        """Whether a person asked what the plan answers; in a fresh book the plan is only a proposal, and nothing starts it."""
        chosen = self.project is not None and self.project.question_chosen
        runs = self.answer.evidence is not None and bool(self.answer.evidence.runs)
        return chosen or runs or self.planner.own is not None or self.busy()

    def why_nothing(self) -> str:
        """Return why there is no answer, and what to do about it."""
        if not self.question_stands:
            return tr("Nothing is measured yet. A question comes first; you start its plan.")
        return self.answer.problem or tr("Nothing is measured yet.")

    # -- opening and closing -------------------------------------------------------------------------------------

    @property
    def card(self) -> RigCard | None:
        """The rig's card, once it is attached."""
        return self.bench.card if self.bench is not None else None

    def open(self, prepare: Prepare, *, start: bool) -> None:
        """Attach a rig and a book away from the window's thread.

        ``prepare(progress, listener)`` makes the bench; ``start`` runs the project's plan as soon as it is there.
        """
        self._then_start = start
        self._opener.open(prepare, self._bridge.push)

    def _open_failed(self, error: NienteError) -> None:
        self.report(error)
        if isinstance(error, UntrustedDriverError):
            self.untrusted.emit(error)

    def cancel_opening(self) -> None:
        """Stop what is being opened at its next step; nothing of the person's is touched by that."""
        self._opener.cancel()

    def _take_bench(self, bench: BenchClient, project: Project | None) -> None:
        if self._closed:  # it came too late
            bench.close()
            return
        self.bench = bench
        self.strip = bench.history or StripChart(bench.card)
        fresh = msgspec.structs.replace(default_project(bench.card), question_chosen=False)
        self.project = project or bench.project or fresh
        self._replan()
        if self._then_start:
            self.start()
        self.opened.emit()
        self.project_changed.emit()
        self.request_answer()
        if bench.follows:
            self.notice.emit(looking_on(bench.card.title))
        if bench.sheet_problems:
            words = tr("What the book says of the machine does not fit it any more and is left aside: {what}.")
            self.notice.emit(Notice(words.format(what="; ".join(bench.sheet_problems)), "page.rig"))
        if bench.interrupted is not None:
            words = tr("The last time, everything ended in the middle of a run. Its samples are kept.")
            self.notice.emit(Notice(words, "page.run", tr("See what it was")))
        self.hands.found(bench.interrupted)
        early, self._early = self._early, []
        if early:
            self._hear(early)

    def close(self, *, keep_running: bool = False) -> None:
        """Let go of the book: the plan goes on in the bench's process, or is stopped and the rig made safe."""
        self._closed = True
        self._opener.close()
        self._bridge.stop()
        self.turns.stop()
        for works in (self.analyst, self.planner, self.curves):
            works.close()
        bench, self.bench = self.bench, None
        if bench is not None and keep_running:
            bench.leave()
        elif bench is not None:
            bench.close()

    # -- what a person does ----------------------------------------------------------------------------------------

    def start(self) -> None:
        """Run what is left of the plan."""
        if self.bench is None or self.plan is None or self.project is None:
            return
        try:
            self.bench.start(self.plan, self.project.limits)
        except NienteError as error:
            self.report(error)

    def unread_cautions(self) -> tuple[str, ...]:
        """Return the cautions that have to be read before anything is started; none where they were, or need not be."""
        return self.bench.unread_cautions() if self.bench is not None else ()

    def read_cautions(self) -> None:
        """Say that the cautions were read; it goes into the book."""
        if self.bench is not None:
            try:
                self.bench.read_cautions()
            except NienteError as error:
                self.report(error)

    def send_command(self, command: Command) -> None:
        """Give the bench a command."""
        if self.bench is not None:
            self.bench.send_command(command)

    def resume(self) -> None:
        """Go on after a pause, or once hands are done."""
        if self.hands.card is not None:
            self.hands.confirm()
        else:
            self.send_command(Command.RESUME)

    def stop(self) -> None:
        """Stop what runs and restore the rig."""
        if self.bench is not None:
            self.bench.stop()

    def note(self, text: str) -> None:
        """Write a note into the book."""
        if self.bench is not None:
            try:
                self.bench.note(text)
            except NienteError as error:
                self.report(error)

    def ask_for_command(self) -> None:
        """Ask whoever commands the bench to hand over."""
        if self.bench is not None:
            self.bench.ask_for_command()

    def hand_over(self) -> None:
        """Let the one that asked command; this session looks on."""
        if self.bench is not None:
            self.bench.hand_over()

    def edit(self, words: str, after: Project) -> None:
        """Change the project, undoably; ``words`` say what is done."""
        if self.project is not None and after != self.project:
            self.undo.push(Edit(words, self.project, after, self._set_project))

    @property
    def sheet(self) -> RigSheet | None:
        """What is said of the machine; ``None`` without a rig."""
        return self.sheets.now

    def busy(self) -> bool:
        """Whether a plan runs, as far as was heard here: what the bench said last may still be on its way to the pages."""
        return self.bench is not None and (self.bench.busy or self._running is not None)

    def running_index(self) -> int | None:
        """Return the index of the run under way among the plan's runs; ``None`` where none is."""
        live = self.live
        return self.planner.index_of_run(live.opened) if live is not None and live.closed is None and self.busy() else None

    def run_ended(self, opened: RunOpened) -> None:
        """Take note of a run that is over and not made again."""
        self.planner.run_ended(opened)

    def request_answer(self) -> None:
        """Ask for fresh answers."""
        if self.bench is not None and self.project is not None:
            self.analyst.request_answer(self.bench.path, self.project)

    # -- inside --------------------------------------------------------------------------------------------------

    def _set_project(self, project: Project) -> None:
        before = self.project
        other = self.project is None or project.sheet != self.project.sheet
        limits = self.project is None or project.limits != self.project.limits
        self.project = project
        if other:
            self.sheets.put_in_force()
        self._replan()
        if self.bench is not None:
            try:
                self.bench.save_project(project)
            except NienteError as error:
                self.report(error)
        self.project_changed.emit()
        if other or limits:
            self.request_answer()
        elif self.bench is not None and before is not None:
            beside = (before.points, before.what_ifs) != (project.points, project.what_ifs)
            request = self.analyst.request_beside if beside else self.analyst.request_documents
            request(self.bench.path, project)

    def take_card(self, card: RigCard) -> None:
        """Go on with the machine as it is now."""
        self.sheets.arrived(card)
        if self.frame is not None and len(card.channels) != self.frame.values.shape[0]:
            self.strip, self.frame = StripChart(card), None
        if self.busy():
            self.planner.goes_on_as(card)
        sheet = self.sheet
        if sheet is not None and self.project is not None and sheet.variant != card.variant:
            words = tr("the machine becomes {variant}").format(variant=card.variant)
            sheet = msgspec.structs.replace(sheet, variant=card.variant)
            self.edit(words, msgspec.structs.replace(self.project, sheet=sheet))
        self._replan()
        self.project_changed.emit()
        self.request_answer()

    def _replan(self) -> None:
        """Make the plan anew from the question, where that comes to another plan or the machine is in another variant; one
        from a file stays until the question comes to another. A plan that runs keeps the guards it was started under."""
        if self.project is None or self.card is None:
            return
        guards = self.sheet.guards if self.sheet is not None else None
        if self.busy() and self.plan is not None:
            guards = self.plan.guards
        self.planner.plan_for(self.card, self.project.question, guards)

    def _plan_changed(self) -> None:
        """Let a plan that runs go on as the question has it now, from the next run on."""
        plan = self.plan
        if self.bench is not None and self.busy() and plan is not None and self._running not in (None, plan):
            self._running = plan
            self.bench.change_plan(plan)

    def cancel_work(self) -> None:
        """Ask no more for the answer that is being worked out; the last one stays."""
        self.analyst.drop()
        self.dropped.emit()

    def request_map(self, request_answer: MapRequest) -> None:
        """Ask for a map of the models as they are; it comes with ``mapped``."""
        if self.answer.models is not None and self.project is not None:
            chosen = self.answer.choice.pick.setting if self.answer.choice is not None else None
            self.analyst.request_map(self.answer.models, self.project.limits, request_answer, chosen)

    def request_proof(self, setting: Setting) -> None:
        """Ask how surely a setting lasts; it comes with ``proved``."""
        if self.answer.evidence is not None and self.project is not None:
            self.analyst.request_proof(self.answer, self.project.limits, setting)

    def _take_answer(self, answer: Answer) -> None:
        self.answer = answer
        self.planner.look(answer)
        self.answered.emit()

    def report(self, error: NienteError) -> None:
        """Say an error that a person can act on."""
        self.notice.emit(Notice(str(error)))

    def command_passed(self, commands: bool) -> None:
        """Take in whether this session commands."""
        self.command_asked = False
        if self.bench is not None:
            self.notice.emit(commanding(self.bench.card.title) if commands else looking_on(self.bench.card.title))
        self.command_changed.emit()

    def take_project(self, project: Project) -> None:
        """Go on with what whoever commands has saved; the command's own edits are here already."""
        if self.bench is not None and self.bench.follows and project != self.project:
            self.project = project
            self._replan()
            self.project_changed.emit()
            self.request_answer()

    def _hear(self, records: list[Heard]) -> None:
        """Take in what the bench says, and tell the pages once for the lot. What comes too early is kept."""
        if self.bench is None:
            self._early += records
            return
        changed = self._records.take(records)
        for happened, tell in (
            (changed.run, self.run_changed.emit),
            (changed.run_closed, self.request_answer),
            (changed.state, self.state_changed.emit),
            (changed.sampled, self.sampled.emit),
            (changed.plan_over, self._catch_up),
        ):
            if happened:
                tell()
        busy = self.busy() and not changed.plan_over
        if busy != self._was_busy or changed.plan_over:  # a plan may begin and end within one batch
            self._was_busy = busy
            self.busy_changed.emit(busy)

    def plan_begun(self, plan: Plan) -> None:
        """Take in that the bench runs a plan; it may have been edited between the start and its beginning."""
        self._running = plan
        self.hands.put_away()
        self._plan_changed()

    def _catch_up(self) -> None:
        """Once a plan is over: put in force what was edited meanwhile."""
        self._running = None
        if self.sheets.due:
            self.sheets.put_in_force()
        self._replan()
