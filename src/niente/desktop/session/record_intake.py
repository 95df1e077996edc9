"""Taking in what the bench says: for each kind of record, what it changes about the session."""

from collections.abc import Callable, Sequence
from typing import Any, Protocol

import msgspec
from PySide6.QtCore import SignalInstance

from niente.core.acquisition.client import BenchLost, CommandAsked, CommandGiven, Heard, PaceChanged
from niente.core.acquisition.samples import Samples
from niente.core.acquisition.strip_chart import StripChart
from niente.core.model.frame import Frame, RigEventKind
from niente.core.model.plan import Plan
from niente.core.model.project import Project
from niente.core.model.records import (
    BenchFailed,
    ForecastMade,
    FrameTaken,
    HandCardShown,
    HandCardTicked,
    MadeSafe,
    NoteAdded,
    PlanEnded,
    PlanStarted,
    ProjectSaved,
    RigCardChanged,
    RigEventSeen,
    RunClosed,
    RunLeftOut,
    RunOpened,
    SamplesTaken,
    SettingStays,
    StateChanged,
    TimeConstantsFound,
    WarningRaised,
)
from niente.core.model.rig_card import RigCard
from niente.core.model.runs import NOT_MADE_AGAIN, RunKind, RunOutcome
from niente.core.model.states import BenchState
from niente.core.selection.answer import Answer
from niente.desktop.services.translation import tr
from niente.desktop.session.hand_work import HandWork
from niente.desktop.session.live_run import LiveRun, ShownNote
from niente.desktop.session.notices import (
    Ending,
    Notice,
    NoticeEnd,
    command_asked,
    crash_notice,
    end_notice,
    ending_of,
    guardian_notice,
    lost_notice,
    stays_notice,
)


class Changed(msgspec.Struct):
    """What a batch of records changed; pages are told once for the batch."""

    sampled: bool = False
    run: bool = False
    run_closed: bool = False
    state: bool = False
    plan_over: bool = False


class RecordSession(Protocol):
    """What records change about a session."""

    frame: Frame | None
    live: LiveRun | None
    strip: StripChart | None
    state: BenchState
    state_text: str
    pauses_after: bool
    answer: Answer
    hands: HandWork
    notes: list[ShownNote]
    command_asked: bool

    @property
    def card(self) -> RigCard | None:
        """The rig's card."""

    @property
    def notice(self) -> SignalInstance:
        """A word for the message bar, or what ends one."""

    @property
    def project_changed(self) -> SignalInstance:
        """What is asked, or how long it takes, is another."""

    @property
    def ended(self) -> SignalInstance:
        """A word for the desktop."""

    @property
    def broke(self) -> SignalInstance:
        """A bug of ours: its report."""

    def run_ended(self, opened: RunOpened) -> None:
        """Take note of a run that is over and not made again."""

    def plan_begun(self, plan: Plan) -> None:
        """Take in that the bench runs a plan."""

    def take_card(self, card: RigCard) -> None:
        """Go on with the machine as it is now."""

    def take_project(self, project: Project) -> None:
        """Go on with what whoever commands has saved."""

    def command_passed(self, commands: bool) -> None:
        """Take in whether this session commands."""


class RecordIntake:
    """Changes a session by the records of its bench, in their order."""

    def __init__(self, session: RecordSession) -> None:
        self._session = session
        self._by_kind: dict[type, Callable[[Any, Changed], None]] = {
            FrameTaken: self._frame,
            SamplesTaken: self._samples,
            RunOpened: self._run_opened,
            ForecastMade: self._forecast,
            TimeConstantsFound: self._time_constants,
            RunClosed: self._run_closed,
            PlanStarted: self._plan_started,
            StateChanged: self._state,
            HandCardShown: self._hand_card,
            RigEventSeen: self._rig_event,
            RunLeftOut: self._left_out,
            RigCardChanged: self._rig_card,
            WarningRaised: self._warning,
            NoteAdded: self._note,
            ProjectSaved: lambda record, _: self._session.take_project(record.project),
            HandCardTicked: lambda record, _: self._session.hands.show_ticks(record.boxes),
            PlanEnded: self._plan_ended,
            BenchFailed: self._failed,
            BenchLost: self._lost,
            MadeSafe: lambda record, _: self._session.notice.emit(guardian_notice(record)),
            SettingStays: self._stays,
            CommandGiven: self._command_given,
            CommandAsked: self._command_asked,
            PaceChanged: lambda *_: self._session.project_changed.emit(),  # hours here are others now
        }

    def take(self, records: Sequence[Heard]) -> Changed:
        """Take a batch of records in; return what it changed."""
        changed = Changed()
        for record in records:
            take = self._by_kind.get(type(record))
            if take is not None:  # what the book keeps for later readers changes nothing here
                take(record, changed)
        return changed

    def _frame(self, record: FrameTaken, changed: Changed) -> None:
        session = self._session
        session.frame, changed.sampled = record.frame, True
        if session.strip is not None:
            session.strip.add(record.frame, record.run_id)
        if session.live is not None and record.run_id == session.live.opened.run_id:
            session.live.samples.add(record.frame)

    def _samples(self, record: SamplesTaken, changed: Changed) -> None:
        session = self._session
        if not record.time_s.shape[0]:
            return
        session.frame, changed.sampled = Frame(float(record.time_s[-1]), record.values[-1]), True
        if session.strip is not None:
            session.strip.extend(record.run_id, record.time_s, record.values)
        if session.live is not None and record.run_id == session.live.opened.run_id:
            session.live.samples.extend(record.time_s, record.values)

    def _run_opened(self, record: RunOpened, changed: Changed) -> None:
        session = self._session
        if record.kind != RunKind.STEP:
            return
        changed.run = True
        channels = len(session.card.channels) if session.card is not None else 0
        session.live = LiveRun(record, Samples(channels), [])
        session.notice.emit(NoticeEnd.RUN_BEGINS)
        models = session.answer.models
        stock = models.stock_work(record.step.load) if models is not None else None
        if session.strip is not None:
            start_s = session.frame.time_s if session.frame is not None else 0.0
            session.strip.begin(record.run_id, record.index + 1, record.step, start_s, stock)

    def _forecast(self, record: ForecastMade, _: Changed) -> None:
        if record.settled.known and self._session.live is not None:
            self._session.live.forecast(record.rig_time_s, record.settled)

    def _time_constants(self, record: TimeConstantsFound, _: Changed) -> None:
        if self._session.live is not None:
            self._session.live.constants = record.constants

    def _run_closed(self, record: RunClosed, changed: Changed) -> None:
        if record.kind != RunKind.STEP:
            return
        changed.run = changed.run_closed = True
        live = self._session.live
        if live is not None:
            live.closed = record
            if record.outcome in NOT_MADE_AGAIN and live.opened.run_id == record.run_id:
                self._session.run_ended(live.opened)
        if record.outcome == RunOutcome.GUARD:
            self._session.ended.emit(Ending(tr("A guard has ended a run"), record.reason, urgent=True))

    def _plan_started(self, record: PlanStarted, changed: Changed) -> None:
        changed.run = True
        self._session.notice.emit(NoticeEnd.PLAN_BEGINS)
        self._session.plan_begun(record.plan)

    def _state(self, record: StateChanged, changed: Changed) -> None:
        changed.state = True
        session = self._session
        session.state, session.state_text, session.pauses_after = record.state, record.text, record.pauses_after

    def _hand_card(self, record: HandCardShown, _: Changed) -> None:
        self._session.hands.show(record.card, record.ticked)

    def _rig_event(self, record: RigEventSeen, _: Changed) -> None:
        if record.event.kind == RigEventKind.CRASH:
            self._session.notice.emit(crash_notice(self._session.live))

    def _left_out(self, record: RunLeftOut, changed: Changed) -> None:
        changed.run = True
        self._session.notice.emit(Notice(record.text, until=NoticeEnd.RUN_BEGINS))

    def _rig_card(self, record: RigCardChanged, _: Changed) -> None:
        self._session.take_card(record.card)

    def _warning(self, record: WarningRaised, _: Changed) -> None:
        self._session.notice.emit(Notice(record.text))

    def _plan_ended(self, record: PlanEnded, changed: Changed) -> None:
        session = self._session
        changed.run = changed.plan_over = True
        by_guard = (
            session.live is not None and session.live.closed is not None and session.live.closed.outcome == RunOutcome.GUARD
        )
        if not (by_guard and record.error is not None):  # that was said when the guard tripped
            session.ended.emit(ending_of(session.card.title if session.card is not None else "Niente", record))
        session.notice.emit(end_notice(record))

    def _note(self, record: NoteAdded, changed: Changed) -> None:
        changed.run = True
        notes = self._session.notes
        notes.append(ShownNote(len(notes) + 1, record.rig_time_s, record.text))

    def _lost(self, record: BenchLost, changed: Changed) -> None:
        session = self._session
        changed.run = changed.state = True
        changed.plan_over = record.ran
        session.state, session.state_text, session.pauses_after = BenchState.IDLE, "", False
        if session.live is not None and session.live.closed is None:
            opened = session.live.opened
            words = tr("the bench ended in this run")
            session.live.closed = RunClosed(opened.run_id, opened.index, RunOutcome.INTERRUPTED, words)
        session.notice.emit(lost_notice(record))
        if record.ran:
            session.ended.emit(Ending(tr("The bench has ended"), lost_notice(record).text, urgent=True))

    def _stays(self, record: SettingStays, changed: Changed) -> None:
        changed.state = True
        self._session.notice.emit(stays_notice(record, self._session.card))

    def _command_given(self, record: CommandGiven, _: Changed) -> None:
        self._session.notice.emit(NoticeEnd.COMMAND_PASSES)
        self._session.command_passed(record.commands)

    def _command_asked(self, _: CommandAsked, changed: Changed) -> None:
        changed.state = True
        self._session.command_asked = True
        self._session.notice.emit(command_asked())

    def _failed(self, record: BenchFailed, changed: Changed) -> None:
        changed.plan_over = True
        self._session.broke.emit(record.report)
