"""A plan laid out: its runs against the book, what it costs, what is foreseen of it, and what else could be asked."""

from collections import Counter
from collections.abc import Callable

import msgspec

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.models import Models
from niente.core.model.plan import Confirmation, Entry, Guard, PickRuns, Plan, Search, Step
from niente.core.model.question import Question
from niente.core.model.rig_card import RigCard
from niente.core.planning.alternatives import Alternative, of_budget, of_step, of_target, within
from niente.core.planning.columns import columns_of
from niente.core.planning.confirmation import Decided, following
from niente.core.planning.cost import Pace, PlanCost, cost_of, pace_of, row_seconds
from niente.core.planning.dry_run import DryRun, dry_run
from niente.core.planning.forecast import StepForecast, foresee
from niente.core.planning.list_edits import KeyedEntries, keyed
from niente.core.planning.offers import Offer, offers
from niente.core.planning.progress import AnswerKeys, Row, RunStatus, plan_rows
from niente.core.planning.structured_search import takes_long
from niente.core.planning.templates import entries_of, plan_for
from niente.core.planning.validation import Checked
from niente.core.selection.answer import Answer

TARGET, BUDGET = "target", "budget"
"""What is compared when it is not an axis: how well a settled temperature is to be known, and how long it may take."""
MAX_PIECES, MAX_CHECKED = 600, 20_000
_DRAWN_AS = {RunStatus.EXPECTED: RunStatus.AHEAD, RunStatus.GUARD: RunStatus.FAILED}

MANY_RUNS = 500
"""In a book of more runs than this, even which of them are exposures is asked for elsewhere."""


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


class Outlook(msgspec.Struct, frozen=True):
    """What is foreseen of a laid out plan: ``forecasts`` for each of its rows, its dry run, and what fits the time budget in
    place of a question that does not (``None`` where it does)."""

    forecasts: list[StepForecast]
    dry: DryRun
    instead: list[Alternative] | None


class Comparison(msgspec.Struct, frozen=True):
    """What other ways of asking cost: other steps of the axis over a control, or other targets."""

    of: str
    ways: list[Alternative]


class PlanLayout:
    """Lays plans out, and keeps what it worked out before to use it again: the template's entries, the keys of steps, settings
    checked. One thread uses it."""

    def __init__(self) -> None:
        self._entries: tuple[RigCard, Question, tuple[Entry, ...]] | None = None
        self._plan: tuple[PlanRequest, KeyedEntries, Plan] | None = None
        self._keys: tuple[RigCard, AnswerKeys] | None = None
        self._checked: tuple[RigCard, Checked] | None = None

    def takes_long(self, request: PlanRequest, answer: Answer) -> bool:
        """Return whether a plan's searches have exposures to be gone through that nobody here has gone through yet."""
        evidence = _of(request.card, answer.evidence)
        if evidence is None:
            return False
        _, plan = self._plan_for(request)
        searches = [entry for entry in plan.entries if isinstance(entry, Search) and not entry.skip]
        if len(evidence.runs) > MANY_RUNS:
            return bool(searches)
        return any(takes_long(entry, request.card, evidence, plan.since_s) for entry in searches)

    def lay_out(self, request: PlanRequest, answer: Answer) -> LaidOutPlan:
        """Return the plan that follows from a request, laid out against what the book comes to."""
        listed, plan = self._plan_for(request)
        keys = self._keys_for(request.card)
        rows = plan_rows(plan, request.card, _of(request.card, answer.evidence), next_by(answer), keys)
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

    def look_ahead(self, laid: LaidOutPlan, models: Models | None, hour: float) -> Outlook:
        """Return what is foreseen of a plan that begins at an hour of the day, and what its dry run finds."""
        forecasts = foresee(models, [row.step for row in laid.rows])
        question = laid.request.question if laid.request.own is None else None
        dry = dry_run(
            laid.plan,
            laid.request.card,
            laid.rows,
            forecasts,
            question=question,
            pace=laid.pace,
            hour=hour,
            cost=laid.cost,
            checked=self._checked_for(laid.request.card),
        )
        left, budget = laid.cost.left_s, laid.plan.budget_s
        instead = None
        if question is not None and budget is not None and left > budget:
            instead = within(laid.request.card, question, budget, laid.pace)
        return Outlook(forecasts, dry, instead)

    def compare(self, what: str, laid: LaidOutPlan, models: Models | None) -> Comparison:
        """Return what another step of an axis would cost, or with ``TARGET`` another target, with ``BUDGET`` another time
        budget."""
        card, question, pace = laid.request.card, laid.request.question, laid.pace
        if what == TARGET:
            return Comparison(what, of_target(card, question, pace, models))
        if what == BUDGET:
            return Comparison(what, of_budget(card, question, laid.rows, laid.seconds, models))
        return Comparison(what, of_step(card, question, what, pace, models))

    def offer(self, card: RigCard, guards: tuple[Guard, ...] | None) -> tuple[Offer, ...]:
        """Return what each question would cost, before one is asked."""
        return offers(card, guards)

    def _plan_for(self, request: PlanRequest) -> tuple[KeyedEntries, Plan]:
        """Return the list of a request, and the plan that it comes to; the latest is kept."""
        if self._plan is None or self._plan[0] != request:
            own = request.own
            listed = KeyedEntries(own.entries) if own is not None else keyed(self._entries_for(request), request.question.edits)
            plan = own or plan_for(request.card, request.question, request.guards, listed.done)
            self._plan = (request, listed, plan)
        return self._plan[1], self._plan[2]

    def _entries_for(self, request: PlanRequest) -> tuple[Entry, ...]:
        plain = msgspec.structs.replace(request.question, edits=(), since="", budget_h=None, quiet=None)
        known = self._entries
        if known is None or known[1] != plain or known[0] != request.card:
            known = self._entries = (request.card, plain, entries_of(request.card, request.question))
            self._keys = None  # those of steps that are not there any more
        return known[2]

    def _keys_for(self, card: RigCard) -> AnswerKeys:
        if self._keys is None or self._keys[0] != card:
            self._keys = (card, AnswerKeys(card))
        return self._keys[1]

    def _checked_for(self, card: RigCard) -> Checked:
        """Return what was found of settings on a machine."""
        if self._checked is None or self._checked[0] != card or len(self._checked[1]) > MAX_CHECKED:
            self._checked = (card, {})
        return self._checked[1]


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


def _of(card: RigCard, evidence: Evidence | None) -> Evidence | None:
    """Return the evidence where it is of the machine as it is now; a moment after a change of variant it is not."""
    return evidence if evidence is not None and evidence.card.variant == card.variant else None


def next_by(answer: Answer) -> Callable[[Confirmation | PickRuns, int], Step | None] | None:
    """Return what entries that follow from the pick ask for next, by an answer; ``None`` while there is no pick."""
    if answer.choice is None or answer.models is None or answer.reached is None:
        return None
    decided = Decided(answer.models, answer.choice.limits, answer.reached, answer.choice)
    return lambda entry, so_far: following(entry, decided, so_far)
