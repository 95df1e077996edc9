"""Looking on: a book that another Niente writes, read as it grows and told as the bench there would tell it."""

import contextlib
import sqlite3
import threading
from pathlib import Path

from niente.core.model.commands import Command, WhenLost
from niente.core.model.errors import BookError, NienteError
from niente.core.model.limits import Limits
from niente.core.model.plan import Plan
from niente.core.model.project import Project
from niente.core.model.records import (
    BenchFailed,
    BenchStarted,
    Listener,
    PlanEnded,
    PlanStarted,
    ProjectSaved,
    Record,
    RigCardChanged,
    SettingStays,
    WarningRaised,
)
from niente.core.model.rig_card import RigCard
from niente.core.model.rig_sheet import RigSheet, sheet_of
from niente.core.model.setting import Setting
from niente.core.storage.reader import BookReader
from niente.core.storage.record_reader import RecordReader

POLL_S = 0.2


class Follower:
    """Reads one book and tells its events. It writes nothing and touches no machine; what would is refused in words."""

    follows = True
    lost = False
    history = None
    interrupted = None
    pace: float | None = None
    stays: Setting | None = None

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
        self._record = RecordReader(self._book)
        self._thread = threading.Thread(target=self._live, name="niente-follower", daemon=True)
        self._thread.start()

    # -- what is refused -------------------------------------------------------------------------------------------

    def _refusal(self) -> BookError:
        return BookError(
            f"Another Niente runs {self.card.title} and writes {self.path}; this one is view-only.",
            safe="The run there goes on.",
            remedy="Do it there, or close the book there and open it here again.",
        )

    def start(self, plan: Plan, limits: Limits) -> None:
        """Refused."""
        raise self._refusal()

    def put_in_force(self, setting: Setting) -> None:
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

    def set_when_lost(self, when_lost: WhenLost) -> None:
        """Do nothing: no bench hears this."""

    def ask_for_command(self) -> None:
        """Refused, in words: the bench there cannot be reached from here."""
        self._listener(WarningRaised(str(self._refusal())))

    def hand_over(self) -> None:
        """Do nothing: there is no command to hand over."""

    def leave(self) -> None:
        """Look on no more."""
        self.close()

    def close(self, wait_s: float = 10.0) -> None:
        """Look on no more."""
        self._closing.set()
        self._thread.join(wait_s)
        self._book.close()

    # -- the follower's thread ---------------------------------------------------------------------------------------

    def _live(self) -> None:
        while not self._closing.is_set():
            with contextlib.suppress(NienteError, sqlite3.Error):  # a book that is being upgraded or moved: look again
                for record in self._record.read():
                    if self._closing.is_set():
                        return
                    self._note(record)
                    self._listener(record)
            self._closing.wait(POLL_S)

    def _note(self, record: Record) -> None:
        """Keep what is asked for between records."""
        match record:
            case PlanStarted():
                self.busy = True
            case PlanEnded() | BenchFailed() | BenchStarted():
                self.busy = False
            case RigCardChanged(card):
                self.card = card
            case ProjectSaved(project):
                self.project = project
            case SettingStays(setting):
                self.stays = setting
            case _:
                return
