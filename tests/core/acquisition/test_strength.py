"""What a night can do to a bench: kills, a full disk, a clock set back, a silence, a sleep. No committed sample is ever lost,
no guard is late, and the safe setting is put back, or the person is told that it could not be."""

import os
import random
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np
import pytest

from niente.core.acquisition.bench import Bench
from niente.core.model.commands import Command
from niente.core.model.limits import Limits
from niente.core.model.records import FrameTaken, RunClosed, RunOpened, WarningRaised
from niente.core.model.rig_card import RigCard
from niente.core.model.runs import RunOutcome
from niente.core.model.setting import Setting
from niente.core.planning.templates import grid_project
from niente.core.rigs.simulated.faults import Fault, FaultKind
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.storage.reader import BookReader
from niente.core.storage.writer import BookWriter
from tests.conftest import Watcher, larkspur_rig, short_plan
from tests.core.acquisition.nightly import PLAN
from tests.waiting import PATIENCE_S, until

Make = Callable[..., Bench]
COOL = Setting(sustained_power_w=100.0, fan_duty={"case": 60.0, "cooler": 60.0})
KILLS = 50


def closings(watcher: Watcher) -> list[tuple[int, str]]:
    return [(event.index, event.outcome) for event in watcher.of(RunClosed)]


def samples_in(book: Path) -> dict[int, bytes]:
    """All samples of every run, as they stand on the disk."""
    reader = BookReader(book)
    try:
        return {run.id: np.column_stack(reader.frames(run)).tobytes() for run in reader.runs()}
    finally:
        reader.close()


def wait_for_end_of(process: int) -> None:
    """Wait until a process that is no child of ours is gone, and with it its hold on the book."""
    until(lambda: not Path(f"/proc/{process}").exists())


def test_fifty_kills_at_random_moments_lose_nothing(tmp_path: Path) -> None:
    """kill -9 again and again, on one book: what stood there before a kill stands there after it, whole and in order."""
    book = tmp_path / "night.niente"
    moments = random.Random(7)
    kept: dict[int, bytes] = {}
    words = [sys.executable, "-m", "tests.core.acquisition.nightly"]
    nights = subprocess.Popen(
        words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, bufsize=1, cwd=Path(__file__).parents[3]
    )
    assert nights.stdin is not None
    assert nights.stdout is not None
    for _ in range(KILLS):
        print(book, file=nights.stdin)
        process = int(nights.stdout.readline())
        time.sleep(moments.uniform(0.0, 0.2 if any(kept.values()) else 1.0))  # a busy machine takes a while to a first sample
        seen = samples_in(book)
        os.kill(process, signal.SIGKILL)
        wait_for_end_of(process)
        after = samples_in(book)
        for run, samples in {**kept, **seen}.items():
            assert after[run].startswith(samples)
        kept = after
    nights.stdin.close()
    assert nights.wait(PATIENCE_S) == 0
    nights.stdout.close()
    link = sqlite3.connect(book)
    assert link.execute("PRAGMA integrity_check").fetchone() == ("ok",)
    link.close()
    reader = BookReader(book)
    for record in reader.runs():
        time_s, values = reader.frames(record)
        assert np.all(np.diff(time_s) == 1.0)
        assert np.all(np.isfinite(values))
    assert {run.outcome for run in reader.runs()[:-1]} <= {"interrupted", RunOutcome.DONE}
    assert len(reader.plans()) == 1
    assert next(iter(reader.plans().values())) == PLAN
    reader.close()
    assert sum(len(samples) for samples in kept.values()) > 0


def test_a_full_disk_ends_the_plan_safely_and_loses_nothing(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    """SQLite's own limit on pages gives the error that a full disk gives."""
    bench = make_bench()
    rig: SimulatedRig = bench.rig  # type: ignore[assignment]
    link = bench.writer._link
    pages = int(link.execute("PRAGMA page_count").fetchone()[0])

    def on(event: object) -> None:
        if isinstance(event, RunOpened) and event.index == 1:
            link.execute(f"PRAGMA max_page_count={pages + 60}")

    watcher.on = on
    bench.start(short_plan(card, COOL, COOL, seconds=3000.0), Limits())
    ended = watcher.end()
    assert ended.error is not None
    assert ended.error.kind == "BookError"
    assert "full" in ended.error.happened
    assert "Free some space" in ended.error.remedy
    assert (rig.setting, rig.load) == (card.safe, "idle")
    told = [event.frame.time_s for event in watcher.of(FrameTaken) if event.run_id == 2]
    link.execute("PRAGMA max_page_count=1000000")
    watcher.over.clear()
    watcher.on = lambda event: None
    bench.start(short_plan(card, COOL, COOL, seconds=3000.0), Limits())
    assert watcher.end().complete
    book = BookReader(bench.writer.path)
    assert [run.outcome for run in book.runs() if run.kind == "step"][-1] == RunOutcome.DONE
    kept = book.frames(book.runs()[1])[0].tolist()
    assert kept[: len(told)] == told  # also what could not be written while the disk was full
    book.close()


def test_a_clock_that_is_set_back_harms_nothing(
    make_bench: Make, watcher: Watcher, card: RigCard, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Runs take the rig's monotonic time; the wall's, in the book, never goes back, so that they count for their plan."""
    from niente.core.planning.templates import anew, plan_for

    bench = make_bench()
    project = grid_project(card)
    plan = short_plan(card, COOL, COOL, seconds=120.0)
    since = plan_for(card, anew(project.question)).since
    plan = msgspec.structs.replace(plan, since=since)
    real = time.time

    def on(event: object) -> None:
        if isinstance(event, RunOpened) and event.index == 0:
            monkeypatch.setattr(time, "time", lambda: real() - 7200.0)

    watcher.on = on
    bench.start(plan, Limits())
    assert watcher.end().complete
    assert closings(watcher) == [(0, "done"), (1, "done")]
    bench.note("after the clock was set back")
    monkeypatch.setattr(time, "time", real)
    book = BookReader(bench.writer.path)
    written = [item.written_at for item in book.events()]
    assert written == sorted(written)
    opened = [run.opened_at for run in book.runs()]
    assert opened == sorted(opened)
    book.close()
    bench.close()
    monkeypatch.setattr(time, "time", lambda: real() - 7200.0)  # set back while Niente was closed
    writer = BookWriter(bench.writer.path)
    writer.add_event("note", "the next day")
    writer.close()
    book = BookReader(bench.writer.path)
    assert book.events()[-1].written_at >= written[-1]
    book.close()


def test_a_rig_that_is_silent_for_twenty_seconds_is_given_up_and_made_safe(
    make_bench: Make, watcher: Watcher, card: RigCard
) -> None:
    """Twenty seconds of the wall's time, told at a twentieth of the patience."""
    bench = make_bench(larkspur_rig(Fault(FaultKind.SILENT, 100.0)), silent_limit_s=1.0)
    start = time.monotonic()
    bench.start(short_plan(card, COOL, seconds=3000.0), Limits())
    ended = watcher.end()
    assert time.monotonic() - start < 10.0
    assert "no sample for 1 seconds" in ended.reason
    assert ended.error is not None
    assert "as far as the rig can be told" in ended.error.safe
    assert (bench.rig.setting, bench.rig.load) == (card.safe, "idle")  # type: ignore[attr-defined]


def test_a_sleep_in_a_run_voids_it(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    """A suspend counts in the rig's time: the run with the hole is kept, told, and made again."""
    bench = make_bench(larkspur_rig(Fault(FaultKind.SUSPEND, 100.0, seconds=2400.0)))
    bench.start(short_plan(card, COOL, seconds=200.0), Limits())
    assert watcher.end().complete
    assert closings(watcher) == [(0, "voided"), (0, "done")]
    assert any("no sample for 40" in event.text for event in watcher.of(WarningRaised))
    book = BookReader(bench.writer.path)
    assert [item.kind for item in book.events(book.runs()[0])] == ["gap"]
    assert [run.outcome for run in book.runs()] == ["voided", "done"]
    book.close()


def test_repeat_makes_the_run_again_at_once(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    bench = make_bench()
    told: list[bool] = []

    def on(event: object) -> None:
        if isinstance(event, FrameTaken) and event.run_id == 1 and not told and len(watcher.of(FrameTaken)) > 30:
            told.append(True)
            bench.send_command(Command.REPEAT)

    watcher.on = on
    bench.start(short_plan(card, COOL, seconds=200.0), Limits())
    assert watcher.end().complete
    assert closings(watcher) == [(0, "voided"), (0, "done")]


def test_the_pace_may_change_in_the_middle(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    """However the pace changes, a run has the samples that its rule asks for, one a second."""
    bench = make_bench(larkspur_rig(pace=600.0))
    paces = iter((60.0, None, 600.0, None))

    def on(event: object) -> None:
        if isinstance(event, FrameTaken) and event.run_id is not None and len(watcher.of(FrameTaken)) % 40 == 0:
            bench.set_pace(next(paces, None))

    watcher.on = on
    bench.start(short_plan(card, COOL, seconds=300.0), Limits())
    assert watcher.end().complete
    book = BookReader(bench.writer.path)
    time_s, _ = book.frames(book.runs()[0])
    assert np.array_equal(np.diff(time_s), np.ones(300))
    book.close()


def test_closing_in_the_middle_leaves_the_rig_safe_and_the_book_whole(
    make_bench: Make, watcher: Watcher, card: RigCard
) -> None:
    bench = make_bench()
    rig: SimulatedRig = bench.rig  # type: ignore[assignment]

    def enough() -> bool:
        return len([event for event in watcher.of(FrameTaken) if event.run_id is not None]) > 50

    bench.start(short_plan(card, COOL, seconds=4000.0), Limits())
    until(enough)
    bench.close()
    assert (rig.setting, rig.load) == (card.safe, "idle")
    book = BookReader(bench.writer.path)
    (run,) = book.runs()
    assert run.outcome == "stopped"
    assert book.frames(run)[0].shape[0] == len([event for event in watcher.of(FrameTaken) if event.run_id == run.id])
    book.close()
