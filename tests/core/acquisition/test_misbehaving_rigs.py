"""Rigs that break their contract, drawn at random: every call, in every state, by raising, hanging or lying.

Whatever a driver does, the plan ends, the machine is safe or a person has been told what to do, no thread is left behind, and
nothing of it is called a bug of Niente's.
"""

import math
import random
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import pytest

from niente.core.acquisition.opening import open_bench
from niente.core.model.commands import Command
from niente.core.model.errors import NienteError
from niente.core.model.limits import Limits
from niente.core.model.plan import PLAN_FORMAT, Exposure, Guard, GuardAction, Plan, Step
from niente.core.model.records import BenchFailed, FrameTaken, MadeSafe, PlanEnded, RunOpened, WarningRaised
from niente.core.model.setting import Setting
from niente.core.rigs import checked_rig
from niente.rig import Frame
from tests.conftest import Watcher
from tests.contract.outside import CARD, Doorbell
from tests.draws import SEED, draws
from tests.waiting import until

RIGS = draws(100, 40)
HANG_S = 0.4
METHODS = ("describe", "check", "apply", "start", "stop", "frame", "make_safe", "close")
STATES = ("opening", "idle", "begins", "runs", "later", "stops", "closes")
WAYS = ("raises", "ends", "hangs", "nothing", "lies")
LIES: dict[str, tuple[Callable[[Any], Any], ...]] = {
    "describe": (lambda good: {"name": "doorbell"}, lambda good: msgspec.structs.replace(good, channels=5)),
    "check": (lambda good: 7, lambda good: [None]),
    "apply": (lambda good: 7, lambda good: ["set it"]),
    "frame": (
        lambda good: (1.0, [2.0]),
        lambda good: Frame(good.time_s, good.values.tolist()),
        lambda good: Frame(good.time_s, good.values[:-1]),
        lambda good: Frame(good.time_s, good.values.reshape(1, -1)),
        lambda good: Frame(good.time_s, good.values.astype(object)),
        lambda good: Frame(good.time_s, good.values.astype(str)),
        lambda good: Frame(good.time_s, good.values * 1j),
        lambda good: Frame(math.nan, good.values),
        lambda good: Frame("now", good.values),  # type: ignore[arg-type]
        lambda good: Frame(1e-3, good.values),
        lambda good: Frame(None, good.values),  # type: ignore[arg-type]
        lambda good: Frame(good.time_s, good.values, ("crash",)),  # type: ignore[arg-type]
        lambda good: Frame(good.time_s, good.values, 7),  # type: ignore[arg-type]
    ),
}
ERRORS: tuple[Callable[[], BaseException], ...] = (
    lambda: OSError("the cable is out"),
    lambda: ZeroDivisionError(),
    lambda: RecursionError("too deep"),
    lambda: MemoryError(),
    lambda: StopIteration(),
    lambda: TimeoutError("no answer"),
    lambda: UnicodeDecodeError("utf-8", b"\xff", 0, 1, "bad"),
    lambda: WordlessError(),
)
ENDS: tuple[Callable[[], BaseException], ...] = (lambda: SystemExit(3), lambda: KeyboardInterrupt(), lambda: GeneratorExit())
"""In the thread that opens a bench the last two may be a person's Ctrl+C: there only the first is a driver's."""


class WordlessError(Exception):
    """An error whose own text fails."""

    def __str__(self) -> str:
        raise ValueError("no words")


class Misbehaving(Doorbell):
    """A doorbell that does one thing wrong, from one moment on; a load that is on shows in what it reads."""

    def __init__(self, method: str, way: str, draw: random.Random, *, once: bool) -> None:
        super().__init__()
        self._method, self._way, self._draw, self._once = method, way, draw, once
        self.armed = False
        self.free = threading.Event()
        self.called = 0

    @property
    def load(self) -> str:
        return self._load

    def __getattribute__(self, name: str) -> Any:
        found = super().__getattribute__(name)
        if name in METHODS and name == self._method and self.armed:
            return lambda *given: self._misbehave(found, *given)
        return found

    def _misbehave(self, good: Callable[..., Any], *given: Any) -> Any:
        self.called += 1
        if self._once:
            self.armed = False
        if self._way == "raises":
            raise self._draw.choice(ERRORS)()
        if self._way == "ends":
            main = threading.current_thread() is threading.main_thread()
            raise ENDS[0]() if main else self._draw.choice(ENDS)()
        if self._way == "hangs":
            self.free.wait(60.0)
            return good(*given)
        if self._way == "nothing":
            return None
        answer = good(*given)
        lies = LIES.get(self._method)
        return self._draw.choice(lies)(answer) if lies else 7


def plan_of_runs() -> Plan:
    rule = Exposure(40.0, 40.0)
    steps = tuple(Step(Setting(sustained_power_w=watts), "ring", rule, "test", "a test") for watts in (10.0, 12.0, 14.0))
    guard = Guard("core_temperature_c", 88.0, 80.0, 2.0, GuardAction.STOP, "Too hot.")
    return Plan(PLAN_FORMAT, CARD.name, "test", steps, (guard,))


def drawn(number: int) -> tuple[str, str, str, bool, random.Random]:
    """Return the rig of a number: what it does wrong, how, when, and whether once or from then on."""
    draw = random.Random(SEED * 1000 + number)
    return draw.choice(METHODS), draw.choice(WAYS), draw.choice(STATES), draw.random() < 0.3, draw


def act_out(rig: Misbehaving, state: str, book: Path, watcher: Watcher) -> None:
    """Take a rig through its life, and let it go wrong in one state."""
    before = threading.active_count()
    rig.armed = state == "opening"
    try:
        bench = open_bench(rig, book, watcher.hear, silent_limit_s=HANG_S, hang_limit_s=HANG_S)
    except NienteError:
        assert state == "opening"
        rig.free.set()
        return
    try:
        if state == "idle":
            rig.armed = True
            time.sleep(0.15)
        if state == "begins":
            rig.armed = True
        bench.start(plan_of_runs(), Limits())
        until(lambda: bool(watcher.of(RunOpened)) or not bench.busy)
        if state == "runs":
            until(lambda: len(watcher.of(FrameTaken)) > 20 or not bench.busy)
            rig.armed = True
        if state == "later":
            until(lambda: len(watcher.of(RunOpened)) > 1 or not bench.busy)
            bench.send_command(Command.SKIP)
            rig.armed = True
        if state == "stops":
            rig.armed = True
            bench.stop()
        if state != "closes":
            until(lambda: not bench.busy)
    except NienteError:  # refused in words: it was given up while idle
        assert not bench.busy or bench._sampler.abandoned
    finally:
        rig.armed = rig.armed or state == "closes"
        bench.close(wait_s=HANG_S)
        rig.armed = False
        rig.free.set()
    until(lambda: threading.active_count() <= before)


@pytest.mark.parametrize("number", range(RIGS))
def test_whatever_a_driver_does(number: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    method, way, state, once, draw = drawn(number)
    print(f"seed {SEED}, rig {number}: {method} {way} when it {state}, {'once' if once else 'from then on'}")
    monkeypatch.setattr(checked_rig, "SAFE_S", (HANG_S / 2, HANG_S / 4, HANG_S / 4))
    rig, watcher = Misbehaving(method, way, draw, once=once), Watcher()
    act_out(rig, state, tmp_path / "test.niente", watcher)
    assert not watcher.of(BenchFailed)
    told = [record.text for record in watcher.of(MadeSafe) if not record.safe]
    told += [str(record.error) for record in watcher.of(PlanEnded) if record.error is not None]
    told += [record.text for record in watcher.of(WarningRaised)]
    assert rig.load == "idle" or any("Go to the machine now" in one for one in told), told
    if rig.called and way in ("raises", "ends") and state in ("begins", "runs") and method in ("apply", "start", "frame"):
        assert any(f"failed in {method}" in one for one in told), told  # the driver's error, by its name


def test_a_make_safe_that_does_nothing_is_noticed(tmp_path: Path) -> None:
    """It returns, and the load is on: the samples that follow show it. It is called again; then a person is called."""
    calls: list[float] = []

    class Pretends(Doorbell):
        def make_safe(self) -> None:
            calls.append(self._time)

        def stop(self) -> None:
            pass

    watcher = Watcher()
    bench = open_bench(Pretends(), tmp_path / "test.niente", watcher.hear)
    try:
        bench.start(plan_of_runs(), Limits())
        until(lambda: len(watcher.of(FrameTaken)) > 20)
        bench.stop()
        until(lambda: bool(watcher.of(MadeSafe)))
    finally:
        bench.close()
    (said,) = watcher.of(MadeSafe)
    assert not said.safe
    assert "still at work" in said.text
    assert "Go to the machine now" in said.text
    assert len(calls) >= 3


def test_one_that_fails_twice_and_then_works_is_safe(tmp_path: Path) -> None:
    class Reluctant(Doorbell):
        left = 2

        def make_safe(self) -> None:
            if self.left:
                self.left -= 1
                raise OSError("busy")
            super().make_safe()

    rig, watcher = Reluctant(), Watcher()
    bench = open_bench(rig, tmp_path / "test.niente", watcher.hear)
    try:
        bench.start(plan_of_runs(), Limits())
        until(lambda: len(watcher.of(FrameTaken)) > 20)
        bench.stop()
        until(lambda: not bench.busy)
    finally:
        bench.close()
    assert rig._load == "idle"
    assert not watcher.of(MadeSafe)


@pytest.mark.parametrize("step_s", [0.0, -1.0, 0.001])
def test_a_time_that_does_not_go_on_protects_nothing_and_ends_the_plan(tmp_path: Path, step_s: float) -> None:
    """Time that stands still or goes back is refused; where it creeps, a guard's dwell is counted by our own clock."""

    class Creeps(Doorbell):
        def frame(self, timeout_s: float) -> Frame | None:
            good = super().frame(timeout_s)
            assert good is not None
            if self._load == "idle":
                return good
            time.sleep(0.05)
            self._time += step_s - 1.0
            values = good.values.copy()
            values[0] = 129.0 if step_s > 0 else values[0]
            return Frame(self._time + 1.0, values)

    rig, watcher = Creeps(), Watcher()
    guard = Guard("core_temperature_c", 90.0, 80.0, 0.5, GuardAction.STOP, "Too hot.")
    plan = msgspec.structs.replace(plan_of_runs(), guards=(guard,))
    card = msgspec.structs.replace(CARD, limits=msgspec.structs.replace(CARD.limits, shut_down_c=120.0))
    rig.describe = lambda: card  # type: ignore[method-assign]
    bench = open_bench(rig, tmp_path / "test.niente", watcher.hear)
    try:
        bench.start(plan, Limits())
        ended = watcher.end()
    finally:
        bench.close()
    assert rig._load == "idle"
    expected = {0.0: "its time stands still", -1.0: "its time goes back", 0.001: "Too hot"}[step_s]
    assert expected in ended.reason


def test_runs_that_gaps_leave_void_are_not_made_without_end(tmp_path: Path) -> None:
    class Sleeps(Doorbell):
        def frame(self, timeout_s: float) -> Frame | None:
            if self._load == "ring":
                self._time += 30.0
            return super().frame(timeout_s)

    rig, watcher = Sleeps(), Watcher()
    bench = open_bench(rig, tmp_path / "test.niente", watcher.hear)
    try:
        bench.start(plan_of_runs(), Limits())
        ended = watcher.end()
    finally:
        bench.close()
    assert not ended.complete
    assert "was void 4 times" in ended.reason
    assert len(watcher.of(RunOpened)) == 4
    assert rig._load == "idle"


def test_slow_reads_delay_a_guard_by_one_sample_at_most(tmp_path: Path) -> None:
    """Half a second a call: the load is off before the next sample is asked for."""
    asked: list[tuple[float, str]] = []

    class Slow(Doorbell):
        def frame(self, timeout_s: float) -> Frame | None:
            asked.append((time.monotonic(), self._load))
            time.sleep(0.5)
            good = super().frame(timeout_s)
            assert good is not None
            values = good.values.copy()
            if self._load == "ring" and sum(load == "ring" for _, load in asked) > 2:
                values[0] = 96.0
            return Frame(good.time_s, values)

    rig, watcher = Slow(), Watcher()
    guard = Guard("core_temperature_c", 88.0, 80.0, 0.0, GuardAction.STOP, "Too hot.")
    bench = open_bench(rig, tmp_path / "test.niente", watcher.hear)
    try:
        bench.start(msgspec.structs.replace(plan_of_runs(), guards=(guard,)), Limits())
        watcher.end()
    finally:
        bench.close()
    assert [load for _, load in asked].count("ring") == 3  # the third was too hot, and there was no fourth under load
    assert np.all(np.diff([at for at, _ in asked]) >= 0.5)
