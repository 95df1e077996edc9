"""The engine: runs the steps of a plan on a rig. It lives in one thread; commands come through a queue."""

import queue
import time
from collections.abc import Callable

from niente.core.acquisition.cold_start import Cold
from niente.core.acquisition.guards.guard_set import Guards
from niente.core.acquisition.guards.trip import Trip
from niente.core.acquisition.hand_cards import (
    CONFIRMED,
    SHOWN,
    left_by_hand,
    reading_card,
    setting_card,
    ticked_in,
    variant_card,
    words_card,
)
from niente.core.acquisition.plan_stop import StopPlan
from niente.core.acquisition.rig_link import Link
from niente.core.acquisition.run_executor import GUARD, VOIDED, Closing, Exposing
from niente.core.acquisition.scheduler import Agenda, Spent, Wait
from niente.core.analysis.evidence import READ_BY_HAND, Evidence
from niente.core.model.commands import Command, Confirmed
from niente.core.model.errors import NienteError, PlanError, RigError
from niente.core.model.hand_cards import BenchCard
from niente.core.model.plan import Exposure, GuardAction, Plan
from niente.core.model.project import Limits
from niente.core.model.quantities import duration_text, quantity_of
from niente.core.model.records import (
    CardShown,
    LeftOut,
    Listener,
    PlanStarted,
    RunClosed,
    RunOpened,
    StateChanged,
    Warned,
)
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.model.setting import Setting
from niente.core.model.states import MAY_FOLLOW, State
from niente.core.planning.progress import Row
from niente.core.planning.validation import check_plan
from niente.core.rigs.protocol import Rig
from niente.core.storage.reader import DONE, BookReader
from niente.core.storage.writer import BookWriter, ensure_plan

CLEARS_WITHIN_S = 3600.0
"""A guard that skipped a run is waited for so long to be quiet again."""


class Engine:
    """Runs plans on one rig and writes one book.

    Other threads may use ``commands``, ``other_plan`` and ``link``, and read ``state``, ``run_id`` and ``asked``.
    """

    def __init__(self, rig: Rig, writer: BookWriter, listener: Listener, *, silent_limit_s: float = 10.0) -> None:
        self.commands: queue.SimpleQueue[Command | Confirmed] = queue.SimpleQueue()
        self.state = State.IDLE
        self.run_id: int | None = None
        self.asked: BenchCard | None = None
        """The card that hands are at."""
        self.other_plan: Plan | None = None
        """A plan to go on with in place of the one that runs, from its next run on."""
        self.becomes: Callable[[str], RigCard] | None = None
        """Brings the machine into another variant, once hands have, and returns its card."""
        self.by_hand: dict[str, float] = {}
        """What hands have set, by control."""
        self.link = Link(rig, writer, listener, silent_limit_s)
        self._writer = writer
        self._tell = listener
        self._exposing = Exposing(self.link, writer, listener, self._command)
        self._hold_next = False
        self._known: Evidence | None = None
        self._guards = Guards((), self.link.card)
        self._hour_zero = 0.0
        self._read: dict[str, float] | None = None

    def take_card(self, card: RigCard) -> None:
        """Go on with another card of the same rig, between plans."""
        self.link.card = card

    # -- plans -----------------------------------------------------------------------------------------------

    def run(self, plan: Plan, limits: Limits) -> None:
        """Run what is left of a plan, and what follows from it. Raises ``StopPlan`` or ``NienteError`` on an early end."""
        self.other_plan = None
        check_plan(plan, self.link.card)
        local = time.localtime()
        self._hour_zero = local.tm_hour + local.tm_min / 60.0 - self.link.time_s / 3600.0
        book = BookReader(self._writer.path)
        try:
            agenda = Agenda(plan, ensure_plan(self._writer, plan, book.plans()), limits, book, self._known)
            self._guards = Guards(plan.guards, self.link.card)
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
            check_plan(plan, self.link.card)
        except PlanError as error:
            self._tell(Warned(f"{error.happened} The plan goes on as it was."))
            return agenda
        other = Agenda(plan, ensure_plan(self._writer, plan, book.plans()), limits, book, self._known)
        if plan.guards != agenda.plan.guards:
            self._guards = Guards(plan.guards, self.link.card)
        self._look(other)
        self._tell(PlanStarted(plan, other.plan_id, other.closed))
        return other

    def _look(self, agenda: Agenda) -> None:
        """See how the plan stands, tell of what is left out, and learn what the next forecast starts from."""
        agenda.look(self.link.card)
        if agenda.known is not None:
            self._known, self._exposing.slow_prior = agenda.known, agenda.known.slow_prior
        for place, row in agenda.left_out():
            self._tell(LeftOut(place, f"Run {place + 1} is left out: {row.why}."))
            self._writer.add_happening("implied", {"step": row.entry, "why": row.why})

    def _until_answered(self, agenda: Agenda, row: Row) -> str:
        """Run a step, and return how it closed; where it is voided, run it again: after a hold, if that was asked for."""
        number, total = agenda.rows.index(row) + 1, len(agenda.rows)
        while True:
            if row.step.variant and row.step.variant != self.link.card.variant:
                self._change_variant(row.step.variant)
                before, self._guards = self._guards, Guards(agenda.plan.guards, self.link.card)
                self._guards.go_on_from(before)
            self._set_by_hand(row.step.setting.over(self.link.card.stock))
            if row.step.exposure.rests and self._rest(agenda.plan_id, row):
                self._hold()
                continue
            closing = self._run_step(agenda, row, number, total)
            if self._hold_next or closing.hold:
                self._hold()
            elif closing.trip is not None and closing.trip.guard is not None:
                self._until_quiet(closing.trip)
            if closing.how != VOIDED:
                return closing.how

    def _change_variant(self, variant: str) -> None:
        """Have hands bring the machine into another state, with the load off, and go on with its card."""
        self._enter(State.APPLYING)
        self.link.make_safe()
        self._wait_for_hands(variant_card(self.link.card, variant))
        if self.becomes is None:
            raise RigError(f"{self.link.card.title} cannot change its variant here.", remedy="Change it on the Rig page.")
        self.take_card(self.becomes(variant))

    def _set_by_hand(self, whole: Setting) -> None:
        """Have hands set what only they can, with the load off, where it is not set yet."""
        wanted = setting_card(self.link.card, whole, self.by_hand)
        if wanted is not None:
            self._enter(State.APPLYING)
            self.link.make_safe()
            self._wait_for_hands(wanted)
            self.by_hand |= wanted.sets

    def _rest(self, plan_id: int, row: Row) -> bool:
        """Let the machine rest at the setting of its next run; the book has that too. Return whether it was held."""
        idle = self.link.card.load_of(LoadKind.IDLE)
        if idle is None:
            return False
        rule = row.step.exposure
        self._enter(State.RESTING, _rest_words(rule))
        whole = row.step.setting.over(self.link.card.stock)
        run_id = self._writer.open_run(plan_id, row.entry, "rest", whole, idle.name, self.link.card, self.link.time_s)
        how, told = "stopped", None
        trip: Trip | None = None
        try:
            self.link.apply(whole)
            self.link.start(idle.name)
            self._guards.begin()
            cold = Cold(rule, self.link.card, self.link.time_s)
            while told not in (Command.HOLD_NOW, Command.SKIP):
                frame, ended = self._exposing.under_guard(run_id, whole, self._guards)
                if ended is not None and ended.trip is not None:
                    trip = ended.trip
                    self._stop_at(trip)
                if ended is not None or cold.reached(frame):
                    break
                told = self._command()
            how = DONE
        finally:
            if not self.link.abandoned:
                self._writer.close_run(run_id, how, "a rest before a run", self.link.time_s)
        if trip is not None:
            self._until_quiet(trip)
        return told == Command.HOLD_NOW

    def _wait_for_an_hour(self, agenda: Agenda, due: Wait) -> None:
        """Rest until something may run again."""
        self._enter(State.RESTING, due.text)
        self.link.make_safe()
        quiet = agenda.plan.quiet
        while quiet is not None and quiet.holds(self._hour()):
            self.link.frame(None)
            self._command()

    def _until_quiet(self, trip: Trip) -> None:
        """Hold, or rest with the load off until the guard that ended a run is quiet again."""
        guard = trip.guard
        if guard is None or trip.action == GuardAction.HOLD:
            self._hold(trip.reason)
            return
        level = quantity_of(guard.quantity).with_unit(guard.clear)
        self._enter(State.RESTING, f"Waiting until the guard is quiet again, at {level}")
        until = self.link.time_s + CLEARS_WITHIN_S
        whole = self.link.card.safe.over(self.link.card.stock)
        while self.link.time_s < until:
            self._guards.look(self.link.frame(None), whole)
            if self._guards.quiet(guard) or self._command() == Command.SKIP:
                return
        raise StopPlan(f"{guard.reason} It did not become quiet again within {duration_text(CLEARS_WITHIN_S)}.", GUARD)

    def _hour(self) -> float:
        """Return the hour of the day on the rig's clock: the wall's when the plan began, and what went by since."""
        return (self._hour_zero + self.link.time_s / 3600.0) % 24.0

    def _run_step(self, agenda: Agenda, row: Row, number: int, total: int) -> Closing:
        """Run one step and return how it closed. Whatever happens, the run is closed in the book."""
        self._enter(State.APPLYING)
        step, card = row.step, self.link.card
        whole = step.setting.over(card.stock)
        self.run_id = self._writer.open_run(agenda.plan_id, row.entry, "step", whole, step.load, card, self.link.time_s)
        run_id = self.run_id
        self._tell(RunOpened(run_id, number - 1, total, step))
        closing = Closing("stopped", "the engine was interrupted")
        try:
            hand_work = self.link.apply(whole)
            if hand_work:
                self._wait_for_hands(words_card(hand_work))
            self.link.start(step.load)
            self._enter(State.SETTLING if step.exposure.known_to_k is not None else State.EXPOSING)
            closing = self._exposing.until_over(run_id, step, self._guards)
            asked = reading_card(card) if closing.how == DONE else None
            if asked is not None:
                closing = self._take_readings(run_id, asked, whole) or closing
            if closing.trip is not None:
                self._stop_at(closing.trip)
        except StopPlan as stop:
            closing = Closing(stop.how, stop.why)
            raise
        except NienteError as error:
            closing = Closing("stopped", error.happened)
            raise
        finally:
            self.run_id = None
            if not self.link.abandoned:
                if closing.how != DONE:
                    self.link.stop()
                self._writer.close_run(run_id, closing.how, closing.why, self.link.time_s)
                self._tell(RunClosed(run_id, number - 1, closing.how, closing.why))
        return closing

    def _stop_at(self, trip: Trip) -> None:
        """End the plan over a trip that wants that; say so over one that does not."""
        if trip.action == GuardAction.STOP:
            error = RigError(
                trip.reason,
                safe="The load is off, the rig has its safe setting, and every sample is kept.",
                remedy="Look at the machine; then go on, and the plan continues after this run.",
            )
            raise StopPlan(trip.reason, GUARD, error)
        ends = "The plan holds." if trip.action == GuardAction.HOLD else "The plan goes on with the next run."
        self._tell(Warned(f"{trip.reason} {ends}"))

    # -- waiting ---------------------------------------------------------------------------------------------

    def _hold(self, why: str = "") -> None:
        """Hold with the load off and the safe setting in force until told to go on."""
        self._hold_next = False
        self._enter(State.HOLDING, f"Held. The load is off. {why}".strip())
        self.link.make_safe()
        while True:
            self.link.pulse()
            if self._command() == Command.GO_ON:
                return

    def _wait_for_hands(self, card: BenchCard) -> None:
        """Show a card and wait, with the load off, until it is confirmed; the book has both."""
        self._show(card)
        while self._read is None:
            self.link.pulse()
            self._command()
        self._confirm(card, None)

    def _take_readings(self, run_id: int, card: BenchCard, whole: Setting) -> Closing | None:
        """Ask for what hands read, the load still on and under guard; return what ended the run meanwhile."""
        self._show(card)
        while self._read is None:
            _, ended = self._exposing.under_guard(run_id, whole, self._guards)
            told = self._command()
            if ended is not None or told == Command.SKIP:
                self._put_card_away()
                return ended
            if self.link.pace is None:
                time.sleep(0.02)  # hands are slower than a simulated machine at full speed
        for channel, value in self._read.items():
            self._writer.add_happening(READ_BY_HAND, {"channel": channel, "value": value}, run_id, self.link.time_s)
        self._confirm(card, run_id)
        return None

    def _show(self, card: BenchCard) -> None:
        """Show a card, with the ticks that it had before a restart."""
        book = BookReader(self._writer.path)
        try:
            ticked = ticked_in(book.happenings(), card)
        finally:
            book.close()
        self._writer.add_happening(SHOWN, card, self.run_id, self.link.time_s)
        self.asked, self._read = card, None
        self._enter(State.WAITING_FOR_HANDS, card.words())
        self._tell(CardShown(card, ticked))

    def _confirm(self, card: BenchCard, run_id: int | None) -> None:
        self._writer.add_happening(CONFIRMED, card.sets, run_id, self.link.time_s)
        self._put_card_away()

    def _put_card_away(self) -> None:
        """Hands are wanted no more, whatever became of the card."""
        if self.asked is not None:
            self.asked, self._read = None, None
            self._tell(CardShown(None))

    def _command(self) -> Command | None:
        """Return the next command, having acted on those that do not end a run."""
        try:
            told = self.commands.get_nowait()
        except queue.Empty:
            return None
        if isinstance(told, Confirmed):
            if told.card == self.asked:
                self._read = told.readings
            return None
        if told == Command.HOLD_AFTER:
            self._hold_next = True
            return None
        if told == Command.GO_ON:
            self._hold_next = False
        return told

    def restore(self) -> None:
        """Load off, safe setting back, and to rest; tell what only hands can set back."""
        self._enter(State.RESTORING)
        self.link.make_safe()
        self._hold_next = False
        self._put_card_away()
        while not self.commands.empty():
            self.commands.get_nowait()
        left = left_by_hand(self.link.card, self.by_hand)
        if left:
            self._tell(Warned(f"These stay as hands have set them, until hands set them back: {'; '.join(left)}."))
        self._enter(State.IDLE)

    def _enter(self, state: State, text: str = "") -> None:
        if state not in MAY_FOLLOW[self.state]:
            raise AssertionError(f"{state} may not follow on {self.state}")
        self.state = state
        self.link.stoppable = state != State.IDLE
        self._tell(StateChanged(state, text))


def _rest_words(rule: Exposure) -> str:
    """Say what a rest waits for."""
    words = f"At rest for {duration_text(rule.rest_s)}"
    return f"{words} and until nothing moves any more" if rule.from_cold else words
