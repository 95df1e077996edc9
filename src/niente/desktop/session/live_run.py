"""The run under way, as the window follows it, and the notes made in it."""

import msgspec
import numpy as np

from niente.core.acquisition.samples import Samples
from niente.core.model.records import RunClosed, RunOpened
from niente.core.science.exponentials import TimeConstant
from niente.core.science.settling import Settled, seconds_until_known


class LiveRun(msgspec.Struct):
    """The run under way, as the window follows it. ``forecasts`` are (rig time, value, half width).

    ``known_in_s`` says in how much of the rig's time it will be known well enough; ``None`` where that is not asked,
    NaN where it cannot be foreseen. ``constants`` are the time constants it taught, once it is over.
    """

    opened: RunOpened
    samples: Samples
    forecasts: list[tuple[float, float, float]]
    closed: RunClosed | None = None
    known_in_s: float | None = None
    constants: tuple[TimeConstant, ...] = ()

    def forecast(self, time_s: float, settled: Settled) -> None:
        """Take a forecast in, and look ahead."""
        self.forecasts.append((time_s, settled.value_c, settled.half_width_k))
        rule = self.opened.step.exposure
        if rule.known_to_k is None or not self.samples.count:
            return
        at = np.array(self.forecasts)
        ahead = seconds_until_known(at[:, 0], at[:, 2], rule.known_to_k)
        gone = time_s - float(self.samples.time_s[0])
        self.known_in_s = min(max(ahead, rule.min_s - gone), max(rule.max_s - gone, 0.0)) if ahead == ahead else ahead


class ShownNote(msgspec.Struct, frozen=True):
    """A note made at a moment of the rig's time."""

    number: int
    rig_time_s: float
    text: str
