"""What a person does with files as a whole: opens a book, takes whatever a file says it is, finds a recent book again."""

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QMenu, QWidget

from niente.desktop.commands.plan_commands import PlanCommands
from niente.desktop.commands.rig_commands import Make
from niente.desktop.dialogs import prompts
from niente.desktop.services.files import is_question, is_sheet
from niente.desktop.services.plain_text import plain
from niente.desktop.services.preferences import Preferences
from niente.desktop.services.translation import tr
from niente.desktop.session.session import Session

BOOK, JSON = ".niente", ".json"
Leave = Callable[..., None]
"""Leaves the book that is open for another one, if the person lets it: called with the other, and how it is made."""


class FileCommands:
    """The commands of one window; ``leave`` opens another book in place of this one, once that may be."""

    def __init__(self, session: Session, over: QWidget, preferences: Preferences, plans: PlanCommands, leave: Leave) -> None:
        self._session = session
        self._over = over
        self._preferences = preferences
        self._plans = plans
        self._leave = leave
        self.recent = QMenu(tr("Open recent"), over)
        self.recent.aboutToShow.connect(self.list_recent)

    def open_dialog(self) -> None:
        """Ask for a book, and open it."""
        book = prompts.for_book(self._over)
        if book is not None:
            self.open(book)

    def open(self, file: Path) -> None:
        """Open a book in place of this one, or take a plan, a question or a rig sheet; whatever the file says it is."""
        if file.suffix != JSON:
            self._leave(file)
        elif is_sheet(file):
            self._session.sheets.take(file)
        elif is_question(file):
            self._plans.take_question(file)
        else:
            self._plans.take_plan(file)

    def open_made(self, book: Path, make: Make) -> None:
        """Make a book and open it in place of this one."""
        self._leave(book, make)

    def list_recent(self) -> None:
        """List the books opened lately, this one left out."""
        self.recent.clear()
        bench = self._session.bench
        own = bench.path.resolve() if bench is not None else None
        books = [book for book in self._preferences.books() if book != own]
        for book in books:
            entry = self.recent.addAction(book.stem)
            entry.setToolTip(plain(str(book)))
            entry.triggered.connect(lambda _=False, book=book: self.open(book))
        if not books:
            self.recent.addAction(tr("No other book yet")).setEnabled(False)

    def drop(self, event: QDropEvent) -> None:
        """Open what was dropped, once the drop is over."""
        file = dropped_file(event)
        if file is not None:
            event.acceptProposedAction()
            QTimer.singleShot(0, lambda: self.open(file))


def dropped_file(event: QDropEvent) -> Path | None:
    """Return the one file that is dragged, if it is one that can be opened."""
    urls = event.mimeData().urls()
    if len(urls) != 1 or not urls[0].isLocalFile():
        return None
    file = Path(urls[0].toLocalFile())
    return file if file.suffix in (BOOK, JSON) else None
