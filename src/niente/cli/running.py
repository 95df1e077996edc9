"""A plan run in a terminal: a progress line, and Ctrl+C as stop and restore."""

import select
import signal
import sys
import threading
from collections.abc import Callable
from pathlib import Path

from rich.console import Console
from rich.progress import BarColumn, Progress, TaskID, TextColumn, TimeElapsedColumn

from niente.core.bench.bench import Bench
from niente.core.bench.engine import Command
from niente.core.bench.events import (
    Broke,
    Event,
    ForecastMade,
    FrameTaken,
    LeftOut,
    Listener,
    PlanEnded,
    PlanStarted,
    RunClosed,
    RunOpened,
    StateChanged,
    Warned,
)
from niente.core.bench.states import State
from niente.core.plan import Plan
from niente.core.project import Limits
from niente.core.quantities import duration_text, quantity_of

BUG = 1
ENDED_EARLY = 4
"""Exit code: a guard or a failure of the rig ended the plan; the rig is safe and every sample is kept."""
STOPPED = 5
"""Exit code: the person stopped it; the rig is restored and every sample is kept."""


class Line:
    """Turns the bench's events into a progress line (on a terminal) or a line a run (elsewhere)."""

    def __init__(self, console: Console, progress: Progress) -> None:
        self.over = threading.Event()
        self.hands = threading.Event()
        """Set while the plan waits for hands."""
        self.ended: PlanEnded | Broke | None = None
        self._console = console
        self._progress = progress
        self._task: TaskID | None = None
        self._words = ""
        self.swept: tuple[str, ...] = ()
        """The controls that tell one run from the next."""
        self._runs = 0

    def hear(self, event: Event) -> None:
        """Take one event in; called from the bench's thread."""
        match event:
            case FrameTaken():
                return
            case PlanStarted(_, _, done):
                if done:
                    self._console.print(f"Going on: {done} runs are done already.")
                self._task = self._progress.add_task("", total=None, completed=done)
            case RunOpened(_, index, total, step):
                self._runs = max(total, self._runs)
                setting = step.setting.text(self.swept)
                self._words = f"run {index + 1} of {self._runs}, {setting}, {step.load}"
                self._show()
            case ForecastMade(_, _, settled) if settled.known:
                temperature = quantity_of("hottest_core_c").with_unit(settled.value_c, settled.half_width_k)
                self._show(f"settles at {temperature}")
            case RunClosed(_, index, how, why):
                self._console.print(f"  {self._words}: {how} ({why})", highlight=False)
                if self._task is not None:
                    self._progress.update(self._task, completed=index + 1, total=max(self._runs, index + 1))
            case Warned(text) | LeftOut(_, text):
                self._console.print(text)
            case StateChanged(State.WAITING_FOR_HANDS, text):
                self._console.print(f"By hand: {text}")
                self.hands.set()
            case StateChanged(State.RESTING, text):
                self._console.print(text, highlight=False)
            case PlanEnded() | Broke():
                self.ended = event
                self.over.set()
            case _:
                return

    def _show(self, more: str = "") -> None:
        if self._task is not None:
            self._progress.update(self._task, description=f"{self._words}  {more}".strip())


def run_in_terminal(open_bench: Callable[[Listener], Bench], plan: Plan, book: Path) -> int:
    """Run a plan on the bench that ``open_bench`` gives for a listener, and return the exit code."""
    console = Console(stderr=True, soft_wrap=True)
    columns = (
        BarColumn(20),
        TextColumn("{task.completed:.0f}/{task.total:.0f}"),
        TextColumn("{task.description}"),
        TimeElapsedColumn(),
    )
    with Progress(*columns, console=console, transient=True, disable=not console.is_terminal) as progress:
        line = Line(console, progress)
        bench = open_bench(line.hear)
        line.swept = ("sustained_power_w", f"fan_duty.{bench.card.lead_group()}")
        try:
            if bench.interrupted is not None:
                lost = bench.interrupted
                length = duration_text((lost.closed_rig_time_s or lost.rig_time_s) - lost.rig_time_s)
                console.print(
                    f"The last time, Niente or the machine went down in run {lost.step + 1}. "
                    f"Its samples are kept ({length}); the run is repeated."
                )
            stopping = _stop_on_signals(bench)
            bench.start(plan, bench.project.limits if bench.project is not None else Limits())
            while not line.over.wait(0.2):
                if line.hands.is_set():
                    line.hands.clear()
                    _let_hands_work(bench, console, stopping)
        finally:
            bench.close()
    return _verdict(line, console, book, bool(stopping))


def _let_hands_work(bench: Bench, console: Console, stopping: list[int]) -> None:
    """Wait until hands have done what was asked; a simulated machine's have at once."""
    if bench.card.simulated:
        console.print("The machine is simulated: that is taken as done.")
        bench.tell(Command.GO_ON)
        return
    if not sys.stdin.isatty():
        console.print(
            "Nobody is at the terminal to do that: the plan stops. Start it again from a terminal, or from the window."
        )
        bench.stop()
        return
    console.print("Mains off and unplugged before hands go in. Press Enter once it is done; Ctrl+C stops and restores.")
    while not stopping and bench.state != State.IDLE:
        if select.select([sys.stdin], [], [], 0.5)[0]:
            sys.stdin.readline()
            bench.tell(Command.GO_ON)
            return


def _stop_on_signals(bench: Bench) -> list[int]:
    """Make Ctrl+C and a polite kill stop and restore; the returned list is filled when that happens."""
    seen: list[int] = []

    def stop(number: int, frame: object) -> None:
        seen.append(number)
        bench.stop()

    if threading.current_thread() is threading.main_thread():
        signal.signal(signal.SIGINT, stop)
        signal.signal(signal.SIGTERM, stop)
    return seen


def _verdict(line: Line, console: Console, book: Path, stopped: bool) -> int:
    ended = line.ended
    if isinstance(ended, Broke) or ended is None:
        print(ended.report if ended else "", file=sys.stderr)
        console.print("This is a bug of Niente's. The rig has its safe setting, and every sample is kept.")
        return BUG
    if ended.complete:
        console.print(f"The plan is done. See the pick with: niente-cli choose {book}")
        return 0
    if stopped and ended.error is None:
        console.print("Stopped. The rig is restored and every sample is kept; the same command goes on from here.")
        return STOPPED
    console.print(str(ended.error) if ended.error is not None else f"The plan ended early: {ended.why}.")
    return ENDED_EARLY
