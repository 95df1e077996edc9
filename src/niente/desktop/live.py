"""What the session holds while things happen: notices, notes, the run under way, how a plan ended."""

import msgspec
import numpy as np

from niente.core.bench.events import RunClosed, RunOpened
from niente.core.bench.samples import Samples
from niente.core.science.exponentials import TimeConstant
from niente.core.science.settling import Settled, seconds_until_known

GO_ON = "Go on"


class Notice(msgspec.Struct, frozen=True):
    """Something for the message bar: what happened, what is safe, what to do; and an action, where one helps.

    ``label`` is what the action is called here, where its own name does not fit.
    """

    text: str
    action: str = ""
    label: str = ""


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
        self.known_in_s = min(max(ahead, rule.least_s - gone), max(rule.most_s - gone, 0.0)) if ahead == ahead else ahead


class Note(msgspec.Struct, frozen=True):
    """A note made at a moment of the rig's time."""

    number: int
    rig_time_s: float
    text: str


class Ending(msgspec.Struct, frozen=True):
    """How a plan ended: whether to the end, in a few words, and whether somebody should come."""

    title: str
    text: str
    urgent: bool
