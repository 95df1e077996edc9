"""Garbage collection in the window's thread alone, in short slices.

Python collects cycles in whichever thread happens to allocate; the bench's would then destroy widgets and timers that
belong to the window's.
"""

import gc

from PySide6.QtCore import QObject, QTimer

HELPING_MS = 500
FULL_EVERY = 60
"""Helpings between two full collections: half a minute."""


class GarbageCollection(QObject):
    """Takes Python's automatic collection over, from now until ``release``."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._helpings = 0
        gc.disable()
        self._timer = QTimer(self)
        self._timer.timeout.connect(self._collect)
        self._timer.start(HELPING_MS)

    def settle(self) -> None:
        """Set aside what is there for good (modules, pages), so that no later collection looks through it again."""
        gc.collect()
        gc.freeze()

    def release(self) -> None:
        """Give the collection back to Python."""
        self._timer.stop()
        gc.unfreeze()
        gc.enable()

    def _collect(self) -> None:
        self._helpings += 1
        gc.collect(2 if self._helpings % FULL_EVERY == 0 else 1)
