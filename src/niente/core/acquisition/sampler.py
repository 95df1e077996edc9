"""The sampler: the one thread that calls a rig. It takes samples, lets guards look at each, and records them; nothing else."""

import contextlib
import logging
import math
import re
import threading
import time
from collections import deque
from collections.abc import Callable
from concurrent.futures import CancelledError, Future
from typing import Any, TypeVar

from niente.core.acquisition.guards.guard_set import GuardSet
from niente.core.acquisition.plan_stop import StopPlan
from niente.core.acquisition.record_stream import RecordStream
from niente.core.acquisition.returning import gone_for_good
from niente.core.acquisition.safe_setting import SafeSetting
from niente.core.acquisition.sample_look import SampleLook
from niente.core.acquisition.watching import BY_PERSON, Batch, Interruption, Watch, got_out
from niente.core.model.errors import BookError, MachineAwayError
from niente.core.model.frame import Frame
from niente.core.model.records import WarningRaised
from niente.core.model.rig_card import RigCard
from niente.core.model.runs import RunOutcome
from niente.core.model.setting import Setting
from niente.core.rigs.checked_rig import CheckedRig

FRAME_TIMEOUT_S = 0.5
IDLE_S = 0.05
"""While nobody waits for samples one is taken so often."""
BEAT_S = 0.1
"""The watchdog hears of the sampler at least so often while it waits."""
SILENT_IDLE_S = 1.0
"""An idle rig that fails to give a sample is heard again after so long."""
FIGURES = re.compile(r"[-0-9.e]+")
Answer = TypeVar("Answer")
LOG = logging.getLogger(__name__)


class Sampler:
    """Owns a rig, in a thread of its own.

    While a watch is set, samples come as the rig gives them, and guards see each, whatever is decided or fitted meanwhile. A
    simulated machine at full speed has no time of its own: there a sample is taken only once somebody waits for it, so that
    nothing depends on how fast the computer decides. Without a watch the machine is idle, and is looked at now and then.
    """

    def __init__(self, rig: CheckedRig, card: RigCard, stream: RecordStream, silent_limit_s: float) -> None:
        self.stoppable = False
        """Whether there is anything that a stop would end."""
        self.abandoned = False
        """Set by the watchdog when the rig did not answer; everybody then only gets out."""
        self.beat_s = time.monotonic()
        """When the thread was last heard of (monotonic seconds); the watchdog reads it."""
        self._rig = rig
        self._stream = stream
        self._look = SampleLook(rig, stream, silent_limit_s)
        self._turn = threading.RLock()
        """Held while a sample is looked at and recorded: what it belongs to does not change meanwhile."""
        self._change = threading.Condition(threading.RLock())
        """Held for moments only, since whoever hears of a record may give a command."""
        self._calls: deque[tuple[Callable[[], Any], Future[Any]]] = deque()
        self._watch: Watch | None = None
        self._frames: deque[Frame] = deque()
        self._interruption: Interruption | None = None
        self._wanted, self._until_s = 0, math.inf
        self._attention = self._resting = self._closing = False
        self._stopping, self._stop_words = False, BY_PERSON
        self._last_error = ""
        self.card = card
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
        return self._look.card

    @card.setter
    def card(self, card: RigCard) -> None:
        with self._change:
            self._look.card = card
            self._look.hands.take_card(card)

    @property
    def pace(self) -> float | None:
        """Rig seconds a wall second; a real rig's are seconds. ``None`` for as fast as it goes."""
        return self._rig.pace

    def set_pace(self, pace: float | None) -> None:
        """Change the pace of a simulated rig; a real one has none."""
        if self._rig.is_paced:
            self._rig.set_pace(pace)
            self.attract()

    @property
    def away(self) -> bool:
        """Whether the machine went down and has not come back yet."""
        return self._look.back is not None

    @property
    def patience_s(self) -> float:
        """How much longer than usual the rig may keep a call now: it may be starting again."""
        back = self._look.back
        return back.patience_s if back is not None else 0.0

    @property
    def safe(self) -> SafeSetting:
        """What puts the safe setting back, and knows whether it is."""
        return self._look.safe

    @property
    def time_s(self) -> float:
        """The rig's time at its last sample."""
        return self._look.time_s

    @property
    def shown(self) -> dict[str, float]:
        """What the meters show that hands read, by channel, as far as the rig knows it: a simulated one does."""
        return self._look.hands.shown

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
        """Give the rig up: whoever waits for it gets out. Called by the watchdog; takes no lock: what hangs may hold it."""
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
                self._look.safe.load_begins()
                self._rig.start(load)
                self.watch(run_id, setting, guards, load=load)

        self.call(work)

    def stop(self) -> None:
        """End the load."""
        self.call(self._look.end_load)

    def make_safe(self) -> None:
        """Load off, safe setting back, idle from here on; never raises. What goes wrong is told (``MadeSafe``)."""
        self._look.safe.restore()
        self.idle()

    def idle(self) -> None:
        """Hold samples against nothing any more."""
        with self._turn, self._change:
            self._watch = None
            self._frames.clear()
            self._change.notify_all()

    def watch(
        self,
        run_id: int | None,
        setting: Setting,
        guards: GuardSet,
        *,
        load: str | None = None,
        fresh: bool = True,
        acts: bool = True,
    ) -> None:
        """Write samples to a run from here on (``None``: to none) and hold them against guards.

        ``fresh``: what stood under the last load does not count against this one. What ended sampling between two runs
        stays for the next ``advance``. ``load`` is what runs now, where that is not what ran before.
        """
        with self._turn, self._change:
            if fresh:
                guards.begin()
            before = self._watch.load if self._watch is not None else ""
            self._watch = Watch(run_id, setting, guards, acts, before if load is None else load)
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
            self._resting = True
            self._change.notify_all()
            while not (self._attention or self._interruption or self._gets_out()) and time.monotonic() < until:
                self._change.wait(min(seconds, BEAT_S))
            self._attention = self._resting = False
        self.interrupted()

    def interrupted(self) -> Interruption | None:
        """Return what ended sampling since it was last asked for, where something did. Raises ``StopPlan`` for a stop, and
        whatever error it was."""
        with self._change:
            if self._gets_out() or self._stopping:
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
            self._next_sample()
        stays = self.safe.stays is not None and not self.abandoned
        if not stays:
            self._look.safe.restore()  # one that was given up too: the call that hung may have started a load as it returned
        if not self.abandoned:
            self._look.see_it_safe()
            if problem := self._rig.close(stays=stays):
                LOG.error("the rig could not be let go of: %s", problem)

    def _next_sample(self) -> None:
        """Take the next sample, whatever becomes of it: this thread goes on."""
        try:
            frame = self._rig.frame(FRAME_TIMEOUT_S)
            self.beat_s = time.monotonic()
            if frame is not None:
                self._take(frame)
            else:
                self._look.heard_nothing(self._watch)
        except MachineAwayError as error:
            self._hear_away(error)
        except Exception as error:
            self._interrupt(error)

    def _do_calls(self) -> None:
        while self._calls:
            work, answer = self._calls.popleft()
            try:
                found = work()
            except MachineAwayError as error:
                self._look.goes_away()
                answer.set_exception(error if self.away else gone_for_good(error))
            except BaseException as error:
                answer.set_exception(error)
            else:
                if not answer.cancelled():
                    answer.set_result(found)
            self.beat_s = time.monotonic()

    def _stop_if_told(self) -> None:
        if self._stopping and self.stoppable:
            self._look.safe.restore()
            self._interrupt(StopPlan(self._stop_words, RunOutcome.STOPPED))
            self._stopping = False  # no sooner: in between nobody would be told, and the next run would begin

    def _waits(self) -> bool:
        """Wait until a sample is due that the rig does not time itself; return whether there is something else to do first."""
        with self._change:
            if self._calls or self._closing or self.abandoned or (self._stopping and self.stoppable):
                return True
            if self.away:
                return False
            if self._watch is None:
                self._change.wait(IDLE_S)
                decides = self.stoppable and not self._resting and self.pace is None
                return bool(self._calls) or self._watch is not None or decides
            if self.pace is None and (self._enough() or self._attention):
                self._change.wait(BEAT_S)
                return True
        return False

    def _take(self, frame: Frame) -> None:
        """Guard a sample, record it, and hand it on."""
        with self._turn:
            watch = self._watch
            frame, gap_s, own_s = self._look.take_in(frame)
            was_away = self.away
            if self._look.is_away_at(frame) or watch is None:
                self._look.at_idle(frame)
                if was_away and not self.away:
                    self.attract()
                return
            ended = self._look.under(watch, frame, gap_s, own_s)
            watch.begun = True
            with self._change:
                self._frames.append(frame)
                if ended is not None:
                    self._end_with(ended)
                elif self._enough():
                    self._change.notify_all()

    def _hear_away(self, error: MachineAwayError) -> None:
        """Wait for a machine that went down, up to its limit."""
        try:
            ended = self._look.heard_away(self._watch, error)
        except MachineAwayError as overdue:
            self._interrupt(gone_for_good(overdue))
            self._look.back = None  # no sooner: in between nobody would be told, and the next run would begin
            return
        with self._change:
            if ended is not None:
                self._end_with(ended)
            else:
                self._change.wait(IDLE_S)

    def _interrupt(self, error: Exception) -> None:
        """End sampling by an error, the machine safe first. Where nothing runs that could end by it, it is told, once."""
        text = str(error)
        kind = FIGURES.sub("#", text)  # an error that only reads other figures is no news
        if self._watch is not None or kind != self._last_error:
            self._look.safe.restore()
        with self._change:
            if self.stoppable:
                self._end_with(Interruption(error=error))
                return
        if kind != self._last_error:
            self._last_error = kind
            LOG.warning("an idle rig: %s", error, exc_info=error)
            with contextlib.suppress(BookError):
                self._stream.publish(WarningRaised(text))
        with self._change:
            self._change.wait(SILENT_IDLE_S)

    def _end_with(self, ended: Interruption) -> None:
        self._watch = None
        self._interruption = ended
        self._change.notify_all()
