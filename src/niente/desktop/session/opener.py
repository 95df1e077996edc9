"""Attaching a rig and a book away from the window's thread."""

import threading
import traceback
from collections.abc import Callable

from PySide6.QtCore import QObject, Signal

from niente.core.acquisition.client import BenchClient
from niente.core.model.errors import NienteError
from niente.core.model.project import Project
from niente.core.model.records import Record

Prepare = Callable[[Callable[[str], None], Callable[[Record], None]], tuple[BenchClient, Project | None]]
"""Makes the bench: given what says how far it is, and who hears the bench's events."""
PATIENCE_S = 20.0


class CancelledError(Exception):
    """A person cancelled what was being opened."""


class Opener(QObject):
    """Runs one ``Prepare`` in a thread of its own, and says in the window's how it went."""

    ready = Signal(object, object)
    """The bench, and the project where it is another than the book's."""
    failed = Signal(object)
    broke = Signal(str)
    progress = Signal(str)
    cancelled = Signal()

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._thread: threading.Thread | None = None
        self._cancel = threading.Event()

    def open(self, prepare: Prepare, record_arrived: Callable[[Record], None]) -> None:
        """Begin; ``record_arrived`` is given the bench's events."""
        self._cancel.clear()

        def say(text: str) -> None:
            if self._cancel.is_set():
                raise CancelledError
            self.progress.emit(text)

        def work() -> None:
            try:
                self.ready.emit(*prepare(say, record_arrived))
            except CancelledError:
                self.cancelled.emit()
            except NienteError as error:
                self.failed.emit(error)
            except Exception:
                self.broke.emit(traceback.format_exc())

        self._thread = threading.Thread(target=work, name="niente-opener", daemon=True)
        self._thread.start()

    def cancel(self) -> None:
        """Stop at the next step."""
        self._cancel.set()

    def wait(self) -> None:
        """Wait until what is being opened is there, or is not."""
        if self._thread is not None:
            self._thread.join(PATIENCE_S)
