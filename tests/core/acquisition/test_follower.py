"""Looking on: a book that another writes is read as it grows, and nothing is written or touched."""

from collections.abc import Callable
from pathlib import Path

import pytest

from niente.core.acquisition.bench import Bench
from niente.core.acquisition.follower import Follower
from niente.core.model.commands import Command
from niente.core.model.errors import BookBusyError, BookError
from niente.core.model.limits import Limits
from niente.core.model.records import (
    ForecastMade,
    FrameTaken,
    NoteAdded,
    PlanEnded,
    PlanStarted,
    ProjectSaved,
    Record,
    RigEventSeen,
    RunClosed,
    RunLeftOut,
    RunOpened,
    SamplesTaken,
    StateChanged,
    WarningRaised,
)
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.planning.templates import grid_project
from niente.core.storage.reader import BookReader
from niente.core.storage.writer import BookWriter
from tests.conftest import Watcher, larkspur_rig, short_plan
from tests.here import one_by_one
from tests.waiting import until

DEEP = Setting(sustained_power_w=120.0, voltage_offset_mv=-148.0, fan_duty={"case": 60.0, "cooler": 60.0})
DEEPER = Setting(sustained_power_w=120.0, voltage_offset_mv=-150.0, fan_duty={"case": 60.0, "cooler": 60.0})
COOL = Setting(sustained_power_w=100.0, fan_duty={"case": 60.0, "cooler": 60.0})


def test_a_follower_hears_what_the_bench_tells_in_the_same_order(
    make_bench: Callable[..., Bench], watcher: Watcher, card: RigCard
) -> None:
    """Every kind of record, with the same numbers; only what was measured between runs is in no book."""
    bench = make_bench(larkspur_rig(pace=600.0))
    other = Watcher()
    follower = Follower(bench.path, other.hear)
    bench.start(short_plan(card, COOL, DEEP, DEEPER, COOL, seconds=300.0, idle_s=30.0), Limits())
    until(lambda: bool(watcher.of(RunClosed)))
    bench.note("a smell of dust")
    bench.save_project(grid_project(card))
    assert watcher.end().complete
    until(lambda: bool(other.of(PlanEnded)))
    follower.close()
    kinds = {type(record) for record in watcher.events}
    wanted = {PlanStarted, RunOpened, RunClosed, ForecastMade, StateChanged, RigEventSeen, RunLeftOut, NoteAdded, ProjectSaved}
    assert wanted <= kinds
    assert heard(other.events) == heard(watcher.events)


def heard(records: list[Record]) -> list[Record | tuple[object, ...]]:
    """Records from a plan's beginning on, as they can be compared: samples of runs one by one, what is not a number as text."""
    found: list[Record | tuple[object, ...]] = []
    begun = next(index for index, record in enumerate(records) if isinstance(record, PlanStarted))
    for record in one_by_one(records[begun:]):
        match record:
            case FrameTaken(_, None):
                continue
            case FrameTaken(frame, run_id):
                found.append((run_id, frame.time_s, frame.values.tobytes()))
            case ForecastMade():
                found.append((ForecastMade, repr(record)))
            case _:
                found.append(record)
    return found


def test_it_comes_in_in_the_middle_and_has_the_run_from_its_beginning(
    make_bench: Callable[..., Bench], watcher: Watcher, card: RigCard
) -> None:
    bench = make_bench(larkspur_rig(pace=600.0))
    bench.start(short_plan(card, COOL, seconds=3000.0), Limits())
    until(lambda: len([event for event in watcher.of(FrameTaken) if event.run_id == 1]) > 200)
    other = Watcher()
    follower = Follower(bench.path, other.hear)
    until(lambda: bool(other.of(SamplesTaken)))
    first = other.of(SamplesTaken)[0]
    assert follower.busy
    assert first.time_s[0] == next(event.frame.time_s for event in watcher.of(FrameTaken) if event.run_id == 1)
    assert other.of(RunOpened) == watcher.of(RunOpened)
    reader = BookReader(bench.path)
    before = reader.events(), reader.plans(), reader.project()
    project = grid_project(card)
    follower.send_command(Command.SKIP)
    follower.stop()
    assert all("is view-only" in event.text for event in other.of(WarningRaised))
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
        with pytest.raises(BookError, match="is view-only"):
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
