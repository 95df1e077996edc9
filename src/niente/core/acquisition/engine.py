"""The engine: decides what a rig does next, and has the sampler do it. It lives in one thread; commands come in a queue."""

import contextlib
import queue
import time
from collections.abc import Callable

from niente.core.acquisition.believable import Believable
from niente.core.acquisition.cold_start import ColdStart
from niente.core.acquisition.guards.guard_set import GuardSet
from niente.core.acquisition.guards.trip import Trip
from niente.core.acquisition.hand_cards import left_by_hand, reading_card, variant_card, words_card
from niente.core.acquisition.hands import LOOK_S, Hands
from niente.core.acquisition.plan_stop import StopPlan
from niente.core.acquisition.record_stream import RecordStream
from niente.core.acquisition.run_executor import Closing, RunExecutor, closing_of
from niente.core.acquisition.sampler import Sampler
from niente.core.acquisition.scheduler import BudgetSpent, QuietHoursWait, Scheduler
from niente.core.analysis.evidence import Evidence
from niente.core.model.commands import Command, Confirmed
from niente.core.model.errors import MachineAwayError, NienteError, PlanError, RigError
from niente.core.model.limits import Limits
from niente.core.model.plan import Exposure, GuardAction, Plan
from niente.core.model.quantities import duration_text, quantity_of
from niente.core.model.records import (
    PlanStarted,
    RunClosed,
    RunLeftOut,
    RunOpened,
    StateChanged,
    WarningRaised,
)
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.model.runs import RunKind, RunOutcome
from niente.core.model.setting import Setting
from niente.core.model.states import MAY_FOLLOW, BenchState
from niente.core.planning.progress import Row
from niente.core.planning.validation import check_plan
from niente.core.storage.reader import BookReader
from niente.core.storage.writer import BookWriter

CLEARS_WITHIN_S = 3600.0
"""A guard that skipped a run is waited for so long to be quiet again."""
MAX_REPEATS = 3
"""A run that the machine leaves void is made again so many times."""


class Engine:
    """Runs plans on one rig, through its sampler, and says what it does.

    Other threads may use ``send``, ``other_plan`` and ``sampler``, and read ``state``, ``run_id`` and ``hands.open_card``.
    """

    def __init__(self, sampler: Sampler, writer: BookWriter, stream: RecordStream) -> None:
        self.state = BenchState.IDLE
        self.run_id: int | None = None
        self.other_plan: Plan | None = None
        """A plan to go on with in place of the one that runs, from its next run on."""
        self.change_variant: Callable[[str], RigCard] | None = None
        """Brings the machine into another variant, once hands have, and returns its card."""
        self.sampler = sampler
        self._commands: queue.SimpleQueue[Command | Confirmed] = queue.SimpleQueue()
        self._writer = writer
        self._publish = stream.publish
        self._exposing = RunExecutor(sampler, stream, self.command)
        self._pause_next = False
        self._state_text = ""
        self._known: Evidence | None = None
        self._guards = GuardSet((), sampler.card)
        self._hour_zero = 0.0
        self.hands = Hands(sampler, writer, stream.publish, self)

    def send(self, command: Command | Confirmed) -> None:
        """Give the plan that runs a command; from any thread."""
        self._commands.put(command)
        self.sampler.attract()

    # -- one setting -----------------------------------------------------------------------------------------

    def put_in_force(self, setting: Setting) -> None:
        """Set the machine, without a load, and leave it so: hands set what only they can. Raises ``StopPlan`` where that is
        stopped, and ``NienteError`` where the machine refuses."""
        whole = setting.over(self.sampler.card.stock)
        self.enter(BenchState.APPLYING)
        self.hands.set_by_hand(whole)
        self._apply(whole)
        self.sampler.call(lambda: self.sampler.safe.let_stay(whole))
        self.enter(BenchState.IDLE)

    def _apply(self, whole: Setting) -> None:
        """Put a whole setting in force, and wait for what the rig leaves to hands."""
        hand_work = self.sampler.apply(whole)
        if hand_work:
            self.hands.wait_for(words_card(hand_work))

    # -- plans -----------------------------------------------------------------------------------------------

    def run(self, plan: Plan, limits: Limits) -> None:
        """Run what is left of a plan, and what follows from it. Raises ``StopPlan`` or ``NienteError`` on an early end."""
        self.other_plan = None
        check_plan(plan, self.sampler.card)
        self.sampler.call(lambda: self.sampler.safe.let_stay(None))
        local = time.localtime()
        self._hour_zero = local.tm_hour + local.tm_min / 60.0 - self.sampler.time_s / 3600.0
        book = BookReader(self._writer.path)
        try:
            scheduler = Scheduler(plan, self._writer.ensure_plan(plan), limits, book, self._known)
            self._guards = GuardSet(plan.guards, self.sampler.card)
            self._exposing.believable = Believable(self.sampler.card, plan)
            self._lay_out(scheduler)
            self._publish(PlanStarted(plan, scheduler.plan_id, scheduler.closed))
            while True:
                scheduler = self._after_edit(scheduler, book, limits)
                if (due := scheduler.next(self._hour())) is None:
                    break
                if isinstance(due, BudgetSpent):
                    raise StopPlan(due.text, RunOutcome.STOPPED)
                if isinstance(due, QuietHoursWait):
                    self._wait_for_an_hour(scheduler, due)
                    continue
                before = scheduler.answered(due.entry)
                outcome = self._run_until_valid(scheduler, due)
                self._lay_out(scheduler)
                if outcome == RunOutcome.DONE and scheduler.answered(due.entry) <= before:  # it would be run for ever
                    raise AssertionError(f"a run of entry {due.entry + 1} came to its end and does not count")
            for reason in scheduler.waiting():
                self._publish(WarningRaised(reason))
        finally:
            book.close()

    def _after_edit(self, scheduler: Scheduler, book: BookReader, limits: Limits) -> Scheduler:
        """Return the agenda to go on with: that of another plan, where one was put in place of this."""
        plan, self.other_plan = self.other_plan, None
        if plan is None or plan == scheduler.plan:
            return scheduler
        try:
            check_plan(plan, self.sampler.card)
        except PlanError as error:
            self._publish(WarningRaised(f"{error.happened} The plan goes on as it was."))
            return scheduler
        other = Scheduler(plan, self._writer.ensure_plan(plan), limits, book, self._known, scheduler.spent_by)
        if plan.guards != scheduler.plan.guards:
            self._guards = GuardSet(plan.guards, self.sampler.card)
        self._lay_out(other)
        self._publish(PlanStarted(plan, other.plan_id, other.closed))
        return other

    def _lay_out(self, scheduler: Scheduler) -> None:
        """See how the plan stands, tell of what is left out, and learn what the next forecast starts from."""
        scheduler.look(self.sampler.card)
        if scheduler.known is not None:
            self._known, self._exposing.slow_prior = scheduler.known, scheduler.known.slow_prior
        for index, row in scheduler.left_out():
            self._publish(RunLeftOut(index, f"Run {index + 1} is left out: {row.reason}.", row.entry, row.reason))

    def _run_until_valid(self, scheduler: Scheduler, row: Row) -> str:
        """Run a step, and return how it closed; where it is voided, run it again: after a pause, if that was requested."""
        number, total, void = scheduler.rows.index(row) + 1, len(scheduler.rows), 0
        while True:
            self._wait_until_back()
            between = closing_of(self.sampler.interrupted(), self._publish)
            if between is not None and between.trip is not None:  # while this run was decided on, with the last load on
                self._stop_at(between.trip)
                self._wait_until_clear(between.trip)
            if row.step.variant and row.step.variant != self.sampler.card.variant:
                self._change_variant(row.step.variant)
                self._exposing.believable = Believable(self.sampler.card, scheduler.plan)
                before, self._guards = self._guards, GuardSet(scheduler.plan.guards, self.sampler.card)
                self._guards.go_on_from(before)
            self.hands.set_by_hand(row.step.setting.over(self.sampler.card.stock))
            if row.step.exposure.idles_first and self._idle_before(scheduler.plan_id, row, number, total):
                self._pause()
                continue
            closing = self._run_step(scheduler.plan_id, row, number, total)
            if self._pause_next or closing.pause:
                self._pause()
            elif closing.trip is not None and closing.trip.guard is not None:
                self._wait_until_clear(closing.trip)
            if closing.outcome != RunOutcome.VOIDED:
                return closing.outcome
            void += closing.by_machine
            if void > MAX_REPEATS:
                raise RigError(
                    f"Run {number} was void {void} times: {closing.reason}.",
                    safe="The load is off, the rig has its safe setting, and every sample is kept.",
                    remedy="Look at the machine and its connection; then go on, and the plan continues with this run.",
                )

    def _change_variant(self, variant: str) -> None:
        """Have hands bring the machine into another state, with the load off, and go on with its card."""
        self.enter(BenchState.APPLYING)
        self.sampler.make_safe()
        self.hands.wait_for(variant_card(self.sampler.card, variant))
        if self.change_variant is None:
            raise RigError(f"{self.sampler.card.title} cannot change its variant here.", remedy="Change it on the Rig page.")
        self.change_variant(variant)

    def _idle_before(self, plan_id: int, row: Row, number: int, total: int) -> bool:
        """Let the machine idle at the setting of its next run; the book has that too. Return whether it was paused."""
        idle = self.sampler.card.load_of(LoadKind.IDLE)
        if idle is None:
            return False
        rule = row.step.exposure
        self.enter(BenchState.WAITING, _idle_words(rule))
        whole = row.step.setting.over(self.sampler.card.stock)
        opened = self._open_run(plan_id, row, number, total, idle.name, RunKind.IDLE)
        outcome, command = RunOutcome.STOPPED, None
        trip: Trip | None = None
        try:
            self.sampler.apply(whole)
            self.sampler.begin(opened.run_id, idle.name, whole, self._guards)
            cold = ColdStart(rule, self.sampler.card, self.sampler.time_s)
            while command not in (Command.PAUSE_NOW, Command.SKIP):
                batch = self.sampler.advance(1)
                ended = closing_of(batch.ended, self._publish)
                if ended is not None and ended.trip is not None:
                    trip = ended.trip
                    self._stop_at(trip)
                if ended is not None or any(cold.reached(frame) for frame in batch.frames):
                    break
                command = self.command()
            outcome = RunOutcome.DONE
        except MachineAwayError:  # the run that follows waits for it, and idles before it again
            outcome = RunOutcome.VOIDED
        finally:
            self._close_run(opened, whole, Closing(outcome, "idle before a run"))
        if trip is not None:
            self._wait_until_clear(trip)
        return command == Command.PAUSE_NOW

    def _open_run(self, plan_id: int, row: Row, number: int, total: int, load: str, kind: RunKind) -> RunOpened:
        """Open a run: the book has it before its setting is applied, so that a machine that goes down leaves a trace."""
        whole = row.step.setting.over(self.sampler.card.stock)
        run_id, now_s = self._writer.next_run_id(), self.sampler.time_s
        opened = RunOpened(run_id, number - 1, total, row.step, plan_id, row.entry, whole, load, now_s, kind)
        self._publish(opened)
        return opened

    def _close_run(self, opened: RunOpened, whole: Setting, closing: Closing) -> None:
        """Close a run. Where it came to its own end its load stays on, and the guards look on, until the next run begins."""
        if self.sampler.abandoned:
            return  # the watchdog has closed it
        if closing.outcome == RunOutcome.DONE:
            self.sampler.watch(None, whole, self._guards, fresh=False)
        else:
            with contextlib.suppress(StopPlan, NienteError):  # a bench that is closing has ended the load already
                self.sampler.stop()
            self.sampler.idle()  # no sooner: guards look on while the load is still on
        record = RunClosed(opened.run_id, opened.index, closing.outcome, closing.reason, self.sampler.time_s, opened.kind)
        self._publish(record)

    def _wait_for_an_hour(self, scheduler: Scheduler, due: QuietHoursWait) -> None:
        """Rest until something may run again."""
        self.enter(BenchState.WAITING, due.text)
        self.sampler.make_safe()
        quiet = scheduler.plan.quiet
        self.sampler.watch(None, self.sampler.card.safe.over(self.sampler.card.stock), self._guards)
        while quiet is not None and quiet.covers(self._hour()):
            ended = closing_of(self.sampler.advance(1).ended, self._publish)
            if ended is not None and ended.trip is not None:
                self._stop_at(ended.trip)
                self._wait_until_clear(ended.trip)
                return
            self.command()

    def _wait_until_clear(self, trip: Trip) -> None:
        """Pause, or stay idle until the guard that ended a run is quiet again."""
        guard = trip.guard
        if guard is None or trip.action == GuardAction.PAUSE:
            self._pause(trip.reason)
            return
        level = quantity_of(guard.quantity).with_unit(guard.clear)
        self.enter(BenchState.WAITING, f"Waiting until the guard is quiet again, at {level}")
        until = self.sampler.time_s + CLEARS_WITHIN_S
        whole = self.sampler.card.safe.over(self.sampler.card.stock)
        self.sampler.watch(None, whole, self._guards, fresh=False, acts=False)
        while self.sampler.time_s < until:
            self.sampler.advance(1)
            if self._guards.quiet(guard) or self.command() == Command.SKIP:
                return
        raise StopPlan(
            f"{guard.reason} It did not become quiet again within {duration_text(CLEARS_WITHIN_S)}.", RunOutcome.GUARD
        )

    def _hour(self) -> float:
        """Return the hour of the day on the rig's clock: the wall's when the plan began, and what went by since."""
        return (self._hour_zero + self.sampler.time_s / 3600.0) % 24.0

    def _run_step(self, plan_id: int, row: Row, number: int, total: int) -> Closing:
        """Run one step and return how it closed. Whatever happens, the run is closed in the book."""
        self.enter(BenchState.APPLYING)
        step, card = row.step, self.sampler.card
        whole = step.setting.over(card.stock)
        opened = self._open_run(plan_id, row, number, total, step.load, RunKind.STEP)
        self.run_id = run_id = opened.run_id
        closing = Closing(RunOutcome.STOPPED, "the engine was interrupted")
        try:
            self._apply(whole)
            self.enter(BenchState.SETTLING if step.exposure.known_to_k is not None else BenchState.EXPOSING)
            closing = self._exposing.until_over(run_id, step, self._guards)
            readings_card = reading_card(card) if closing.outcome == RunOutcome.DONE else None
            if readings_card is not None:
                closing = self.hands.take_readings(run_id, readings_card) or closing
            if closing.trip is not None:
                self._stop_at(closing.trip)
        except StopPlan as stop:
            closing = Closing(stop.outcome, stop.reason)
            raise
        except MachineAwayError as away:  # it went down between two runs
            closing = Closing(RunOutcome.VOIDED, away.happened, by_machine=True)
        except NienteError as error:
            closing = Closing(RunOutcome.STOPPED, error.happened)
            raise
        finally:
            self.run_id = None
            self._close_run(opened, whole, closing)
        return closing

    def _stop_at(self, trip: Trip) -> None:
        """End the plan over a trip that wants that; say so over one that does not."""
        if trip.action == GuardAction.STOP:
            error = RigError(
                trip.reason,
                safe="The load is off, the rig has its safe setting, and every sample is kept.",
                remedy="Look at the machine; then go on, and the plan continues after this run.",
            )
            raise StopPlan(trip.reason, RunOutcome.GUARD, error.text)
        ends = "The plan pauses." if trip.action == GuardAction.PAUSE else "The plan goes on with the next run."
        self._publish(WarningRaised(f"{trip.reason} {ends}"))

    def _wait_until_back(self) -> None:
        """Rest while a machine that went down starts again; the sampler gives up on one that takes too long."""
        if self.sampler.away:
            self.enter(BenchState.WAITING, "The machine went down and starts again: waiting for it")
        while self.sampler.away:
            self.sampler.rest(LOOK_S)
            self.command()

    # -- waiting ---------------------------------------------------------------------------------------------

    def _pause(self, why: str = "") -> None:
        """Pause with the load off and the safe setting in force until told to go on."""
        self._pause_next = False
        self.enter(BenchState.PAUSED, f"Paused. The load is off. {why}".strip())
        self.sampler.make_safe()
        while True:
            self.sampler.rest(LOOK_S)
            if self.command() == Command.RESUME:
                return

    def command(self) -> Command | None:
        """Return the next command that is not carried out here."""
        while True:
            try:
                command = self._commands.get_nowait()
            except queue.Empty:
                return None
            if isinstance(command, Confirmed):
                self.hands.take(command)
                continue
            if command == Command.PAUSE_AFTER:
                self._arm_pause(True)
                continue
            if command == Command.RESUME:
                self._arm_pause(False)
            return command

    def _arm_pause(self, armed: bool) -> None:
        """Pause once this run is over, or do not after all; whoever listens is told."""
        if armed != self._pause_next:
            self._pause_next = armed
            self._publish(StateChanged(self.state, self._state_text, armed))

    def restore(self) -> None:
        """Load off, safe setting back, and to rest; tell what only hands can set back."""
        self.sampler.make_safe()
        self._pause_next = False
        self.enter(BenchState.RESTORING)
        self.hands.put_card_away()
        while not self._commands.empty():
            self._commands.get_nowait()
        left = left_by_hand(self.sampler.card, self.hands.set_so_far)
        if left:
            self._publish(WarningRaised(f"These stay as hands have set them, until hands set them back: {'; '.join(left)}."))
        self.enter(BenchState.IDLE)

    def enter(self, state: BenchState, text: str = "") -> None:
        """Be in another state, and say so."""
        if state not in MAY_FOLLOW[self.state]:
            raise AssertionError(f"{state} may not follow on {self.state}")
        self.state = state
        self.sampler.stoppable = state != BenchState.IDLE
        self._state_text = text
        self._publish(StateChanged(state, text, self._pause_next))


def _idle_words(rule: Exposure) -> str:
    """Return what idle time waits for, in words."""
    words = f"Idle for {duration_text(rule.idle_s)}"
    return f"{words} and until nothing moves any more" if rule.from_cold else words
