"""The samples of the run under way, in arrays that grow."""

import numpy as np

from niente.core.model.frame import Frame
from niente.core.science.arrays import Array


class Samples:
    """Rig times ``(n,)`` and readings ``(n, channels)``, growing one frame at a time.

    ``room`` is for how many samples there is room from the beginning. It costs no memory before it is used; growing beyond it
    copies everything, and copying a night holds a window up.
    """

    def __init__(self, channels: int, room: int = 512) -> None:
        self._time = np.empty(room)
        self._values = np.empty((room, channels))
        self.count = 0

    def add(self, frame: Frame) -> None:
        """Take one frame in."""
        if self.count == self._time.shape[0]:
            self._grow()
        self._time[self.count] = frame.time_s
        self._values[self.count] = frame.values
        self.count += 1

    def extend(self, time_s: Array, values: Array) -> None:
        """Take samples ``(n,)`` and ``(n, channels)`` in."""
        end = self.count + time_s.shape[0]
        while self._time.shape[0] < end:
            self._grow()
        self._time[self.count : end], self._values[self.count : end] = time_s, values
        self.count = end

    def _grow(self) -> None:
        self._time = np.concatenate([self._time, np.empty_like(self._time)])
        self._values = np.concatenate([self._values, np.empty_like(self._values)])

    def fill(self, time_s: Array, values: Array) -> None:
        """Hold these samples, ``(n,)`` and ``(n, channels)``, and nothing else; the arrays are taken over."""
        self._time, self._values, self.count = time_s, values, time_s.shape[0]

    @property
    def time_s(self) -> Array:
        """Rig times so far."""
        return self._time[: self.count]

    @property
    def values(self) -> Array:
        """Readings so far."""
        return self._values[: self.count]

    @property
    def seconds(self) -> float:
        """How long the run has lasted, in rig seconds."""
        return float(self._time[self.count - 1] - self._time[0]) if self.count else 0.0
