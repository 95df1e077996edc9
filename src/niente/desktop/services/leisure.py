"""Figures are shown as often as they can be read, however often samples come."""

from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer

READING_MS = 250


class Leisure(QObject):
    """Does a piece of work at once, and then no more often than can be read; what came meanwhile is done at the end of it."""

    def __init__(self, work: Callable[[], object], parent: QObject) -> None:
        super().__init__(parent)
        self._work = work
        self._due = False
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(READING_MS)
        self._rest.timeout.connect(self._rested)

    def soon(self) -> None:
        """Do it, now or within the time that it takes to read."""
        if self._rest.isActive():
            self._due = True
            return
        self._rest.start()
        self._work()

    def _rested(self) -> None:
        if self._due:
            self._due = False
            self.soon()
