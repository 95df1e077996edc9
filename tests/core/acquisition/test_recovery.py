"""After something went down: what the next start makes of it, and what a person may say."""

import datetime
import math
import threading
import time
from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np
import pytest

from niente.core.acquisition import recovery
from niente.core.acquisition.opening import open_bench
from niente.core.acquisition.recovery import rows_left_out
from niente.core.analysis.evidence import evidence_in
from niente.core.analysis.point_prediction import predict_point
from niente.core.model.frame import Frame
from niente.core.model.limits import Limits
from niente.core.model.plan import Plan
from niente.core.model.project import Project
from niente.core.model.records import FrameTaken, PlanEnded, Record, RunOpened
from niente.core.model.rig_card import RigCard
from niente.core.model.runs import RunKind
from niente.core.model.setting import Setting
from niente.core.planning.templates import plan_for
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.selection.answer import work_out
from niente.core.storage.reader import BookReader
from niente.core.storage.writer import BookWriter
from tests.conftest import Watcher, larkspur_rig, short_plan
from tests.waiting import PATIENCE_S, until

DEEP = Setting(sustained_power_w=120.0, voltage_offset_mv=-40.0)
DEEPER = DEEP.replaced("voltage_offset_mv", -50.0)
SHALLOW = DEEP.replaced("voltage_offset_mv", -10.0)


class OwnMachine(SimulatedRig):
    """A rig that Niente runs on, as far as its card says."""

    def describe(self) -> RigCard:
        return msgspec.structs.replace(super().describe(), on_this_computer=True)


@pytest.fixture
def boot(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Callable[[str], None]:
    """Let this computer have been started under a name."""
    file = tmp_path / "boot_id"
    monkeypatch.setattr(recovery, "BOOT_ID", file)
    file.write_text("first\n")

    def start_anew(name: str) -> None:
        file.write_text(f"{name}\n")

    return start_anew


def own_machine() -> OwnMachine:
    rig = larkspur_rig()
    made = OwnMachine.__new__(OwnMachine)
    made.__dict__ = rig.__dict__
    return made


def left_open(book: Path, rig: SimulatedRig, watcher: Watcher) -> Plan:
    """A book in which everything ended in the middle of a run at a deep offset."""
    bench = open_bench(rig, book, watcher.hear)
    plan = short_plan(bench.card, DEEP, DEEPER, SHALLOW, seconds=60.0)
    bench.close()
    writer = BookWriter(book)
    number = writer.add_document("plan", plan)
    card = rig.describe()
    run_id = writer.open_run(number, 0, RunKind.STEP, DEEP.over(card.stock), "vector", card, 100.0)
    for second in range(90):
        writer.add_frame(run_id, Frame(101.0 + second, np.full(len(card.channels), 50.0 + second)), at_once=True)
    writer.close()
    return plan


def test_a_machine_that_went_down_under_niente_has_failed(
    tmp_path: Path, watcher: Watcher, boot: Callable[[str], None]
) -> None:
    book = tmp_path / "own.niente"
    plan = left_open(book, own_machine(), watcher)
    boot("second")
    again = Watcher()
    bench = open_bench(own_machine(), book, again.hear)
    lost = bench.interrupted
    assert lost is not None
    assert (lost.machine_down, lost.to_be_judged) == (True, False)
    assert lost.seconds == 90.0
    assert lost.time_s.tolist() == list(np.arange(160.0, 191.0))  # the last 30 s
    assert lost.values.shape == (31, len(bench.card.channels))
    bench.start(plan, Limits())
    assert again.end().complete
    assert [event.step.setting for event in again.of(RunOpened)] == [SHALLOW]  # what failed, and what it implies, is not run
    bench.close()
    evidence = evidence_in(book)
    assert evidence is not None
    assert (evidence.runs[0].outcome, evidence.runs[0].failures) == ("failed", 1)


def test_niente_being_killed_says_nothing_of_the_setting(tmp_path: Path, watcher: Watcher, boot: Callable[[str], None]) -> None:
    book = tmp_path / "killed.niente"
    plan = left_open(book, own_machine(), watcher)
    again = Watcher()
    bench = open_bench(own_machine(), book, again.hear)
    assert bench.interrupted is not None
    assert bench.interrupted.machine_down is False
    bench.start(plan, Limits())
    assert again.end().complete
    assert len(again.of(RunOpened)) == 3
    bench.close()


def test_elsewhere_a_person_says_what_it_was(tmp_path: Path, watcher: Watcher) -> None:
    book = tmp_path / "beside.niente"
    plan = left_open(book, larkspur_rig(), watcher)
    again = Watcher()
    bench = open_bench(larkspur_rig(), book, again.hear)
    lost = bench.interrupted
    assert lost is not None
    assert lost.to_be_judged
    evidence = evidence_in(book)
    assert evidence is not None
    assert evidence.runs[0].outcome == "interrupted"
    assert [index for index, _ in rows_left_out(plan, bench.card, evidence, lost.run)] == [1]
    bench.judge(machine_down=True)
    assert bench.interrupted is not None
    assert not bench.interrupted.to_be_judged
    bench.judge(machine_down=False)  # it is judged: a second word changes nothing
    judged = evidence_in(book, evidence)
    assert judged is not None
    assert (judged.runs[0].outcome, judged.runs[0].failures) == ("failed", 1)
    bench.start(plan, Limits())
    assert again.end().complete
    assert [event.step.setting for event in again.of(RunOpened)] == [SHALLOW]
    bench.close()
    reader = BookReader(book)
    assert "judged by the person" in reader.runs()[0].reason
    closings = reader._link.execute("SELECT how FROM closing WHERE run_id = ?", (lost.run.id,)).fetchall()
    assert closings == [("interrupted",)]  # what was written stays; the verdict is an added row
    reader.close()


def test_a_book_that_was_closed_in_peace_has_no_aftermath(tmp_path: Path, watcher: Watcher, card: RigCard) -> None:
    book = tmp_path / "peace.niente"
    bench = open_bench(larkspur_rig(), book, watcher.hear)
    bench.start(short_plan(card, SHALLOW, seconds=30.0), Limits())
    watcher.end()
    bench.close()
    bench = open_bench(larkspur_rig(), book, watcher.hear)
    assert bench.interrupted is None
    bench.judge(machine_down=True)
    bench.close()


def test_a_computer_without_a_boot_name_leaves_it_open(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(recovery, "BOOT_ID", tmp_path / "none")
    assert recovery.boot_id() == ""


def test_a_book_that_was_last_written_in_the_future_runs_a_new_plan_all_the_same(
    tmp_path: Path, card: RigCard, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The clock was a day ahead; a plan that counts only what is measured from now on is run, and run once."""
    book, now = tmp_path / "ahead.niente", time.time
    cool = Setting(sustained_power_w=90.0)
    monkeypatch.setattr(time, "time", lambda: now() + 86_400.0)
    watcher = Watcher()
    bench = open_bench(larkspur_rig(), book, watcher.hear)
    bench.start(short_plan(card, cool, seconds=40.0), Limits())
    assert watcher.end().complete
    bench.close()
    monkeypatch.setattr(time, "time", now)
    since = datetime.datetime.now(datetime.UTC).isoformat()
    plan = msgspec.structs.replace(short_plan(card, cool, seconds=40.0), since=since)
    for expected in (1, 0):
        watcher = Watcher()
        bench = open_bench(larkspur_rig(), book, watcher.hear)
        bench.start(plan, Limits())
        assert watcher.end().complete
        bench.close()
        assert len(watcher.of(RunOpened)) == expected
    reader = BookReader(book)
    assert [run.outcome for run in reader.runs()] == ["done", "done"]
    assert reader.last_written_s() > now() + 80_000.0
    reader.close()


def test_a_plan_that_was_stopped_and_resumed_ends_in_the_same_answer(
    tmp_path: Path, sweep: tuple[Path, Project], limits: Limits
) -> None:
    """Within the intervals of both: it was stopped twice in the middle of a run, and the machine stood for a while."""
    book, stops = tmp_path / "resumed.niente", [9, 22]
    project = sweep[1]
    while True:
        watcher = Watcher()
        bench = open_bench(larkspur_rig(), book, watcher.hear)
        plan = plan_for(bench.card, project.question)
        if stops:
            after, begun = stops.pop(0), threading.Event()

            def note(event: Record, after: int = after, begun: threading.Event = begun) -> None:
                if isinstance(event, RunOpened) and event.run_id >= after:
                    begun.set()

            watcher.on = note
            bench.start(plan, project.limits)
            assert begun.wait(PATIENCE_S)
            bench.stop()
            assert not watcher.end().complete
            bench.close()
            continue
        bench.start(plan, project.limits)
        assert watcher.end().complete
        bench.close()
        break
    whole, resumed = (work_out(path, limits) for path in (sweep[0], book))
    assert whole.choice is not None
    assert whole.models is not None
    assert resumed.models is not None
    setting, load = whole.choice.pick.setting, whole.models.heavy_load
    one, other = (predict_point(models, setting, load, 28.0) for models in (whole.models, resumed.models))
    for mine, theirs in ((one.core_c, other.core_c), (one.in_room_dba, other.in_room_dba)):
        assert mine.value is not None
        assert theirs.value is not None
        assert abs(mine.value - theirs.value) <= math.hypot(mine.half_width or 0.0, theirs.half_width or 0.0)


@pytest.mark.parametrize("way", ["deleted", "moved"])
def test_a_book_that_goes_away_under_a_run_ends_the_plan_and_is_kept_beside(tmp_path: Path, card: RigCard, way: str) -> None:
    """With the next sample that is committed: the machine is made safe, and what was measured is in a file that is there."""
    book, watcher = tmp_path / "book.niente", Watcher()
    rig = larkspur_rig(pace=10.0)
    bench = open_bench(rig, book, watcher.hear)
    try:
        bench.start(short_plan(card, Setting(sustained_power_w=100.0), seconds=600.0), Limits())
        until(lambda: len([one for one in watcher.of(FrameTaken) if one.run_id]) >= 10)
        if way == "deleted":
            book.unlink()
        else:
            book.rename(tmp_path / "elsewhere.niente")
        ended = watcher.end()
    finally:
        bench.close()
    kept = tmp_path / "book.kept-1.niente"
    assert ended.error is not None
    assert "is gone" in ended.error.happened
    assert str(kept) in ended.error.safe
    assert rig.load == "idle"
    assert not book.exists()
    reader = BookReader(kept)
    (run,) = reader.runs()
    assert run.outcome == "stopped"
    assert reader.frames(run)[0].shape[0] >= 10
    reader.close()


def test_a_listener_that_raises_reaches_nobody(tmp_path: Path, card: RigCard) -> None:
    """A closed pipe, a full output: the machine is sampled, guarded and restored as if nobody listened."""
    heard: list[Record] = []

    def raises(record: Record) -> None:
        heard.append(record)
        raise BrokenPipeError("nobody reads")

    rig = larkspur_rig()
    bench = open_bench(rig, tmp_path / "book.niente", raises)
    bench.start(short_plan(card, Setting(sustained_power_w=100.0), seconds=60.0), Limits())
    until(lambda: not bench.busy)
    bench.close()
    assert any(isinstance(one, PlanEnded) and one.complete for one in heard)
    assert rig.load == "idle"
    assert rig.setting == card.safe
