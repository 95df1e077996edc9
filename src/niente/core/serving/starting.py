"""Reaching the bench of a book: the one that runs already, or one that is started for it."""

import contextlib
import os
import select
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import IO

import msgspec

from niente.core.acquisition.client import Hearer
from niente.core.model.commands import WhenLost
from niente.core.model.errors import BookBusyError
from niente.core.rigs.registry import Progress, silently
from niente.core.serving.process import Report
from niente.core.serving.remote_bench import RemoteBench, connect
from niente.core.serving.run_folder import socket_of

REACHED_S = 10.0
"""A bench that is being opened by somebody else can be reached within this time, and one that ends has ended."""
ENDED_S = 5.0
"""A process that could not open a bench, or is told to end while it does, ends within this time."""
LOOK_S = 0.05


class BenchOptions(msgspec.Struct, frozen=True):
    """How a bench is opened that does not run yet; see ``attachment.attach``."""

    rig: str | None = None
    seed: int | None = None
    pace: float | None = None
    variant: str | None = None
    otherwise: str | None = None
    silent_s: float | None = None
    """The guardian acts after so many seconds of silence."""


def reach_bench(
    book: Path,
    listener: Hearer,
    options: BenchOptions | None = None,
    *,
    commands: bool = True,
    when_lost: WhenLost = WhenLost.GO_ON,
    progress: Progress = silently,
) -> RemoteBench:
    """Return a client of a book's bench, which is started where it does not run.

    What ``progress`` raises cancels that (it is also called without words, a few times a second, to find out): nothing is
    then left of a bench that was being started. Raises ``NienteError``
    where the bench cannot be opened (``BookBusyError``: by another program that writes the book), and ``RuntimeError`` with
    a report for a bug in it.
    """
    until: float | None = None
    while True:
        found = connect(socket_of(book), listener, commands=commands, when_lost=when_lost)
        if found is not None:
            return found
        try:
            _start(book, options or BenchOptions(), progress)
        except BookBusyError:  # by a bench that somebody else starts at this moment, or by a guardian that writes
            until = until or time.monotonic() + REACHED_S
            if time.monotonic() > until:
                raise
            progress("")
            time.sleep(LOOK_S)


def running_bench(book: Path, listener: Hearer) -> RemoteBench | None:
    """Return a client that looks on at a book's bench; ``None`` where none runs. Raises ``NienteError`` where it refuses."""
    return connect(socket_of(book), listener, commands=False)


def _start(book: Path, options: BenchOptions, progress: Progress) -> None:
    """Start a bench, and wait until it is ready. Raises ``NienteError`` where it cannot be."""
    process = subprocess.Popen(
        [sys.executable, "-m", "niente.core.serving.process", str(book.absolute()), *_words(options)],
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
        env={**os.environ, "PYTHONPATH": os.pathsep.join(part for part in sys.path if part)},
    )
    assert process.stdout is not None
    report = Report()
    try:
        for line in _lines(process.stdout, lambda: progress("")):
            report = msgspec.json.decode(line, type=Report)
            if report.progress:
                progress(report.progress)
            if report.ready:
                return
    except BaseException:
        process.terminate()
        _await_end(process)
        raise
    finally:
        process.stdout.close()
        threading.Thread(target=process.wait, name="niente-reaper", daemon=True).start()
    _await_end(process)
    if report.error is not None:
        raise report.error.error()
    raise RuntimeError(report.bug or "the bench's process ended while it was started")


def _await_end(process: subprocess.Popen[bytes]) -> None:
    """Wait for a process that ends; on a slow machine it is left to end by itself."""
    with contextlib.suppress(subprocess.TimeoutExpired):
        process.wait(ENDED_S)


def _lines(out: IO[bytes], meanwhile: Callable[[], None]) -> Iterator[bytes]:
    """Return lines as they come; ``meanwhile`` is called a few times a second."""
    rest = b""
    while True:
        if not select.select([out], [], [], LOOK_S)[0]:
            meanwhile()
            continue
        data = os.read(out.fileno(), 65536)
        if not data:
            return
        *lines, rest = (rest + data).split(b"\n")
        yield from lines


def _words(options: BenchOptions) -> list[str]:
    """Return options as words of a command line."""
    found = []
    for name, value in msgspec.to_builtins(options).items():
        if value is not None:
            found += [f"--{name.replace('_', '-')}", str(value)]
    return found
