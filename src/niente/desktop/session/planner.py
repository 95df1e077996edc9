"""The plan as the window holds it: made from the question, laid out against the book, foreseen and run dry.

A plan of many runs is worked out away from the window's thread, and what is foreseen always is; what comes too late is
dropped, and until it comes the last stands.
"""

import time
import traceback
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import msgspec
from PySide6.QtCore import QObject, QTimer, Signal

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.models import Models
from niente.core.model.plan import Confirmation, Entry, Guard, Plan, Step
from niente.core.model.question import ListEdit, Question
from niente.core.model.rig_card import RigCard
from niente.core.planning.alternatives import Alternative, of_budget, of_step, of_target, within
from niente.core.planning.columns import columns_of
from niente.core.planning.confirmation import confirming
from niente.core.planning.cost import AIR, Pace, PlanCost, cost_of, naive_runs, pace_of, row_seconds
from niente.core.planning.dry_run import DryRun, dry_run
from niente.core.planning.forecast import NO_FORECAST, StepForecast, foresee
from niente.core.planning.list_edits import KeyedEntries, keyed
from niente.core.planning.progress import AnswerKeys, Row, RunStatus, plan_rows
from niente.core.planning.templates import entries_of, plan_for
from niente.core.planning.validation import Checked
from niente.core.selection.answer import Answer
from niente.core.selection.pick import Choice

TARGET, BUDGET = "target", "budget"
"""What is compared when it is not an axis: how well a settled temperature is to be known, and how long it may take."""
BREATH_MS = 100
"""Work on a long plan waits so long, so that the window has drawn before it: both take turns at the interpreter."""
MAX_PIECES, MAX_CHECKED = 600, 20_000
_DRAWN_AS = {RunStatus.EXPECTED: RunStatus.AHEAD, RunStatus.GUARD: RunStatus.FAILED}
SMALL = 300
"""A question of up to this many runs is laid out at once; a larger one away from the window's thread."""


class PlanRequest(msgspec.Struct, frozen=True):
    """What a plan follows from. ``own`` is a plan that was taken from a file in place of the question's."""

    card: RigCard
    question: Question
    guards: tuple[Guard, ...] | None
    own: Plan | None = None


class StagePiece(msgspec.Struct, frozen=True):
    """Runs of one stage in a row that stand alike, as the ribbon draws them: ``count`` of them, so many seconds together."""

    stage: str
    seconds: float
    status: RunStatus
    count: int = 1


class LaidOutPlan(msgspec.Struct, frozen=True):
    """A plan, its runs, and what it costs: ``seconds`` of each run, ``columns`` for the controls that tell them apart,
    ``closed`` of them that need not be made any more, and how many runs each load has. ``keyed`` has the entries with the
    keys that edits by hand name them by."""

    request: PlanRequest
    plan: Plan
    keyed: KeyedEntries
    rows: tuple[Row, ...]
    cost: PlanCost
    pace: Pace
    seconds: tuple[float, ...]
    columns: tuple[str, ...]
    pieces: tuple[StagePiece, ...]
    closed: int
    loads: dict[str, int]


class Comparison(msgspec.Struct, frozen=True):
    """What other ways of asking cost: other steps of the axis over a control, or other targets."""

    of: str
    ways: list[Alternative]


class PlannedWork:
    """What one thread worked out before, to be used again: the template's entries, the keys of steps, settings checked."""

    def __init__(self) -> None:
        self._entries: tuple[RigCard, Question, tuple[Entry, ...]] | None = None
        self._keys: tuple[RigCard, AnswerKeys] | None = None
        self._checked: tuple[RigCard, Checked] | None = None

    def entries_for(self, request: PlanRequest) -> tuple[Entry, ...]:
        """Return the entries of a question's template."""
        plain = msgspec.structs.replace(request.question, edits=(), since="", budget_h=None, quiet=None)
        known = self._entries
        if known is None or known[1] != plain or known[0] != request.card:
            known = self._entries = (request.card, plain, entries_of(request.card, request.question))
            self._keys = None  # those of steps that are not there any more
        return known[2]

    def keys_for(self, card: RigCard) -> AnswerKeys:
        """Return the keys of the steps of a machine."""
        if self._keys is None or self._keys[0] != card:
            self._keys = (card, AnswerKeys(card))
        return self._keys[1]

    def checked_for(self, card: RigCard) -> Checked:
        """Return what was found of settings on a machine."""
        if self._checked is None or self._checked[0] != card or len(self._checked[1]) > MAX_CHECKED:
            self._checked = (card, {})
        return self._checked[1]


class Planner(QObject):
    """Makes the plan, and keeps it true as the book grows."""

    changed = Signal()
    """There is another plan, or its runs stand otherwise."""
    foreseen = Signal()
    """What is foreseen of the runs, and the dry run, came."""
    compared = Signal()
    """What other steps or targets would cost came."""
    broke = Signal(str)
    _compared = Signal(object)
    _laid_out = Signal(int, object)
    _seen_ahead = Signal(int, object, object, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.laid: LaidOutPlan | None = None
        self.dry: DryRun | None = None
        self.dry_rows: tuple[Row, ...] = ()
        """The runs that the dry run is of."""
        self.instead: list[Alternative] | None = None
        """What fits the time budget in place of a question that does not; ``None`` where it does."""
        self.comparison: Comparison | None = None
        self.file: Path | None = None
        """Where the plan came from that was taken in place of the question's."""
        self._seen: dict[int, tuple[Step, StepForecast]] = {}
        self._answer = Answer()
        self._request: PlanRequest | None = None
        self._here, self._there = PlannedWork(), PlannedWork()
        """What was worked out before: in the window's thread, and in the planner's own. Neither touches the other's."""
        self._listed: KeyedEntries | None = None
        self._number = 0
        self._closed = False
        self._due: list[Callable[[], None]] = []
        self._breath = QTimer(self)
        self._breath.setSingleShot(True)
        self._breath.timeout.connect(self._submit)
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="niente-planner")
        self._laid_out.connect(self._take)
        self._seen_ahead.connect(self._take_seen)
        self._compared.connect(self._take_comparison)

    # -- what stands now -----------------------------------------------------------------------------------------

    @property
    def plan(self) -> Plan | None:
        """The plan that is run next; ``None`` without a rig."""
        return self.laid.plan if self.laid is not None else None

    @property
    def rows(self) -> tuple[Row, ...]:
        """The plan's runs, with what became of them."""
        return self.laid.rows if self.laid is not None else ()

    @property
    def pace(self) -> Pace:
        """How long runs take on this machine."""
        return self.laid.pace if self.laid is not None else AIR

    @property
    def own(self) -> Plan | None:
        """The plan that stands in place of the question's; ``None`` where none does."""
        return self._request.own if self._request is not None else None

    @property
    def listed(self) -> KeyedEntries | None:
        """The entries with their keys, edits that are still being laid out among them."""
        return self._listed

    def note(self, edit: ListEdit) -> bool:
        """Take note of an edit that is about to be asked; return whether it does anything."""
        listed = self._listed.copy() if self._listed is not None else KeyedEntries(())
        done = listed.apply(edit)
        if done:
            self._listed = listed
        return done

    def index_of(self, key: str) -> int | None:
        """Return the first run of an entry; ``None`` where it has none."""
        if self.laid is None or key not in self.laid.keyed.keys:
            return None
        entry = self.laid.keyed.keys.index(key)
        return next((index for index, row in enumerate(self.rows) if row.entry == entry), None)

    def number_of(self, key: str) -> int:
        """Return the number of an entry's first run, from 1; 0 where it has none."""
        index = self.index_of(key)
        return index + 1 if index is not None else 0

    def key_of(self, index: int) -> str:
        """Return the key of the entry that a run belongs to; empty where there is no such run."""
        if self.laid is None or not 0 <= index < len(self.rows):
            return ""
        return self.laid.keyed.keys[self.rows[index].entry]

    def closed(self) -> int:
        """Return how many runs need not be made any more."""
        return self.laid.closed if self.laid is not None else 0

    def seen(self, row: Row) -> StepForecast:
        """Return what is foreseen of a run."""
        found = self._seen.get(id(row.step))
        return found[1] if found is not None else NO_FORECAST

    # -- what is asked -------------------------------------------------------------------------------------------

    def plan_for(self, card: RigCard, question: Question, guards: tuple[Guard, ...] | None) -> None:
        """Make the plan anew where the question, the machine or its guards come to another; a plan that was taken in its
        place then gives way."""
        before = self._request
        request = PlanRequest(card, question, guards)
        if before is not None and msgspec.structs.replace(before, own=None) == request:
            return
        same = before is not None and (before.question, before.guards) == (question, guards)
        if before is not None and before.own is not None and same and before.card.variant == card.variant:
            request = msgspec.structs.replace(request, own=before.own)  # another room makes no other question
        if request.own is None:
            self.file = None
        self._lay(request)

    def take(self, plan: Plan | None, file: Path | None) -> None:
        """Let a plan be the one that is run next, in place of the question's; ``None`` gives way to that again."""
        if self._request is not None:
            self.file = file
            self._lay(msgspec.structs.replace(self._request, own=plan))

    def goes_on_as(self, card: RigCard) -> None:
        """Let the plan under way go on as it is while hands bring the machine into another state."""
        if self._request is not None:
            self._lay(msgspec.structs.replace(self._request, card=card, own=self.plan))

    def compare(self, what: str) -> None:
        """Work out what another step of an axis would cost, or with ``TARGET`` another target, with ``BUDGET`` another time
        budget; ``compared`` tells."""
        laid, models = self.laid, self._answer.models
        if laid is None or laid.request.own is not None:
            return
        card, question, pace = laid.request.card, laid.request.question, laid.pace

        def work() -> None:
            if what == TARGET:
                ways = of_target(card, question, pace, models)
            elif what == BUDGET:
                ways = of_budget(card, question, laid.rows, laid.seconds, models)
            else:
                ways = of_step(card, question, what, pace, models)
            self._compared.emit(Comparison(what, ways))

        self._later(work)

    def look(self, answer: Answer) -> None:
        """Lay the runs out against what the book comes to now."""
        before, self._answer = self._answer, answer
        if self._request is not None and not _alike(before, answer):
            self._lay(self._request)

    def close(self) -> None:
        """Answer nothing any more."""
        self._closed = True
        self._breath.stop()
        self._number += 1
        self._pool.shutdown(wait=True, cancel_futures=True)

    # -- inside --------------------------------------------------------------------------------------------------

    def _lay(self, request: PlanRequest) -> None:
        self._request = request
        self._number += 1
        number, answer = self._number, self._answer
        size = len(request.own.entries) if request.own is not None else naive_runs(request.card, request.question)
        if size <= SMALL:
            self._take(number, self._worked_out(request, answer, self._here))
        else:
            self._later(lambda: self._laid_out.emit(number, self._worked_out(request, answer, self._there)))

    @staticmethod
    def _worked_out(request: PlanRequest, answer: Answer, before: "PlannedWork") -> LaidOutPlan:
        """Return the plan, laid out; ``before`` is what the same thread worked out before."""
        entries, keys = before.entries_for(request), before.keys_for(request.card)
        listed = KeyedEntries(request.own.entries) if request.own is not None else keyed(entries, request.question.edits)
        plan = request.own or plan_for(request.card, request.question, request.guards, listed.done)
        rows = plan_rows(plan, request.card, _of(request.card, answer.evidence), _next(answer.choice, answer.models), keys)
        pace = pace_of(request.card, answer.evidence)
        question = request.question if request.own is None else None
        seconds = tuple(row_seconds(row, pace) for row in rows)
        return LaidOutPlan(
            request,
            plan,
            listed,
            rows,
            cost_of(rows, request.card, question, pace),
            pace,
            seconds,
            columns_of(request.card, rows),
            pieces_of(rows, seconds),
            sum(row.status.closed for row in rows),
            dict(Counter(row.step.load for row in rows)),
        )

    def _take(self, number: int, laid: LaidOutPlan) -> None:
        if number != self._number:
            return
        self.laid, self._listed = laid, laid.keyed
        self.changed.emit()
        models = self._answer.models
        self._later(lambda: self._look_ahead(number, laid, models))

    def _look_ahead(self, number: int, laid: LaidOutPlan, models: Models | None) -> None:
        """Work out what is foreseen, and run the plan dry."""
        if number != self._number:
            return
        seen = foresee(models, [row.step for row in laid.rows])
        now = time.localtime()
        question = laid.request.question if laid.request.own is None else None
        hour = now.tm_hour + now.tm_min / 60.0
        dry = dry_run(
            laid.plan,
            laid.request.card,
            laid.rows,
            seen,
            question=question,
            pace=laid.pace,
            hour=hour,
            cost=laid.cost,
            checked=self._there.checked_for(laid.request.card),
        )
        by_step = {id(row.step): (row.step, one) for row, one in zip(laid.rows, seen, strict=True)}
        left, budget = laid.cost.left_s, laid.plan.budget_s
        others = None
        if question is not None and budget is not None and left > budget:
            others = within(laid.request.card, question, budget, laid.pace)
        self._seen_ahead.emit(number, by_step, (laid.rows, dry), others)

    def _take_seen(
        self,
        number: int,
        seen: dict[int, tuple[Step, StepForecast]],
        dry: tuple[tuple[Row, ...], DryRun],
        others: list[Alternative] | None,
    ) -> None:
        if number == self._number:
            self._seen, self.instead = seen, others
            self.dry_rows, self.dry = dry
            self.foreseen.emit()

    def _take_comparison(self, comparison: Comparison) -> None:
        self.comparison = comparison
        self.compared.emit()

    def _later(self, work: Callable[[], None]) -> None:
        def guarded() -> None:
            try:
                work()
            except Exception:
                self.broke.emit(traceback.format_exc())

        if not self._closed:  # an answer may still come in after the book was let go of
            self._due.append(guarded)
            self._breath.start(BREATH_MS if len(self.rows) > SMALL else 0)

    def _submit(self) -> None:
        """Hand what is due to the pool, now that the window has drawn what changed."""
        due, self._due = self._due, []
        for work in due:
            self._pool.submit(work)


def pieces_of(rows: tuple[Row, ...], seconds: tuple[float, ...]) -> tuple[StagePiece, ...]:
    """Return the runs as the ribbon draws them; of many, those of one stage that stand alike are put together."""
    least = sum(seconds) / MAX_PIECES if len(rows) > MAX_PIECES else 0.0
    found: list[StagePiece] = []
    for row, length in zip(rows, seconds, strict=True):
        if length <= 0:
            continue
        stage, status = row.step.stage, _DRAWN_AS.get(row.status, row.status)
        last = found[-1] if found else None
        if last is not None and last.seconds < least and (last.stage, last.status) == (stage, status):
            found[-1] = StagePiece(stage, last.seconds + length, status, last.count + 1)
        else:
            found.append(StagePiece(stage, length, status))
    return tuple(found)


def _alike(one: Answer, other: Answer) -> bool:
    """Return whether two answers say the same of a plan: the same runs, the same pick, models or none."""
    if (one.evidence is None) != (other.evidence is None) or (one.models is None) != (other.models is None):
        return False
    if one.choice != other.choice or one.evidence is None or other.evidence is None:
        return one.choice == other.choice
    mine, theirs = one.evidence, other.evidence
    return (mine.runs, mine.elsewhere, mine.card.variant) == (theirs.runs, theirs.elsewhere, theirs.card.variant)


def _of(card: RigCard, evidence: Evidence | None) -> Evidence | None:
    """Return the evidence where it is of the machine as it is now; a moment after a change of variant it is not."""
    return evidence if evidence is not None and evidence.card.variant == card.variant else None


def _next(choice: Choice | None, models: Models | None) -> Callable[[Confirmation, int], Step | None] | None:
    if choice is None or models is None:
        return None
    load = models.heavy_load
    return lambda entry, so_far: confirming(entry, choice, load, so_far)
