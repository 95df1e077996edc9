"""Attaching a rig and a book away from the window's thread."""

import logging
import threading
import traceback
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, Signal

from niente.core.acquisition.client import BenchClient
from niente.core.model.errors import NienteError
from niente.core.model.project import Project

LOG = logging.getLogger(__name__)
Prepare = Callable[[Callable[[str], None], Callable[[Any], None]], tuple[BenchClient, Project | None]]
"""Makes the bench: given what says how far it is, and who hears the bench's events."""


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
        self._handing = threading.Lock()
        self._closed = False

    def open(self, prepare: Prepare, record_arrived: Callable[[Any], None]) -> None:
        """Begin; ``record_arrived`` is given the bench's events."""
        self._cancel.clear()

        def say(text: str) -> None:
            if self._cancel.is_set():
                raise CancelledError
            if text:
                self.progress.emit(text)

        def work() -> None:
            try:
                self._hand_on(*prepare(say, record_arrived))
            except CancelledError:
                self._tell(self.cancelled)
            except NienteError as error:
                self._tell(self.failed, error)
            except Exception:
                report = traceback.format_exc()
                LOG.error("opening a book failed\n%s", report)
                self._tell(self.broke, report)

        self._thread = threading.Thread(target=work, name="niente-opener", daemon=True)
        self._thread.start()

    def _hand_on(self, bench: BenchClient, project: Project | None) -> None:
        """Hand the bench to the window, or let go of it where nobody waits for it any more."""
        with self._handing:
            if not self._cancel.is_set():
                self.ready.emit(bench, project)
                return
        bench.close()
        self._tell(self.cancelled)

    def _tell(self, signal: Any, *words: object) -> None:
        with self._handing:
            if not self._closed:
                signal.emit(*words)

    def cancel(self) -> None:
        """Stop at the next step."""
        self._cancel.set()

    def close(self) -> None:
        """Stop at the next step, and say nothing any more; returns at once."""
        self._cancel.set()
        with self._handing:
            self._closed = True
