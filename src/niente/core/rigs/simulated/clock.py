"""The clock of a simulated rig: rig seconds go by at a pace that can be changed while it runs."""

import threading
import time

PACES = (1.0, 10.0, 60.0, 600.0, None)
"""The paces a person can choose from; ``None`` is as fast as it goes."""


class PacedClock:
    """Turns rig seconds into waiting. Thread safe in ``set_pace``."""

    def __init__(self, pace: float | None) -> None:
        self._pace = pace
        self._changed = threading.Condition()
        self._due = time.monotonic()

    @property
    def pace(self) -> float | None:
        """Rig seconds a wall second; ``None`` for as fast as it goes."""
        return self._pace

    def set_pace(self, pace: float | None) -> None:
        """Change the pace at once, waking a wait that is under way."""
        with self._changed:
            self._pace = pace
            self._due = time.monotonic()
            self._changed.notify_all()

    def wait(self, rig_seconds: float, timeout_s: float) -> bool:
        """Wait until ``rig_seconds`` have gone by since the last sample; ``False`` where the timeout came first."""
        if self._pace is None:
            return True
        deadline = time.monotonic() + timeout_s
        with self._changed:
            while True:
                pace, now = self._pace, time.monotonic()
                if pace is None:
                    break
                next_due = max(self._due + rig_seconds / pace, now - 0.2)  # a slow reader is not made to catch up
                if now >= next_due:
                    self._due = next_due
                    break
                if now >= deadline:
                    return False
                self._changed.wait(min(next_due, deadline) - now)
        return True
