"""One run under its load: samples until its rule, a failure, a guard or a person ends it."""

import math
from collections.abc import Callable

import msgspec

from niente.core.acquisition.believable import Believable
from niente.core.acquisition.guards.guard_set import GuardSet
from niente.core.acquisition.guards.trip import Trip
from niente.core.acquisition.plan_stop import StopPlan
from niente.core.acquisition.record_stream import RecordStream
from niente.core.acquisition.sampler import Sampler
from niente.core.acquisition.samples import Samples
from niente.core.acquisition.watching import Interruption
from niente.core.analysis.evidence import TEACHES_S, settled_so_far, time_constants_of_run
from niente.core.model.commands import Command
from niente.core.model.errors import RigError
from niente.core.model.frame import Frame
from niente.core.model.plan import Exposure, Step
from niente.core.model.quantities import duration_text
from niente.core.model.records import ForecastMade, Record, TimeConstantsFound, WarningRaised
from niente.core.model.rig_card import LoadKind
from niente.core.model.runs import RunOutcome
from niente.core.model.setting import Setting
from niente.core.science.settling import Settled, learn, not_yet

FORECAST_EVERY = 30
"""Samples between two settling forecasts; in rig time, so that a run's length never depends on the computer."""
COASTED_S = 60.0
"""After so many seconds a fan that still turns is not coasting any more."""
CONSTANTS_S = 900.0
"""A run this long or longer is fitted for its time constants, for people to read."""


class Closing(msgspec.Struct, frozen=True):
    """How a run closes and why; the guard that ended it, where one did; whether a pause follows; and, of a void run, whether
    it was the machine that left it void."""

    outcome: RunOutcome
    reason: str
    trip: Trip | None = None
    pause: bool = False
    by_machine: bool = False


def closing_of(ended: Interruption | None, publish: Callable[[Record], None]) -> Closing | None:
    """Return how a run closes that something ended; ``None`` where nothing did. A hole in the samples is warned of."""
    if ended is None:
        return None
    if ended.failure is not None:
        return Closing(RunOutcome.FAILED, ended.failure.detail)
    if ended.trip is not None:
        return Closing(RunOutcome.GUARD, ended.trip.reason, ended.trip)
    words = f"no sample for {duration_text(ended.gap_s or 0.0)}: the machine slept, or could not be heard"
    publish(WarningRaised(f"There was {words}. The run is void and is made again."))
    return Closing(RunOutcome.VOIDED, words, by_machine=True)


def _insist(doubt: str) -> None:
    """Raise ``StopPlan`` where a rig cannot be believed: a map of what it reads would be false."""
    if not doubt:
        return
    error = RigError(
        f"The rig cannot be believed: {doubt}.",
        safe="The load is off, the rig has its safe setting, and every sample is kept.",
        remedy="Correct the driver or the sensor (niente-cli rigs check looks at all of it); then run the plan again.",
    )
    raise StopPlan(error.happened, RunOutcome.STOPPED, error.text)


class RunExecutor:
    """Runs one step after another. ``slow_prior`` is what runs teach about the slow time constants; ``believable`` holds
    the runs of one plan against each other."""

    def __init__(self, sampler: Sampler, stream: RecordStream, command: Callable[[], Command | None]) -> None:
        self.slow_prior: tuple[float, ...] = ()
        self.believable = Believable(sampler.card)
        self._sampler = sampler
        self._publish = stream.publish
        self._command = command

    def until_over(self, run_id: int, step: Step, guards: GuardSet) -> Closing:
        """Start a step's load and sample until the run is over; return how it closes.

        The load is still on, and the guards still look, where the run came to its own end. Raises ``StopPlan`` where the
        machine shut itself down, or the rig cannot be believed.
        """
        card = self._sampler.card
        samples = Samples(len(card.channels))
        whole = step.setting.over(card.stock)
        rule, settled = step.exposure, not_yet("the run has only begun")
        working = (load := card.load(step.load)) is not None and load.kind != LoadKind.IDLE
        self._sampler.begin(run_id, step.load, whole, guards)
        self.believable.begin()
        while True:
            batch = self._sampler.advance(FORECAST_EVERY - samples.count % FORECAST_EVERY, _due_s(rule, samples, settled))
            for frame in batch.frames:
                samples.add(frame)
            ended = closing_of(batch.ended, self._publish) or self._command_given()
            if ended is not None:
                return ended
            if working and batch.frames and samples.count % FORECAST_EVERY == 0:
                settled = settled_so_far(card, samples.time_s, samples.values, self.slow_prior)
                self._publish(ForecastMade(run_id, batch.frames[-1].time_s, settled))
            if batch.frames and samples.count % FORECAST_EVERY == 0:
                _insist(self.believable.doubt(step, whole, samples))
            why = _over(rule, samples.seconds, settled)
            if why and batch.frames:
                _insist(self.believable.compare(step, whole, samples))
                self._learn(run_id, samples, batch.frames[-1], whole, guards, settled)
                return Closing(RunOutcome.DONE, why)

    def _learn(self, run_id: int, samples: Samples, frame: Frame, whole: Setting, guards: GuardSet, settled: Settled) -> None:
        """Take with it what a run that came to its end has shown."""
        seconds = samples.seconds
        if seconds >= COASTED_S:
            self._sampler.call(lambda: guards.learn(frame, whole))
        if seconds >= TEACHES_S:
            self.slow_prior = learn(self.slow_prior, settled)
        if settled.known and seconds >= CONSTANTS_S:
            constants = time_constants_of_run(self._sampler.card, samples.time_s, samples.values)
            if constants:
                self._publish(TimeConstantsFound(run_id, constants))

    def _command_given(self) -> Closing | None:
        while (command := self._command()) is not None:
            if command in _ENDS_RUN:
                return _ENDS_RUN[command]
        return None


_ENDS_RUN = {
    Command.SKIP: Closing(RunOutcome.SKIPPED, "by the person at the bench"),
    Command.PAUSE_NOW: Closing(RunOutcome.VOIDED, "paused by the person at the bench; it will be run again", pause=True),
    Command.REPEAT: Closing(RunOutcome.VOIDED, "repeated by the person at the bench"),
}
"""How a run closes by a command."""


def _due_s(rule: Exposure, samples: Samples, settled: Settled) -> float:
    """Return the rig time at which a run may be over by its own rule, as far as is known now."""
    if not samples.count:
        return -math.inf  # its times count from its first sample
    known = rule.known_to_k is None or settled.known_to(rule.known_to_k)
    return float(samples.time_s[0]) + (rule.min_s if known else max(rule.max_s, rule.min_s))


def _over(rule: Exposure, seconds: float, settled: Settled) -> str:
    """Return why a run is over by its own rule; empty while it is not."""
    if seconds < rule.min_s:
        return ""
    if rule.known_to_k is not None and settled.known_to(rule.known_to_k):
        return "known well enough"
    return "its time is over" if rule.known_to_k is None or seconds >= rule.max_s else ""
