"""Looking on: a book that another writes is read as it grows, and nothing is written or touched."""

import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from niente.core.acquisition.bench import Bench
from niente.core.acquisition.follower import Follower
from niente.core.model.commands import Command
from niente.core.model.errors import BookBusyError, BookError
from niente.core.model.project import Limits
from niente.core.model.records import FrameTaken, PlanStarted, RunClosed, RunOpened, WarningRaised
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.planning.templates import default_project
from niente.core.storage.reader import BookReader
from niente.core.storage.writer import BookWriter
from tests.conftest import Watcher, larkspur_rig, short_plan

COOL = Setting(sustained_power_w=100.0, fan_duty={"case": 60.0, "cooler": 60.0})


def until(true: Callable[[], bool], seconds: float = 20.0) -> None:
    end = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < end
        time.sleep(0.02)


def test_a_follower_tells_what_the_bench_tells(make_bench: Callable[..., Bench], watcher: Watcher, card: RigCard) -> None:
    bench = make_bench(larkspur_rig(pace=600.0))
    other = Watcher()
    follower = Follower(bench.path, other.hear)
    bench.start(short_plan(card, COOL, COOL, seconds=300.0), Limits())
    assert watcher.end().complete
    until(lambda: len(other.of(RunClosed)) == 2)
    follower.close()
    assert [event.step.setting for event in other.of(RunOpened)] == [COOL, COOL]
    assert [(event.index, event.outcome) for event in other.of(RunClosed)] == [(0, "done"), (1, "done")]
    assert other.of(PlanStarted)[0].plan.question == "test"
    for run_id in (1, 2):
        mine = [event.frame for event in watcher.of(FrameTaken) if event.run_id == run_id]
        seen = [event.frame for event in other.of(FrameTaken) if event.run_id == run_id]
        assert [frame.time_s for frame in seen] == [frame.time_s for frame in mine]
        assert np.array_equal([frame.values for frame in seen], [frame.values for frame in mine])


def test_it_comes_in_in_the_middle_and_has_the_run_from_its_beginning(
    make_bench: Callable[..., Bench], watcher: Watcher, card: RigCard
) -> None:
    bench = make_bench(larkspur_rig(pace=600.0))
    bench.start(short_plan(card, COOL, seconds=3000.0), Limits())
    until(lambda: len([event for event in watcher.of(FrameTaken) if event.run_id == 1]) > 200)
    other = Watcher()
    follower = Follower(bench.path, other.hear)
    until(lambda: len(other.of(FrameTaken)) > 100)
    first = other.of(FrameTaken)[0].frame
    assert follower.busy
    assert first.time_s == next(event.frame.time_s for event in watcher.of(FrameTaken) if event.run_id == 1)
    reader = BookReader(bench.path)
    before = reader.events(), reader.plans(), reader.project()
    project = default_project(card)
    follower.send_command(Command.SKIP)
    follower.stop()
    assert all("only looks on" in event.text for event in other.of(WarningRaised))
    assert len(other.of(WarningRaised)) == 2
    refusals: tuple[Callable[[], object], ...] = (
        lambda: follower.start(short_plan(card, COOL), Limits()),
        lambda: follower.note("mine"),
        lambda: follower.judge(machine_down=True),
        lambda: follower.confirm({}),
        lambda: follower.tick((0,)),
        follower.read_cautions,
        lambda: follower.take_sheet(follower.first_sheet),
        lambda: follower.check_sheet(follower.first_sheet),
        lambda: follower.save_project(project),
    )
    for refused in refusals:
        with pytest.raises(BookError, match="only looks on"):
            refused()
    follower.set_pace(1.0)
    follower.change_plan(short_plan(card, COOL))
    assert follower.unread_cautions() == ()
    follower.close()
    assert bench.busy  # the run over there went on
    assert (reader.events(), reader.plans(), reader.project()) == before  # and nothing of this came into the book
    reader.close()


def test_a_second_writer_is_told_apart_from_other_errors(make_bench: Callable[..., Bench]) -> None:
    bench = make_bench()
    with pytest.raises(BookBusyError):
        BookWriter(bench.path)


def test_an_empty_book_has_nothing_to_look_at(tmp_path: Path) -> None:
    BookWriter(tmp_path / "empty.niente").close()
    with pytest.raises(BookError, match="no rig yet"):
        Follower(tmp_path / "empty.niente", lambda event: None)
