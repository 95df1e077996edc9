"""Reaching the bench of a book: the one that runs already, or one that is started for it."""

import contextlib
import os
import subprocess
import sys
import time
from pathlib import Path

import msgspec

from niente.core.acquisition.client import Hearer
from niente.core.acquisition.remote.messages import WhenLost
from niente.core.acquisition.remote.process import Report
from niente.core.acquisition.remote.remote_bench import RemoteBench, connect
from niente.core.acquisition.remote.run_folder import socket_of
from niente.core.model.errors import RigError
from niente.core.rigs.registry import Progress, silently

REACHED_S = 5.0
"""A bench that is being opened by somebody else can be reached within this time."""
LOOK_S = 0.05


class BenchOptions(msgspec.Struct, frozen=True):
    """How a bench is opened that does not run yet; see ``attachment.attach``."""

    rig: str | None = None
    seed: int | None = None
    pace: float | None = None
    variant: str | None = None
    otherwise: str | None = None


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

    What ``progress`` raises cancels that: nothing is then left of a bench that was being started. Raises ``NienteError``
    where the bench cannot be opened (``BookBusyError``: by another program that writes the book), and ``RuntimeError`` with
    a report for a bug in it.
    """
    path = socket_of(book)
    found = connect(path, listener, commands=commands, when_lost=when_lost)
    if found is not None:
        return found
    _start(book, options or BenchOptions(), progress)
    until = time.monotonic() + REACHED_S
    while time.monotonic() < until:
        found = connect(path, listener, commands=commands, when_lost=when_lost)
        if found is not None:
            return found
        time.sleep(LOOK_S)
    raise RigError("The bench was started and cannot be reached.", remedy="Open the book again.")


def running_bench(book: Path, listener: Hearer) -> RemoteBench | None:
    """Return a client that looks on at a book's bench; ``None`` where none runs. Raises ``NienteError`` where it refuses."""
    return connect(socket_of(book), listener, commands=False)


def _start(book: Path, options: BenchOptions, progress: Progress) -> None:
    """Start a bench, and wait until it is ready; where another one was faster, that is as good."""
    process = subprocess.Popen(
        [sys.executable, "-m", "niente.core.acquisition.remote.process", str(book.absolute()), *_words(options)],
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
        env={**os.environ, "PYTHONPATH": os.pathsep.join(part for part in sys.path if part)},
    )
    assert process.stdout is not None
    report = Report()
    try:
        for line in process.stdout:
            report = msgspec.json.decode(line, type=Report)
            progress(report.progress) if report.progress else None
            if report.ready:
                return
    except BaseException:
        process.terminate()
        with contextlib.suppress(subprocess.TimeoutExpired):
            process.wait(REACHED_S)
        raise
    finally:
        process.stdout.close()
    process.wait(REACHED_S)
    _raise_problem(book, report)


def _raise_problem(book: Path, report: Report) -> None:
    """Raise what a bench said that could not be opened; wait for another one, where that is what it found."""
    if report.error is not None and report.error.kind == "BookBusyError":
        until = time.monotonic() + REACHED_S
        while time.monotonic() < until:
            if socket_of(book).exists():
                return
            time.sleep(LOOK_S)
    if report.error is not None:
        raise report.error.error()
    raise RuntimeError(report.bug or "the bench's process ended while it was started")


def _words(options: BenchOptions) -> list[str]:
    """Return options as words of a command line."""
    found = []
    for name, value in msgspec.to_builtins(options).items():
        if value is not None:
            found += [f"--{name}", str(value)]
    return found
