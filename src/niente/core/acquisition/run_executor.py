"""One run under its load: samples until its rule, a failure, a guard or a person ends it."""

from collections.abc import Callable

import msgspec

from niente.core.acquisition.guards.guard_set import GuardSet
from niente.core.acquisition.guards.trip import Trip
from niente.core.acquisition.plan_stop import StopPlan
from niente.core.acquisition.rig_link import RigLink
from niente.core.acquisition.samples import Samples
from niente.core.analysis.evidence import FAILURES, TEACHES_S, settled_so_far, time_constants_of_run
from niente.core.model.commands import Command
from niente.core.model.frame import Frame, RigEventKind
from niente.core.model.plan import Exposure, GuardAction, Step
from niente.core.model.quantities import duration_text
from niente.core.model.records import ForecastMade, Listener, RigEventSeen, TimeConstantsFound, WarningRaised
from niente.core.model.rig_card import LoadKind
from niente.core.model.runs import RunOutcome
from niente.core.model.setting import Setting
from niente.core.science.settling import Settled, learn, not_yet
from niente.core.storage.writer import BookWriter

FORECAST_EVERY = 30
"""Samples between two settling forecasts; in rig time, so that a run's length never depends on the computer."""
COASTED_S = 60.0
"""After so many seconds a fan that still turns is not coasting any more."""
CONSTANTS_S = 900.0
"""A run this long or longer is fitted for its time constants, for people to read."""
GAP_S = 10.0
"""A run whose samples are further apart is not the run that was asked for."""
GUARD = "guard"
"""The kind of event that a trip leaves in the book."""


class Closing(msgspec.Struct, frozen=True):
    """How a run closes and why; the guard that ended it, where one did; and whether a pause follows."""

    outcome: RunOutcome
    reason: str
    trip: Trip | None = None
    pause: bool = False


class RunExecutor:
    """Runs one step after another on a link. ``slow_prior`` is what runs teach about the slow time constants."""

    def __init__(self, link: RigLink, writer: BookWriter, listener: Listener, command: Callable[[], Command | None]) -> None:
        self.slow_prior: tuple[float, ...] = ()
        self._link = link
        self._writer = writer
        self._publish = listener
        self._command = command

    def until_over(self, run_id: int, step: Step, guards: GuardSet) -> Closing:
        """Sample until the run is over; return how it closes. Raises ``StopPlan`` where the machine shut itself down."""
        card = self._link.card
        samples = Samples(len(card.channels))
        whole = step.setting.over(card.stock)
        rule, settled = step.exposure, not_yet("the run has only begun")
        working = (load := card.load(step.load)) is not None and load.kind != LoadKind.IDLE
        guards.begin()
        while True:
            frame = self._link.frame(run_id)
            gap = self._gap(run_id, samples, frame)
            samples.add(frame)
            ended = gap or self._ended_by(run_id, frame, whole, guards) or self._command_given()
            if ended is not None:
                return ended
            if working and samples.count % FORECAST_EVERY == 0:
                settled = settled_so_far(card, samples.time_s, samples.values, self.slow_prior)
                self._publish(ForecastMade(run_id, frame.time_s, settled))
            why = _over(rule, samples.seconds, settled)
            if why:
                self._learn(run_id, samples, frame, whole, guards, settled)
                return Closing(RunOutcome.DONE, why)

    def under_guard(self, run_id: int, whole: Setting, guards: GuardSet) -> tuple[Frame, Closing | None]:
        """Take a sample while idle, or of a run that waits for hands; return it and what ends that, if anything does."""
        frame = self._link.frame(run_id)
        return frame, self._ended_by(run_id, frame, whole, guards)

    def _ended_by(self, run_id: int, frame: Frame, whole: Setting, guards: GuardSet) -> Closing | None:
        """Return how a sample ends a run: by what happened on the machine, or by a guard."""
        return self._failure(run_id, frame) or self._guarded(run_id, frame, whole, guards)

    def _learn(self, run_id: int, samples: Samples, frame: Frame, whole: Setting, guards: GuardSet, settled: Settled) -> None:
        """Take with it what a run that came to its end has shown."""
        seconds = samples.seconds
        if seconds >= COASTED_S:
            guards.learn(frame, whole)
        if seconds >= TEACHES_S:
            self.slow_prior = learn(self.slow_prior, settled)
        if settled.known and seconds >= CONSTANTS_S:
            constants = time_constants_of_run(self._link.card, samples.time_s, samples.values)
            if constants:
                self._publish(TimeConstantsFound(run_id, constants))

    def _gap(self, run_id: int, samples: Samples, frame: Frame) -> Closing | None:
        """Return that a run is void where the machine slept in it, or gave nothing for long."""
        gap = self._link.gap_s
        if not samples.count or gap <= max(GAP_S, 5.0 * self._link.card.sample_period_s):
            return None
        words = f"no sample for {duration_text(gap)}: the machine slept, or could not be heard"
        self._writer.add_event("gap", gap, run_id, frame.time_s)
        self._publish(WarningRaised(f"There was {words}. The run is void and is made again."))
        return Closing(RunOutcome.VOIDED, words)

    def _failure(self, run_id: int, frame: Frame) -> Closing | None:
        """Write what happened on the machine, and return that it failed, where it did."""
        for event in frame.events:
            self._writer.add_event(event.kind, event.detail, run_id, frame.time_s)
            self._publish(RigEventSeen(run_id, frame.time_s, event))
        failure = next((event for event in frame.events if event.kind in FAILURES), None)
        if failure is None:
            return None
        if failure.kind == RigEventKind.SHUT_DOWN:
            raise StopPlan(f"The machine shut itself down: {failure.detail}.", RunOutcome.FAILED)
        return Closing(RunOutcome.FAILED, failure.detail)

    def _guarded(self, run_id: int | None, frame: Frame, whole: Setting, guards: GuardSet) -> Closing | None:
        """Act on a trip that this sample completes: load off first, safe setting back; then it is written and told."""
        trip = guards.look(frame, whole)
        if trip is None:
            return None
        if trip.action != GuardAction.WARN:
            self._link.make_safe()
        self._writer.add_event(GUARD, trip.reason, run_id, frame.time_s)
        if trip.action == GuardAction.WARN:
            self._publish(WarningRaised(trip.reason))
            return None
        return Closing(RunOutcome.GUARD, trip.reason, trip)

    def _command_given(self) -> Closing | None:
        command = self._command()
        if command == Command.SKIP:
            return Closing(RunOutcome.SKIPPED, "by the person at the bench")
        if command == Command.PAUSE_NOW:
            return Closing(RunOutcome.VOIDED, "paused by the person at the bench; it will be run again", pause=True)
        if command == Command.REPEAT:
            return Closing(RunOutcome.VOIDED, "repeated by the person at the bench")
        return None


def _over(rule: Exposure, seconds: float, settled: Settled) -> str:
    """Return why a run is over by its own rule; empty while it is not."""
    if seconds < rule.min_s:
        return ""
    if rule.known_to_k is not None and settled.known_to(rule.known_to_k):
        return "known well enough"
    return "its time is over" if rule.known_to_k is None or seconds >= rule.max_s else ""
