"""The record in a book: in its order, read back as it was told; books from before it, and documents that no longer decode."""

import json
import shutil
import sqlite3
from pathlib import Path

import msgspec
import numpy as np
import pytest

from niente.core.acquisition.follower import Follower
from niente.core.acquisition.opening import open_bench
from niente.core.analysis.evidence import gather
from niente.core.model.errors import BookError
from niente.core.model.frame import Frame
from niente.core.model.limits import Limits
from niente.core.model.plan import SearchMethod
from niente.core.model.question import Approach
from niente.core.model.records import (
    ForecastMade,
    FrameTaken,
    PlanStarted,
    Record,
    RunClosed,
    RunOpened,
    StateChanged,
    WarningRaised,
)
from niente.core.model.rig_card import RigCard
from niente.core.model.runs import RunOutcome
from niente.core.model.setting import Setting
from niente.core.model.states import BenchState
from niente.core.planning.templates import default_project
from niente.core.science.settling import not_yet
from niente.core.storage.notes import notes_in
from niente.core.storage.reader import BookReader
from niente.core.storage.record_reader import RecordReader
from niente.core.storage.recorder import Recorder
from niente.core.storage.schema import SCHEMA_VERSION
from niente.core.storage.writer import BookWriter
from tests.conftest import Watcher, larkspur_rig, short_plan
from tests.here import one_by_one

BEFORE = Path(__file__).parents[2] / "data" / "version-2.niente"
COOL = Setting(sustained_power_w=100.0)


@pytest.fixture
def old(tmp_path: Path) -> Path:
    """A small book of version 2: two runs of a minute, a project and a note."""
    return Path(shutil.copyfile(BEFORE, tmp_path / "old.niente"))


def test_a_book_from_before_the_record_opens_as_before(old: Path, card: RigCard) -> None:
    reader = BookReader(old)
    runs, events = reader.runs(), reader.events()
    assert [run.outcome for run in runs] == ["done", "done"]
    assert reader.frames(runs[0])[0].shape == (61,)
    _, values = reader.frames(runs[0], ["noise_dba", "graphics_power_w", "core_temperature_c.2"])
    assert values.shape == (61, 3)
    assert np.isnan(values[:, 1]).all()  # a channel that the machine has today and had not then
    own = reader.frames(runs[0])[1]
    assert np.array_equal(values[:, 0], own[:, runs[0].channels.index("noise_dba")])
    assert np.array_equal(values[:, 2], own[:, 1])
    assert notes_in(reader)[0].tags == ("dust",)
    assert reader.last_ids() == (0, reader.last_ids()[1])
    assert not RecordReader(reader).read()  # nothing is under way
    evidence = gather(reader)
    assert evidence is not None
    assert len(evidence.runs) == 2
    reader.close()
    follower = Follower(old, lambda record: None)  # without being written to
    assert not follower.busy
    follower.close()
    watcher = Watcher()
    bench = open_bench(larkspur_rig(), old, watcher.hear)
    assert bench.project is not None
    before, usual = bench.project.question, default_project(bench.card).question
    assert before.method == SearchMethod.LADDER  # what was asked then is not asked otherwise now
    assert before.approach == Approach.GRID
    assert msgspec.structs.replace(before, method=usual.method, approach=usual.approach) == usual
    assert bench.project.limits == Limits()
    bench.start(short_plan(card, COOL, Setting(sustained_power_w=110.0), COOL.over(card.stock), seconds=60.0), Limits())
    assert watcher.end().complete
    bench.close()
    reader = BookReader(old)
    assert [run.id for run in reader.runs()][:2] == [1, 2]
    assert reader.events()[: len(events)] == events
    assert reader._link.execute("PRAGMA user_version").fetchone()[0] == SCHEMA_VERSION
    reader.close()
    assert list(old.parent.glob("old.version-2-*.niente"))  # a backup of it was kept


def test_what_is_told_is_read_back_in_its_order(tmp_path: Path, card: RigCard) -> None:
    """Also where samples and what may wait were committed together."""
    writer = BookWriter(tmp_path / "b.niente")
    recorder = Recorder(writer, card)
    recorder.commit_each = lambda: False
    writer.add_document("rig", card)
    plan = short_plan(card, COOL)
    whole = COOL.over(card.stock)
    number = writer.ensure_plan(plan)
    opened = RunOpened(writer.next_run_id(), 0, 1, plan.steps[0], number, 0, whole, "vector", 0.0)
    told: list[Record] = [PlanStarted(plan, number, 0), StateChanged(BenchState.APPLYING), opened]
    for second in range(100):
        told.append(FrameTaken(Frame(float(second), np.full(len(card.channels), second / 3)), opened.run_id))
        if second % 30 == 29:
            told.append(ForecastMade(opened.run_id, float(second), not_yet("it has only begun")))
        if second == 50:
            told.append(WarningRaised("a word in the middle"))
    told.append(RunClosed(opened.run_id, 0, RunOutcome.DONE, "its time is over", 99.0))
    reader = RecordReader(book := BookReader(tmp_path / "b.niente"))
    for record in told:
        recorder.write(record)
    read = list(one_by_one(reader.read()))
    assert [repr(one) for one in read] == [repr(one) for one in told]
    assert reader.read() == []
    book.close()
    writer.close()


def test_the_same_plan_is_kept_once(tmp_path: Path, card: RigCard) -> None:
    writer = BookWriter(tmp_path / "b.niente")
    plan, other = short_plan(card, COOL), short_plan(card, COOL, COOL)
    assert writer.ensure_plan(plan) == writer.ensure_plan(plan) != writer.ensure_plan(other)
    writer.close()


@pytest.mark.parametrize("kind", ["plan", "rig", "project", "driver"])
def test_an_old_document_that_cannot_be_read_any_more_refuses_nothing(sweep_copy: Path, kind: str) -> None:
    """A version from long ago, or from a Niente that is gone; the newest is what counts."""
    link = sqlite3.connect(sweep_copy)
    (last,) = link.execute("SELECT body FROM document WHERE kind = ? ORDER BY id DESC", (kind,)).fetchone() or ("{}",)
    for body in (json.dumps({"of": "another age"}), last):
        link.execute("INSERT INTO document (kind, written_at, body) VALUES (?, 0, ?)", (kind, body))
    link.commit()
    link.close()
    watcher = Watcher()
    bench = open_bench(larkspur_rig(), sweep_copy, watcher.hear)
    assert bench.card.title == "Larkspur"
    bench.close()
    reader = BookReader(sweep_copy)
    evidence = gather(reader)
    assert evidence is not None
    assert len(evidence.runs) > 40
    reader.close()


def test_the_newest_project_that_cannot_be_read_is_said(sweep_copy: Path) -> None:
    link = sqlite3.connect(sweep_copy)
    link.execute("INSERT INTO document (kind, written_at, body) VALUES ('project', 0, '{\"of\": \"the future\"}')")
    link.commit()
    link.close()
    reader = BookReader(sweep_copy)
    with pytest.raises(BookError, match="cannot read"):
        reader.project()
    reader.close()


def test_the_newest_is_found_without_reading_the_others(tmp_path: Path, card: RigCard) -> None:
    """Five hundred versions, of which all but the last would be refused."""
    writer = BookWriter(tmp_path / "b.niente")
    writer.add_document("rig", card)
    for _ in range(500):
        writer._insert("document", kind="project", written_at=0.0, body="no JSON at all")
    project = default_project(card)
    writer.add_document("project", project)
    writer.close()
    reader = BookReader(tmp_path / "b.niente")
    assert reader.project() == project
    reader.close()


def test_a_record_of_another_age_is_passed_over(tmp_path: Path, card: RigCard) -> None:
    writer = BookWriter(tmp_path / "b.niente")
    writer.add_document("rig", card)
    reader = RecordReader(book := BookReader(tmp_path / "b.niente"))
    writer.add_line("MoonRisen", '{"type": "MoonRisen", "phase": 3}', at_once=True)
    writer.add_line("PlanStarted", '{"plan_id": 77, "done": 0}', at_once=True)
    writer.add_line("WarningRaised", "no JSON", at_once=True)
    Recorder(writer, card).write(WarningRaised("still heard"))
    assert reader.read() == [WarningRaised("still heard")]
    book.close()
    writer.close()
