"""The engine: runs the steps of a plan on a rig. It lives in one thread; commands come through a queue."""

import queue
import threading
import time
from collections.abc import Callable
from enum import StrEnum
from typing import TypeVar

from niente.core.bench.agenda import Agenda, Spent, Wait
from niente.core.bench.events import (
    ForecastMade,
    FrameTaken,
    LeftOut,
    Listener,
    PlanStarted,
    RigHappened,
    RunClosed,
    RunOpened,
    StateChanged,
    Warned,
)
from niente.core.bench.guards import Guards, Trip
from niente.core.bench.samples import Samples
from niente.core.bench.states import MAY_FOLLOW, State
from niente.core.book.reader import DONE, BookReader
from niente.core.book.writer import BookWriter, ensure_plan
from niente.core.errors import NienteError, PlanError, RigError
from niente.core.evidence import FAILURES, TEACHES_S, Evidence, settled_so_far
from niente.core.frame import Frame, RigEventKind
from niente.core.plan import GuardAction, Plan, Step
from niente.core.planning.fitting import check_plan
from niente.core.planning.progress import Row
from niente.core.project import Limits
from niente.core.quantities import duration_text
from niente.core.rigcard import LoadKind, RigCard
from niente.core.rigs.protocol import Paced, Rig
from niente.core.science.settling import learn, not_yet

FORECAST_EVERY = 30
"""Samples between two settling forecasts; in rig time, so that a run's length never depends on the computer."""
FRAME_TIMEOUT_S = 0.5
COASTED_S = 60.0
"""After so many seconds a fan that still turns is not coasting any more."""
SLOW_PACE = 10.0
"""Up to this pace every sample is committed by itself."""


class Command(StrEnum):
    """What a person can ask of a running plan, besides stopping it."""

    HOLD_AFTER = "hold after this run"
    HOLD_NOW = "hold now"
    GO_ON = "go on"
    SKIP = "skip"


Answer = TypeVar("Answer")


class StopPlan(Exception):  # noqa: N818 (it is a way out, not an error)
    """Ends the plan from anywhere inside a run."""

    def __init__(self, why: str, how: str, error: NienteError | None = None) -> None:
        super().__init__(why)
        self.why = why
        self.how = how
        self.error = error


class Engine:
    """Runs plans on one rig and writes one book.

    Other threads may use ``commands``, ``stop_wanted`` and ``other_plan``, and read ``state``, ``run_id`` and ``asking_since``.
    """

    def __init__(self, rig: Rig, writer: BookWriter, listener: Listener, *, silent_limit_s: float = 10.0) -> None:
        self.commands: queue.SimpleQueue[Command] = queue.SimpleQueue()
        self.stop_wanted = threading.Event()
        self.state = State.IDLE
        self.run_id: int | None = None
        self.asking_since: float | None = None
        """When the call to the rig that is under way began (monotonic seconds); the watchdog reads it."""
        self.other_plan: Plan | None = None
        """A plan to go on with in place of the one that runs, from its next run on."""
        self.abandoned = False
        """Set by the watchdog when a call to the rig did not return; the engine then only gets out."""
        self._rig = rig
        self._paced = rig if isinstance(rig, Paced) else None
        self._card = rig.describe()
        self._writer = writer
        self._tell = listener
        self._silent_limit_s = silent_limit_s
        self._hold_next = False
        self._slow_prior: tuple[float, ...] = ()
        self._known: Evidence | None = None
        self._guards = Guards((), self._card)
        self._hour_zero = 0.0
        self.becomes: Callable[[str], RigCard] | None = None
        """Brings the machine into another variant, once hands have, and returns its card."""
        self._last_time_s = 0.0

    def take_card(self, card: RigCard) -> None:
        """Go on with another card of the same rig, between plans."""
        self._card = card

    # -- plans -----------------------------------------------------------------------------------------------

    def run(self, plan: Plan, limits: Limits) -> None:
        """Run what is left of a plan, and what follows from it. Raises ``StopPlan`` or ``NienteError`` on an early end."""
        self.other_plan = None
        check_plan(plan, self._card)
        local = time.localtime()
        self._hour_zero = local.tm_hour + local.tm_min / 60.0 - self._last_time_s / 3600.0
        book = BookReader(self._writer.path)
        try:
            agenda = Agenda(plan, ensure_plan(self._writer, plan, book.plans()), limits, book, self._known)
            self._guards = Guards(plan.guards, self._card)
            self._look(agenda)
            self._tell(PlanStarted(plan, agenda.plan_id, agenda.closed))
            while True:
                agenda = self._changed(agenda, book, limits)
                if (due := agenda.next(self._hour())) is None:
                    break
                if isinstance(due, Spent):
                    raise StopPlan(due.text, "stopped")
                if isinstance(due, Wait):
                    self._wait_for_an_hour(agenda, due)
                    continue
                before = agenda.still_open(due)
                how = self._until_answered(agenda, due)
                self._look(agenda)
                if how == DONE and agenda.still_open(due) >= before:  # it would be run for ever
                    raise AssertionError(f"a run of entry {due.entry + 1} came to its end and does not count")
            for reason in agenda.waiting():
                self._tell(Warned(reason))
        finally:
            book.close()

    def _changed(self, agenda: Agenda, book: BookReader, limits: Limits) -> Agenda:
        """Return the agenda to go on with: that of another plan, where one was put in place of this."""
        plan, self.other_plan = self.other_plan, None
        if plan is None or plan == agenda.plan:
            return agenda
        try:
            check_plan(plan, self._card)
        except PlanError as error:
            self._tell(Warned(f"{error.happened} The plan goes on as it was."))
            return agenda
        other = Agenda(plan, ensure_plan(self._writer, plan, book.plans()), limits, book, self._known)
        if plan.guards != agenda.plan.guards:
            self._guards = Guards(plan.guards, self._card)
        self._look(other)
        self._tell(PlanStarted(plan, other.plan_id, other.closed))
        return other

    def _look(self, agenda: Agenda) -> None:
        """See how the plan stands, tell of what is left out, and learn what the next forecast starts from."""
        agenda.look(self._card)
        if agenda.known is not None:
            self._known, self._slow_prior = agenda.known, agenda.known.slow_prior
        for place, row in agenda.left_out():
            self._tell(LeftOut(place, f"Run {place + 1} is left out: {row.why}."))
            self._writer.add_happening("implied", {"step": row.entry, "why": row.why})

    def _until_answered(self, agenda: Agenda, row: Row) -> str:
        """Run a step, and return how it closed; where it is voided by a hold, run it again afterwards."""
        number, total = agenda.rows.index(row) + 1, len(agenda.rows)
        while True:
            if row.step.variant and row.step.variant != self._card.variant:
                self._change_variant(row.step.variant)
                self._guards = Guards(agenda.plan.guards, self._card)
            if row.step.exposure.rest_s > 0 and self._rest(agenda.plan_id, row):
                self._hold()
                continue
            how = self._run_step(agenda, row, number, total)
            if self._hold_next or how == "voided":
                self._hold()
            if how != "voided":
                return how

    def _change_variant(self, variant: str) -> None:
        """Have hands bring the machine into another state, with the load off, and go on with its card."""
        known = next((one for one in self._card.variants if one.name == variant), None)
        words = known.hands if known is not None else ""
        self._enter(State.APPLYING)
        self._rig.make_safe()
        self._wait_for_hands(f"The machine becomes {variant!r}. {words}".strip())
        if self.becomes is None:
            raise RigError(f"{self._card.title} cannot change its variant here.", remedy="Change it on the Rig page.")
        self.take_card(self.becomes(variant))

    def _rest(self, plan_id: int, row: Row) -> bool:
        """Let the machine rest at the setting of its next run; the book has that too. Return whether it was held."""
        idle, held = self._card.load_of(LoadKind.IDLE), False
        if idle is None:
            return held
        self._enter(State.RESTING, f"At rest for {duration_text(row.step.exposure.rest_s)}")
        whole = row.step.setting.over(self._card.stock)
        run_id = self._writer.open_run(plan_id, row.entry, "rest", whole, idle.name, self._card, self._last_time_s)
        how = "stopped"
        try:
            self._ask(lambda: self._rig.apply(whole))
            self._ask(lambda: self._rig.start(idle.name))
            until = self._last_time_s + row.step.exposure.rest_s
            while self._last_time_s < until and not held:
                frame = self._next_frame(run_id)
                trip = self._guards.look(frame, whole)
                if trip is not None:
                    self._tripped(run_id, frame, trip)
                    break
                told = self._command()
                held = told == Command.HOLD_NOW
                if told == Command.SKIP:
                    break
            how = DONE
        finally:
            if not self.abandoned:
                self._writer.close_run(run_id, how, "a rest before a run", self._last_time_s)
        return held

    def _wait_for_an_hour(self, agenda: Agenda, due: Wait) -> None:
        """Rest until something may run again."""
        self._enter(State.RESTING, due.text)
        self._rig.make_safe()
        quiet = agenda.plan.quiet
        while quiet is not None and quiet.holds(self._hour()):
            self._next_frame(None)
            self._command()

    def _hour(self) -> float:
        """Return the hour of the day on the rig's clock: the wall's when the plan began, and what went by since."""
        return (self._hour_zero + self._last_time_s / 3600.0) % 24.0

    def _run_step(self, agenda: Agenda, row: Row, number: int, total: int) -> str:
        """Run one step and return how it closed. Whatever happens, the run is closed in the book."""
        self._enter(State.APPLYING)
        step = row.step
        whole = step.setting.over(self._card.stock)
        self.run_id = self._writer.open_run(agenda.plan_id, row.entry, "step", whole, step.load, self._card, self._last_time_s)
        run_id = self.run_id
        self._tell(RunOpened(run_id, number - 1, total, step))
        how, why = "stopped", "the engine was interrupted"
        try:
            hand_work = self._ask(lambda: self._rig.apply(whole))
            if hand_work:
                self._wait_for_hands(hand_work)
            self._ask(lambda: self._rig.start(step.load))
            self._enter(State.SETTLING if step.exposure.known_to_k is not None else State.EXPOSING)
            how, why = self._sample_until_over(run_id, step)
        except StopPlan as stop:
            how, why = stop.how, stop.why
            raise
        except NienteError as error:
            how, why = "stopped", error.happened
            raise
        finally:
            self.run_id = None
            if not self.abandoned:
                if how != DONE:
                    self._ask(self._rig.stop)
                self._writer.close_run(run_id, how, why, self._last_time_s)
                self._tell(RunClosed(run_id, number - 1, how, why))
        return how

    def _sample_until_over(self, run_id: int, step: Step) -> tuple[str, str]:
        """Sample until the run's own rule, a failure, a guard or a person ends it; return how and why."""
        samples = Samples(len(self._card.channels))
        whole = step.setting.over(self._card.stock)
        rule, settled = step.exposure, not_yet("the run has only begun")
        working = (load := self._card.load(step.load)) is not None and load.kind != LoadKind.IDLE
        while True:
            frame = self._next_frame(run_id)
            samples.add(frame)
            for event in frame.events:
                self._writer.add_happening(event.kind, event.detail, run_id, frame.time_s)
                self._tell(RigHappened(run_id, frame.time_s, event))
            failure = next((event for event in frame.events if event.kind in FAILURES), None)
            if failure is not None:
                if failure.kind == RigEventKind.SHUT_DOWN:
                    raise StopPlan(f"The machine shut itself down: {failure.detail}.", "failed")
                return "failed", failure.detail
            trip = self._guards.look(frame, whole)
            if trip is not None:
                return self._tripped(run_id, frame, trip)
            told = self._command()
            if told == Command.SKIP:
                return "skipped", "by the person at the bench"
            if told == Command.HOLD_NOW:
                return "voided", "held by the person at the bench; it will be run again"
            if working and samples.count % FORECAST_EVERY == 0:
                settled = settled_so_far(self._card, samples.time_s, samples.values, self._slow_prior)
                self._tell(ForecastMade(run_id, frame.time_s, settled))
            over = samples.seconds >= rule.least_s and (rule.known_to_k is None or settled.known_to(rule.known_to_k))
            if over or samples.seconds >= rule.most_s:
                if samples.seconds >= COASTED_S:
                    self._guards.learn(frame, whole)
                if samples.seconds >= TEACHES_S:
                    self._slow_prior = learn(self._slow_prior, settled)
                return DONE, "known well enough" if over and rule.known_to_k is not None else "its time is over"

    def _tripped(self, run_id: int, frame: Frame, trip: Trip) -> tuple[str, str]:
        """Act on a trip: load off first, safe setting back; then say so."""
        self._rig.make_safe()
        self._writer.add_happening("guard", trip.reason, run_id, frame.time_s)
        if trip.action == GuardAction.STOP:
            error = RigError(
                trip.reason,
                safe="The load is off, the rig has its safe setting, and every sample is kept.",
                remedy="Look at the machine; then go on, and the plan continues after this run.",
            )
            raise StopPlan(trip.reason, "guard", error)
        self._tell(Warned(f"{trip.reason} The plan goes on with the next run."))
        return "guard", trip.reason

    # -- waiting ---------------------------------------------------------------------------------------------

    def _hold(self) -> None:
        """Hold with the load off and the safe setting in force until told to go on."""
        self._hold_next = False
        self._enter(State.HOLDING, "Held. The load is off.")
        self._rig.make_safe()
        while True:
            self.idle_sample()
            if self._command() == Command.GO_ON:
                return

    def _wait_for_hands(self, what: str) -> None:
        self._enter(State.WAITING_FOR_HANDS, what)
        while self._command() != Command.GO_ON:
            self.idle_sample()

    def idle_sample(self) -> None:
        """Take a sample between runs, at a pace for people: the pulse stays alive and nothing is written."""
        self._next_frame(None)
        time.sleep(0.05)

    def _command(self) -> Command | None:
        """Return the next command, having acted on those that do not end a run."""
        try:
            told = self.commands.get_nowait()
        except queue.Empty:
            return None
        if told == Command.HOLD_AFTER:
            self._hold_next = True
            return None
        if told == Command.GO_ON:
            self._hold_next = False
        return told

    def _next_frame(self, run_id: int | None) -> Frame:
        """Wait for a sample, write it, tell it. Raises ``RigError`` where the rig stays silent."""
        silent_since = time.monotonic()
        while True:
            frame = self._ask(lambda: self._rig.frame(FRAME_TIMEOUT_S))
            if self.stop_wanted.is_set() and self.state != State.IDLE:
                raise StopPlan("stopped by the person at the bench", "stopped")
            if frame is not None:
                break
            patience = self._silent_limit_s + 2 * self._card.sample_period_s / (self._pace() or 1e9)
            if time.monotonic() - silent_since > patience:
                raise RigError(
                    f"{self._card.title} has given no sample for {patience:.0f} seconds.",
                    safe="The load is off as far as the rig can be told; every sample is kept.",
                    remedy="Look at the machine and its connection; then go on, and this run is repeated.",
                )
        self._last_time_s = frame.time_s
        if run_id is not None:
            pace = self._pace()
            self._writer.add_frame(run_id, frame, at_once=pace is not None and pace <= SLOW_PACE)
        self._tell(FrameTaken(frame, run_id))
        return frame

    def _pace(self) -> float | None:
        """Return rig seconds a wall second; a real rig's are seconds."""
        return self._paced.pace if self._paced is not None else 1.0

    def _ask(self, call: Callable[[], Answer]) -> Answer:
        """Call the rig, so that the watchdog sees for how long; get out where it has lost patience meanwhile."""
        self.asking_since = time.monotonic()
        try:
            return call()
        finally:
            self.asking_since = None
            if self.abandoned:
                raise StopPlan("the rig did not answer", "stopped")

    def restore(self) -> None:
        """Load off, safe setting back, and to rest."""
        self._enter(State.RESTORING)
        self._rig.make_safe()
        self._hold_next = False
        while not self.commands.empty():
            self.commands.get_nowait()
        self._enter(State.IDLE)

    def _enter(self, state: State, text: str = "") -> None:
        if state not in MAY_FOLLOW[self.state]:
            raise AssertionError(f"{state} may not follow on {self.state}")
        self.state = state
        self._tell(StateChanged(state, text))
