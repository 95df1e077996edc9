"""Turns of the event loop, shared out: what is due is done one piece a turn, with a turn for painting in between."""

from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer


class Turns(QObject):
    """Pieces of work that wait for a turn of their own, in the order in which they came; each name waits once.

    Timers that expire while a window paints would all be served in the next turn, one after the other, and hold it up for the
    sum of them.
    """

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._due: dict[str, Callable[[], object]] = {}
        self._painting = self._stopped = False
        self._turn = QTimer(self)
        self._turn.setSingleShot(True)
        self._turn.setInterval(0)
        self._turn.timeout.connect(self._next)

    def later(self, name: str, work: Callable[[], object]) -> None:
        """Do a piece of work in a turn to come; where one of this name waits already, that one is enough."""
        if self._stopped:
            return
        self._due.setdefault(name, work)
        if not self._turn.isActive():
            self._turn.start()

    def stop(self) -> None:
        """Do nothing more, whatever comes."""
        self._stopped = True
        self._turn.stop()
        self._due.clear()

    def _next(self) -> None:
        if self._painting:  # what the last piece changed was painted in this turn
            self._painting = False
            if self._due:
                self._turn.start()
            return
        name = next(iter(self._due))
        work = self._due.pop(name)
        self._painting = True
        self._turn.start()
        work()
