"""The link to one rig: every call is seen by the watchdog, every sample is written and told, a stop is served."""

import math
import threading
import time
from collections.abc import Callable
from typing import TypeVar

from niente.core.acquisition.plan_stop import StopPlan
from niente.core.model.errors import RigError
from niente.core.model.frame import Frame
from niente.core.model.records import FrameTaken, Listener
from niente.core.model.rig_card import RigCard, SetBy
from niente.core.model.runs import RunOutcome
from niente.core.model.setting import Setting
from niente.core.rigs.protocol import Paced, Rig
from niente.core.storage.writer import BookWriter

FRAME_TIMEOUT_S = 0.5
PULSE_S = 0.05
"""Between runs a sample is taken so often."""
SLOW_PACE = 10.0
"""Up to this pace every sample is committed by itself."""

Answer = TypeVar("Answer")


class RigLink:
    """Calls a rig from the engine's thread. Other threads may set ``stop_wanted`` and ``abandoned`` and read the rest."""

    def __init__(self, rig: Rig, writer: BookWriter, listener: Listener, silent_limit_s: float) -> None:
        self.stop_wanted = threading.Event()
        self.closing = threading.Event()
        """Set once the bench is closed: whatever waits for the rig gets out."""
        self.wake = threading.Event()
        """Set once there is something to do for a bench that waits between runs."""
        self.stoppable = False
        """Whether there is anything that a stop would end."""
        self.call_began_s: float | None = None
        """When the call to the rig that is under way began (monotonic seconds); the watchdog reads it."""
        self.abandoned = False
        """Set by the watchdog when a call did not return; the engine then only gets out."""
        self.shown: dict[str, float] = {}
        """What the meters show that hands read, by channel, as far as the rig knows it: a simulated one does."""
        self._by_hand: list[tuple[int, str]] = []
        self._card = rig.describe()
        self.time_s = 0.0
        """The rig's time at its last sample."""
        self.gap_s = 0.0
        """How much of the rig's time lies between its last two samples."""
        self._rig = rig
        self._paced = rig if isinstance(rig, Paced) else None
        self._writer = writer
        self._publish = listener
        self._silent_limit_s = silent_limit_s

    @property
    def card(self) -> RigCard:
        """The rig's card, as the person's sheet has it."""
        return self._card

    @card.setter
    def card(self, card: RigCard) -> None:
        self._card = card
        self._by_hand = [(index, one.name) for index, one in enumerate(card.channels) if one.by == SetBy.HANDS]

    @property
    def pace(self) -> float | None:
        """Rig seconds a wall second; a real rig's are seconds. ``None`` for as fast as it goes."""
        return self._paced.pace if self._paced is not None else 1.0

    def frame(self, run_id: int | None) -> Frame:
        """Wait for a sample, write it, tell it. Raises ``RigError`` where the rig stays silent."""
        silent_since = time.monotonic()
        while True:
            frame = self.call_rig(lambda: self._rig.frame(FRAME_TIMEOUT_S))
            if self.closing.is_set() or (self.stop_wanted.is_set() and self.stoppable):
                raise StopPlan("stopped by the person at the bench", RunOutcome.STOPPED)
            if frame is not None:
                break
            patience = self._silent_limit_s + 2 * self.card.sample_period_s / (self.pace or 1e9)
            if time.monotonic() - silent_since > patience:
                raise RigError(
                    f"{self.card.title} has given no sample for {patience:.0f} seconds.",
                    safe="The load is off as far as the rig can be told; every sample is kept.",
                    remedy="Look at the machine and its connection; then go on, and this run is repeated.",
                )
        frame = self._read_by_cable(frame)
        self.gap_s, self.time_s = frame.time_s - self.time_s, frame.time_s
        if run_id is not None:
            pace = self.pace
            self._writer.add_frame(run_id, frame, at_once=pace is not None and pace <= SLOW_PACE)
        self._publish(FrameTaken(frame, run_id))
        return frame

    def _read_by_cable(self, frame: Frame) -> Frame:
        """Return a sample without what hands read; what a simulated machine's meter shows there is kept for them to see."""
        if not self._by_hand:
            return frame
        values = frame.values.copy()
        for index, name in self._by_hand:
            self.shown[name] = float(values[index])
            values[index] = math.nan
        return Frame(frame.time_s, values, frame.events)

    def pulse(self) -> Frame:
        """Take a sample between runs, at a pace for people, or sooner where ``wake`` is set; nothing is written."""
        frame = self.frame(None)
        self.wake.wait(PULSE_S)
        self.wake.clear()
        return frame

    def apply(self, whole: Setting) -> str | None:
        """Put a setting in force; return in words what is left for hands."""
        return self.call_rig(lambda: self._rig.apply(whole))

    def start(self, load: str) -> None:
        """Start a load."""
        self.call_rig(lambda: self._rig.start(load))

    def stop(self) -> None:
        """End the load."""
        self.call_rig(self._rig.stop)

    def make_safe(self) -> None:
        """Load off, safe setting back; never raises."""
        self._rig.make_safe()

    def call_rig(self, call: Callable[[], Answer]) -> Answer:
        """Call the rig, so that the watchdog sees for how long; get out where it has lost patience meanwhile."""
        self.call_began_s = time.monotonic()
        try:
            return call()
        finally:
            self.call_began_s = None
            if self.abandoned:
                raise StopPlan("the rig did not answer", RunOutcome.STOPPED)
