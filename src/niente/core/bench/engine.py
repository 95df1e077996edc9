"""The engine: runs the steps of a plan on a rig. It lives in one thread; commands come through a queue."""

import queue
import threading
import time
from collections.abc import Callable
from enum import StrEnum
from typing import TypeVar

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
from niente.core.errors import NienteError, RigError
from niente.core.evidence import FAILURES, TEACHES_S, Evidence, gather, settled_so_far
from niente.core.frame import Frame, RigEventKind
from niente.core.plan import GuardAction, Plan, Step, check_plan
from niente.core.planning.confirmation import next_step
from niente.core.project import Limits
from niente.core.rigcard import LoadKind, RigCard
from niente.core.rigs.protocol import Paced, Rig
from niente.core.science.settling import learn, not_yet
from niente.core.setting import Setting

FORECAST_EVERY = 30
"""Samples between two settling forecasts; in rig time, so that a run's length never depends on the computer."""
FRAME_TIMEOUT_S = 0.5
SLOW_PACE = 10.0
"""Up to this pace every sample is committed by itself."""

ANSWERED = frozenset({DONE, "failed", "skipped", "guard"})
"""How a run may have closed so that its step need not be run again."""


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

    Other threads may use ``commands`` and ``stop_wanted``, and read ``state``, ``run_id`` and ``asking_since``.
    """

    def __init__(self, rig: Rig, writer: BookWriter, listener: Listener, *, silent_limit_s: float = 10.0) -> None:
        self.commands: queue.SimpleQueue[Command] = queue.SimpleQueue()
        self.stop_wanted = threading.Event()
        self.state = State.IDLE
        self.run_id: int | None = None
        self.asking_since: float | None = None
        """When the call to the rig that is under way began (monotonic seconds); the watchdog reads it."""
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
        self._last_time_s = 0.0

    def take_card(self, card: RigCard) -> None:
        """Go on with another card of the same rig, between plans."""
        self._card = card

    # -- plans -----------------------------------------------------------------------------------------------

    def run(self, plan: Plan, limits: Limits) -> None:
        """Run what is left of a plan, and what follows from it. Raises ``StopPlan`` or ``NienteError`` on an early end."""
        check_plan(plan, self._card)
        book = BookReader(self._writer.path)
        try:
            plan_id = ensure_plan(self._writer, plan, book.plans())
            runs = book.in_variant(self._card.variant)
            answered = {run.step for run in runs if run.plan_id == plan_id and run.how in ANSWERED}
            failed = [(run.setting, run.load) for run in runs if run.how == "failed"]
            self._evidence(book)
            self._tell(PlanStarted(plan, plan_id, frozenset(answered)))
            guards = Guards(plan.guards, self._card)
            total = len(plan.steps) + (plan.confirm is not None)
            for index, step in enumerate(plan.steps):
                if index not in answered:
                    self._step_until_answered(plan_id, index, total, step, guards, failed)
            added = len({step for step in answered if step >= len(plan.steps)})
            while True:
                evidence = self._evidence(book)
                follow = next_step(plan, evidence, limits, added) if evidence is not None else None
                if follow is None:
                    break
                index = len(plan.steps) + added
                self._step_until_answered(plan_id, index, index + 1, follow, guards, failed)
                added += 1
        finally:
            book.close()

    def _evidence(self, book: BookReader) -> Evidence | None:
        """Sum up the book as it stands, and take from it what the next run's forecast starts from."""
        evidence = gather(book, self._known)
        if evidence is not None:
            self._known = evidence
            self._slow_prior = evidence.slow_prior
        return evidence

    def _step_until_answered(
        self, plan_id: int, index: int, total: int, step: Step, guards: Guards, failed: list[tuple[Setting, str]]
    ) -> None:
        """Run a step; where it is voided by a hold, run it again afterwards."""
        if any(_implied(step, setting, load, self._card.stock) for setting, load in failed):
            self._tell(LeftOut(index, f"Run {index + 1} is left out: as deep an offset failed at no higher a power limit."))
            self._writer.add_happening("implied", {"step": index})
            return
        while True:
            how = self._run_step(plan_id, index, total, step, guards)
            if how == "failed":
                failed.append((step.setting, step.load))
            if self._hold_next or how == "voided":
                self._hold()
            if how != "voided":
                return

    def _run_step(self, plan_id: int, index: int, total: int, step: Step, guards: Guards) -> str:
        """Run one step and return how it closed. Whatever happens, the run is closed in the book."""
        self._enter(State.APPLYING)
        whole = step.setting.over(self._card.stock)
        self.run_id = self._writer.open_run(plan_id, index, "step", whole, step.load, self._card, self._last_time_s)
        run_id = self.run_id
        self._tell(RunOpened(run_id, index, total, step))
        how, why = "stopped", "the engine was interrupted"
        try:
            hand_work = self._ask(lambda: self._rig.apply(whole))
            if hand_work:
                self._wait_for_hands(hand_work)
            self._ask(lambda: self._rig.start(step.load))
            self._enter(State.SETTLING if step.exposure.known_to_k is not None else State.EXPOSING)
            how, why = self._sample_until_over(run_id, step, guards)
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
                self._tell(RunClosed(run_id, index, how, why))
        return how

    def _sample_until_over(self, run_id: int, step: Step, guards: Guards) -> tuple[str, str]:
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
            trip = guards.look(frame, whole)
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
                guards.learn(frame, whole)
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


def _implied(step: Step, failed: Setting, load: str, stock: Setting) -> bool:
    """Return whether a failure implies that a step fails too: as deep an offset, as high a limit, the same load."""
    at, was = step.setting.over(stock), failed.over(stock)
    deep = (at.voltage_offset_mv or 0.0) <= (was.voltage_offset_mv or 0.0)
    high = (at.sustained_power_w or 1e9) >= (was.sustained_power_w or 1e9)
    return step.load == load and deep and high and (was.voltage_offset_mv or 0.0) < 0.0
