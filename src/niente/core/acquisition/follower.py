"""Looking on: a book that another Niente writes, read as it grows and told as the bench there would tell it."""

import contextlib
import sqlite3
import threading
from pathlib import Path

from niente.core.model.commands import Command
from niente.core.model.errors import BookError, NienteError
from niente.core.model.frame import Frame
from niente.core.model.plan import Confirmation, Exposure, Plan, Search, Step
from niente.core.model.project import Limits, Project
from niente.core.model.records import FrameTaken, Listener, PlanStarted, RunClosed, RunOpened, StateChanged, WarningRaised
from niente.core.model.rig_card import RigCard
from niente.core.model.rig_sheet import RigSheet, sheet_of
from niente.core.model.runs import RunKind
from niente.core.model.states import BenchState
from niente.core.storage.reader import BookReader, RunRecord

POLL_S = 0.2


class Follower:
    """Reads one book and tells its events. It writes nothing and touches no machine; what would is refused in words."""

    follows = True
    interrupted = None
    pace: float | None = None

    def __init__(self, book: Path, listener: Listener) -> None:
        self.path = book
        self._listener = listener
        self._book = BookReader(book)
        card = self._book.card()
        if card is None:
            self._book.close()
            raise BookError(f"The book {book} has no rig yet.", remedy="Wait until its first run is under way.")
        self.card: RigCard = card
        self.own_card: RigCard = card
        self.first_sheet: RigSheet = sheet_of(card)
        self.project: Project | None = self._book.project()
        self.sheet_problems: list[str] = []
        self.busy = False
        self.cautions_read = True
        self.shown: dict[str, float] = {}
        self._closing = threading.Event()
        self._open: RunRecord | None = None
        self._row = 0
        latest = self._book.last_run_id()
        under_way = any(run.outcome is None for run in self._book.runs(latest))
        self._next = latest if under_way else latest + 1
        """The first run that is still to be told."""
        self._thread = threading.Thread(target=self._live, name="niente-follower", daemon=True)
        self._thread.start()

    # -- what is refused -------------------------------------------------------------------------------------------

    def _refusal(self) -> BookError:
        return BookError(
            f"Another Niente runs {self.card.title} and writes {self.path}; this one only looks on.",
            safe="The run there goes on.",
            remedy="Do it there, or close the book there and open it here again.",
        )

    def start(self, plan: Plan, limits: Limits) -> None:
        """Refused."""
        raise self._refusal()

    def send_command(self, command: Command) -> None:
        """Refused, in words: whoever presses something here must know that it did nothing."""
        self._listener(WarningRaised(str(self._refusal())))

    def stop(self) -> None:
        """Refused, in words."""
        self._listener(WarningRaised(str(self._refusal())))

    def confirm(self, readings: dict[str, float] | None = None) -> None:
        """Refused."""
        raise self._refusal()

    def tick(self, boxes: tuple[int, ...]) -> None:
        """Refused."""
        raise self._refusal()

    def judge(self, *, machine_down: bool) -> None:
        """Refused."""
        raise self._refusal()

    def change_plan(self, plan: Plan) -> None:
        """Do nothing: the plan that runs is another's."""

    def take_sheet(self, sheet: RigSheet) -> None:
        """Refused."""
        raise self._refusal()

    def check_sheet(self, sheet: RigSheet) -> None:
        """Refused."""
        raise self._refusal()

    def unread_cautions(self) -> tuple[str, ...]:
        """Return none: nothing can be started from here."""
        return ()

    def read_cautions(self) -> None:
        """Refused."""
        raise self._refusal()

    def note(self, text: str) -> None:
        """Refused."""
        raise self._refusal()

    def save_project(self, project: Project) -> None:
        """Refused."""
        raise self._refusal()

    def set_pace(self, pace: float | None) -> None:
        """Do nothing: the pace is another's."""

    def close(self, wait_s: float = 10.0) -> None:
        """Look on no more."""
        self._closing.set()
        self._thread.join(wait_s)
        self._book.close()

    # -- the follower's thread ---------------------------------------------------------------------------------------

    def _live(self) -> None:
        while not self._closing.is_set():
            with contextlib.suppress(NienteError, sqlite3.Error):  # a book that is being upgraded or moved: look again
                self._look()
            self._closing.wait(POLL_S)

    def _look(self) -> None:
        """Tell what is new in the book."""
        run = self._open or next((run for run in self._book.runs(self._next) if run.kind == RunKind.STEP), None)
        if run is None:
            return
        if self._open is None:
            self._begin(run)
        self._row, rows = self._book.frames_after(run, self._row)
        for row in rows:
            if self._closing.is_set():
                return
            self._listener(FrameTaken(Frame(float(row[0]), row[1:].copy()), run.id))
        now = self._book.runs(run.id)[0]
        if now.outcome is not None and not rows.shape[0]:
            self._open, self.busy, self._next = None, False, run.id + 1
            self._listener(RunClosed(run.id, run.step, now.outcome, now.reason))
            self._listener(StateChanged(BenchState.IDLE))

    def _begin(self, run: RunRecord) -> None:
        plan = self._book.plans().get(run.plan_id)
        step, total = _step_of(plan, run)
        self._open, self._row, self.busy = run, 0, True
        if plan is not None:
            self._listener(PlanStarted(plan, run.plan_id, run.step))
        self._listener(RunOpened(run.id, run.step, total, step))
        settling = step.exposure.known_to_k is not None
        self._listener(StateChanged(BenchState.SETTLING if settling else BenchState.EXPOSING))


def _step_of(plan: Plan | None, run: RunRecord) -> tuple[Step, int]:
    """Return what a run was made for, as far as its plan says, and how many entries that has."""
    entry = plan.entries[run.step] if plan is not None and run.step < len(plan.entries) else None
    total = len(plan.entries) if plan is not None else run.step + 1
    match entry:
        case Step():
            return entry, total
        case Search():
            return Step(run.setting, run.load, entry.exposure, entry.stage, f"A run of the search {entry.name}"), total
        case Confirmation():
            rule = Exposure(entry.exposure_s, entry.exposure_s)
            return Step(run.setting, run.load, rule, "confirmation", "The pick under the heaviest load"), total
    return Step(run.setting, run.load, Exposure(60.0, 60.0)), total
