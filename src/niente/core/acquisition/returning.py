"""A machine that went down comes back: how long that may take, and when it is there again."""

import math
import time

from niente.core.model.errors import MachineAwayError, RigError
from niente.core.model.frame import Frame
from niente.core.model.quantities import duration_text
from niente.core.model.rig_card import RigCard

NEWS_S = 5.0
"""Coming back sooner than that is no news."""


class Return:
    """Waits for one machine. Seconds are the rig's own: the computer's, times the pace of a simulated machine."""

    def __init__(self, card: RigCard, pace: float | None) -> None:
        self.limit_s = card.restart_limit_s
        self._card = card
        self._pace = pace or math.inf
        self._cores = card.indices("core_temperature_c")
        self._since = time.monotonic()

    @property
    def seconds(self) -> float:
        """How long it has been away; of a simulated machine at full speed, whose time stands still meanwhile, 0."""
        return 0.0 if math.isinf(self._pace) else (time.monotonic() - self._since) * self._pace

    @property
    def patience_s(self) -> float:
        """How long a call to the machine may take meanwhile, in the computer's own seconds."""
        return self.limit_s / min(self._pace, 1.0)

    def is_over(self, frame: Frame) -> bool:
        """Return whether a sample shows the machine up again: in the first ones its sensors may give nothing yet."""
        return all(not math.isnan(frame.values[core]) for core in self._cores)

    def insist(self) -> None:
        """Raise ``MachineAwayError`` where it has taken too long."""
        if self.seconds > self.limit_s:
            raise MachineAwayError(
                f"{self._card.title} went down and has not come back within {duration_text(self.limit_s)}.",
                safe="Its load ended as it went down; every sample is kept.",
                remedy="Look at the machine. Once it is up again, go on: the plan continues with its next run.",
            )

    def words(self) -> str:
        """Return that it is back, in words; nothing where that is no news."""
        if self.seconds < NEWS_S:
            return ""
        return f"{self._card.title} is back after {duration_text(self.seconds)}. Its setting is put in force again."


def gone_for_good(error: MachineAwayError) -> RigError:
    """Return the error of a machine that is not waited for, or not any more: no run is made again after it."""
    return RigError(error.happened, safe=error.safe, remedy=error.remedy)
