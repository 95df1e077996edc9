"""A bench: a rig, a book and an engine in a thread of their own, with a watchdog beside it."""

import contextlib
import threading
import traceback
from collections.abc import Callable
from pathlib import Path

import msgspec

from niente.core.acquisition.book_state import BookState
from niente.core.acquisition.book_time import in_book_time
from niente.core.acquisition.engine import Engine
from niente.core.acquisition.plan_stop import StopPlan
from niente.core.acquisition.record_stream import RecordStream
from niente.core.acquisition.recovery import InterruptedRun, verdict_on
from niente.core.acquisition.refusals import insist_cautions_were_read, insist_setting_can_stay, insist_sheet_fits
from niente.core.acquisition.sampler import Sampler
from niente.core.acquisition.sheeted_rig import SheetedRig
from niente.core.acquisition.watchdog import Watchdog
from niente.core.acquisition.watching import BY_PERSON
from niente.core.model.cautions import cautions_for
from niente.core.model.commands import Command, Confirmed
from niente.core.model.errors import NienteError, RigError
from niente.core.model.hand_cards import HandCard
from niente.core.model.limits import Limits
from niente.core.model.plan import Plan
from niente.core.model.project import Project
from niente.core.model.records import (
    BenchFailed,
    CautionsRead,
    HandCardShown,
    HandCardTicked,
    Listener,
    NoteAdded,
    PlanEnded,
    ProjectSaved,
    RigCardChanged,
    RunClosed,
    SettingStays,
    WarningRaised,
)
from niente.core.model.rig_card import RigCard
from niente.core.model.rig_sheet import RigSheet
from niente.core.model.runs import RunOutcome
from niente.core.model.setting import Setting
from niente.core.model.states import BenchState
from niente.core.rigs.checked_rig import BY_HAND
from niente.core.rigs.protocol import Rig
from niente.core.storage.recorder import Recorder
from niente.core.storage.writer import BookWriter

SLOW_PACE = 10.0
"""Up to this pace every sample is committed by itself."""


class HangLimits(msgspec.Struct, frozen=True):
    """When a rig is given up: it answers but gives no sample for ``silent_s``, or a call does not return for ``hang_s``."""

    silent_s: float
    hang_s: float


class Bench:
    """A rig attached to a book; ``opening.open_bench`` makes one.

    ``start`` runs a plan, ``send_command`` commands it, ``close`` makes safe and lets go. Records are given to ``listener``
    from the bench's thread.
    """

    def __init__(
        self,
        sheeted: SheetedRig,
        writer: BookWriter,
        recorder: Recorder,
        listener: Listener,
        state: BookState,
        interrupted: InterruptedRun | None,
        limits: HangLimits,
        on_look: Callable[[], None],
    ) -> None:
        self._sheeted = sheeted
        self.writer = writer
        self.project = state.project
        """The project as the book held it when the bench was opened, or as it was saved since."""
        self.cautions_read = state.cautions_read
        """Whether the cautions were read."""
        self.sheet_problems = state.sheet_problems
        """What of the sheet in the book does not fit this rig any more; the sheet is then left aside."""
        self.by_hand = state.by_hand
        """What hands have set, by control, as the book knows it."""
        self.interrupted = interrupted
        """What an earlier end left open, where it left anything."""
        self._stream = RecordStream(recorder, listener)
        self._sampler = Sampler(sheeted.rig, sheeted.card, self._stream, limits.silent_s)
        self._sampler.safe.stays = state.stays
        recorder.commit_each = self._commits_each
        self._engine = Engine(self._sampler, writer, self._stream)
        self._engine.change_variant = self._change_variant
        self._engine.hands.set_so_far = self.by_hand
        self._wake = threading.Condition()
        self._next: tuple[Plan, Limits] | None = None
        self._next_sheet: RigSheet | None = None
        self._next_setting: Setting | None = None
        self._closing = False
        self.busy = False
        self._thread = threading.Thread(target=self._serve, name="niente-engine", daemon=True)
        self._watchdog = Watchdog(self._sampler, limits.hang_s, self._give_up_rig, on_look)

    def start_threads(self) -> None:
        """Begin to sample, to decide and to watch; ``open_bench`` calls it once."""
        self._sampler.start_thread()
        self._thread.start()
        self._watchdog.start()

    # -- from any thread ---------------------------------------------------------------------------------------

    follows = False
    """A bench is at the machine, where a ``Follower`` only looks on."""

    @property
    def rig(self) -> Rig:
        """The rig's driver."""
        return self._sheeted.rig.driver

    @property
    def own_card(self) -> RigCard:
        """The card as the rig's driver gives it."""
        return self._sheeted.own_card

    @property
    def first_sheet(self) -> RigSheet:
        """What is said of the machine before a person says anything."""
        return self._sheeted.first_sheet

    @property
    def card(self) -> RigCard:
        """The card in force: the driver's, as the person's sheet has it."""
        return self._sheeted.card

    @property
    def path(self) -> Path:
        """The book."""
        return self.writer.path

    @property
    def pace(self) -> float | None:
        """Rig seconds a wall second; ``None`` for as fast as it goes."""
        return self._sampler.pace

    @property
    def state(self) -> BenchState:
        """What the engine does now."""
        return self._engine.state

    def start(self, plan: Plan, limits: Limits) -> None:
        """Run what is left of a plan. Raises ``RigError`` while another runs, and ``CautionsError`` on a real machine
        whose cautions nobody has read yet."""
        insist_cautions_were_read(self.card, self.unread_cautions())
        dated = in_book_time(plan, self.path)
        with self._wake:
            self._insist_on_leisure()
            self.busy = True
            self._next = (dated, limits)
            self._wake.notify_all()

    @property
    def stays(self) -> Setting | None:
        """The setting that the machine keeps until a plan begins or the safe one is put back; ``None`` for no other."""
        return self._sampler.safe.stays

    def put_in_force(self, setting: Setting) -> None:
        """Set the machine, without a load, and leave it so once the bench ends; ``SettingStays`` tells when it is.

        Raises ``RigError`` while a plan runs, for a setting out of the rig's range and for a rig that can leave none in
        force, and ``CautionsError`` as ``start`` does.
        """
        insist_cautions_were_read(self.card, self.unread_cautions())
        insist_setting_can_stay(self.card, setting, can_stay=self._sheeted.rig.can_stay)
        with self._wake:
            self._insist_on_leisure()
            self.busy = True
            self._next_setting = setting
            self._wake.notify_all()

    def _insist_on_leisure(self) -> None:
        if self.busy or self._sampler.abandoned:
            raise RigError(
                "The bench is busy." if self.busy else "The rig stopped answering.",
                remedy="Stop the plan that runs, or open the rig again.",
            )
        self._sampler.forget_stop()  # a stop that came after the last plan's end is not for this one

    def send_command(self, command: Command) -> None:
        """Give the running plan a command. Does nothing while none runs."""
        if self.busy:
            self._engine.send(command)

    def confirm(self, readings: dict[str, float] | None = None) -> None:
        """Say that hands are done with the card that is shown. Raises ``DocumentError`` for readings that cannot be."""
        card, given = self._engine.hands.open_card, readings or {}
        if self.busy and card is not None:
            card.insist(given)
            self._engine.send(Confirmed(card, given))

    def judge(self, *, machine_down: bool) -> None:
        """Say what the run that was found open came to: the machine failed in it, or something else ended it."""
        found = self.interrupted
        if found is not None and found.to_be_judged:
            self._stream.publish(verdict_on(found.run, machine_down=machine_down))
            self.interrupted = msgspec.structs.replace(found, machine_down=machine_down)

    def tick(self, boxes: tuple[int, ...]) -> None:
        """Write down which boxes of the card that is shown are ticked, so that a restart finds them so."""
        if self._engine.hands.open_card is not None:
            self._stream.publish(HandCardTicked(boxes))

    @property
    def open_card(self) -> HandCard | None:
        """The card that hands are at; ``None`` where there is none."""
        return self._engine.hands.open_card

    @property
    def shown(self) -> dict[str, float]:
        """What the meters show that hands read, by channel; only a simulated machine's are known."""
        return dict(self._sampler.shown) if self.card.simulated else {}

    def change_plan(self, plan: Plan) -> None:
        """Let the plan that runs go on as another one, from its next run on; what was measured counts for that too."""
        if self.busy:
            self._engine.other_plan = plan

    def stop(self, words: str = BY_PERSON) -> None:
        """Stop what runs and restore; where nothing runs, make the rig safe all the same. ``words`` say who wanted it."""
        if self.busy:
            self._sampler.stop_plan(words)
        else:
            self._sheeted.rig.make_safe()
            self._sampler.safe.let_stay(None)

    def take_sheet(self, sheet: RigSheet) -> None:
        """Let the machine be what a sheet says, soon: ``RigCardChanged`` tells when it is.

        Raises ``RigError`` while a plan runs, and ``DocumentError`` for a sheet that does not fit the rig.
        """
        self.check_sheet(sheet)
        with self._wake:
            self._next_sheet = sheet
            self._wake.notify_all()

    def check_sheet(self, sheet: RigSheet) -> None:
        """Raise what ``take_sheet`` would raise, and take nothing."""
        insist_sheet_fits(self._sheeted.problems(sheet), plan_runs=self.busy or self._sampler.abandoned)

    def unread_cautions(self) -> tuple[str, ...]:
        """Return the cautions that stand before a start; none where they were read, or the machine is simulated."""
        return () if self.cautions_read or self.card.simulated else cautions_for(self.card)

    def read_cautions(self) -> None:
        """Write into the book that the cautions for this rig, as they are now, were read."""
        self._stream.publish(CautionsRead(cautions_for(self.card)))
        self.cautions_read = True

    def note(self, text: str) -> None:
        """Write a note into the book, at this moment."""
        self._stream.publish(NoteAdded(self._engine.run_id, self._sampler.time_s, text))

    def save_project(self, project: Project) -> None:
        """Keep a version of the project."""
        self._stream.publish(ProjectSaved(project))
        self.project = project

    def set_pace(self, pace: float | None) -> None:
        """Change the pace of a simulated rig; a real one has none."""
        self._sampler.set_pace(pace)

    def close(self, wait_s: float = 10.0) -> None:
        """Stop what runs, make the rig safe, let go of rig and book."""
        if not self._sampler.stops and (self.busy or self.stays is None):
            self.stop()
        with self._wake:
            self._closing = True
            self._wake.notify_all()
        self._sampler.end(wait_s)
        if self._thread.is_alive():
            self._thread.join(wait_s)
        self._watchdog.stop()
        if self._sampler.alive:  # it hangs in a call to the rig
            self._sheeted.rig.make_safe()
        self.writer.close()

    # -- the engine's thread ------------------------------------------------------------------------------------

    def _serve(self) -> None:
        """Run plans and take sheets as they come."""
        while True:
            with self._wake:
                self._wake.wait_for(lambda: self._closing or any((self._next, self._next_sheet, self._next_setting)))
                if self._closing:
                    return
                work, self._next = self._next, None
                sheet, self._next_sheet = self._next_sheet, None
                setting, self._next_setting = self._next_setting, None
            if sheet is not None:
                self._apply_sheet(sheet)
            if setting is not None:
                self._put_in_force(setting)
            if work is not None:
                self._run(*work)

    def _apply_sheet(self, sheet: RigSheet) -> None:
        """Be the machine of a sheet, between plans; what goes wrong with that is told."""
        try:
            self._take(sheet)
        except NienteError as error:
            self._stream.publish(WarningRaised(str(error)))
        except StopPlan:
            return  # the bench is closing
        except Exception:
            self._stream.publish(BenchFailed(traceback.format_exc()))

    def _change_variant(self, variant: str) -> RigCard:
        """Be the machine in another variant, under a plan, and return its card. Raises ``NienteError``."""
        return self._take(msgspec.structs.replace(self._sheeted.sheet, variant=variant))

    def _take(self, sheet: RigSheet) -> RigCard:
        """Be the machine of a sheet, in its variant, from here on; the book has it before anything is run on it."""

        def work() -> RigCard:
            before = self._sheeted.card
            card = self._sheeted.take(sheet)
            if card != before:
                self._stream.publish(RigCardChanged(card, self._sheeted.own_card))
            self._sampler.card = card
            if card.variant != before.variant:  # it was opened up for that
                self._sampler.safe.let_stay(None)
            return card

        return self._sampler.call(work)

    def _run(self, plan: Plan, limits: Limits) -> None:
        """Run one plan to its end, whatever that is, and leave the rig safe."""
        ended: PlanEnded | BenchFailed = PlanEnded(True, "the plan is done")
        try:
            self._engine.run(plan, limits)
        except StopPlan as stop:
            ended = PlanEnded(False, stop.reason, stop.error)
        except NienteError as error:
            ended = PlanEnded(False, error.happened, error.text)
        except Exception:
            ended = BenchFailed(traceback.format_exc())
        if self._sampler.abandoned:
            return
        ended = self._restore() or ended
        self.busy = False
        self._stream.publish(_told_unsafe(ended, self._sampler.safe.problem))

    def _restore(self) -> BenchFailed | None:
        """Leave the rig safe; return what was a bug in that."""
        try:
            self._engine.restore()
        except Exception:
            self._sampler.make_safe()
            return BenchFailed(traceback.format_exc())
        return None

    def _put_in_force(self, setting: Setting) -> None:
        """Put a setting in force that stays; where that fails the rig is left safe."""
        problem = ""
        try:
            self._engine.put_in_force(setting)
        except StopPlan as stop:
            problem = stop.reason
        except NienteError as error:
            problem = str(error)
        except Exception:
            problem = "the bench failed in that"
            self._stream.publish(BenchFailed(traceback.format_exc()))
        if self._sampler.abandoned:
            return
        if problem and (bug := self._restore()) is not None:
            self._stream.publish(bug)
        self.busy = False
        self._stream.publish(SettingStays(self.stays, problem))

    # -- the watchdog's thread -----------------------------------------------------------------------------------

    def _give_up_rig(self) -> None:
        """Make the rig safe without waiting for it; what follows from that may wait for a disk, and so does it elsewhere."""
        run_id = self._engine.run_id  # now: the engine lets go of its run as soon as it gets out of the call that hangs
        problem = self._sheeted.rig.make_safe()
        threading.Thread(target=self._tell_given_up, args=(problem, run_id), name="niente-giver-up", daemon=True).start()

    def _tell_given_up(self, problem: str, run_id: int | None) -> None:
        """Close the run that was open, and end the plan."""
        self._sampler.safe.let_stay(None)
        error = RigError(
            f"{self.card.title} has not answered for {self._watchdog.hang_limit_s:.0f} seconds.",
            safe=f"It could not be made safe: {problem}. {BY_HAND}"
            if problem
            else "It was told to end the load and take its safe setting; every sample is kept.",
            remedy="Look at the machine. Then open it again and go on: this run is repeated.",
        )
        if run_id is not None:
            with contextlib.suppress(NienteError):  # an open run is found and closed at the next start
                self._stream.publish(RunClosed(run_id, 0, RunOutcome.STOPPED, error.happened))
        if self.busy:
            self.busy = False
            if self._engine.hands.open_card is not None:
                self._stream.publish(HandCardShown(None))
            self._stream.publish(PlanEnded(False, error.happened, error.text))

    def _commits_each(self) -> bool:
        """Return whether every sample is committed by itself."""
        pace = self.pace
        return pace is not None and pace <= SLOW_PACE


def _told_unsafe(ended: PlanEnded | BenchFailed, problem: str) -> PlanEnded | BenchFailed:
    """Return the end of a plan with what is left for a person to do, where the machine is not known to be safe."""
    if not problem or isinstance(ended, BenchFailed):
        return ended
    kept = "Every sample is kept."
    error = ended.error or RigError(ended.reason, remedy="Then look at the machine, and go on.").text
    return PlanEnded(False, ended.reason, msgspec.structs.replace(error, safe=f"{problem} {kept}"))
