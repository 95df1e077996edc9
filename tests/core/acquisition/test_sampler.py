"""The sampler: while a load is on every sample is looked at, whatever is decided; and one thread alone calls the rig."""

import threading
import time
from collections.abc import Callable
from types import SimpleNamespace

import numpy as np
import pytest

from niente.core.acquisition import watchdog
from niente.core.acquisition.bench import Bench
from niente.core.acquisition.plan_stop import StopPlan
from niente.core.acquisition.scheduler import Scheduler
from niente.core.model.frame import Frame
from niente.core.model.limits import Limits
from niente.core.model.plan import PLAN_FORMAT, Exposure, Guard, GuardAction, Plan, Step
from niente.core.model.records import FrameTaken, GuardTripped, PlanEnded, RunClosed, RunOpened, SampleGap
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from tests.conftest import Watcher, larkspur_rig, short_plan
from tests.waiting import PATIENCE_S, until

Make = Callable[..., Bench]
HOT = Setting(sustained_power_w=120.0)


@pytest.fixture
def deciding(monkeypatch: pytest.MonkeyPatch) -> list[Callable[[], bool]]:
    """What is put in here has to come true before the bench knows what runs after its first run."""
    wanted: list[Callable[[], bool]] = []
    look, looks = Scheduler.look, [0]

    def slow(self: Scheduler, card: RigCard) -> None:
        looks[0] += 1
        until(lambda: looks[0] != 2 or all(true() for true in wanted))
        look(self, card)

    monkeypatch.setattr(Scheduler, "look", slow)
    return wanted


def between_runs(watcher: Watcher) -> list[Frame]:
    """The samples that came after the first run was closed and before the next one began."""
    closed = next((at for at, one in enumerate(watcher.events) if isinstance(one, RunClosed)), len(watcher.events))
    found = []
    for one in watcher.events[closed:]:
        if isinstance(one, RunOpened | PlanEnded):
            break
        if isinstance(one, FrameTaken):
            found.append(one.frame)
    return found


@pytest.mark.parametrize("pace", [10.0, 60.0])
def test_samples_go_on_while_the_next_run_is_decided(
    make_bench: Make, watcher: Watcher, card: RigCard, deciding: list[Callable[[], bool]], pace: float
) -> None:
    """At the rig's rate, with the load on: never two samples apart."""
    bench = make_bench(larkspur_rig(pace=pace))
    deciding.append(lambda: len(between_runs(watcher)) >= 8)
    bench.start(short_plan(card, HOT, HOT, seconds=8.0), Limits())
    assert watcher.end().complete
    times = [one.frame.time_s for one in watcher.of(FrameTaken)]
    first, last = (watcher.events.index(watcher.of(kind)[index]) for kind, index in ((RunOpened, 0), (RunClosed, -1)))
    under_load = [one.frame.time_s for one in watcher.events[first:last] if isinstance(one, FrameTaken)]
    assert len(between_runs(watcher)) >= 8
    assert np.all(np.diff(under_load) == 1.0)
    assert times
    watts = card.index("package_power_w")
    assert min(frame.values[watts] for frame in between_runs(watcher)) > 50.0  # the load was on


def test_time_stands_still_for_a_machine_that_has_none(
    make_bench: Make, watcher: Watcher, card: RigCard, deciding: list[Callable[[], bool]]
) -> None:
    """A simulated machine at full speed waits for decisions: nothing depends on how long they take."""
    bench = make_bench()
    begun = time.monotonic()
    deciding.append(lambda: time.monotonic() > begun + 0.5)
    bench.start(short_plan(card, HOT, HOT, seconds=8.0), Limits())
    assert watcher.end().complete
    assert not between_runs(watcher)


def test_a_guard_acts_while_the_next_run_is_decided(
    make_bench: Make, watcher: Watcher, card: RigCard, deciding: list[Callable[[], bool]]
) -> None:
    rig = larkspur_rig(pace=20.0)
    bench = make_bench(rig)
    guard = Guard("core_temperature_c", 53.0, 50.0, 2.0, GuardAction.STOP, "The cores are too warm for this test.")
    rule = Exposure(8.0, 8.0)
    plan = Plan(PLAN_FORMAT, card.name, "test", tuple(Step(HOT, "vector", rule) for _ in range(2)), (guard,))
    loads: list[str] = []

    def on(event: object) -> None:
        if isinstance(event, GuardTripped):
            loads.append(rig.load)

    watcher.on = on
    deciding.append(lambda: bool(watcher.of(GuardTripped)))
    bench.start(plan, Limits())
    ended = watcher.end()
    assert loads == ["idle"]  # the load first, then the word
    assert [(one.index, one.outcome) for one in watcher.of(RunClosed)] == [(0, "done")]  # the second run never began
    assert not ended.complete
    assert "too warm" in ended.reason
    assert rig.setting == card.safe


@pytest.mark.parametrize("pace", [None, 20.0])
def test_a_stop_does_not_wait_for_a_decision(
    make_bench: Make, watcher: Watcher, card: RigCard, deciding: list[Callable[[], bool]], pace: float | None
) -> None:
    rig = larkspur_rig(pace=pace)
    bench = make_bench(rig)
    safe_meanwhile: list[bool] = []

    def stopped() -> bool:
        bench.stop()
        safe_meanwhile.append(rig.load == "idle" and rig.setting == card.safe)
        return safe_meanwhile[-1]

    deciding.append(stopped)
    bench.start(short_plan(card, HOT, HOT, seconds=8.0), Limits())
    ended = watcher.end()
    assert safe_meanwhile[-1]
    assert not ended.complete
    assert len(watcher.of(RunOpened)) == 1


def test_a_stop_is_known_from_its_first_moment_to_its_last(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    """The engine may ask at any time: also while the sampler makes the machine safe, and as it says that it has."""
    bench = make_bench(larkspur_rig(pace=20.0))
    sampler, told = bench._sampler, list[bool]()
    interrupt, restore = sampler._interrupt, sampler._look.safe.restore

    def look() -> None:
        try:
            told.append(sampler._interruption is not None or sampler.interrupted() is not None)
        except StopPlan:
            told.append(True)

    sampler._interrupt = lambda error: (look(), interrupt(error))  # type: ignore[assignment, func-returns-value]
    sampler._look.safe.restore = lambda: (look(), restore())  # type: ignore[assignment, func-returns-value]
    bench.start(short_plan(card, HOT, seconds=600.0), Limits())
    until(lambda: watcher.of(RunOpened))
    bench.stop()
    assert not watcher.end().complete
    assert told[:2] == [True, True]


def test_the_watchdog_acts_though_no_call_to_the_rig_is_under_way(
    make_bench: Make, watcher: Watcher, card: RigCard, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The load is on, and the disk does not come back from a write."""
    rig, gate = larkspur_rig(pace=100.0), threading.Event()
    bench = make_bench(rig, hang_limit_s=0.5)
    add, left = bench.writer.add_frame, [20]

    def hang(run_id: int, frame: Frame, *, at_once: bool) -> None:
        left[0] -= 1
        if left[0] == 0:
            gate.wait(PATIENCE_S)
        add(run_id, frame, at_once=at_once)

    monkeypatch.setattr(bench.writer, "add_frame", hang)
    bench.start(short_plan(card, HOT, seconds=600.0), Limits())
    until(lambda: left[0] == 0 and rig.load == "idle")
    assert rig.load == "idle"
    assert not gate.is_set()
    gate.set()
    ended = watcher.end()
    assert ended.error is not None
    assert "has not answered" in ended.error.happened


@pytest.mark.parametrize("bug", [SystemExit, KeyboardInterrupt])
def test_what_a_driver_raises_ends_no_thread(
    make_bench: Make, watcher: Watcher, card: RigCard, bug: type[BaseException]
) -> None:
    class Raises(SimulatedRig):
        def frame(self, timeout_s: float) -> Frame | None:
            if self.load != "idle":
                raise bug
            return super().frame(timeout_s)

    rig = Raises(shipped_file("larkspur"), seed=3)
    bench = make_bench(rig)
    bench.start(short_plan(card, HOT, seconds=600.0), Limits())
    ended = watcher.end()
    assert f"The driver of Larkspur failed in frame: {bug.__name__} (test_sampler.py, line " in ended.reason
    assert rig.load == "idle"


def test_a_bug_of_a_driver_ends_the_plan_safely(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    class Broken(SimulatedRig):
        def frame(self, timeout_s: float) -> Frame | None:
            if self.load != "idle":
                raise ZeroDivisionError("a driver's bug")
            return super().frame(timeout_s)

    rig = Broken(shipped_file("larkspur"), seed=3)
    bench = make_bench(rig)
    bench.start(short_plan(card, HOT, seconds=600.0), Limits())
    ended = watcher.end()
    assert "a driver's bug (test_sampler.py, line " in ended.reason  # the driver's error, with its place, and no bug of ours
    assert rig.load == "idle"


def test_commands_are_all_heard_at_the_pace_of_the_wall(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    """Two commands in one sample's time: the second is not left lying until the next batch."""
    from niente.core.model.commands import Command

    bench = make_bench(larkspur_rig(pace=10.0))
    bench.start(short_plan(card, HOT, HOT, seconds=600.0), Limits())
    until(lambda: watcher.of(RunOpened))
    bench.send_command(Command.PAUSE_AFTER)
    bench.send_command(Command.RESUME)
    bench.send_command(Command.SKIP)
    until(lambda: len(watcher.of(RunOpened)) > 1)
    assert [(one.index, one.outcome) for one in watcher.of(RunClosed)] == [(0, "skipped")]
    assert len(watcher.of(RunOpened)) == 2


def test_a_sleep_between_two_samples_of_a_run_is_told(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    from niente.core.rigs.simulated.faults import Fault, FaultKind

    bench = make_bench(larkspur_rig(Fault(FaultKind.SUSPEND, 20.0, "", 300.0)))
    bench.start(short_plan(card, HOT, seconds=60.0), Limits())
    assert watcher.end().complete
    (gap,) = watcher.of(SampleGap)
    assert gap.seconds > 299.0
    assert [one.outcome for one in watcher.of(RunClosed)] == ["voided", "done"]


def test_a_computer_that_stood_still_as_a_whole_is_no_silence_of_the_rig(monkeypatch: pytest.MonkeyPatch) -> None:
    """The clock jumps by a minute while neither thread ran; a sampler that really hangs is given up all the same."""
    jump, given_up = [0.0], threading.Event()
    clock = time.monotonic
    monkeypatch.setattr(time, "monotonic", lambda: clock() + jump[0])
    hanging = SimpleNamespace(beat_s=clock(), patience_s=0.0, abandoned=False, abandon=lambda: None)
    watch = watchdog.Watchdog(hanging, 1.5, given_up.set, lambda: None)  # type: ignore[arg-type]
    watch.start()
    try:
        time.sleep(0.3)
        jump[0] = 60.0
        assert not given_up.wait(0.4)
        assert given_up.wait(PATIENCE_S)
    finally:
        watch.stop()
