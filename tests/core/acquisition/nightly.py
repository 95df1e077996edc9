"""A process that runs a plan on a stranger's machine until it is killed: ``python -m tests.core.acquisition.nightly BOOK``."""

import sys
import threading
from pathlib import Path

from niente.core.acquisition.opening import open_bench
from niente.core.model.guard_rules import default_guards
from niente.core.model.plan import PLAN_FORMAT, Exposure, Plan, Step
from niente.core.model.project import Limits
from niente.core.model.records import BenchFailed, PlanEnded, Record
from niente.core.model.setting import Setting
from tests.contract.outside import CARD, Doorbell

RULE = Exposure(min_s=4000.0, max_s=4000.0)
PLAN = Plan(
    PLAN_FORMAT,
    "doorbell",
    "free",
    tuple(Step(Setting(sustained_power_w=float(watts)), "ring", RULE) for watts in range(6, 16)),
    default_guards(CARD),
)


def main(book: Path) -> None:
    """Run until the plan ends, or something ends this process."""
    over = threading.Event()

    def hear(event: Record) -> None:
        if isinstance(event, PlanEnded | BenchFailed):
            over.set()

    bench = open_bench(Doorbell(), book, hear)
    print("ready", flush=True)
    bench.start(PLAN, Limits())
    over.wait(30.0)
    bench.close()


if __name__ == "__main__":
    main(Path(sys.argv[1]))
