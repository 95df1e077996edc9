"""The book keeps what it is given, and says what is wrong with what is no book."""

import sqlite3
import subprocess
import time
from pathlib import Path

import numpy as np
import pytest

from niente.core.acquisition.opening import open_bench
from niente.core.acquisition.recovery import close_open_runs
from niente.core.model.errors import BookError
from niente.core.model.frame import Frame
from niente.core.model.limits import Limits
from niente.core.model.records import FrameTaken
from niente.core.model.rig_card import RigCard
from niente.core.model.runs import RunKind, RunOutcome
from niente.core.model.setting import Setting
from niente.core.storage.connection import WriterLock
from niente.core.storage.reader import BookReader
from niente.core.storage.recorder import Recorder
from niente.core.storage.schema import APPLICATION_ID, SCHEMA_VERSION
from niente.core.storage.writer import BookWriter
from tests.conftest import Watcher, larkspur_rig, short_plan


@pytest.fixture
def writer(tmp_path: Path) -> BookWriter:
    return BookWriter(tmp_path / "test.niente")


def open_a_run(writer: BookWriter, card: RigCard) -> int:
    plan = writer.add_document("plan", short_plan(card, Setting()))
    return writer.open_run(plan, 0, RunKind.STEP, Setting(sustained_power_w=100.0), "vector", card, 0.0)


def frame(card: RigCard, at: float) -> Frame:
    return Frame(at, np.arange(float(len(card.channels))) + at)


def test_frames_come_back_as_they_went_in(writer: BookWriter, card: RigCard) -> None:
    run_id = open_a_run(writer, card)
    for second in range(1000):
        writer.add_frame(run_id, frame(card, float(second)), at_once=second % 7 == 0)
    writer.add_event("note", "a smell of dust", run_id, 5.0)
    writer.close_run(run_id, RunOutcome.DONE, "known well enough", 999.0)
    writer.close()
    book = BookReader(writer.path)
    (run,) = book.runs()
    time_s, values = book.frames(run)
    assert np.array_equal(time_s, np.arange(1000.0))
    assert np.array_equal(values[17], np.arange(len(card.channels)) + 17.0)
    assert (run.outcome, run.setting) == ("done", Setting(sustained_power_w=100.0))
    assert book.events(run)[0].body == "a smell of dust"
    book.close()


def test_nothing_written_is_ever_changed(writer: BookWriter, card: RigCard) -> None:
    run_id = open_a_run(writer, card)
    writer.add_frame(run_id, frame(card, 1.0), at_once=True)
    writer.close_run(run_id, RunOutcome.DONE, "", 1.0)
    writer.close()
    link = sqlite3.connect(writer.path)
    for table in ("document", "run", "frames", "closing"):
        for verb in (f"DELETE FROM {table}", f"UPDATE {table} SET rowid = rowid + 1000"):
            with pytest.raises(sqlite3.IntegrityError, match="append only"):
                link.execute(verb)
    assert link.execute("PRAGMA application_id").fetchone()[0] == APPLICATION_ID
    assert link.execute("PRAGMA user_version").fetchone()[0] == SCHEMA_VERSION
    assert link.execute("PRAGMA journal_mode").fetchone()[0] == "wal"
    link.close()


def test_a_second_writer_is_turned_away_and_a_reader_let_in(writer: BookWriter, card: RigCard) -> None:
    run_id = open_a_run(writer, card)
    with pytest.raises(BookError, match="being written by another"):
        BookWriter(writer.path)
    follower = BookReader(writer.path)
    writer.add_frame(run_id, frame(card, 1.0), at_once=True)
    assert follower.frames(follower.runs()[0])[0].shape == (1,)
    with pytest.raises(sqlite3.OperationalError, match="readonly"):
        follower._link.execute("INSERT INTO document (kind, written_at, body) VALUES ('x', 0.0, '')")
    follower.close()
    writer.close()
    BookWriter(writer.path).close()


@pytest.mark.parametrize("content", [b"some text that is no database", b"SQLite format 3\0" + bytes(200)])
def test_what_is_no_book_is_said_to_be_none(tmp_path: Path, content: bytes) -> None:
    path = tmp_path / "letter.niente"
    path.write_bytes(content)
    with pytest.raises(BookError, match="not a Niente book"):
        BookReader(path)
    with pytest.raises(BookError, match="not a Niente book"):
        BookWriter(path)
    assert path.read_bytes() == content  # untouched


def test_a_book_from_the_future_is_left_alone(writer: BookWriter) -> None:
    writer.close()
    link = sqlite3.connect(writer.path)
    link.execute(f"PRAGMA user_version={SCHEMA_VERSION + 1}")
    link.close()
    with pytest.raises(BookError, match="newer Niente"):
        BookWriter(writer.path)
    with pytest.raises(BookError, match="newer Niente"):
        BookReader(writer.path)


def test_a_missing_book_is_said_to_be_missing(tmp_path: Path) -> None:
    with pytest.raises(BookError, match="There is no book"):
        BookReader(tmp_path / "none.niente")


def test_a_full_disk_loses_nothing(writer: BookWriter, card: RigCard) -> None:
    """The disk is made full by SQLite's own page limit; frames wait in memory and go in once there is room."""
    run_id = open_a_run(writer, card)
    pages = writer._link.execute("PRAGMA page_count").fetchone()[0]
    writer._link.execute(f"PRAGMA max_page_count={pages + 2}")
    with pytest.raises(BookError, match="is full") as full:
        for second in range(2000):
            writer.add_frame(run_id, frame(card, float(second)), at_once=True)
    assert "kept" in full.value.safe
    writer._link.execute("PRAGMA max_page_count=1000000")
    writer.close_run(run_id, RunOutcome.STOPPED, "the disk was full", float(second))
    writer.close()
    book = BookReader(writer.path)
    time_s, _ = book.frames(book.runs()[0])
    assert np.array_equal(time_s, np.arange(second + 1.0))
    book.close()


def test_a_full_disk_ends_the_plan_and_leaves_the_rig_safe(tmp_path: Path, card: RigCard, watcher: Watcher) -> None:
    rig = larkspur_rig()
    bench = open_bench(rig, tmp_path / "full.niente", watcher.hear)
    pages = bench.writer._link.execute("PRAGMA page_count").fetchone()[0]
    bench.writer._link.execute(f"PRAGMA max_page_count={pages + 8}")
    bench.start(short_plan(card, Setting(sustained_power_w=100.0), seconds=40000.0), Limits())
    ended = watcher.end()
    assert not ended.complete
    assert ended.error is not None
    assert "is full" in str(ended.error)
    assert rig.setting == card.safe
    bench.writer._link.execute("PRAGMA max_page_count=1000000")
    bench.close()
    book = BookReader(tmp_path / "full.niente")
    time_s, _ = book.frames(book.runs()[0])
    assert np.array_equal(np.diff(time_s), np.ones(time_s.shape[0] - 1))  # no gap
    book.close()


def test_a_book_that_is_gone_ends_the_plan_and_may_be_put_back(tmp_path: Path, card: RigCard) -> None:
    """The folder goes in the middle of a run, and comes back: every sample is there."""
    watcher, again = Watcher(), Watcher()
    folder, away = tmp_path / "books", tmp_path / "away"
    rig = larkspur_rig(pace=600.0)
    bench = open_bench(rig, folder / "b.niente", watcher.hear)
    bench.start(short_plan(card, Setting(sustained_power_w=100.0), seconds=40000.0), Limits())
    end = time.monotonic() + 20.0
    while len(watcher.of(FrameTaken)) < 300 and time.monotonic() < end:
        time.sleep(0.01)
    folder.rename(away)
    ended = watcher.end()
    assert ended.error is not None
    assert "is gone" in ended.error.happened
    assert rig.setting == card.safe
    away.rename(folder)
    bench.close()
    bench = open_bench(larkspur_rig(), folder / "b.niente", again.hear)
    book = BookReader(folder / "b.niente")
    time_s, _ = book.frames(book.runs()[0])
    told = [one.frame.time_s for one in watcher.of(FrameTaken) if one.run_id is not None]
    assert time_s.tolist() == told
    book.close()
    bench.close()


def test_a_read_only_place_is_said_to_be_one(sweep_copy: Path, tmp_path: Path) -> None:
    """Root may write anywhere, so the place is a read-only mount; where mounting is not allowed, an injected error."""
    mount = tmp_path / "mount"
    mount.mkdir()
    bound = subprocess.run(
        ["mount", "--bind", "-o", "ro", str(sweep_copy.parent), str(mount)], capture_output=True, check=False
    )
    if bound.returncode == 0:
        try:
            subprocess.run(["mount", "-o", "remount,ro,bind", str(mount)], check=True, capture_output=True)
            with pytest.raises(BookError, match="can be read but not written"):
                BookWriter(mount / sweep_copy.name)
        finally:
            subprocess.run(["umount", str(mount)], check=True)
        return
    from niente.core.storage.connection import cannot_write

    error = cannot_write(sweep_copy, sqlite3.OperationalError("attempt to write a readonly database"))
    assert "can be read but not written" in str(error)


def test_an_open_run_is_closed_at_the_next_start(writer: BookWriter, card: RigCard) -> None:
    run_id = open_a_run(writer, card)
    writer.add_frame(run_id, frame(card, 41.0), at_once=True)
    writer.close()  # as a process that dies: the run stays open
    again = BookWriter(writer.path)
    lost = close_open_runs(again.path, Recorder(again, card), card)
    assert lost is not None
    assert lost.run.id == run_id
    assert lost.to_be_judged
    again.close()
    book = BookReader(writer.path)
    assert (book.runs()[0].outcome, book.runs()[0].closed_rig_time_s) == ("interrupted", 41.0)
    book.close()


def test_every_commit_is_on_the_disk_before_it_counts(writer: BookWriter) -> None:
    """The log is flushed at every commit (2 is FULL, SQLite's documentation): a power cut takes nothing that was committed."""
    assert writer._link.execute("PRAGMA synchronous").fetchone() == (2,)
    assert writer._link.execute("PRAGMA journal_mode").fetchone() == ("wal",)


def test_a_book_that_comes_back_at_the_last_moment_goes_on_as_one(
    tmp_path: Path, card: RigCard, monkeypatch: pytest.MonkeyPatch
) -> None:
    """It is gone when it is looked for, and there again before its copy is made: nothing goes into a second book."""
    book = tmp_path / "b.niente"
    writer = BookWriter(book)
    away = book.rename(tmp_path / "away.niente")

    def lock_and_come_back(path: Path) -> WriterLock:
        away.rename(book)
        return WriterLock(path)

    monkeypatch.setattr("niente.core.storage.writer.WriterLock", lock_and_come_back)
    writer.add_line("StateChanged", "{}", at_once=True)
    writer.close()
    assert sorted(one.name for one in tmp_path.iterdir() if "kept" in one.name) == []
    reader = sqlite3.connect(book)
    assert reader.execute("SELECT kind FROM record").fetchall() == [("StateChanged",)]
    reader.close()
