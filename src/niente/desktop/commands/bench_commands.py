"""What a person does with the bench's process: leaves it running, asks for command, says what it does if the window is lost."""

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QUrl
from PySide6.QtGui import QDesktopServices
from PySide6.QtWidgets import QWidget

from niente.core.model.commands import Command, WhenLost
from niente.core.model.errors import UntrustedDriverError
from niente.core.storage.log_files import log_folder
from niente.desktop.actions.registry import Actions
from niente.desktop.dialogs import prompts
from niente.desktop.dialogs.prompts import ClosingChoice
from niente.desktop.services.logging_out import logging_out_ends_processes
from niente.desktop.services.preferences import Preferences
from niente.desktop.session.session import Session


class BenchCommands:
    """The commands of one window; ``leave_for`` opens a book in place of the one that is open, without asking."""

    def __init__(
        self, session: Session, over: QWidget, preferences: Preferences, leave_for: Callable[[Path], object] | None
    ) -> None:
        self._session = session
        self._over = over
        self._preferences = preferences
        self._leave_for = leave_for
        self._keep = False
        self.switches: Actions | None = None
        """The window's actions, whose switches show what is chosen."""

    def actions(self) -> dict[str, Callable[[], object]]:
        """Return what each action does."""
        return {
            "run.pause_after": self.pause_after,
            "bench.leave": self.leave,
            "bench.ask": self._session.ask_for_command,
            "bench.hand_over": self._session.hand_over,
            "bench.lost_go_on": lambda: self.set_when_lost(WhenLost.GO_ON),
            "bench.lost_stop": lambda: self.set_when_lost(WhenLost.STOP),
            "book.reopen": self.reopen,
            "help.log": self.show_log,
        }

    def ask_for_trust(self, error: UntrustedDriverError, book: Path | None) -> None:
        """Ask whether the driver that a book names may run, and open the book again where it may."""
        from niente.core.acquisition.attachment import card_and_driver
        from niente.core.acquisition.trusted_drivers import trust

        if book is None or not prompts.whether_driver_may_run(self._over, error):
            return
        _, driver = card_and_driver(book)
        if driver is not None:
            trust(driver.name)
        if self._leave_for is not None:
            self._leave_for(book)

    def show_when_lost(self) -> None:
        """Check the switch that holds."""
        chosen = self._preferences.when_lost
        if self.switches is not None:
            self.switches["bench.lost_go_on"].setChecked(chosen == WhenLost.GO_ON)
            self.switches["bench.lost_stop"].setChecked(chosen == WhenLost.STOP)

    def set_when_lost(self, when_lost: WhenLost) -> None:
        """Say what the bench does if this window ends without a word, now and from the next start on."""
        self._preferences.when_lost = when_lost
        self.show_when_lost()
        if self._session.bench is not None:
            self._session.bench.set_when_lost(when_lost)

    def pause_after(self) -> None:
        """Pause once the run under way is over; a second time: go on after all. The switch shows what the bench has heard."""
        armed = self._session.pauses_after
        self._session.send_command(Command.RESUME if armed else Command.PAUSE_AFTER)
        if self.switches is not None:
            self.switches["run.pause_after"].setChecked(armed)

    def leave(self) -> None:
        """Close the window and let the plan go on."""
        self._keep = True
        self._over.close()

    def may_close(self) -> bool | None:
        """Ask, where a plan of this window's runs, what becomes of it: return whether it goes on; ``None`` to stay."""
        keep, self._keep = self._keep, False
        bench = self._session.bench
        if bench is None or bench.follows or not self._session.busy():
            return False
        if keep:
            return True
        wish = prompts.whether_to_end(self._over, logging_out_ends_processes())
        return None if wish == ClosingChoice.STAY else wish == ClosingChoice.KEEP_RUNNING

    def reopen(self) -> None:
        """Open the book again whose bench is gone."""
        bench = self._session.bench
        if bench is not None and self._leave_for is not None:
            self._leave_for(bench.path)

    def show_log(self) -> None:
        """Show where the log is."""
        log_folder().mkdir(parents=True, exist_ok=True)
        QDesktopServices.openUrl(QUrl.fromLocalFile(str(log_folder())))
