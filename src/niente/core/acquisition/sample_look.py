"""What each sample shows, and what is done about it: load first, then the record."""

import logging
import time

from niente.core.acquisition.hand_readings import HandReadings
from niente.core.acquisition.own_clock import OwnClock
from niente.core.acquisition.record_stream import RecordStream
from niente.core.acquisition.returning import Return
from niente.core.acquisition.safe_setting import SafeSetting
from niente.core.acquisition.watching import Interruption, Watch, shut_down
from niente.core.analysis.evidence import FAILURES
from niente.core.model.errors import MachineAwayError, RigError
from niente.core.model.frame import Frame, RigEvent, RigEventKind
from niente.core.model.plan import GuardAction
from niente.core.model.records import FrameTaken, GuardTripped, RigEventSeen, SampleGap, WarningRaised
from niente.core.model.rig_card import RigCard
from niente.core.rigs.checked_rig import CheckedRig

GAP_S = 10.0
"""A run whose samples are further apart is not the run that was wanted."""
AWAY_S = 0.005
"""A machine that starts again is left alone for so long between two looks: its driver may answer at once."""
LAST_LOOK_S = 3.0
"""Before a rig is let go of it is looked at for so long."""
LOG = logging.getLogger(__name__)


class SampleLook:
    """Looks at the samples of one rig, in the thread that takes them."""

    def __init__(self, rig: CheckedRig, stream: RecordStream, silent_limit_s: float) -> None:
        self.card: RigCard
        """The rig's card, as the person's sheet has it; the sampler sets it."""
        self.hands = HandReadings()
        self.safe = SafeSetting(rig, stream.publish)
        self.back: Return | None = None
        """What waits for a machine that went down; ``None`` while it is up."""
        self.time_s = 0.0
        """The rig's time at its last sample."""
        self._rig = rig
        self._publish = stream.publish
        self._own = OwnClock()
        self._silent_limit_s = silent_limit_s
        self._silent_since: float | None = None

    def take_in(self, frame: Frame) -> tuple[Frame, float, float]:
        """Return a sample without what hands read, how long after the last one it came by the rig's clock, and when by ours."""
        self._silent_since = None
        frame = self.hands.read_by_cable(frame)
        gap_s, self.time_s = frame.time_s - self.time_s, frame.time_s
        return frame, gap_s, self._own.at(frame.time_s, self._rig.pace, self.card.sample_period_s)

    def at_idle(self, frame: Frame) -> None:
        """Record a sample that nothing is held against, and see that the machine is idle."""
        if self.back is None:
            self.safe.look(frame, self.card)
        self._publish(FrameTaken(frame, None))
        self._tell(frame, None)

    def under(self, watch: Watch, frame: Frame, gap_s: float, own_s: float) -> Interruption | None:
        """Act on what a sample shows under a watch; then record the sample and what it showed."""
        failure = next((event for event in frame.events if event.kind in FAILURES), None)
        gap = gap_s if watch.begun and gap_s > max(GAP_S, 5.0 * self.card.sample_period_s) else None
        trip = watch.guards.look(frame, watch.setting, own_s)
        self.safe.saw(frame, self.card, watch.load)
        ends = watch.acts and trip is not None and trip.action != GuardAction.WARN
        failed: RigError | None = None
        if ends:
            self.safe.restore()
        elif failure is not None and failure.kind == RigEventKind.CRASH:
            self.goes_away()
        elif failure is not None or (gap is not None and watch.run_id is not None):
            failed = self._end_of_load()
        elif not watch.load:
            self.safe.look(frame, self.card)
        self._publish(FrameTaken(frame, watch.run_id))
        self._tell(frame, watch.run_id)
        if failed is not None:
            raise failed
        if watch.run_id is not None and gap is not None:
            self._publish(SampleGap(watch.run_id, frame.time_s, gap))
            return Interruption(gap_s=gap)
        if failure is not None:
            return Interruption(failure=failure, error=shut_down(failure))
        if trip is None or not watch.acts:
            return None
        self._publish(GuardTripped(watch.run_id, frame.time_s, trip.action, trip.reason))
        if not ends:
            self._publish(WarningRaised(trip.reason))
            return None
        return Interruption(trip=trip)

    def heard_nothing(self, watch: Watch | None) -> None:
        """Take in that no sample came. Raises ``RigError`` where that went on for too long under a watch; of an idle rig it is
        no news, and one that starts again is waited for."""
        now = time.monotonic()
        if self.back is not None:
            self.back.insist()
            time.sleep(AWAY_S)
        if watch is None or self.back is not None:
            self._silent_since = None
            return
        self._silent_since = self._silent_since or now
        patience = self._silent_limit_s + 2 * self.card.sample_period_s / (self._rig.pace or 1e9)
        if now - self._silent_since > patience:
            self._silent_since = None
            raise RigError(
                f"{self.card.title} has given no sample for {patience:.0f} seconds.",
                safe="The load is off as far as the rig can be told; every sample is kept.",
                remedy="Look at the machine and its connection; then go on, and this run is repeated.",
            )

    def see_it_safe(self) -> None:
        """Look at a few samples more, where a load was just ended: that it has is seen before the machine is let go of."""
        until = time.monotonic() + LAST_LOOK_S
        try:
            while self.safe.is_open and time.monotonic() < until:
                frame = self._rig.frame(LAST_LOOK_S / 6.0)
                if frame is not None:
                    self.safe.look(frame, self.card)
        except RigError as error:
            LOG.warning("the last samples could not be taken: %s", error)
        self.safe.close()

    def end_load(self) -> None:
        """End the load; where the driver fails in that, in the harder way."""
        try:
            self._rig.stop()
        except MachineAwayError:
            raise
        except RigError:
            self.safe.restore()
            raise

    def _end_of_load(self) -> RigError | None:
        """End the load; return what went wrong: the sample that showed why is recorded first."""
        try:
            self.end_load()
        except RigError as error:
            return error
        return None

    # -- a machine that went down ------------------------------------------------------------------------------

    def goes_away(self) -> None:
        """The machine went down, and its load with it: wait for it. A driver that can still end the load may do so."""
        if self.back is None and self.card.restart_limit_s > 0.0:
            self.back = Return(self.card, self._rig.pace)
        try:
            self._rig.stop()
        except RigError as error:
            LOG.info("the machine went down: %s", error)

    def is_away_at(self, frame: Frame) -> bool:
        """Return whether a machine that went down is still away at a sample. Once it is up it gets its safe setting, which it
        may have lost. Raises ``MachineAwayError`` where it has taken too long."""
        if self.back is None:
            return False
        if not self.back.is_over(frame):
            self.back.insist()
            return True
        words, self.back = self.back.words(), None
        self._own.restart()
        self.safe.restore()
        if words:
            self._publish(WarningRaised(words))
        return False

    def heard_away(self, watch: Watch | None, error: MachineAwayError) -> Interruption | None:
        """Take in that the driver says that the machine is away. Under a load it went down in that, which is a failure of the
        run. Raises ``MachineAwayError`` where it has been away for too long, or does not come back by itself."""
        if self.back is not None:
            self.back.insist()
            return None
        self.goes_away()
        if self.back is None:
            raise error
        if watch is None:
            return None
        failure = RigEvent(RigEventKind.CRASH, error.happened)
        self._publish(RigEventSeen(watch.run_id, self.time_s, failure))
        return Interruption(failure=failure)

    def _tell(self, frame: Frame, run_id: int | None) -> None:
        for event in frame.events:
            self._publish(RigEventSeen(run_id, frame.time_s, event))
