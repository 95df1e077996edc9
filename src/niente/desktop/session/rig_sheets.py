"""What is said of the machine, as the session holds it: changed undoably, taken from files and written to them."""

from pathlib import Path
from typing import Any, Protocol

import msgspec
from PySide6.QtCore import SignalInstance

from niente.core.acquisition.client import BenchClient
from niente.core.model.errors import NienteError
from niente.core.model.project import Project
from niente.core.model.rig_card import RigCard
from niente.core.model.rig_sheet import RigSheet, applied, read_sheet, sheet_text
from niente.core.selection.answer import Answer
from niente.desktop.services.files import bytes_of, write
from niente.desktop.services.translation import tr
from niente.desktop.session.notices import variant_notice


class RigSheetSession(Protocol):
    """What holds the bench and the project: the session."""

    bench: BenchClient | None
    project: Project | None
    answer: Answer
    notice: SignalInstance

    def busy(self) -> bool:
        """Whether a plan runs."""

    def edit(self, words: str, after: Project) -> None:
        """Change the project, undoably."""

    def report(self, error: NienteError) -> None:
        """Say an error that a person can act on."""


class Sheets:
    """The rig sheet of a session. While a plan runs the machine stays as it is; an undo then waits for the plan's end."""

    def __init__(self, session: RigSheetSession) -> None:
        self._session = session
        self.due = False
        """Whether the bench still has to take the sheet in force."""
        self._on_its_way: RigCard | None = None
        """What the machine is once the bench has taken the sheet that it was given last; it may not have yet."""

    @property
    def now(self) -> RigSheet | None:
        """The person's sheet, or where there is none what the driver says; ``None`` without a rig."""
        bench, project = self._session.bench, self._session.project
        if bench is None:
            return None
        own = project.sheet if project is not None else None
        return own or bench.first_sheet

    def change(self, words: str, sheet: RigSheet, kept: dict[str, Any] | None = None) -> bool:
        """Say something else of the machine, undoably; return whether it could be. ``kept`` is the document it came from."""
        session = self._session
        if session.bench is None or session.project is None:
            return False
        try:
            session.bench.check_sheet(sheet)
        except NienteError as error:
            session.report(error)
            return False
        after = msgspec.structs.replace(session.project, sheet=sheet)
        if kept is not None:
            after = msgspec.structs.replace(after, sheet_kept=kept)
        session.edit(words, after)
        return True

    def take(self, file: Path) -> None:
        """Take what is said of the machine from a file."""
        bench = self._session.bench
        if bench is None:
            return
        try:
            sheet, document = read_sheet(bytes_of(file), file.name, bench.own_card)
        except NienteError as error:
            self._session.report(error)
            return
        self.change(tr("rig sheet from {file}").format(file=file.name), sheet, document)

    def save(self, file: Path) -> None:
        """Write what is said of the machine as JSON."""
        sheet, project = self.now, self._session.project
        if sheet is None or project is None:
            return
        try:
            write(file, sheet_text(sheet, project.sheet_kept), tr("The machine's sheet is unchanged."))
        except NienteError as error:
            self._session.report(error)

    def arrived(self, card: RigCard) -> None:
        """Take in that the machine is another one now: what was on its way may be there. Where something was measured before
        a change, the two can be compared."""
        if card == self._on_its_way:
            self._on_its_way = None
        evidence = self._session.answer.evidence
        if evidence is not None and evidence.runs and evidence.card.variant != card.variant and not self._session.busy():
            self._session.notice.emit(variant_notice(len(evidence.runs), evidence.card.variant, card.variant))

    def put_in_force(self) -> None:
        """Let the bench take the sheet as it is now; while a plan runs, once that is over."""
        bench, sheet = self._session.bench, self.now
        if bench is None or sheet is None:
            return
        wanted = applied(bench.own_card, sheet)
        if wanted == bench.card and self._on_its_way in (None, wanted):  # hands brought it there under a plan
            self.due = False
            return
        try:
            bench.take_sheet(sheet)
            self.due, self._on_its_way = False, wanted
        except NienteError as error:
            self.due = True
            self._session.report(error)
