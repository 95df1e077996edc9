"""Which thread calls what of a rig, as the contract says it."""

import threading
from collections.abc import Callable
from typing import Any

from niente.core.acquisition.bench import Bench
from niente.core.model.limits import Limits
from niente.core.model.plan import PLAN_FORMAT, Plan, Step
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from tests.conftest import Watcher, short_plan
from tests.waiting import until

Make = Callable[..., Bench]
HOT = Setting(sustained_power_w=120.0)


class Witness(SimulatedRig):
    """A machine that keeps which thread called what."""

    def __init__(self, *args: Any, **given: Any) -> None:
        self.calls: list[tuple[str, str]] = []
        super().__init__(*args, **given)

    def __getattribute__(self, name: str) -> Any:
        if name in ("describe", "check", "apply", "start", "stop", "frame", "make_safe", "close", "become"):
            self.calls.append((name, threading.current_thread().name))
        return super().__getattribute__(name)


def test_one_thread_alone_calls_the_rig(make_bench: Make, watcher: Watcher, card: RigCard) -> None:
    """Once the bench is open, all but ``make_safe``; so the contract says."""
    rig = Witness(shipped_file("larkspur"), seed=3)
    bench = make_bench(rig)
    opened = len(rig.calls)
    plan = short_plan(card, HOT, HOT, seconds=30.0, idle_s=10.0)
    steps = tuple(Step(HOT, "vector", plan.steps[0].exposure, variant=one) for one in ("filter in", "filter out"))
    bench.start(Plan(PLAN_FORMAT, card.name, "test", steps, plan.guards), Limits())
    until(lambda: bench.open_card is not None)
    bench.confirm()
    assert watcher.end().complete
    bench.close()
    called = {(name, thread) for name, thread in rig.calls[opened:] if name != "make_safe"}
    assert {thread for _, thread in called} == {"niente-sampler"}
    assert {name for name, _ in called} >= {"apply", "start", "frame", "become", "close"}
