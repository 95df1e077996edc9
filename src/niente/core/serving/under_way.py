"""What is under way on a bench, as records: what a client that comes in the middle hears first."""

from niente.core.model.records import (
    BenchFailed,
    ForecastMade,
    FrameTaken,
    HandCardShown,
    HandCardTicked,
    PlanEnded,
    PlanStarted,
    Record,
    RunClosed,
    RunOpened,
    StateChanged,
)
from niente.core.model.runs import RunKind
from niente.core.model.states import BenchState


class UnderWay:
    """Follows the record, and keeps of it what still holds."""

    def __init__(self) -> None:
        self.state = StateChanged(BenchState.IDLE)
        self.run: RunOpened | None = None
        """The run that is open, or the last one of a plan under way."""
        self.last_s: float | None = None
        """The rig time of that run's last sample."""
        self.first_run: int | None = None
        """The first run since this was begun."""
        self._plan: PlanStarted | None = None
        self._forecasts: list[ForecastMade] = []
        self._closed: RunClosed | None = None
        self._card: HandCardShown | None = None

    def hear(self, record: Record) -> None:
        """Take a record in."""
        match record:
            case FrameTaken(frame, run_id):
                if self.run is not None and run_id == self.run.run_id:
                    self.last_s = frame.time_s
            case RunOpened(run_id, kind=kind):
                self.first_run = self.first_run or run_id
                if kind == RunKind.STEP:
                    self.run, self.last_s, self._closed, self._forecasts = record, None, None, []
            case ForecastMade():
                self._forecasts.append(record)
            case RunClosed(kind=RunKind.STEP):
                self._closed = record
            case StateChanged():
                self.state = record
            case _:
                self._hear_of_plan(record)

    def _hear_of_plan(self, record: Record) -> None:
        match record:
            case PlanStarted():
                self._plan = record
            case PlanEnded() | BenchFailed():
                self._plan = None
            case HandCardShown(card):
                self._card = record if card is not None else None
            case HandCardTicked(boxes):
                if self._card is not None:
                    self._card = HandCardShown(self._card.card, boxes)
            case _:
                return

    def before_samples(self) -> list[Record]:
        """Return what a client hears before the samples of the run under way."""
        begun = [self._plan, self.run if self._plan is not None else None]
        return [record for record in begun if record is not None]

    def after_samples(self) -> list[Record]:
        """Return what it hears after them."""
        if self._plan is None:
            return [self.state]
        records = [*self._forecasts, self._closed, self._card, self.state]
        return [record for record in records if record is not None]
