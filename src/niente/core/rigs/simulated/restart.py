"""A simulated machine that went down and starts again: away for a while, then up with sensors that wake one after the other."""

import math

from niente.core.model.errors import MachineAwayError
from niente.core.rigs.simulated.lookahead import Life
from niente.core.science.arrays import Vector

WAKING_SAMPLES = 3
"""The first samples after a restart have no temperatures yet."""


class Restart:
    """Whether one machine is there. Times are the rig's own."""

    def __init__(self, title: str, seconds: float) -> None:
        self.seconds = seconds
        self._title = title
        self._until_s = -math.inf
        self._waking = 0

    def begin(self, time_s: float) -> None:
        """The machine goes down now."""
        if self.seconds > 0.0:
            self._until_s, self._waking = time_s + self.seconds, WAKING_SAMPLES

    def is_away(self, time_s: float) -> bool:
        """Return whether the machine cannot be reached."""
        return time_s < self._until_s

    def insist(self, time_s: float) -> None:
        """Raise ``MachineAwayError`` while the machine cannot be reached."""
        if self.is_away(time_s):
            raise MachineAwayError(
                f"{self._title} is starting again.",
                safe="Its load ended as it went down.",
                remedy="Wait for it.",
            )

    def pass_by(self, life: Life) -> None:
        """Let what is left of the time go by at once."""
        while self.is_away(life.time_s):
            life.second()

    def wake(self, values: Vector, temperatures: list[int]) -> Vector:
        """Return a sample as the machine gives it: without temperatures while its sensors wake."""
        if self._waking:
            self._waking -= 1
            values = values.copy()
            values[temperatures] = math.nan
        return values
