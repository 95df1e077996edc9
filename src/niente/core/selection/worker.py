"""Work in a process of its own, so that fits, maps and forecasts share no interpreter with whoever paints or samples.

``python -m niente.core.selection.worker`` is that process; ``WorkProcess`` starts it and waits for its answers. It ends with
the process that started it.
"""

import contextlib
import os
import pickle
import struct
import subprocess
import sys
import threading
import traceback
from collections.abc import Callable
from typing import IO, Any, Concatenate, Generic, ParamSpec, TypeAlias, TypeVar

from niente.core.model.errors import ErrorText, NienteError

LENGTH = struct.Struct("<Q")
NICE = 10
"""It gives way to what paints and samples."""
P = ParamSpec("P")
R = TypeVar("R")
T = TypeVar("T")


class WorkHere(Generic[T]):
    """Works in the thread that calls."""

    def __init__(self, kind: Callable[[], T]) -> None:
        self._object = kind()

    def call(self, method: Callable[Concatenate[T, P], R], *given: P.args, **named: P.kwargs) -> R:
        """Return what the method returns."""
        return method(self._object, *given, **named)

    def close(self) -> None:
        """Nothing is to be ended."""


class WorkProcess(Generic[T]):
    """Works in a process, which makes the object by ``kind``, a class at the top of a module. Arguments and answers are
    pickled: both ends are this program's own."""

    def __init__(self, kind: Callable[[], T]) -> None:
        self._kind = kind
        self._process: subprocess.Popen[bytes] | None = None
        self._using = threading.Lock()
        self._closed = False

    def call(self, method: Callable[Concatenate[T, P], R], *given: P.args, **named: P.kwargs) -> R:
        """Return what the method returns, called in the process. Raises ``NienteError`` where the method does, and
        ``RuntimeError`` for a bug there, or where the process was ended. One thread calls at a time."""
        with self._using:
            try:
                process = self._running()
                assert process.stdin is not None
                assert process.stdout is not None
                _send(process.stdin, (method, given, named))
                kind, found = _receive(process.stdout)
            except (OSError, EOFError):
                raise RuntimeError("the process that works things out has ended") from None
        if kind == "refused":
            assert isinstance(found, ErrorText)
            raise found.error()
        if kind == "bug":
            raise RuntimeError(found)
        answer: R = found
        return answer

    def close(self) -> None:
        """End the process, whatever it is at; it is not started again. May come from any thread."""
        self._closed = True
        process = self._process
        if process is not None:
            process.kill()
            with self._using:  # whoever waits for it gets out at once
                _let_go(process)

    def _running(self) -> subprocess.Popen[bytes]:
        """Return the process, started where it does not run."""
        if self._closed:
            raise RuntimeError("the process that works things out was closed")
        if self._process is not None and self._process.poll() is None:
            return self._process
        if self._process is not None:
            _let_go(self._process)
        self._process = subprocess.Popen(
            [sys.executable, "-m", "niente.core.selection.worker"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            env={**os.environ, "PYTHONPATH": os.pathsep.join(part for part in sys.path if part)},
        )
        if self._closed:  # meanwhile, and before there was anything to end
            self._process.kill()
        assert self._process.stdin is not None
        _send(self._process.stdin, self._kind)
        return self._process


Worker: TypeAlias = WorkHere[T] | WorkProcess[T]
"""Calls methods of an object that lives elsewhere, and that keeps what it worked out before."""


def _let_go(process: subprocess.Popen[bytes]) -> None:
    """Let go of a process that was ended."""
    process.wait()
    for pipe in (process.stdin, process.stdout):
        if pipe is not None:
            with contextlib.suppress(OSError):  # what it did not read is lost
                pipe.close()


def _send(out: IO[bytes], what: object) -> None:
    data = pickle.dumps(what, protocol=pickle.HIGHEST_PROTOCOL)
    out.write(LENGTH.pack(len(data)) + data)
    out.flush()


def _receive(source: IO[bytes]) -> Any:
    """Return what comes in. Raises ``EOFError`` at the end."""
    head = source.read(LENGTH.size)
    if len(head) < LENGTH.size:
        raise EOFError
    (length,) = LENGTH.unpack(head)
    data = source.read(length)
    if len(data) < length:
        raise EOFError
    return pickle.loads(data)


def main() -> None:
    """Work out what comes in, until nothing comes any more."""
    os.nice(NICE)
    out = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)  # what is printed by others is no answer
    with contextlib.suppress(EOFError, BrokenPipeError):
        held = _receive(sys.stdin.buffer)()
        while True:
            method, given, named = _receive(sys.stdin.buffer)
            try:
                said: tuple[str, object] = ("done", method(held, *given, **named))
            except NienteError as error:
                said = ("refused", error.text)
            except Exception:
                said = ("bug", traceback.format_exc())
            _send(out, said)


if __name__ == "__main__":
    main()
