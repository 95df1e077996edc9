"""A bench: a rig, a book and an engine in a thread of their own, with a watchdog beside it."""

import contextlib
import threading
import time
import traceback
from pathlib import Path

import msgspec

from niente.core.acquisition.engine import Engine
from niente.core.acquisition.hand_cards import CONFIRMED, TICKED, by_hand_in
from niente.core.acquisition.plan_stop import StopPlan
from niente.core.acquisition.recovery import close_open_runs, judge
from niente.core.model.cautions import READ, cautions_for
from niente.core.model.commands import Command, Confirmed
from niente.core.model.errors import BookError, CautionsError, DocumentError, NienteError, RigError
from niente.core.model.hand_cards import HandCard
from niente.core.model.plan import Plan
from niente.core.model.project import Limits, Project
from niente.core.model.records import BenchFailed, HandCardShown, Listener, PlanEnded, RigCardChanged, WarningRaised
from niente.core.model.rig_card import RigCard
from niente.core.model.rig_sheet import RigSheet, applied, problems, sheet_of
from niente.core.model.runs import RunOutcome
from niente.core.model.states import BenchState
from niente.core.rigs.protocol import Paced, Rebuilt, Rig
from niente.core.storage.notes import NOTE
from niente.core.storage.reader import BookReader
from niente.core.storage.writer import BookWriter


class Bench:
    """Attaches a rig to a book. ``start`` runs a plan; ``send_command`` commands it; ``close`` makes safe and lets go.

    Events are given to ``listener`` from the bench's thread. Opening closes what an earlier end left open;
    ``interrupted`` says which run that was, and what it came to.
    """

    def __init__(
        self,
        rig: Rig,
        book: Path,
        listener: Listener,
        *,
        variant: str | None = None,
        silent_limit_s: float = 10.0,
        hang_limit_s: float = 15.0,
    ) -> None:
        self.rig = rig
        self.own_card = rig.describe()
        """The card as the rig's driver gives it; ``card`` is what the person's sheet makes of it."""
        self.first_sheet = sheet_of(self.own_card)
        """What is said of the machine before a person says anything."""
        self.card = self.own_card
        self._sheet = self.first_sheet
        self.by_hand: dict[str, float] = {}
        """What hands have set, by control, as the book knows it."""
        self.sheet_problems: list[str] = []
        """What of the sheet in the book does not fit this rig any more; the sheet is then left aside."""
        self.writer = BookWriter(book)
        try:
            self.project, self.cautions_read = self._read_book(variant)
            """The project as the book held it when the bench was attached, and whether the cautions were read."""
        except BaseException:
            self.writer.close()
            raise
        self.interrupted = close_open_runs(self.writer, self.card)
        """What an earlier end left open, where it left anything."""
        self._listener = listener
        self._engine = Engine(rig, self.writer, listener, silent_limit_s=silent_limit_s)
        self._engine.take_card(self.card)
        self._engine.change_variant = self._change_variant
        self._engine.by_hand = self.by_hand
        self._hang_limit_s = hang_limit_s
        self._wake = threading.Condition()
        self._next: tuple[Plan, Limits] | None = None
        self._next_sheet: RigSheet | None = None
        self._closing = False
        self.busy = False
        self._thread = threading.Thread(target=self._serve, name="niente-bench", daemon=True)
        self._watchdog = threading.Thread(target=self._watch, name="niente-watchdog", daemon=True)
        self._thread.start()
        self._watchdog.start()

    # -- from any thread ---------------------------------------------------------------------------------------

    follows = False
    """A bench is at the machine, where a ``Follower`` only looks on."""

    @property
    def path(self) -> Path:
        """The book."""
        return self.writer.path

    @property
    def pace(self) -> float | None:
        """Rig seconds a wall second; ``None`` for as fast as it goes."""
        return self._engine.link.pace

    @property
    def state(self) -> BenchState:
        """What the engine does now."""
        return self._engine.state

    def start(self, plan: Plan, limits: Limits) -> None:
        """Run what is left of a plan. Raises ``RigError`` while another runs, and ``CautionsError`` on a real machine
        whose cautions nobody has read yet."""
        cautions = self.unread_cautions()
        if cautions:
            raise CautionsError(
                f"The cautions for {self.card.title} have not been read yet. {' '.join(cautions)}",
                safe="Nothing was started.",
                remedy="Read them, say so, and start again.",
            )
        with self._wake:
            if self.busy or self._engine.link.abandoned:
                raise RigError(
                    "The bench is busy." if self.busy else "The rig stopped answering.",
                    remedy="Stop the plan that runs, or open the rig again.",
                )
            self._engine.link.stop_wanted.clear()  # a stop that came after the last plan's end is not for this one
            self.busy = True
            self._next = (plan, limits)
            self._wake.notify_all()

    def send_command(self, command: Command) -> None:
        """Give the running plan a command. Does nothing while none runs."""
        if self.busy:
            self._engine.commands.put(command)

    def confirm(self, readings: dict[str, float] | None = None) -> None:
        """Say that hands are done with the card that is shown. Raises ``DocumentError`` for readings that cannot be."""
        card, given = self._engine.open_card, readings or {}
        if self.busy and card is not None:
            card.insist(given)
            self._engine.commands.put(Confirmed(card, given))

    def judge(self, *, machine_down: bool) -> None:
        """Say what the run that was found open came to: the machine failed in it, or something else ended it."""
        found = self.interrupted
        if found is not None and found.to_be_judged:
            judge(self.writer, found.run, machine_down=machine_down)
            self.interrupted = msgspec.structs.replace(found, machine_down=machine_down)

    def tick(self, boxes: tuple[int, ...]) -> None:
        """Write down which boxes of the card that is shown are ticked, so that a restart finds them so."""
        if self._engine.open_card is not None:
            self.writer.add_event(TICKED, boxes, self._engine.run_id)

    @property
    def open_card(self) -> HandCard | None:
        """The card that hands are at; ``None`` where there is none."""
        return self._engine.open_card

    @property
    def shown(self) -> dict[str, float]:
        """What the meters show that hands read, by channel; only a simulated machine's are known."""
        return dict(self._engine.link.shown) if self.card.simulated else {}

    def change_plan(self, plan: Plan) -> None:
        """Let the plan that runs go on as another one, from its next run on; what was measured counts for that too."""
        if self.busy:
            self._engine.other_plan = plan

    def stop(self) -> None:
        """Stop what runs and restore; where nothing runs, make the rig safe all the same."""
        if self.busy:
            self._engine.link.stop_wanted.set()
        else:
            self.rig.make_safe()

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
        found = problems(sheet, self.own_card)
        if found:
            raise DocumentError(
                f"The machine cannot be described like that: {'; '.join(found)}.",
                safe="Its sheet is as it was.",
                remedy="Choose values within the maker's limits and the rig's ranges.",
            )
        if self.busy or self._engine.link.abandoned:
            raise RigError(
                "A plan is running on this machine as it is.",
                safe="The plan goes on; the machine is as it was.",
                remedy="Stop the plan, or wait for its end, then change the machine.",
            )

    def unread_cautions(self) -> tuple[str, ...]:
        """Return the cautions that stand before a start; none where they were read, or the machine is simulated."""
        return () if self.cautions_read or self.card.simulated else cautions_for(self.card)

    def read_cautions(self) -> None:
        """Write into the book that the cautions for this rig, as they are now, were read."""
        self.writer.add_event(READ, list(cautions_for(self.card)))
        self.cautions_read = True

    def note(self, text: str) -> None:
        """Write a note into the book, at this moment."""
        self.writer.add_event(NOTE, text, self._engine.run_id, self._engine.link.time_s)

    def save_project(self, project: Project) -> None:
        """Keep a version of the project."""
        self.writer.add_document("project", project)

    def set_pace(self, pace: float | None) -> None:
        """Change the pace of a simulated rig; a real one has none."""
        if isinstance(self.rig, Paced):
            self.rig.set_pace(pace)

    def close(self, wait_s: float = 10.0) -> None:
        """Stop what runs, make the rig safe, let go of rig and book."""
        self.stop()
        with self._wake:
            self._closing = True
            self._wake.notify_all()
        self._thread.join(wait_s)
        self.rig.make_safe()
        if not self._engine.link.abandoned:
            self.rig.close()
        self.writer.close()

    # -- the bench's thread ------------------------------------------------------------------------------------

    def _serve(self) -> None:
        """Sample while idle, and run plans as they come."""
        while not self._closing and not self._engine.link.abandoned:
            with self._wake:
                work, self._next = self._next, None
                sheet, self._next_sheet = self._next_sheet, None
            if sheet is not None:
                self._apply_sheet(sheet)
            if work is not None:
                self._run(*work)
                continue
            try:
                self._engine.link.pulse()
            except (NienteError, StopPlan):
                with self._wake:  # a silent idle rig is no news; look again a little later
                    self._wake.wait(1.0)

    def _apply_sheet(self, sheet: RigSheet) -> None:
        """Be the machine of a sheet, between plans; what goes wrong with that is told."""
        try:
            self._engine.take_card(self._take(sheet))
        except NienteError as error:
            self._listener(WarningRaised(str(error)))
        except Exception:
            self._listener(BenchFailed(traceback.format_exc()))

    def _change_variant(self, variant: str) -> RigCard:
        """Be the machine in another variant, under a plan, and return its card. Raises ``NienteError``."""
        return self._take(msgspec.structs.replace(self._sheet, variant=variant))

    def _take(self, sheet: RigSheet) -> RigCard:
        """Be the machine of a sheet, in its variant, from here on; the book says so before anything is run on it."""
        card = self._applied(sheet)
        if card != self.card:
            self.writer.add_document("rig", card)
        self.card, self._sheet = card, sheet
        self._listener(RigCardChanged(card))
        return card

    def _applied(self, sheet: RigSheet) -> RigCard:
        """Return the card of a sheet; a rig that can is rebuilt to the sheet's variant, if it is one of its own."""
        own = {variant.name for variant in self.own_card.variants}
        if isinstance(self.rig, Rebuilt) and sheet.variant in own and sheet.variant != self.own_card.variant:
            self.rig.become(sheet.variant)
            self.own_card = self.rig.describe()
        return applied(self.own_card, sheet)

    def _run(self, plan: Plan, limits: Limits) -> None:
        """Run one plan to its end, whatever that is, and leave the rig safe."""
        ended: PlanEnded | BenchFailed = PlanEnded(True, "the plan is done")
        try:
            self._engine.run(plan, limits)
        except StopPlan as stop:
            ended = PlanEnded(False, stop.reason, stop.error)
        except NienteError as error:
            ended = PlanEnded(False, error.happened, error)
        except Exception:
            ended = BenchFailed(traceback.format_exc())
        if self._engine.link.abandoned:
            return
        self._engine.restore()
        with contextlib.suppress(NienteError):  # the disk that ended the plan may still be full; the listener is told
            self.writer.add_event("plan ended", ended.reason if isinstance(ended, PlanEnded) else "a bug of Niente's")
        self.busy = False
        self._listener(ended)

    # -- the watchdog's thread -----------------------------------------------------------------------------------

    def _watch(self) -> None:
        """Make the rig safe when a call to it does not return; never wait for it."""
        while not self._closing and not self._engine.link.abandoned:
            time.sleep(min(0.2, self._hang_limit_s / 4))
            since = self._engine.link.call_began_s
            if since is not None and time.monotonic() - since > self._hang_limit_s:
                self._abandon()

    def _abandon(self) -> None:
        self._engine.link.abandoned = True
        self.rig.make_safe()
        error = RigError(
            f"{self.card.title} has not answered for {self._hang_limit_s:.0f} seconds.",
            safe="It was told to end the load and take its safe setting; every sample is kept.",
            remedy="Look at the machine. Then open it again and go on: this run is repeated.",
        )
        run_id = self._engine.run_id
        if run_id is not None:
            with contextlib.suppress(NienteError):  # an open run is found and closed at the next start
                self.writer.close_run(run_id, RunOutcome.STOPPED, error.happened, 0.0)
        if self.busy:
            self.busy = False
            if self._engine.open_card is not None:
                self._listener(HandCardShown(None))
            self._listener(PlanEnded(False, error.happened, error))

    def _read_book(self, variant: str | None) -> tuple[Project | None, bool]:
        """Return the book's project and whether it says that these cautions were read, having put the rig's card into
        it; refuse a book of another machine."""
        book = BookReader(self.writer.path)
        try:
            known, project = book.card(), book.project()
            wanted = list(cautions_for(self.card))
            read = any(item.body == wanted for item in book.events(kind=READ))
            self.by_hand = by_hand_in([item.body for item in book.events(kind=CONFIRMED)])
        finally:
            book.close()
        if known is not None and (known.name, known.serial) != (self.card.name, self.card.serial):
            raise BookError(
                f"The book {self.writer.path} belongs to {known.title}, number {known.serial}, "
                f"and this is {self.card.title}, number {self.card.serial}.",
                safe="The book is untouched.",
                remedy="Open it with its own rig, or name another book for this one.",
            )
        if variant is not None or (project is not None and project.sheet is not None):
            sheet = (project.sheet if project is not None else None) or self.first_sheet
            if variant is not None:
                sheet = msgspec.structs.replace(sheet, variant=variant)
            self.sheet_problems = problems(sheet, self.own_card)
            if variant is not None and self.sheet_problems:
                raise RigError(
                    f"{self.card.title} refuses its sheet: {'; '.join(self.sheet_problems)}.", remedy="Choose another variant."
                )
            if not self.sheet_problems:
                self.card, self._sheet = self._applied(sheet), sheet
        if known != self.card:
            self.writer.add_document("rig", self.card)
        return project, read
