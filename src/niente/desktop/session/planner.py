"""The plan as the window holds it: made from the question, laid out against the book, foreseen and run dry.

A plan of many runs is worked out away from the window's thread, and what is foreseen always is; what comes too late is
dropped, and until it comes the last stands.
"""

import time
import traceback
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import msgspec
from PySide6.QtCore import QObject, QTimer, Signal

from niente.core.analysis.models import Models
from niente.core.model.plan import Guard, Plan, Step
from niente.core.model.question import ListEdit, Question
from niente.core.model.records import RunOpened
from niente.core.model.rig_card import RigCard
from niente.core.planning.alternatives import Alternative
from niente.core.planning.cost import AIR, Pace, naive_runs
from niente.core.planning.dry_run import DryRun
from niente.core.planning.forecast import NO_FORECAST, StepForecast
from niente.core.planning.layout import Comparison, LaidOutPlan, Outlook, PlanLayout, PlanRequest
from niente.core.planning.list_edits import KeyedEntries
from niente.core.planning.progress import Row
from niente.core.selection.answer import Answer
from niente.core.selection.worker import Worker

BREATH_MS = 100
"""Work on a long plan waits so long, so that the window has drawn before it: both take turns at the interpreter."""
SMALL = 300
"""A question of up to this many runs is laid out at once; a larger one away from the window's thread."""


class Planner(QObject):
    """Makes the plan, and keeps it true as the book grows. ``worker`` does what takes long, best in a process."""

    changed = Signal()
    """There is another plan, or its runs stand otherwise."""
    foreseen = Signal()
    """What is foreseen of the runs, and the dry run, came."""
    compared = Signal()
    """What other steps or targets would cost came."""
    offered = Signal(object)
    """What each question would cost came: a tuple of offers."""
    broke = Signal(str)
    _compared = Signal(object)
    _laid_out = Signal(int, object)
    _seen_ahead = Signal(int, object, object)

    def __init__(self, worker: Worker[PlanLayout], parent: QObject | None = None) -> None:
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
        self._unsummed: list[RunOpened] = []
        self._answer = Answer()
        self._request: PlanRequest | None = None
        self._here, self._worker = PlanLayout(), worker
        """Each keeps what it worked out before: in the window's thread, and where what takes long is done."""
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

    # -- the run under way ---------------------------------------------------------------------------------------

    def run_ended(self, opened: RunOpened) -> None:
        """Take note of a run that is over, before its readings are summed up: it is not to come any more."""
        self._unsummed.append(opened)

    def index_of_run(self, opened: RunOpened) -> int | None:
        """Return the index of a run that the bench makes among the plan's; ``None`` where nothing is left."""
        return self._index_of(opened, self._over())

    def ahead(self, running: int | None) -> list[tuple[int, Row]]:
        """Return the runs still to come, each with its index; ``running`` is under way."""
        over = self._over()
        return [
            (index, row)
            for index, row in enumerate(self.rows)
            if not row.status.closed and index != running and index not in over
        ]

    def _over(self) -> set[int]:
        """Return the rows of runs that are over, and stand as still to come until they are summed up."""
        over: set[int] = set()
        for opened in self._unsummed:
            index = self._index_of(opened, over)
            if index is not None:
                over.add(index)
        return over

    def _index_of(self, opened: RunOpened, over: set[int]) -> int | None:
        """Return a run's row: that of its index where it sets the same; a search may have grown, then it is the first open."""
        at, rows = opened.index, self.rows
        if at < len(rows) and (rows[at].step.setting, rows[at].step.load) == (opened.step.setting, opened.step.load):
            return at
        return next((index for index, row in enumerate(rows) if not row.status.closed and index not in over), None)

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
        laid = self.laid
        if laid is None or laid.request.own is not None:
            return
        models = self._answer.models
        self._later(lambda: self._compared.emit(self._worker.call(PlanLayout.compare, what, laid, models)))

    def offer(self, card: RigCard, guards: tuple[Guard, ...] | None) -> None:
        """Work out what each question would cost; ``offered`` tells."""
        self._later(lambda: self.offered.emit(self._worker.call(PlanLayout.offer, card, guards)))

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
        self._worker.close()
        self._pool.shutdown(wait=True, cancel_futures=True)

    # -- inside --------------------------------------------------------------------------------------------------

    def _lay(self, request: PlanRequest) -> None:
        self._request = request
        self._number += 1
        number, answer = self._number, self._answer
        size = len(request.own.entries) if request.own is not None else naive_runs(request.card, request.question)
        if size <= SMALL and not self._here.takes_long(request, answer):
            self._take(number, self._here.lay_out(request, answer))
        else:
            summary = msgspec.structs.replace(answer, mapped=None, method_steps=(), residuals=())
            self._later(lambda: self._laid_out.emit(number, self._worker.call(PlanLayout.lay_out, request, summary)))

    def _take(self, number: int, laid: LaidOutPlan) -> None:
        if number != self._number:
            return
        self.laid, self._listed = laid, laid.keyed
        evidence = self._answer.evidence
        if evidence is not None:
            known = {run.run_id for one in (evidence, *evidence.elsewhere.values()) for run in one.runs if not run.running}
            self._unsummed = [opened for opened in self._unsummed if opened.run_id not in known]
        self.changed.emit()
        models = self._answer.models
        self._later(lambda: self._look_ahead(number, laid, models))

    def _look_ahead(self, number: int, laid: LaidOutPlan, models: Models | None) -> None:
        """Work out what is foreseen, and run the plan dry."""
        if number == self._number:
            now = time.localtime()
            hour = now.tm_hour + now.tm_min / 60.0
            self._seen_ahead.emit(number, laid.rows, self._worker.call(PlanLayout.look_ahead, laid, models, hour))

    def _take_seen(self, number: int, rows: tuple[Row, ...], outlook: Outlook) -> None:
        if number == self._number:
            self._seen = {id(row.step): (row.step, one) for row, one in zip(rows, outlook.forecasts, strict=True)}
            self.dry_rows, self.dry, self.instead = rows, outlook.dry, outlook.instead
            self.foreseen.emit()

    def _take_comparison(self, comparison: Comparison) -> None:
        self.comparison = comparison
        self.compared.emit()

    def _later(self, work: Callable[[], None]) -> None:
        def guarded() -> None:
            try:
                work()
            except Exception:
                if self._closed:  # its process was ended
                    return
                self.broke.emit(traceback.format_exc())

        if not self._closed:  # an answer may still come in after the book was let go of
            self._due.append(guarded)
            self._breath.start(BREATH_MS if len(self.rows) > SMALL else 0)

    def _submit(self) -> None:
        """Hand what is due to the pool, now that the window has drawn what changed."""
        due, self._due = self._due, []
        for work in due:
            self._pool.submit(work)


def _alike(one: Answer, other: Answer) -> bool:
    """Return whether two answers say the same of a plan: the same runs, the same pick, models or none."""
    if (one.evidence is None) != (other.evidence is None) or (one.models is None) != (other.models is None):
        return False
    if one.choice != other.choice or one.evidence is None or other.evidence is None:
        return one.choice == other.choice
    mine, theirs = one.evidence, other.evidence
    return (mine.runs, mine.elsewhere, mine.card.variant) == (theirs.runs, theirs.elsewhere, theirs.card.variant)
