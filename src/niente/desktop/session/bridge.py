"""The stair between the floors: events of the bench's thread arrive here, and leave in the window's."""

import time
from collections import deque

from PySide6.QtCore import QObject, QTimer, Signal

from niente.core.acquisition.client import Heard
from niente.desktop.services.turns import Turns

REPAINT_MS = 33
MAX_WAITING = 2_000
"""Records that wait; whoever outruns the window further waits a little."""
BACK_PRESSURE_S = 0.005


class Bridge(QObject):
    """Collects events from any thread and hands them over, all at once, about thirty times a second.

    Sampling and repainting are so decoupled: a run at full speed makes longer lists, not more repaints.
    """

    arrived = Signal(list)

    def __init__(self, turns: Turns, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._waiting: deque[Heard] = deque()
        self._timer = QTimer(self)
        self._timer.setInterval(REPAINT_MS)
        self._timer.timeout.connect(lambda: turns.later("records", self.hand_over))
        self._timer.start()

    def push(self, event: Heard) -> None:
        """Take an event in; from any thread but the window's. Whoever outruns the window waits a little here."""
        self._waiting.append(event)
        if len(self._waiting) > MAX_WAITING:
            time.sleep(BACK_PRESSURE_S)

    def hand_over(self) -> None:
        """Hand over what has come, in order."""
        events = []
        while self._waiting:
            events.append(self._waiting.popleft())
        if events:
            self.arrived.emit(events)

    def stop(self) -> None:
        """Hand nothing over any more."""
        self._timer.stop()
        self._waiting.clear()
