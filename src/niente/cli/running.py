"""A plan run in a terminal: a progress line, and Ctrl+C as stop and restore."""

import signal
import sys
import threading
from collections.abc import Callable
from pathlib import Path

import msgspec
from rich.console import Console
from rich.progress import BarColumn, Progress, TaskID, TextColumn, TimeElapsedColumn

from niente.cli.events import as_data
from niente.cli.terminal import Terminal
from niente.core.acquisition.client import BenchClient, BenchLost, CommandAsked, CommandGiven, Heard, Hearer, PaceChanged
from niente.core.model.commands import WhenLost
from niente.core.model.errors import NienteError, PlanError
from niente.core.model.hand_cards import HandCard
from niente.core.model.plan import Plan
from niente.core.model.quantities import duration_text, quantity_of
from niente.core.model.question import TemplateName
from niente.core.model.records import (
    BenchFailed,
    ForecastMade,
    FrameTaken,
    HandCardShown,
    MadeSafe,
    PlanEnded,
    PlanStarted,
    Record,
    RunClosed,
    RunLeftOut,
    RunOpened,
    SamplesTaken,
    SettingStays,
    StateChanged,
    WarningRaised,
)
from niente.core.model.runs import RunKind
from niente.core.model.setting import Setting
from niente.core.model.states import BenchState
from niente.core.planning.columns import columns_of
from niente.core.planning.progress import plan_rows
from niente.core.planning.templates import project_asking, template
from niente.core.selection.setting_words import setting_text

JOIN_S = 2.0
"""A bench says within this time what runs on it."""
BUG = 1
ENDED_EARLY = 4
"""Exit code: a guard or a failure of the rig ended the plan; the rig is safe and every sample is kept."""
STOPPED = 5
"""Exit code: the person stopped it; the rig is restored and every sample is kept."""


class ProgressLine:
    """Turns the bench's events into a progress line (on a terminal), a line a run (elsewhere), or a line of JSON each."""

    def __init__(self, console: Console, progress: Progress, as_json: bool = False) -> None:
        self.over = threading.Event()
        self.card: HandCard | None = None
        """The card that hands are at, once it is shown and until somebody takes it up."""
        self.ended: PlanEnded | BenchFailed | None = None
        self.plan: Plan | None = None
        """The plan that runs."""
        self.stays: SettingStays | None = None
        """What came of a setting that was to be put in force."""
        self.begun = threading.Event()
        self.lost = ""
        """What is said of a bench that is gone."""
        self.output_gone = False
        """Whether what is written is read by nobody any more."""
        self._console = console
        self._progress = progress
        self._as_json = as_json
        self._task: TaskID | None = None
        self._words = ""
        self.swept: tuple[str, ...] = ()
        """The controls that tell one run from the next."""
        self._runs = 0
        self._pauses = False

    @property
    def picks(self) -> bool:
        """Whether the plan is for a pick rather than for another answer."""
        return self.plan is None or template(self.plan.question) is None or self.plan.question == TemplateName.QUIET_POINT

    def hear(self, event: Heard) -> None:
        """Take one event in; called from the client's thread. Where nobody reads the output any more, the rest is silence."""
        try:
            self._hear(event)
        except (OSError, ValueError):  # a closed pipe, a full disk behind it, a terminal that is gone
            self.output_gone = True
        if self.output_gone and isinstance(event, PlanEnded | BenchFailed):
            self.ended = event
            self.over.set()

    def _hear(self, event: Heard) -> None:
        if isinstance(event, FrameTaken | SamplesTaken | PaceChanged) or self.output_gone:
            return
        if isinstance(event, BenchLost | CommandGiven | CommandAsked):
            self._hear_of_bench(event)
            return
        self._hear_record(event)

    def _hear_of_bench(self, event: BenchLost | CommandGiven | CommandAsked) -> None:
        """Say how this terminal stands to the bench."""
        match event:
            case BenchLost(text):
                self.lost = text or (
                    "The bench's process ended without a word. Its guardian makes the machine safe; every sample is kept. The "
                    "same command goes on from here."
                )
                self.print_line(self.lost)
                if text:
                    self.over.set()
            case CommandGiven(commands):
                self.print_line("This terminal commands now." if commands else "Another window or terminal commands now.")
            case CommandAsked():
                self.print_line("Another window or terminal asks for command; 'hand over' lets it.")

    def _hear_record(self, event: Record) -> None:
        if isinstance(event, PlanStarted):
            self.plan = event.plan
            self.begun.set()
        if isinstance(event, StateChanged) and self.plan is None:
            return
        if isinstance(event, HandCardShown):
            self.card = event.card
        if isinstance(event, PlanEnded | BenchFailed):
            self.ended = event
        data = as_data(event) if self._as_json else None
        if data is not None:
            print(msgspec.json.encode(data).decode(), flush=True)
        elif not self._as_json:
            self._show_text(event)
        if isinstance(event, SettingStays) and (event.setting is not None or event.problem):
            self.stays = event
        if isinstance(event, PlanEnded | BenchFailed) or (isinstance(event, MadeSafe) and self.lost) or self.stays is not None:
            self.over.set()

    def _show_progress(self, event: PlanStarted | RunOpened | ForecastMade | RunClosed) -> None:
        match event:
            case PlanStarted(_, _, done):
                if done:
                    self._console.print(f"Going on: {done} runs are done already.")
                self._task = self._progress.add_task("", total=None, completed=done)
            case RunOpened(_, index, total, step, kind=RunKind.STEP):
                self._runs = max(total, self._runs)
                setting = step.setting.text(self.swept)
                self._words = f"run {index + 1} of {self._runs}, {setting}, {step.load}"
                self._show()
            case ForecastMade(_, _, settled) if settled.known:
                temperature = quantity_of("hottest_core_c").with_unit(settled.value_c, settled.half_width_k)
                self._show(f"settles at {temperature}")
            case RunClosed(_, index, outcome, why, kind=RunKind.STEP):
                self._console.print(f"  {self._words}: {outcome} ({why})", highlight=False)
                if self._task is not None:
                    self._progress.update(self._task, completed=index + 1, total=max(self._runs, index + 1))

    def _show_text(self, event: Record) -> None:
        match event:
            case PlanStarted() | RunOpened() | ForecastMade() | RunClosed():
                self._show_progress(event)
            case WarningRaised(text) | RunLeftOut(_, text) | MadeSafe(_, text):
                self._console.print(text)
            case HandCardShown(card) if card is not None:
                for text in card_text(card):
                    self._console.print(text, highlight=False)
            case StateChanged():
                self._show_state(event)
            case _:
                return

    def _show_state(self, event: StateChanged) -> None:
        """Say what the bench waits for, and whether it pauses after this run once that is asked for or taken back."""
        changed, self._pauses = event.pauses_after != self._pauses, event.pauses_after
        if changed and event.state not in (BenchState.PAUSED, BenchState.RESTORING):
            self._console.print("It pauses after this run." if event.pauses_after else "It goes on after this run.")
        elif event.state in (BenchState.WAITING, BenchState.PAUSED):
            self._console.print(event.text, highlight=False)

    def print_line(self, text: str) -> None:
        """Say something that is no event."""
        try:
            self._console.print(text, highlight=False)
        except OSError:
            self.output_gone = True

    def _show(self, more: str = "") -> None:
        if self._task is not None:
            self._progress.update(self._task, description=f"{self._words}  {more}".strip())


def card_text(card: HandCard) -> list[str]:
    """Return a bench card as lines for a terminal, cautions first."""
    found = [f"By hand: {card.title}", *(f"  ! {caution}" for caution in card.cautions)]
    for number, line in enumerate(card.lines, 1):
        value = f": {line.value}" if line.value else ""
        before = f" (it was {line.before})" if line.before else ""
        found.append(f"  {number}. {line.words}{value}{before} {line.where}".rstrip())
    found += [f"  {reading.title} in {reading.quantity.unit}" for reading in card.readings]
    cool = [f"  First: cores under {card.cool_below_c:g} °C"] if card.cool_below_c is not None else []
    return [*cool, *found, *(f"  Check: {check}" for check in card.checks)]


def run_in_terminal(
    reach: Callable[[Hearer], BenchClient],
    plan: Plan,
    book: Path,
    *,
    as_json: bool = False,
    machine_went_down: bool | None = None,
    when_lost: WhenLost = WhenLost.GO_ON,
) -> int:
    """Run a plan on the bench that ``reach`` gives for a listener, and return the exit code.

    ``machine_went_down`` says what the run was that an earlier end left open, where a person has to say that.
    """
    console = Console(stderr=True, soft_wrap=True)
    columns = (
        BarColumn(20),
        TextColumn("{task.completed:.0f}/{task.total:.0f}"),
        TextColumn("{task.description}"),
        TimeElapsedColumn(),
    )
    shown = console.is_terminal and not as_json
    leaves = False
    with Progress(*columns, console=console, transient=True, disable=not shown) as progress:
        line = ProgressLine(console, progress, as_json)
        bench = reach(line.hear)
        line.swept = columns_of(bench.card, plan_rows(plan, bench.card))
        try:
            _after_an_end(bench, line, machine_went_down)
            stopping = _stop_on_signals(bench)
            leaves = True  # what is not this terminal's is not stopped by it
            _start_or_join(bench, plan, line)
            try:
                leaves = _until_over(bench, line, when_lost)
            except NienteError as error:  # what came until then is kept: this is no refusal any more
                leaves = False
                line.print_line(str(error))
                return ENDED_EARLY
        finally:
            bench.leave() if leaves else bench.close()
    if leaves:
        console.print(f"The plan goes on by itself. Look on with: niente-cli status --follow {book}")
        return 0
    return _verdict(line, console, book, bool(stopping) or line.output_gone)


def put_in_force_in_terminal(reach: Callable[[Hearer], BenchClient], setting: Setting) -> int:
    """Have the bench that ``reach`` gives for a listener put a setting in force that stays; return the exit code."""
    console = Console(stderr=True, soft_wrap=True)
    line = ProgressLine(console, Progress(console=console, disable=True))
    bench = reach(line.hear)
    card = bench.card
    try:
        stopping = _stop_on_signals(bench)
        bench.put_in_force(setting)
        _until_over(bench, line, WhenLost.STOP)
    finally:
        bench.close()
    told = line.stays
    if told is None or told.setting is None:
        line.print_line(f"The setting was not put in force: {told.problem if told is not None else line.lost}")
        return STOPPED if stopping else ENDED_EARLY
    words = setting_text(told.setting, card.stock) or "its setting as found"
    line.print_line(f"{card.title} keeps {words}. No load runs, and no guard watches it.")
    if card.simulated:
        line.print_line("It is simulated, and ends here.")
    return 0


def _start_or_join(bench: BenchClient, plan: Plan, line: ProgressLine) -> None:
    """Start a plan, or go along with it where it runs already. Raises ``PlanError`` where another one runs."""
    if not bench.busy:
        project = project_asking(bench.card, bench.project, plan.question)
        if project != bench.project:
            bench.save_project(project)
        bench.start(plan, project.limits)
        return
    line.begun.wait(JOIN_S)
    if line.plan is None or msgspec.structs.replace(line.plan, since=plan.since) != plan:
        raise PlanError(
            f"Another plan is running on {bench.card.title}.",
            safe="It goes on.",
            remedy="Wait for its end, or stop it there; then start this one.",
        )
    line.print_line("This plan is running already; this terminal goes along with it.")


def _until_over(bench: BenchClient, line: ProgressLine, when_lost: WhenLost) -> bool:
    """Wait for the plan's end, taking words at a terminal; return whether the plan is left to the bench: by the person,
    or since nobody reads any more what is written here."""
    words = Terminal(bench, line) if sys.stdin is not None and sys.stdin.isatty() else None
    while not line.over.wait(0.1):
        if line.output_gone and when_lost == WhenLost.GO_ON:
            return True
        if line.output_gone:
            bench.stop()
        if words is not None and not words.gone:
            words.look()
            if words.left:
                return True
        elif line.card is not None:
            _nobody_there(bench, line)
    return False


def _after_an_end(bench: BenchClient, line: ProgressLine, machine_went_down: bool | None) -> None:
    """Say what an earlier end left open, and take a person's word for what it was."""
    if machine_went_down is not None:
        bench.judge(machine_down=machine_went_down)
    lost = bench.interrupted
    if lost is None:
        return
    kept = f"Its samples are kept ({duration_text(lost.seconds)})"
    number = lost.run.step + 1
    if lost.machine_down:
        line.print_line(f"The machine went down in run {number}. {kept}; the setting counts as failed under {lost.run.load}.")
    elif lost.machine_down is False:
        line.print_line(f"The last time, Niente ended in run {number}; the machine did not fail. {kept}; the run is repeated.")
    else:
        line.print_line(
            f"The last time, Niente or the machine went down in run {number}. {kept}; the run is repeated. "
            "If the machine failed at its setting, say so: --last-run failed."
        )


def _nobody_there(bench: BenchClient, line: ProgressLine) -> None:
    """Take a card as done on a simulated machine, its meters read; stop on a real one: nobody sits at the terminal."""
    card = line.card
    if card is None:
        return
    if not bench.card.simulated:
        line.card = None
        words = "Nobody is at the terminal to do that: the plan stops. Start it again from a terminal, or from the window."
        line.print_line(words)
        bench.stop()
    elif all(reading.channel in bench.shown for reading in card.readings):
        line.card = None
        line.print_line("The machine is simulated: that is taken as done.")
        bench.confirm({reading.channel: bench.shown[reading.channel] for reading in card.readings})


def _stop_on_signals(bench: BenchClient) -> list[int]:
    """Make Ctrl+C, a polite kill and a terminal that closes stop and restore; the returned list is filled when that happens."""
    seen: list[int] = []

    def stop(number: int, frame: object) -> None:
        seen.append(number)
        bench.stop()

    if threading.current_thread() is threading.main_thread():
        for one in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGQUIT):
            signal.signal(one, stop)
    return seen


def _verdict(line: ProgressLine, console: Console, book: Path, stopped: bool) -> int:
    ended = line.ended
    if ended is None and line.lost:
        return ENDED_EARLY
    if isinstance(ended, BenchFailed) or ended is None:
        print(ended.report if ended else "", file=sys.stderr)
        console.print("This is a bug of Niente's. The rig has its safe setting, and every sample is kept.")
        return BUG
    if ended.complete:
        see = "the pick with: niente-cli choose" if line.picks else "the answer with: niente-cli answer"
        console.print(f"The plan is done. See {see} {book}")
        return 0
    if stopped and ended.error is None:
        console.print("Stopped. The rig is restored and every sample is kept; the same command goes on from here.")
        return STOPPED
    console.print(str(ended.error) if ended.error is not None else f"The plan ended early: {ended.reason}.")
    return ENDED_EARLY
