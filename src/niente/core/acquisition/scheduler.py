"""The agenda of a plan under way: its runs against the book as it stands, and which of them comes next."""

import msgspec

from niente.core.analysis.evidence import Evidence, gather
from niente.core.model.limits import Limits
from niente.core.model.plan import Confirmation, PickRuns, Plan, Step
from niente.core.model.quantities import duration_text
from niente.core.model.rig_card import RigCard
from niente.core.planning.confirmation import next_of_pick
from niente.core.planning.cost import AIR, pace_of, typical_seconds
from niente.core.planning.forecast import heard_at
from niente.core.planning.progress import Row, RunStatus, plan_rows
from niente.core.storage.reader import BookReader


class QuietHoursWait(msgspec.Struct, frozen=True):
    """Nothing may run before quiet hours end; ``text`` says so."""

    text: str


class BudgetSpent(msgspec.Struct, frozen=True):
    """The time budget is used up; ``text`` says what is left."""

    text: str


class Scheduler:
    """What is left of one plan. ``look`` reads the book anew; nothing is remembered that is not in it."""

    def __init__(
        self,
        plan: Plan,
        plan_id: int,
        limits: Limits,
        book: BookReader,
        known: Evidence | None,
        spent_by: frozenset[int] = frozenset(),
    ) -> None:
        self.plan = plan
        self.plan_id = plan_id
        self.spent_by = spent_by | {plan_id}
        """The plans whose runs its budget pays for: it, and those that it was put in place of while they ran."""
        self.known = known
        """What the book came to at the last look."""
        self.rows: tuple[Row, ...] = ()
        self._limits = limits
        self._book = book
        self._pace = AIR
        self._spent_s = 0.0
        self._reported: set[int] = set()

    def look(self, card: RigCard) -> None:
        """Lay the plan's runs out against the book as it stands."""
        evidence = self.known = gather(self._book, self.known)

        def then(entry: Confirmation | PickRuns, so_far: int) -> Step | None:
            return next_of_pick(entry, evidence, self._limits, so_far) if evidence is not None else None

        self._pace = pace_of(card, evidence)
        self.rows = plan_rows(self.plan, card, evidence, then)
        self._spent_s = self._spent_so_far()

    @property
    def closed(self) -> int:
        """How many runs need not be made any more."""
        return sum(row.status.closed for row in self.rows)

    def next(self, hour: float) -> Row | QuietHoursWait | BudgetSpent | None:
        """Return the run that comes next at an hour of the day, or why none may; ``None`` at the plan's end."""
        ahead = self.ahead()
        if not ahead:
            return None
        row = next((row for row in ahead if self._may_be_heard(row, hour)), None)
        if row is None:
            left = duration_text(self.plan.quiet.hours_left(hour) * 3600.0) if self.plan.quiet is not None else ""
            return QuietHoursWait(f"Quiet hours: the runs that are left are louder. Waiting for {left}.")
        return self._spent(row) or row

    def ahead(self) -> list[Row]:
        """Return the runs that could be made now."""
        return [row for row in self.rows if row.status == RunStatus.AHEAD and not row.waits]

    def answered(self, entry: int) -> frozenset[int]:
        """Return the runs that answer steps of an entry, by number."""
        return frozenset(row.run.run_id for row in self.rows if row.entry == entry and row.run is not None)

    def left_out(self) -> list[tuple[int, Row]]:
        """Return the runs that are left out and were not told of yet, with their indices."""
        fresh = [
            (index, row)
            for index, row in enumerate(self.rows)
            if row.status == RunStatus.LEFT_OUT and row.entry not in self._reported
        ]
        self._reported |= {row.entry for _, row in fresh}
        return fresh

    def waiting(self) -> list[str]:
        """Return why runs could not be set, each reason once."""
        reasons = [row.waits for row in self.rows if row.status == RunStatus.AHEAD and row.waits]
        return list(dict.fromkeys(reasons))

    def _may_be_heard(self, row: Row, hour: float) -> bool:
        """Return whether the quiet hours let a run be made; one that was never heard yet may be."""
        quiet = self.plan.quiet
        if quiet is None or not quiet.covers(hour):
            return True
        return not heard_at(self.known, row.step) > quiet.max_dba

    def _spent_so_far(self) -> float:
        """Return the bench time in s that the plan's runs have taken, whatever came of them, idle time before them included."""
        if self.plan.budget_s is None:
            return 0.0
        made = (run for run in self._book.runs() if run.plan_id in self.spent_by and run.closed_rig_time_s is not None)
        return sum(max((run.closed_rig_time_s or 0.0) - run.rig_time_s, 0.0) for run in made)

    def _spent(self, row: Row) -> BudgetSpent | None:
        budget = self.plan.budget_s
        if budget is None:
            return None
        if self._spent_s + typical_seconds(row.step.exposure, self._pace) <= budget + 1.0:
            return None
        left = sum(not one.status.closed for one in self.rows)
        return BudgetSpent(f"at the end of its time budget of {duration_text(budget)}, with {left} runs left")
