"""A machine that goes down and starts again is waited for, set again, and gone on with; within a limit, and in words."""

import time
from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np
import pytest

from niente.core.acquisition.bench import Bench
from niente.core.acquisition.opening import open_bench
from niente.core.model.errors import MachineAwayError
from niente.core.model.limits import Limits
from niente.core.model.records import FrameTaken, MadeSafe, PlanEnded, RunClosed, RunOpened, StateChanged, WarningRaised
from niente.core.model.runs import RunOutcome
from niente.core.model.setting import Setting
from niente.core.rigs.registry import open_rig
from niente.core.rigs.simulated.faults import Fault, FaultKind
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.rig import Frame, RigEvent, RigEventKind
from tests.conftest import Watcher, short_plan
from tests.contract.outside import CARD, Doorbell

Make = Callable[..., Bench]
SET = Setting(sustained_power_w=50.0)


def sandpiper(*faults: Fault, pace: float | None = None) -> SimulatedRig:
    return SimulatedRig(shipped_file("sandpiper"), seed=2, pace=pace, faults=faults)


@pytest.mark.parametrize("pace", [None, 600.0])
def test_a_shipped_machine_restarts_and_the_night_goes_on(make_bench: Make, watcher: Watcher, pace: float | None) -> None:
    rig = sandpiper(Fault(FaultKind.CRASH, 80.0, seconds=1.0), pace=pace)
    bench = make_bench(rig)
    card = bench.card
    load = next(one.name for one in card.loads if one.kind == "heavy")
    bench.start(short_plan(card, SET, SET.replaced("sustained_power_w", 40.0), load=load, seconds=120.0), Limits())
    assert watcher.end().complete
    assert [one.outcome for one in watcher.of(RunClosed)] == [RunOutcome.FAILED, RunOutcome.DONE]
    times = [one.frame.time_s for one in watcher.of(FrameTaken)]
    assert np.max(np.diff(times)) > 90.0  # nothing was heard of it meanwhile
    assert pace is None or any("waiting for it" in one.text for one in watcher.of(StateChanged))
    second = watcher.of(RunOpened)[1].run_id
    power = card.index("package_power_w")
    assert power is not None
    drawn = [one.frame.values[power] for one in watcher.of(FrameTaken) if one.run_id == second][20:]
    assert abs(float(np.mean(drawn)) - 40.0) < 2.0  # its setting, which the restart had lost, was put in force again
    assert not watcher.of(MadeSafe)


def test_while_it_is_away_a_call_says_so_and_its_first_samples_have_no_temperatures() -> None:
    rig = sandpiper(Fault(FaultKind.CRASH, 5.0, seconds=1.0), pace=600.0)
    card = rig.describe()
    rig.start("vector") if card.load("vector") else rig.start(card.loads[1].name)
    frame = rig.frame(1.0)
    while not (frame and frame.events):
        frame = rig.frame(1.0)
    assert frame is not None
    assert frame.events[0].kind == RigEventKind.CRASH
    went_s = frame.time_s
    with pytest.raises(MachineAwayError):
        rig.apply(SET)
    with pytest.raises(MachineAwayError):
        rig.start(card.loads[1].name)
    rig.stop()
    rig.make_safe()
    assert rig.frame(1.0) is None
    frame = None
    while frame is None:
        frame = rig.frame(1.0)
    assert frame is not None
    assert frame.time_s - went_s > 90.0
    assert np.all(np.isnan(frame.values[list(card.indices("core_temperature_c"))]))


class Restarting(Doorbell):
    """A stranger's machine that goes down under its load, with a word of its driver's or without, and stays away a while."""

    def __init__(self, away: int, *, by_event: bool) -> None:
        super().__init__()
        self._under, self._left, self._away, self._by_event = 0, 0, away, by_event
        self.applied: list[float | None] = []

    def _gone(self) -> None:
        if self._left:
            self._left -= 1
            raise MachineAwayError("It is starting again.", remedy="Wait.")

    def apply(self, setting: Setting) -> str | None:
        self._gone()
        self.applied.append(setting.sustained_power_w)
        return super().apply(setting)

    def start(self, load: str) -> None:
        self._gone()
        super().start(load)

    def frame(self, timeout_s: float) -> Frame | None:
        if self._left:
            time.sleep(0.005)
            self._gone()
        frame = super().frame(timeout_s)
        assert frame is not None
        self._under += self._load != "idle"
        if self._under == 10 and self._away:
            self._under, self._left, self._away, self._load = 11, self._away, 0, "idle"
            if not self._by_event:
                self._gone()
            return Frame(frame.time_s, frame.values, (RigEvent(RigEventKind.CRASH, "it went down"),))
        return frame


@pytest.mark.parametrize("by_event", [True, False])
def test_a_strangers_machine_too(tmp_path: Path, watcher: Watcher, by_event: bool) -> None:
    rig = Restarting(30, by_event=by_event)
    bench = open_bench(rig, tmp_path / "test.niente", watcher.hear)
    try:
        two = [SET.replaced("sustained_power_w", watts) for watts in (10.0, 12.0)]
        bench.start(short_plan(bench.card, *two, load="ring", seconds=30.0), Limits())
        ended = watcher.end()
    finally:
        bench.close()
    assert ended.complete, ended
    assert [one.outcome for one in watcher.of(RunClosed)] == [RunOutcome.FAILED, RunOutcome.DONE]
    assert 12.0 in rig.applied


def test_one_that_does_not_come_back_ends_the_night_in_words(tmp_path: Path, watcher: Watcher) -> None:
    rig = Restarting(10**6, by_event=True)
    rig.describe = lambda: msgspec.structs.replace(CARD, restart_limit_s=0.5)  # type: ignore[method-assign]
    bench = open_bench(rig, tmp_path / "test.niente", watcher.hear, silent_limit_s=0.2, hang_limit_s=0.3)
    try:
        two = [SET.replaced("sustained_power_w", watts) for watts in (10.0, 12.0)]
        bench.start(short_plan(bench.card, *two, load="ring", seconds=30.0), Limits())
        ended = watcher.end()
    finally:
        bench.close()
    assert ended.error is not None
    assert "has not come back within" in ended.reason
    assert [one.outcome for one in watcher.of(RunClosed)] == [RunOutcome.FAILED]


def one_run(rig: Doorbell, folder: Path, watcher: Watcher) -> PlanEnded:
    bench = open_bench(rig, folder / "test.niente", watcher.hear)
    try:
        bench.start(short_plan(bench.card, SET.replaced("sustained_power_w", 10.0), load="ring", seconds=30.0), Limits())
        return watcher.end()
    finally:
        bench.close()


def test_a_machine_that_does_not_restart_is_not_waited_for(tmp_path: Path, watcher: Watcher) -> None:
    rig = Restarting(10**6, by_event=False)
    rig.describe = lambda: msgspec.structs.replace(CARD, restart_limit_s=0.0)  # type: ignore[method-assign]
    ended = one_run(rig, tmp_path, watcher)
    assert "It is starting again" in ended.reason
    assert [one.outcome for one in watcher.of(RunClosed)] == [RunOutcome.STOPPED]  # and is not made again


@pytest.mark.parametrize("limit_s", [0.0, 600.0])
def test_it_may_go_down_as_it_is_set(tmp_path: Path, watcher: Watcher, limit_s: float) -> None:
    """At once again, too: it is back before anybody has waited for it."""
    rig, left = Doorbell(), [3]
    apply = rig.apply

    def goes_down(setting: Setting) -> str | None:
        if setting.sustained_power_w == 10.0 and left[0]:
            left[0] -= 1
            raise MachineAwayError("It is starting again.", remedy="Wait.")
        return apply(setting)

    rig.apply = goes_down  # type: ignore[method-assign]
    rig.describe = lambda: msgspec.structs.replace(CARD, restart_limit_s=limit_s)  # type: ignore[method-assign]
    ended = one_run(rig, tmp_path, watcher)
    outcomes = [one.outcome for one in watcher.of(RunClosed)]
    assert outcomes == ([RunOutcome.VOIDED] * 3 + [RunOutcome.DONE] if limit_s else [RunOutcome.STOPPED])
    assert ended.complete == bool(limit_s)


def test_coming_back_is_told(make_bench: Make, watcher: Watcher) -> None:
    bench = make_bench(sandpiper(Fault(FaultKind.CRASH, 40.0, seconds=1.0), pace=60.0))
    load = next(one.name for one in bench.card.loads if one.kind == "heavy")
    bench.start(short_plan(bench.card, SET, SET.replaced("sustained_power_w", 40.0), load=load, seconds=60.0), Limits())
    assert watcher.end().complete
    assert any("is back after" in one.text for one in watcher.of(WarningRaised))


def test_every_card_says_how_long_it_may_take() -> None:
    assert open_rig("sandpiper").describe().restart_limit_s > 95.0
