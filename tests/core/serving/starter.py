"""A window that can be killed: reaches the bench of a book, starts a long plan there, and waits.

``python -m tests.core.serving.starter BOOK RIG LOAD WHEN_LOST``
"""

import sys
import time
from pathlib import Path

from niente.core.model.commands import WhenLost
from niente.core.model.guard_rules import default_guards
from niente.core.model.limits import Limits
from niente.core.model.plan import PLAN_FORMAT, Exposure, Plan, Step
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.serving.starting import BenchOptions, reach_bench


def long_plan(card: RigCard, load: str, watts: float) -> Plan:
    """Two runs that take longer than any test."""
    rule = Exposure(4000.0, 4000.0)
    steps = tuple(Step(Setting(sustained_power_w=watts + more), load, rule) for more in (0.0, 1.0))
    return Plan(PLAN_FORMAT, card.name, "test", steps, default_guards(card))


def main() -> None:
    """Start, and wait to be killed."""
    book, rig, load, when_lost = sys.argv[1:]
    options = BenchOptions(rig, seed=3, pace=60.0)
    bench = reach_bench(Path(book), lambda _: None, options, when_lost=WhenLost(when_lost))
    if bench.unread_cautions():
        bench.read_cautions()
    bench.start(long_plan(bench.card, load, 10.0 if load == "ring" else 100.0), Limits())
    print("started", flush=True)
    time.sleep(100.0)


if __name__ == "__main__":
    main()
