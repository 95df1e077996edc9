"""Processes that run a plan on a stranger's machine until they are killed: ``python -m tests.core.acquisition.nightly``.

This one imports what they need once. For every path of a book on its standard input it forks a process that opens that book and
runs the plan, and prints the number of the process once its bench is open.
"""

import os
import signal
import sys
import threading
from pathlib import Path

from niente.core.acquisition.opening import open_bench
from niente.core.model.guard_rules import default_guards
from niente.core.model.limits import Limits
from niente.core.model.plan import PLAN_FORMAT, Exposure, Plan, Step
from niente.core.model.records import BenchFailed, PlanEnded, Record
from niente.core.model.setting import Setting
from tests.contract.outside import CARD, Doorbell
from tests.waiting import PATIENCE_S

RULE = Exposure(min_s=4000.0, max_s=4000.0)
PLAN = Plan(
    PLAN_FORMAT,
    "doorbell",
    "free",
    tuple(Step(Setting(sustained_power_w=float(watts)), "ring", RULE) for watts in range(6, 16)),
    default_guards(CARD),
)


def run_plan(book: Path) -> None:
    """Run until the plan ends, or something ends this process."""
    over = threading.Event()

    def hear(record: Record) -> None:
        if isinstance(record, PlanEnded | BenchFailed):
            over.set()

    bench = open_bench(Doorbell(), book, hear)
    print(os.getpid(), flush=True)
    bench.start(PLAN, Limits())
    over.wait(PATIENCE_S)
    bench.close()


def main() -> None:
    """Fork a process for every book that is named."""
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # nobody waits for the killed
    for line in sys.stdin:
        if os.fork() == 0:
            run_plan(Path(line.strip()))
            os._exit(0)


if __name__ == "__main__":
    main()
