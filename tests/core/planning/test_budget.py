"""What a plan may take and what it throws away: every run is paid for, and what still says what it said is kept."""

from pathlib import Path

import msgspec
import numpy as np
import pytest

from niente.core.model.commands import Command
from niente.core.model.limits import Limits
from niente.core.model.plan import Exposure, SearchMethod
from niente.core.model.question import Axis, Span
from niente.core.model.records import RunOpened
from niente.core.model.runs import RunKind, RunOutcome
from niente.core.planning.progress import RunStatus, plan_rows
from niente.core.planning.templates import first_question, plan_for
from niente.core.rigs.registry import open_rig
from niente.core.storage.reader import BookReader
from tests.conftest import larkspur_rig
from tests.core.planning.plans import card_of, run, short
from tests.core.planning.test_progress import plan, step
from tests.grids import grid_question

CARD = card_of("larkspur")


def spent_s(book: Path, plan_number: int | None = None) -> float:
    reader = BookReader(book)
    try:
        runs = [one for one in reader.runs() if plan_number is None or one.plan_id == plan_number]
        return sum((one.closed_rig_time_s or one.rig_time_s) - one.rig_time_s for one in runs)
    finally:
        reader.close()


def test_a_run_that_was_voided_is_paid_for_too(tmp_path: Path) -> None:
    """Four runs of a minute and 230 s: the first is repeated once, so that two more are all that fits."""
    repeated: list[int] = []

    def on(event: object, bench) -> None:  # type: ignore[no-untyped-def]
        if isinstance(event, RunOpened) and not repeated:
            repeated.append(event.run_id)
            bench.send_command(Command.REPEAT)

    long = [step(watts, exposure=Exposure(60.0, 60.0)) for watts in (70.0, 80.0, 90.0, 100.0)]
    book = tmp_path / "b.niente"
    watcher, evidence = run(plan(*long, budget_s=130.0), larkspur_rig(), book, on)
    assert not watcher.end().complete
    assert "time budget" in watcher.end().reason
    outcomes = [one.outcome for one in evidence.runs]
    assert outcomes.count(RunOutcome.VOIDED) == 1
    voided_s = next(one.seconds for one in evidence.runs if one.outcome == "voided")
    assert outcomes.count(RunOutcome.DONE) == (2 if voided_s < 8.0 else 1)
    assert spent_s(book) <= 130.0 + 2.0


def test_idle_time_before_a_run_is_paid_for(tmp_path: Path) -> None:
    cold = [step(watts, exposure=Exposure(30.0, 30.0, idle_s=90.0)) for watts in (80.0, 100.0, 120.0)]
    book = tmp_path / "b.niente"
    watcher, evidence = run(plan(*cold, budget_s=260.0), larkspur_rig(), book)
    assert "time budget" in watcher.end().reason
    assert len(evidence.runs) == 2
    assert spent_s(book) == pytest.approx(240.0, abs=5.0)
    reader = BookReader(book)
    assert [one.kind for one in reader.runs()].count(RunKind.IDLE) == 2
    reader.close()


@pytest.mark.parametrize("hours", [2.0, 4.0])
def test_a_whole_plan_keeps_its_budget_within_one_run(tmp_path: Path, hours: float) -> None:
    """Runs that follow from a search, rungs that fail and heat runs at an offset that moved: all of them count."""
    question = msgspec.structs.replace(grid_question(CARD), budget_h=hours)
    book = tmp_path / "b.niente"
    watcher, evidence = run(plan_for(CARD, question), open_rig("larkspur", seed=3), book, limits=Limits())
    longest = max(one.seconds for one in evidence.runs)
    assert spent_s(book) <= 3600.0 * hours + longest
    if not watcher.end().complete:
        assert "time budget" in watcher.end().reason


def test_a_rung_that_passes_beyond_where_a_search_was_expected_to_fail_is_counted(tmp_path: Path) -> None:
    """Bisection with two passes: the first pass of a rung that was expected to fail leaves as many runs open as before, and is
    an answer all the same."""
    axis = Axis("voltage_offset_mv", span=Span(-60.0, 0.0, 5.0))
    question = msgspec.structs.replace(
        first_question(CARD, "undervolt-ladder").with_axis(axis), method=SearchMethod.BISECTION, passes=2
    )
    asked = short(plan_for(CARD, question), 30.0)
    watcher, evidence = run(asked, open_rig("larkspur", seed=1), tmp_path / "b.niente")
    assert watcher.end().complete, watcher.end().reason
    rows = plan_rows(asked, CARD, evidence)
    assert all(row.status in (RunStatus.DONE, RunStatus.LEFT_OUT, RunStatus.FAILED) for row in rows)
    passed = [row for row in rows if row.step.stage == "undervolt" and row.status == RunStatus.DONE]
    assert max(np.unique([row.step.setting.voltage_offset_mv for row in passed], return_counts=True)[1]) >= 2
