"""Plans of a test: run on a stand-in as fast as it goes, with runs cut short where only the order counts."""

import shutil
from collections.abc import Callable
from pathlib import Path

import msgspec

from niente.core.acquisition.bench import Bench
from niente.core.acquisition.opening import open_bench
from niente.core.analysis.evidence import Evidence, evidence_in
from niente.core.model.limits import Limits
from niente.core.model.plan import Confirmation, Entry, Exposure, PickRuns, Plan, Search
from niente.core.model.question import Question
from niente.core.model.records import Record, StateChanged
from niente.core.model.rig_card import RigCard
from niente.core.model.states import BenchState
from niente.core.planning.progress import Row, plan_rows
from niente.core.planning.templates import first_question, plan_for
from niente.core.rigs.protocol import Rig
from niente.core.rigs.registry import open_rig
from tests.conftest import Watcher


def card_of(name: str) -> RigCard:
    rig = open_rig(name, seed=3)
    try:
        return rig.describe()
    finally:
        rig.close()


def short(plan: Plan, seconds: float = 25.0) -> Plan:
    """The same plan, every run of it cut to so many seconds, and searches to a quarter of an hour."""

    def cut(entry: Entry) -> Entry:
        if isinstance(entry, Confirmation):
            return msgspec.structs.replace(entry, exposure_s=seconds)
        if isinstance(entry, PickRuns):
            return msgspec.structs.replace(entry, exposure=Exposure(seconds, seconds), confirm_s=seconds, max_runs=2)
        rest = min(entry.exposure.idle_s, seconds)
        once = Exposure(min_s=seconds, max_s=seconds, idle_s=rest)
        if isinstance(entry, Search):
            return msgspec.structs.replace(entry, exposure=once, budget_s=min(entry.budget_s, 900.0))
        return msgspec.structs.replace(entry, exposure=once)

    return msgspec.structs.replace(plan, entries=tuple(cut(entry) for entry in plan.entries))


def run(
    plan: Plan,
    rig: Rig,
    book: Path,
    on: Callable[[Record, Bench], None] = lambda event, bench: None,
    limits: Limits | None = None,
) -> tuple[Watcher, Evidence]:
    """Run a plan to its end; hands do at once what they are asked."""
    watcher = Watcher()
    bench = open_bench(rig, book, watcher.hear)

    def hear(event: Record) -> None:
        if isinstance(event, StateChanged) and event.state == BenchState.WAITING_FOR_HANDS:
            bench.confirm()
        on(event, bench)

    watcher.on = hear
    try:
        bench.start(plan, limits or Limits(clean_minutes=1.0))
        watcher.end()
    finally:
        bench.close()
    return watcher, read(book)


def read(book: Path) -> Evidence:
    found = evidence_in(book)
    assert found is not None
    return found


def choose_question(name: str, template: str, **changed: object) -> tuple[RigCard, Question]:
    """A question as it starts on a rig, with some of it changed."""
    card = card_of(name)
    return card, msgspec.structs.replace(first_question(card, template), **changed)


def plan_of(card: RigCard, question: Question) -> tuple[Plan, tuple[Row, ...]]:
    plan = plan_for(card, question)
    return plan, plan_rows(plan, card)


def copy(book: Path, to: Path) -> Path:
    return Path(shutil.copyfile(book, to))
