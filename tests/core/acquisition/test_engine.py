"""The bench: it ends runs when they have settled, obeys, keeps guard, and always leaves the rig safe."""

import itertools
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from niente.core.acquisition.bench import Bench
from niente.core.acquisition.opening import open_bench
from niente.core.model.commands import Command
from niente.core.model.errors import RigError
from niente.core.model.frame import Frame
from niente.core.model.limits import Limits
from niente.core.model.records import (
    BenchFailed,
    ForecastMade,
    FrameTaken,
    PlanEnded,
    RunClosed,
    RunLeftOut,
    RunOpened,
    StateChanged,
)
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.model.states import MAY_FOLLOW, BenchState
from niente.core.rigs.simulated.faults import Fault, FaultKind
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.storage.notes import notes_in
from niente.core.storage.reader import BookReader
from tests.conftest import Watcher, larkspur_rig, short_plan
from tests.waiting import PATIENCE_S

Make = Callable[..., Bench]
COOL = Setting(sustained_power_w=100.0, fan_duty={"case": 60.0, "cooler": 60.0})


def closings(watcher: Watcher) -> list[tuple[int, str]]:
    return [(event.index, event.outcome) for event in watcher.of(RunClosed)]


def when(watcher: Watcher, kind: type, count: int, do: Callable[[], None]) -> None:
    """Do something once the bench has said so many things of a kind."""
    seen = [0]

    def on(event: object) -> None:
        if isinstance(event, kind):
            seen[0] += 1
            if seen[0] == count:
                do()

    watcher.on = on


def assert_safe(rig: SimulatedRig, card: RigCard) -> None:
    assert rig.setting == card.safe
    assert rig.load == "idle"


def test_a_run_ends_when_it_has_settled(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    bench = make_bench()
    bench.start(short_plan(card, COOL, seconds=300.0, max_s=3600.0, known_to_k=1.0), Limits())
    assert watcher.end().complete
    last = watcher.of(ForecastMade)[-1].settled
    assert last.known_to(1.0)
    seconds = len([event for event in watcher.of(FrameTaken) if event.run_id is not None])
    assert 300 < seconds < 1800
    truth = larkspur_rig().true_settled_core_c(COOL, "vector", last.room_c)
    assert abs(last.value_c - truth) <= last.half_width_k
    assert_safe(bench.rig, card)  # type: ignore[arg-type]


def test_every_sample_is_in_the_book(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    bench = make_bench()
    bench.start(short_plan(card, COOL, COOL, seconds=200.0), Limits())
    watcher.end()
    book = BookReader(bench.writer.path)
    for run in book.runs():
        told = [event.frame for event in watcher.of(FrameTaken) if event.run_id == run.id]
        time_s, values = book.frames(run)
        assert np.array_equal(time_s, [frame.time_s for frame in told])
        assert np.array_equal(values, [frame.values for frame in told])
    book.close()


def test_changes_of_state_keep_to_the_table(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    bench = make_bench()
    bench.start(short_plan(card, COOL, COOL, seconds=30.0), Limits())
    watcher.end()
    states = [BenchState.IDLE, *(event.state for event in watcher.of(StateChanged))]
    assert all(after in MAY_FOLLOW[before] for before, after in itertools.pairwise(states))
    assert states[-1] == BenchState.IDLE
    assert set(MAY_FOLLOW) == set(BenchState)


def test_skip_leaves_a_run_out(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    bench = make_bench()
    when(watcher, FrameTaken, 50, lambda: bench.send_command(Command.SKIP))
    bench.start(short_plan(card, COOL, COOL, seconds=4000.0), Limits())
    assert watcher.end().complete
    assert closings(watcher) == [(0, "skipped"), (1, "done")]


def test_hold_now_voids_the_run_and_repeats_it(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    bench = make_bench()
    rig: SimulatedRig = bench.rig  # type: ignore[assignment]

    def on(event: object) -> None:
        if isinstance(event, FrameTaken) and len(watcher.events) == 60:
            bench.send_command(Command.PAUSE_NOW)
        if isinstance(event, StateChanged) and event.state == BenchState.PAUSED:
            threading.Timer(0.3, go_on).start()

    def go_on() -> None:
        assert_safe(rig, card)
        bench.send_command(Command.RESUME)

    watcher.on = on
    bench.start(short_plan(card, COOL, seconds=4000.0), Limits())
    assert watcher.end().complete
    assert closings(watcher) == [(0, "voided"), (0, "done")]


def test_hold_after_waits_between_runs(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    bench = make_bench()

    def on(event: object) -> None:
        if isinstance(event, RunOpened) and event.index == 0:
            bench.send_command(Command.PAUSE_AFTER)
        if isinstance(event, StateChanged) and event.state == BenchState.PAUSED:
            assert closings(watcher) == [(0, "done")]
            bench.send_command(Command.RESUME)

    watcher.on = on
    bench.start(short_plan(card, COOL, COOL, seconds=300.0), Limits())
    assert watcher.end().complete
    assert BenchState.PAUSED in [event.state for event in watcher.of(StateChanged)]
    assert closings(watcher) == [(0, "done"), (1, "done")]


def test_a_pause_that_is_wanted_is_told_through_all_states_until_it_comes(
    make_bench: Make, watcher: Watcher, card: RigCard
) -> None:
    """Wanted before the load is on, it was told no more once the run went on."""
    bench = make_bench()

    def on(event: object) -> None:
        if (
            isinstance(event, StateChanged)
            and event.state == BenchState.WAITING
            and not event.pauses_after
            and not closings(watcher)
        ):
            bench.send_command(Command.PAUSE_AFTER)
        if isinstance(event, StateChanged) and event.state == BenchState.PAUSED:
            bench.send_command(Command.RESUME)

    watcher.on = on
    bench.start(short_plan(card, COOL, COOL, seconds=300.0, idle_s=120.0), Limits())
    assert watcher.end().complete
    states = [(event.state, event.pauses_after) for event in watcher.of(StateChanged)]
    paused = next(at for at, (state, _) in enumerate(states) if state == BenchState.PAUSED)
    told = next(at for at, (_, pauses) in enumerate(states) if pauses)
    assert paused > told + 1  # the run went through other states meanwhile
    assert all(pauses for _, pauses in states[told:paused])
    assert not any(pauses for _, pauses in states[paused:])


def test_a_pause_that_was_taken_back_does_not_come(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    bench = make_bench()

    def on(event: object) -> None:
        if isinstance(event, RunOpened) and event.index == 0:
            bench.send_command(Command.PAUSE_AFTER)
            bench.send_command(Command.RESUME)

    watcher.on = on
    bench.start(short_plan(card, COOL, COOL, seconds=300.0), Limits())
    assert watcher.end().complete
    assert BenchState.PAUSED not in [event.state for event in watcher.of(StateChanged)]
    assert [event.pauses_after for event in watcher.of(StateChanged) if event.pauses_after] == [True]


def test_stop_restores_and_the_same_plan_goes_on(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    bench = make_bench()
    plan = short_plan(card, COOL, COOL, COOL, seconds=500.0)
    when(watcher, RunOpened, 2, lambda: bench.stop())
    bench.start(plan, Limits())
    ended = watcher.end()
    assert not ended.complete
    assert ended.error is None
    assert_safe(bench.rig, card)  # type: ignore[arg-type]
    assert closings(watcher) == [(0, "done"), (1, "stopped")]
    watcher.over.clear()
    bench.start(plan, Limits())
    assert watcher.end().complete
    assert closings(watcher)[2:] == [(1, "done"), (2, "done")]
    watcher.over.clear()
    bench.start(plan, Limits())  # nothing is left to do
    assert watcher.end().complete
    assert len(closings(watcher)) == 4


def test_a_stop_while_held_restores(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    bench = make_bench()

    def on(event: object) -> None:
        if isinstance(event, RunOpened):
            bench.send_command(Command.PAUSE_NOW)
        if isinstance(event, StateChanged) and event.state == BenchState.PAUSED:
            bench.stop()

    watcher.on = on
    bench.start(short_plan(card, COOL, seconds=4000.0), Limits())
    assert not watcher.end().complete
    assert_safe(bench.rig, card)  # type: ignore[arg-type]


def test_one_plan_at_a_time(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    bench = make_bench(larkspur_rig(pace=10.0))
    bench.start(short_plan(card, COOL, seconds=4000.0), Limits())
    with pytest.raises(RigError, match="busy"):
        bench.start(short_plan(card, COOL), Limits())


def test_a_plan_for_another_rig_touches_nothing(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    bench = make_bench()
    bench.start(short_plan(card, Setting(sustained_power_w=900.0)), Limits())
    ended = watcher.end()
    assert ended.error is not None
    assert ended.error.kind == "PlanError"
    assert not watcher.of(RunOpened)


def test_a_stop_is_served_while_the_rig_is_silent(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    """A rig that gives no sample must not keep a person from stopping."""
    bench = make_bench(larkspur_rig(Fault(FaultKind.SILENT, 100.0)), silent_limit_s=60.0)
    bench.start(short_plan(card, COOL, seconds=3000.0), Limits())
    end = time.monotonic() + 10
    while len(watcher.of(FrameTaken)) < 90 and time.monotonic() < end:
        time.sleep(0.05)
    bench.stop()
    ended = watcher.end()
    assert "stopped by the person" in ended.reason
    assert_safe(bench.rig, card)  # type: ignore[arg-type]


def test_going_on_is_not_lost_in_a_silence(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    """A command that comes while no sample does is acted on once samples come again."""
    rig = larkspur_rig(pace=20.0)
    bench = make_bench(rig)

    def on(event: object) -> None:
        if isinstance(event, RunOpened) and len(watcher.of(RunOpened)) == 1:
            bench.send_command(Command.PAUSE_NOW)
        if isinstance(event, StateChanged) and event.state == BenchState.PAUSED:
            rig.set_pace(0.2)
            bench.send_command(Command.RESUME)
            threading.Timer(1.2, lambda: rig.set_pace(None)).start()

    watcher.on = on
    bench.start(short_plan(card, COOL, seconds=60.0), Limits())
    assert watcher.end().complete


# -- guards ----------------------------------------------------------------------------------------------------------


def ends_with_guard(bench: Bench, watcher: Watcher, card: RigCard, setting: Setting, words: str) -> PlanEnded:
    bench.start(short_plan(card, setting, setting, seconds=3000.0), Limits())
    ended = watcher.end()
    assert not ended.complete
    assert words in ended.reason
    assert closings(watcher) == [(0, "guard")]
    assert ended.error is not None
    assert "safe setting" in ended.error.safe
    assert_safe(bench.rig, card)  # type: ignore[arg-type]
    return ended


def test_the_guard_on_the_hottest_core_trips(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    hot = Setting(sustained_power_w=200.0, temperature_cap_c=95.0, fan_duty={"cooler": 0.0, "case": 20.0})
    ended = ends_with_guard(make_bench(), watcher, card, hot, "hottest core")
    assert "95.0" in ended.reason
    hottest = max(float(event.frame.values[:12].max()) for event in watcher.of(FrameTaken))
    assert hottest < card.limits.shut_down_c


def test_a_lost_sensor_ends_the_plan(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    rig = larkspur_rig(Fault(FaultKind.SENSOR_LOST, 50.0, "core_temperature_c.4"))
    ends_with_guard(make_bench(rig), watcher, card, COOL, "core 4 gives nothing")


def test_a_frozen_sensor_ends_the_plan(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    rig = larkspur_rig(Fault(FaultKind.SENSOR_FROZEN, 200.0, "core_temperature_c.7"))
    ends_with_guard(make_bench(rig), watcher, card, COOL, "core 7 has not moved")


def test_a_stalled_fan_ends_the_plan(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    stall = Fault(FaultKind.FAN_STALL, 100.0, "case")
    ends_with_guard(
        make_bench(larkspur_rig(stall)), watcher, card, COOL.replaced("fan_duty.case", 85.0), "case fans stand still"
    )


def test_a_fan_told_to_stand_is_no_stall(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    bench = make_bench()
    bench.start(short_plan(card, Setting(fan_duty={"case": 0.0, "cooler": 0.0}), load="idle", seconds=120.0), Limits())
    assert watcher.end().complete


def test_a_silent_rig_is_given_up(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    bench = make_bench(larkspur_rig(Fault(FaultKind.SILENT, 100.0)), silent_limit_s=0.5)
    bench.start(short_plan(card, COOL, seconds=3000.0), Limits())
    ended = watcher.end()
    assert "no sample" in ended.reason
    assert closings(watcher) == [(0, "stopped")]
    assert_safe(bench.rig, card)  # type: ignore[arg-type]


def test_a_rig_that_hangs_is_made_safe_without_waiting(tmp_path: Path, watcher: Watcher, card: RigCard) -> None:
    rig = larkspur_rig(Fault(FaultKind.HANG, 100.0))
    bench = open_bench(rig, tmp_path / "hang.niente", watcher.hear, hang_limit_s=0.6)
    bench.start(short_plan(card, COOL, seconds=3000.0), Limits())
    ended = watcher.end()
    assert rig.hanging  # the call to the rig has not returned yet
    assert "not answered" in ended.reason
    assert_safe(rig, card)
    rig.end_hang()
    bench.close()
    book = BookReader(tmp_path / "hang.niente")
    assert book.runs()[0].outcome == "stopped"
    book.close()


def test_a_run_that_hung_is_closed_however_late_that_is_written(
    tmp_path: Path, watcher: Watcher, card: RigCard, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The engine gets out of the call, and lets go of its run, before the thread that writes the end has begun."""
    rig = larkspur_rig(Fault(FaultKind.HANG, 100.0))
    bench = open_bench(rig, tmp_path / "hang.niente", watcher.hear, hang_limit_s=0.6)
    tell = bench._tell_given_up

    def late(*given: Any) -> None:
        end = time.monotonic() + 10.0
        while bench._engine.run_id is not None and time.monotonic() < end:
            time.sleep(0.01)
        tell(*given)

    monkeypatch.setattr(bench, "_tell_given_up", late)
    bench.start(short_plan(card, COOL, seconds=3000.0), Limits())
    assert "not answered" in watcher.end().reason
    rig.end_hang()
    bench.close()
    book = BookReader(tmp_path / "hang.niente")
    assert book.runs()[0].outcome == "stopped"
    book.close()


# -- failures --------------------------------------------------------------------------------------------------------


def test_a_wrong_result_fails_the_run_and_what_it_implies(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    deep = Setting(sustained_power_w=120.0, voltage_offset_mv=-110.0)
    higher, shallow = deep.replaced("sustained_power_w", 140.0), deep.replaced("voltage_offset_mv", -20.0)
    bench = make_bench()
    bench.start(short_plan(card, deep, higher, shallow, seconds=400.0), Limits())
    assert watcher.end().complete
    assert closings(watcher) == [(0, "failed"), (2, "done")]
    assert [(event.index, "left out" in event.text) for event in watcher.of(RunLeftOut)] == [(1, True)]


def test_a_crash_fails_the_run_and_the_plan_goes_on(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    bench = make_bench(larkspur_rig(Fault(FaultKind.CRASH, 60.0, seconds=1.0)))
    bench.start(short_plan(card, COOL, COOL, seconds=200.0), Limits())
    assert watcher.end().complete
    assert closings(watcher) == [(0, "failed"), (1, "done")]


def test_a_bug_of_ours_ends_safely(tmp_path: Path, watcher: Watcher, card: RigCard, monkeypatch: pytest.MonkeyPatch) -> None:
    rig = larkspur_rig()
    bench = open_bench(rig, tmp_path / "bug.niente", watcher.hear)

    def broken(*_: object) -> None:
        raise ZeroDivisionError("a bug")

    monkeypatch.setattr("niente.core.acquisition.run_executor.settled_so_far", broken)
    bench.start(short_plan(card, COOL, seconds=300.0), Limits())
    assert watcher.over.wait(PATIENCE_S)
    (broke,) = watcher.of(BenchFailed)
    assert "ZeroDivisionError" in broke.report
    assert_safe(rig, card)
    bench.close()


def test_a_note_goes_into_the_book(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    bench = make_bench()
    when(watcher, FrameTaken, 20, lambda: bench.note("panel rattles #Panel, #fan-2 #panel"))
    bench.start(short_plan(card, COOL, seconds=100.0), Limits())
    watcher.end()
    book = BookReader(bench.writer.path)
    notes = [item for item in book.events(book.runs()[0]) if item.kind == "note"]
    assert [note.body for note in notes] == ["panel rattles #Panel, #fan-2 #panel"]
    (note,) = notes_in(book)
    assert (note.run_id, note.tags) == (1, ("panel", "fan-2"))
    assert note.rig_time_s == pytest.approx(20.0, abs=5.0)
    assert notes_in(book, "#FAN-2") == [note]
    assert notes_in(book, "filter") == []
    book.close()


def test_the_idle_rig_keeps_its_pulse(make_bench: Make, watcher: Watcher) -> None:
    make_bench()
    end = time.monotonic() + 10
    while len(watcher.of(FrameTaken)) < 3 and time.monotonic() < end:
        time.sleep(0.05)
    assert all(isinstance(event.frame, Frame) and event.run_id is None for event in watcher.of(FrameTaken))
    assert len(watcher.of(FrameTaken)) >= 3


class HandsRig(SimulatedRig):
    """A Larkspur whose voltage is set by hand."""

    def apply(self, setting: Setting) -> str | None:
        super().apply(setting)
        return "Set the voltage offset in firmware."


def test_the_run_waits_for_hands(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    from niente.core.rigs.simulated.machine_files import shipped_file

    bench = make_bench(HandsRig(shipped_file("larkspur"), seed=3))

    def on(event: object) -> None:
        if isinstance(event, StateChanged) and event.state == BenchState.WAITING_FOR_HANDS:
            assert "firmware" in event.text
            threading.Timer(0.2, bench.confirm).start()

    watcher.on = on
    bench.start(short_plan(card, COOL, seconds=60.0), Limits())
    assert watcher.end().complete
    assert BenchState.WAITING_FOR_HANDS in [event.state for event in watcher.of(StateChanged)]
