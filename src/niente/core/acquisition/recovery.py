"""After something went down: what was running, its last seconds, whether that says anything of the setting, and what follows.

A machine that goes down under a setting has measured something. Niente being killed, or the power cut, has not. Which of
the two it was follows from the computer's boot where Niente runs on the machine itself; elsewhere a person says so.
"""

from collections.abc import Sequence
from pathlib import Path

import msgspec

from niente.core.analysis.evidence import Evidence
from niente.core.model.frame import RigEvent, RigEventKind
from niente.core.model.plan import Plan
from niente.core.model.records import BenchStarted, RigEventSeen, RunClosed, RunJudged
from niente.core.model.rig_card import RigCard
from niente.core.model.runs import RunKind, RunOutcome
from niente.core.planning.progress import Row, plan_rows
from niente.core.science.arrays import Array
from niente.core.storage.kinds import START
from niente.core.storage.reader import BookReader, RunRecord
from niente.core.storage.recorder import Recorder

BOOT_ID = Path("/proc/sys/kernel/random/boot_id")
LAST_S = 30.0


class InterruptedRun(msgspec.Struct, frozen=True):
    """The run that was open when everything ended: its last samples ``(n,)`` and ``(n, channels)``, how long it had lasted,
    and whether the machine went down in it (``None``: cannot be told from here)."""

    run: RunRecord
    seconds: float
    time_s: Array
    values: Array
    machine_down: bool | None

    @property
    def to_be_judged(self) -> bool:
        """Whether a person has to say what it was."""
        return self.machine_down is None and self.run.kind == RunKind.STEP


def boot_id() -> str:
    """Return what tells one start of this computer from the next; empty where that is not known."""
    try:
        return BOOT_ID.read_text().strip()
    except OSError:
        return ""


def close_open_runs(book_path: Path, recorder: Recorder, card: RigCard) -> InterruptedRun | None:
    """Close what an earlier end left open, write that this start begins, and return what the last open run came to.

    Where Niente runs on the machine itself and the computer was started anew since, the machine went down: the run
    failed. Where it runs there and the computer was not, only Niente ended.
    """
    book = BookReader(book_path)
    try:
        found = [run for run in book.runs() if run.outcome is None]
        starts = book.events(kind=START)
        down: bool | None = None
        if card.on_this_computer and starts and boot_id():
            down = starts[-1].body != boot_id()
        last: InterruptedRun | None = None
        for run in found:
            time_s, values = book.frames(run)
            end = float(time_s[-1]) if time_s.shape[0] else run.rig_time_s
            recent = time_s >= end - LAST_S
            last = InterruptedRun(run, end - run.rig_time_s, time_s[recent], values[recent], down)
            _close(recorder, run, down, end)
    finally:
        book.close()
    recorder.write(BenchStarted(boot_id()))
    return last


def _close(recorder: Recorder, run: RunRecord, down: bool | None, end_s: float) -> None:
    outcome = RunOutcome.INTERRUPTED
    words = "Niente or the machine went down in this run" if down is None else "Niente ended in this run; the machine stayed up"
    if down and run.kind == RunKind.STEP:
        event = RigEvent(RigEventKind.CRASH, "the machine went down, Niente with it")
        recorder.write(RigEventSeen(run.id, end_s, event))
        outcome, words = RunOutcome.FAILED, "the machine went down in this run"
    recorder.write(RunClosed(run.id, run.step, outcome, words, end_s, run.kind))


def verdict_on(run: RunRecord, *, machine_down: bool) -> RunJudged:
    """Return what a person says of a run that was found open; the closing that it corrects stays in the book."""
    return RunJudged(run.id, RunOutcome.FAILED if machine_down else RunOutcome.INTERRUPTED)


def rows_left_out(plan: Plan, card: RigCard, evidence: Evidence, run: RunRecord) -> list[tuple[int, Row]]:
    """Return the runs that a plan would not make any more, with their indices now, if the machine is taken to have failed in
    a run that was interrupted: those it implies, and those that a search then does not ask for. The run itself is none."""

    def rows(outcome: RunOutcome, failures: int) -> Sequence[Row]:
        runs = tuple(
            msgspec.structs.replace(one, outcome=outcome, failures=failures) if one.run_id == run.id else one
            for one in evidence.runs
        )
        return plan_rows(plan, card, msgspec.structs.replace(evidence, runs=runs))

    def what(row: Row) -> tuple[object, ...]:
        return row.step.setting.over(card.stock).key(), row.step.load, row.step.variant

    left = {what(row) for row in rows(RunOutcome.FAILED, 1) if not row.status.closed}
    itself = run.setting.over(card.stock).key(), run.load
    return [
        (index, row)
        for index, row in enumerate(rows(RunOutcome.INTERRUPTED, 0))
        if not row.status.closed and what(row) not in left and what(row)[:2] != itself
    ]
