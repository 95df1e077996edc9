"""The sampler: the one thread that calls a rig. It takes samples, lets guards look at each, and records them; nothing else."""

import logging
import math
import threading
import time
from collections import deque
from collections.abc import Callable
from concurrent.futures import CancelledError, Future
from typing import Any, TypeVar

from niente.core.acquisition.guards.guard_set import GuardSet
from niente.core.acquisition.plan_stop import StopPlan
from niente.core.acquisition.record_stream import RecordStream
from niente.core.acquisition.watching import BY_PERSON, Batch, Interruption, Watch, got_out, shut_down
from niente.core.analysis.evidence import FAILURES
from niente.core.model.errors import RigError
from niente.core.model.frame import Frame
from niente.core.model.plan import GuardAction
from niente.core.model.records import FrameTaken, GuardTripped, RigEventSeen, SampleGap, WarningRaised
from niente.core.model.rig_card import RigCard, SetBy
from niente.core.model.runs import RunOutcome
from niente.core.model.setting import Setting
from niente.core.rigs.protocol import Paced, Rig

FRAME_TIMEOUT_S = 0.5
IDLE_S = 0.05
"""While nobody waits for samples one is taken so often."""
BEAT_S = 0.1
"""The watchdog hears of the sampler at least so often while it waits."""
SILENT_IDLE_S = 1.0
"""An idle rig that fails to give a sample is heard again after so long."""
GAP_S = 10.0
"""A run whose samples are further apart is not the run that was wanted."""
Answer = TypeVar("Answer")
LOG = logging.getLogger(__name__)


class Sampler:
    """Owns a rig, in a thread of its own.

    While a watch is set, samples come as the rig gives them, and guards see each, whatever is decided or fitted meanwhile. A
    simulated machine at full speed has no time of its own: there a sample is taken only once somebody waits for it, so that
    nothing depends on how fast the computer decides. Without a watch the machine is idle, and is looked at now and then.
    """

    def __init__(self, rig: Rig, stream: RecordStream, silent_limit_s: float) -> None:
        self.stoppable = False
        """Whether there is anything that a stop would end."""
        self.abandoned = False
        """Set by the watchdog when the rig did not answer; everybody then only gets out."""
        self.beat_s = time.monotonic()
        """When the thread was last heard of (monotonic seconds); the watchdog reads it."""
        self.shown: dict[str, float] = {}
        """What the meters show that hands read, by channel, as far as the rig knows it: a simulated one does."""
        self.time_s = 0.0
        """The rig's time at its last sample."""
        self._rig = rig
        self._paced = rig if isinstance(rig, Paced) else None
        self._stream = stream
        self._silent_limit_s = silent_limit_s
        self._silent_since: float | None = None
        self._by_hand: list[tuple[int, str]] = []
        self._card = rig.describe()
        self._turn = threading.RLock()
        """Held while a sample is looked at and recorded: what it belongs to does not change meanwhile."""
        self._change = threading.Condition(threading.RLock())
        """Held for moments only, since whoever hears of a record may give a command."""
        self._calls: deque[tuple[Callable[[], Any], Future[Any]]] = deque()
        self._watch: Watch | None = None
        self._frames: deque[Frame] = deque()
        self._interruption: Interruption | None = None
        self._wanted, self._until_s = 0, math.inf
        self._attention = False
        self._stopping, self._stop_words = False, BY_PERSON
        self._closing = False
        self._last_error = ""
        self._thread = threading.Thread(target=self._serve, name="niente-sampler", daemon=True)

    # -- from any thread ---------------------------------------------------------------------------------------

    def start_thread(self) -> None:
        """Begin to sample."""
        self._thread.start()

    @property
    def alive(self) -> bool:
        """Whether the thread runs."""
        return self._thread.is_alive()

    @property
    def card(self) -> RigCard:
        """The rig's card, as the person's sheet has it."""
        return self._card

    @card.setter
    def card(self, card: RigCard) -> None:
        with self._change:
            self._card = card
            self._by_hand = [(index, one.name) for index, one in enumerate(card.channels) if one.by == SetBy.HANDS]

    @property
    def pace(self) -> float | None:
        """Rig seconds a wall second; a real rig's are seconds. ``None`` for as fast as it goes."""
        return self._paced.pace if self._paced is not None else 1.0

    def set_pace(self, pace: float | None) -> None:
        """Change the pace of a simulated rig; a real one has none."""
        if self._paced is not None:
            self._paced.set_pace(pace)
            self.attract()

    def attract(self) -> None:
        """Have whoever waits for samples look up: there is a command."""
        with self._change:
            self._attention = True
            self._change.notify_all()

    def stop_plan(self, words: str = BY_PERSON) -> None:
        """End what runs: the load goes off with the next turn, whatever is being decided; ``advance`` then says so."""
        with self._change:
            self._stopping, self._stop_words = True, words
            self._change.notify_all()

    @property
    def stops(self) -> bool:
        """Whether a stop was wanted that nothing ended by yet."""
        return self._stopping

    def forget_stop(self) -> None:
        """Forget a stop, and whatever else ended sampling, that came after the last plan's end: it is not for the next one."""
        with self._change:
            self._stopping, self._interruption = False, None

    def abandon(self) -> None:
        """Give the rig up: whoever waits for it gets out. Called by the watchdog; takes no lock, since the thread that
        hangs may hold it."""
        self.abandoned = True
        while self._calls:
            self._calls.popleft()[1].cancel()

    def end(self, wait_s: float) -> None:
        """End the thread, which makes the rig safe and lets go of it."""
        with self._change:
            self._closing = True
            self._change.notify_all()
        if self._thread.is_alive() and threading.current_thread() is not self._thread:
            self._thread.join(wait_s)

    # -- from the engine's thread ------------------------------------------------------------------------------

    def call(self, work: Callable[[], Answer]) -> Answer:
        """Have the sampler's thread do something between two samples, and return what it returned. Raises what it raised,
        and ``StopPlan`` where the rig was given up or the bench is closing meanwhile."""
        answer: Future[Answer] = Future()
        with self._change:
            if self.abandoned or self._closing:
                raise got_out(self.abandoned, self._stop_words)
            self._calls.append((work, answer))
            self._change.notify_all()
        while True:
            try:
                return answer.result(BEAT_S)
            except TimeoutError:
                if answer.done():
                    raise  # it was the work that timed out
                if self.abandoned or not self._thread.is_alive():
                    raise got_out(self.abandoned, self._stop_words) from None
            except CancelledError:
                raise got_out(self.abandoned, self._stop_words) from None

    def apply(self, whole: Setting) -> str | None:
        """Put a setting in force; return in words what is left for hands."""

        def work() -> str | None:
            if self._watch is not None:
                self._watch.setting = whole
            return self._rig.apply(whole)

        return self.call(work)

    def begin(self, run_id: int, load: str, setting: Setting, guards: GuardSet) -> None:
        """Start a load and watch it, both between the same two samples: no load is on that nobody looks at. Where something
        ended sampling since the last run, nothing is started; ``advance`` says what it was."""

        def work() -> None:
            if self._interruption is None:
                self._rig.start(load)
                self.watch(run_id, setting, guards)

        self.call(work)

    def stop(self) -> None:
        """End the load."""
        self.call(lambda: self._rig.stop())

    def make_safe(self) -> None:
        """Load off, safe setting back, idle from here on; never raises."""
        self._rig.make_safe()
        self.idle()

    def idle(self) -> None:
        """Hold samples against nothing any more."""
        with self._turn, self._change:
            self._watch = None
            self._frames.clear()
            self._change.notify_all()

    def watch(self, run_id: int | None, setting: Setting, guards: GuardSet, *, fresh: bool = True, acts: bool = True) -> None:
        """Write samples to a run from here on (``None``: to none) and hold them against guards.

        ``fresh``: what stood under the last load does not count against this one. What ended sampling between two runs
        stays for the next ``advance``.
        """
        with self._turn, self._change:
            if fresh:
                guards.begin()
            self._watch = Watch(run_id, setting, guards, acts)
            self._frames.clear()
            self._change.notify_all()

    def advance(self, frames: int, until_s: float = math.inf) -> Batch:
        """Wait for so many samples, or for one at or after a rig time; return sooner where something ended sampling or wants
        attention. Raises ``StopPlan`` for a stop, and whatever error ended sampling."""
        with self._change:
            self._wanted, self._until_s = frames, until_s
            self._change.notify_all()
            while not (self._enough() or self._interruption or self._attention or self._gets_out()):
                self._change.wait(BEAT_S)
            taken = [self._frames.popleft() for _ in range(self._count())]
            self._wanted, self._attention = 0, False
            ended = self.interrupted()
        return Batch(taken, ended)

    def rest(self, seconds: float) -> None:
        """Wait, while idle samples come, until there is a command or so long. Raises ``StopPlan`` for a stop."""
        until = time.monotonic() + seconds
        with self._change:
            while not (self._attention or self._interruption or self._gets_out()) and time.monotonic() < until:
                self._change.wait(min(seconds, BEAT_S))
            self._attention = False
        self.interrupted()

    def interrupted(self) -> Interruption | None:
        """Return what ended sampling since it was last asked for, where something did. Raises ``StopPlan`` for a stop, and
        whatever error it was."""
        with self._change:
            if self._gets_out():
                raise got_out(self.abandoned, self._stop_words)
            ended, self._interruption = self._interruption, None
        if ended is not None and ended.error is not None:
            raise ended.error
        return ended

    def _enough(self) -> bool:
        return len(self._frames) >= self._wanted or bool(self._frames and self._frames[-1].time_s >= self._until_s)

    def _count(self) -> int:
        """Return how many of the samples that came were waited for."""
        for index, frame in enumerate(self._frames):
            if index + 1 >= self._wanted or frame.time_s >= self._until_s:
                return index + 1
        return len(self._frames)

    def _gets_out(self) -> bool:
        return self.abandoned or self._closing or not self._thread.is_alive()

    # -- the sampler's thread ----------------------------------------------------------------------------------

    def _serve(self) -> None:
        """Take samples and do what is called for, until the end."""
        while not (self._closing or self.abandoned):
            self.beat_s = time.monotonic()
            self._do_calls()
            self._stop_if_told()
            if self._waits():
                continue
            try:
                frame = self._rig.frame(FRAME_TIMEOUT_S)
                self.beat_s = time.monotonic()
                self._take(frame) if frame is not None else self._heard_nothing()
            except Exception as error:
                self._interrupt(Interruption(error=error))
            except BaseException as error:  # a driver that wants to end the process ends a plan, and nothing else
                self._interrupt(Interruption(error=RuntimeError(f"the driver raised {type(error).__name__}")))
        if not self.abandoned:
            self._rig.make_safe()
            self._rig.close()

    def _do_calls(self) -> None:
        while self._calls:
            work, answer = self._calls.popleft()
            try:
                found = work()
            except BaseException as error:
                answer.set_exception(error)
            else:
                if not answer.cancelled():
                    answer.set_result(found)
            self.beat_s = time.monotonic()

    def _stop_if_told(self) -> None:
        if self._stopping and self.stoppable:
            self._rig.make_safe()
            self._stopping = False
            self._interrupt(Interruption(error=StopPlan(self._stop_words, RunOutcome.STOPPED)))

    def _waits(self) -> bool:
        """Wait until a sample is due that the rig does not time itself; return whether there is something else to do first."""
        with self._change:
            if self._calls or self._closing or self.abandoned or (self._stopping and self.stoppable):
                return True
            if self._watch is None:
                self._change.wait(IDLE_S)
                return bool(self._calls) or self._watch is not None
            if self.pace is None and (self._enough() or self._attention):
                self._change.wait(BEAT_S)
                return True
        return False

    def _take(self, frame: Frame) -> None:
        """Guard a sample, record it, and hand it on."""
        self._silent_since = None
        with self._turn:
            watch = self._watch
            frame = self._read_by_cable(frame)
            gap_s, self.time_s = frame.time_s - self.time_s, frame.time_s
            if watch is None:
                self._stream.publish(FrameTaken(frame, None))
                return
            ended = self._look(watch, frame, gap_s)
            watch.begun = True
            with self._change:
                self._frames.append(frame)
                if ended is not None:
                    self._end_with(ended)
                elif self._enough():
                    self._change.notify_all()

    def _look(self, watch: Watch, frame: Frame, gap_s: float) -> Interruption | None:
        """Act on what a sample shows, load first; then record the sample and what it showed."""
        failure = next((event for event in frame.events if event.kind in FAILURES), None)
        gap = gap_s if watch.begun and gap_s > max(GAP_S, 5.0 * self._card.sample_period_s) else None
        trip = watch.guards.look(frame, watch.setting)
        ends = watch.acts and trip is not None and trip.action != GuardAction.WARN
        if ends:
            self._rig.make_safe()
        elif failure is not None or (gap is not None and watch.run_id is not None):
            self._rig.stop()
        self._stream.publish(FrameTaken(frame, watch.run_id))
        for event in frame.events:
            self._stream.publish(RigEventSeen(watch.run_id, frame.time_s, event))
        if watch.run_id is not None and gap is not None:
            self._stream.publish(SampleGap(watch.run_id, frame.time_s, gap))
            return Interruption(gap_s=gap)
        if failure is not None:
            return Interruption(failure=failure, error=shut_down(failure))
        if trip is None or not watch.acts:
            return None
        self._stream.publish(GuardTripped(watch.run_id, frame.time_s, trip.action, trip.reason))
        if not ends:
            self._stream.publish(WarningRaised(trip.reason))
            return None
        return Interruption(trip=trip)

    def _heard_nothing(self) -> None:
        """Give up on a rig under a watch that stays silent; of an idle one that is no news."""
        now = time.monotonic()
        if self._watch is None:
            self._silent_since = None
            return
        self._silent_since = self._silent_since or now
        patience = self._silent_limit_s + 2 * self._card.sample_period_s / (self.pace or 1e9)
        if now - self._silent_since > patience:
            self._silent_since = None
            self._rig.make_safe()
            error = RigError(
                f"{self._card.title} has given no sample for {patience:.0f} seconds.",
                safe="The load is off as far as the rig can be told; every sample is kept.",
                remedy="Look at the machine and its connection; then go on, and this run is repeated.",
            )
            self._interrupt(Interruption(error=error))

    def _interrupt(self, ended: Interruption) -> None:
        """End sampling from outside a sample. Where nothing runs that could end by it, it is logged, once."""
        if self._watch is not None:
            self._rig.make_safe()
        with self._change:
            if self.stoppable:
                self._end_with(ended)
                return
            if str(ended.error) != self._last_error:
                self._last_error = str(ended.error)
                LOG.warning("an idle rig: %s", ended.error, exc_info=ended.error)
            self._change.wait(SILENT_IDLE_S)

    def _end_with(self, ended: Interruption) -> None:
        self._watch = None
        self._interruption = ended
        self._change.notify_all()

    def _read_by_cable(self, frame: Frame) -> Frame:
        """Return a sample without what hands read; what a simulated machine's meter shows there is kept for them to see."""
        if not self._by_hand:
            return frame
        values = frame.values.copy()
        for index, name in self._by_hand:
            self.shown[name] = float(values[index])
            values[index] = math.nan
        return Frame(frame.time_s, values, frame.events)
