"""``niente-bench``: the process that holds a book's bench. A window or the command line starts it; people need not."""

import argparse
import contextlib
import logging
import os
import signal
import subprocess
import sys
import threading
import traceback
from collections.abc import Callable
from pathlib import Path

import msgspec

from niente import __version__
from niente.core.acquisition.attachment import Driver, attach, card_and_driver
from niente.core.acquisition.bench import Bench
from niente.core.model.errors import BookError, ErrorText, NienteError
from niente.core.model.records import BenchFailed, Listener, Record, WarningRaised
from niente.core.serving.desktop_bus import DesktopBus
from niente.core.serving.desktop_words import DesktopWords
from niente.core.serving.guardian import GOODBYE, PULSE, SILENT_S
from niente.core.serving.making_safe import SafeSpec
from niente.core.serving.run_folder import digest_of, socket_of
from niente.core.serving.server import BenchServer
from niente.core.storage.connection import WriterLock, is_unmade
from niente.core.storage.log_files import start_log
from niente.core.storage.notes import notes_in
from niente.core.storage.reader import BookReader

LOG = logging.getLogger(__name__)
NICE = 10
"""A simulated machine harms nobody by waiting: its bench gives way to whoever paints what it says."""
ENDED_ALONE = "The bench ended: nobody looked on, and nothing ran."
ENDED_AS_TOLD = "The bench was told to end. The machine is restored, and every sample is kept."
SWITCH_S = 0.001
"""How long one thread may keep the interpreter: what decides must not keep the sampler waiting."""


class Report(msgspec.Struct, frozen=True, omit_defaults=True):
    """What a bench that is starting says to whoever started it, a line of JSON each."""

    progress: str = ""
    ready: str = ""
    error: ErrorText | None = None
    bug: str = ""


class Guardian:
    """The bench's end of its guardian."""

    def __init__(self, spec: SafeSpec) -> None:
        self._spec = spec
        self._pipe = -1
        self._using = threading.Lock()
        self._ended = False
        self._process: subprocess.Popen[bytes] | None = None
        self._start()

    def _start(self) -> None:
        reading, self._pipe = os.pipe()
        os.set_blocking(self._pipe, False)
        words = [str(reading), str(os.getpid()), str(_own_session()), msgspec.json.encode(self._spec).decode()]
        self._process = subprocess.Popen(
            [sys.executable, "-m", "niente.core.serving.guardian", *words],
            stdin=subprocess.DEVNULL,
            pass_fds=(reading,),
            start_new_session=True,
        )
        os.close(reading)

    def pulse(self) -> None:
        """Say that this process lives; a guardian that is gone is replaced."""
        with self._using:
            if self._ended:
                return
            try:
                os.write(self._pipe, PULSE)
            except BlockingIOError:
                return  # it is slow to read: what it has not read tells it enough
            except OSError:
                LOG.warning("the guardian is gone; another one is started")
                os.close(self._pipe)
                if self._process is not None:
                    self._process.wait(1.0)
                self._start()

    def end(self) -> None:
        """Say that this process ends in order."""
        with self._using, contextlib.suppress(OSError):
            self._ended = True
            os.write(self._pipe, GOODBYE)
            os.close(self._pipe)


def _own_session() -> int:
    """Return the session of this process, where it is this process's own, and 0 otherwise: a guardian ends all of it."""
    session = os.getsid(0)
    return session if session == os.getpid() else 0


class EndedBySignal(SystemExit):
    """This process was told to end while it opened a bench; a driver that ends the process raises another."""


class _Start:
    """What says how far the start is, until that is over."""

    def __init__(self) -> None:
        self._out: int | None = os.dup(1)
        quiet = os.open(os.devnull, os.O_WRONLY)
        os.dup2(quiet, 1)
        os.close(quiet)

    def say(self, report: Report) -> None:
        if self._out is None:
            return
        with contextlib.suppress(OSError):
            os.write(self._out, msgspec.json.encode(report) + b"\n")

    def over(self) -> None:
        if self._out is not None:
            os.close(self._out)
            self._out = None


def bench_arguments(argv: list[str]) -> argparse.Namespace:
    """Read the command line."""
    parser = argparse.ArgumentParser(prog="niente-bench", description="Hold the bench of one book, for windows and terminals.")
    parser.add_argument("book", type=Path)
    parser.add_argument("--rig", help="the rig's name, or module:factory (default: the book's)")
    parser.add_argument("--seed", type=int, help="which sample of a simulated machine (default: the book's, or 1)")
    parser.add_argument("--pace", type=float, help="rig seconds a second (default: as fast as it goes)")
    parser.add_argument("--variant", help="the state that the machine is in (default: the book's)")
    parser.add_argument("--otherwise", help="the rig of books that do not know how theirs is opened")
    parser.add_argument("--silent-s", type=float, default=SILENT_S, help="the guardian acts after so many seconds of silence")
    parser.add_argument("--version", action="version", version=f"niente {__version__}")
    return parser.parse_args(argv)


def open_here(wanted: argparse.Namespace, hear: Listener, on_look: Callable[[], None], say: Callable[[str], None]) -> Bench:
    """Return the bench, opened in this process."""
    return attach(
        wanted.book,
        hear,
        rig=wanted.rig,
        seed=wanted.seed,
        pace=wanted.pace,
        variant=wanted.variant,
        otherwise=wanted.otherwise,
        progress=say,
        on_look=on_look,
    )


def hold_bench(wanted: argparse.Namespace, start: _Start) -> None:
    """Open the bench, serve it until it is to end, and end it in order."""
    fresh = not wanted.book.exists()
    server = BenchServer()
    guardians: list[Guardian] = []

    def pulse() -> None:
        for guardian in guardians:
            guardian.pulse()

    def hear(record: Record) -> None:
        server.hear(record)
        log_record(record)
        words.hear(record)

    bus = DesktopBus()
    words = DesktopWords(bus, lambda: bench.card.title, server.alone)
    try:
        bench = open_here(wanted, hear, pulse, lambda text: start.say(Report(progress=text)))
    except BaseException:
        if fresh:
            take_back(wanted.book)
        raise
    with contextlib.ExitStack() as ending:  # the last first, and each whatever becomes of the others
        ending.callback(bus.close)
        ending.callback(lambda: guardians[0].end() if guardians else None)
        ending.callback(lambda: server.close(ENDED_AS_TOLD if server.told_to_end else ENDED_ALONE))
        ending.callback(bench.close)
        guardians.append(Guardian(spec_of(bench, wanted.silent_s)))
        if bench.card.simulated:
            os.nice(NICE)
        server.serve(bench)
        path = socket_of(wanted.book)  # now that there is a book, whatever name leads to it
        server.listen(path)
        start.say(Report(ready=str(path)))
        start.over()
        _end_when_told(server)
        server.wait_until_over()
        if server.told_to_end:
            bench.stop("stopped, since the bench was told to end")


def take_back(book: Path) -> None:
    """Remove a book that was only being made: one that nobody else has, and that holds nothing of anybody's."""
    if not book.exists():
        return
    try:
        lock = WriterLock(book)
    except BookError:  # another bench has it, which may have made it
        return
    try:
        if is_unmade(book) or _holds_nothing(book):
            for name in (book.name, f"{book.name}-wal", f"{book.name}-shm"):
                book.with_name(name).unlink(missing_ok=True)
    finally:
        lock.release()


def _holds_nothing(book: Path) -> bool:
    """Return whether a book has no run, plan, project or note."""
    try:
        reader = BookReader(book)
    except BookError:
        return False
    try:
        return not (reader.runs() or reader.plans() or reader.project() or notes_in(reader))
    except BookError:
        return False
    finally:
        reader.close()


def _end_at_once(number: int, _: object) -> None:
    """End while the bench is being opened: whoever started it wants it no more."""
    raise EndedBySignal(128 + number)


def spec_of(bench: Bench, silent_s: float) -> SafeSpec:
    """Return what the guardian of a bench has to know."""
    _, driver = card_and_driver(bench.path)
    card = bench.card
    seed = int(card.serial) if card.serial.isdigit() else 1
    book = str(bench.path.absolute())
    return SafeSpec(book, driver or Driver(card.name), seed, card.simulated, silent_s, card.title)


def _end_when_told(server: BenchServer) -> None:
    """Stop and restore on SIGTERM and at log-out."""

    def end(number: int, _: object) -> None:
        server.told_to_end = True  # and nothing else: a lock may be held where the signal came

    signal.signal(signal.SIGTERM, end)
    signal.signal(signal.SIGHUP, end)
    signal.signal(signal.SIGQUIT, end)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # a terminal's Ctrl+C is for the client there


def log_record(record: Record) -> None:
    """Put into the log what a person may want to look up: bugs and warnings."""
    match record:
        case BenchFailed(report):
            LOG.error("a bug ended the plan\n%s", report)
        case WarningRaised(text):
            LOG.warning("%s", text)
        case _:
            return


def main() -> None:
    """Be the bench of a book."""
    wanted = bench_arguments(sys.argv[1:])
    with contextlib.suppress(PermissionError):  # it leads one already where it was started for that
        os.setsid()
    start_log(f"bench-{digest_of(wanted.book)}")
    sys.setswitchinterval(SWITCH_S)
    threading.excepthook = lambda found: LOG.critical(
        "a thread ended by a bug", exc_info=(found.exc_type, found.exc_value or found.exc_type(), found.exc_traceback)
    )
    start = _Start()
    signal.signal(signal.SIGTERM, _end_at_once)
    try:
        hold_bench(wanted, start)
    except NienteError as error:
        LOG.warning("the bench could not be opened: %s", error)
        start.say(Report(error=error.text))
        sys.exit(3)
    except Exception:
        LOG.exception("the bench ended by a bug")
        start.say(Report(bug=traceback.format_exc()))
        sys.exit(1)
    finally:
        start.over()


if __name__ == "__main__":
    main()
