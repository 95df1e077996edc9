"""A clock of our own beside the rig's: a rig whose time creeps must not keep a guard waiting."""

import time

MAX_PERIODS = 2.0
"""From one sample to the next no more than so many sample periods count: a computer that was busy has not heated a machine."""


class OwnClock:
    """Counts the seconds between samples as this computer sees them, in the rig's own measure."""

    def __init__(self) -> None:
        self._seconds = 0.0
        self._last: float | None = None

    def at(self, rig_time_s: float, pace: float | None, sample_period_s: float) -> float:
        """Return the time of a sample that comes now. A simulated machine at full speed has only its own time."""
        if pace is None:
            self._last = None
            return rig_time_s
        now = time.monotonic()
        if self._last is not None:
            self._seconds += min((now - self._last) * pace, MAX_PERIODS * sample_period_s)
        self._last = now
        return self._seconds

    def restart(self) -> None:
        """Leave out what went by while nobody sampled."""
        self._last = None
