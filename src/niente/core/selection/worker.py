"""Fits and maps in a process of their own, so that they share no interpreter with whoever paints or samples.

``python -m niente.core.selection.worker`` is that process; ``AnalysisWorker`` starts it and waits for its answers. It ends with
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
from pathlib import Path
from typing import IO, Any

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.maps import MapRequest, SettingMap, make_map
from niente.core.analysis.models import Models
from niente.core.model.errors import ErrorText, NienteError
from niente.core.model.project import Limits
from niente.core.model.setting import Setting
from niente.core.selection.answer import Answer, work_out

LENGTH = struct.Struct("<Q")
NICE = 10
"""It gives way to what paints and samples."""


class AnalysisWorker:
    """Has a process work things out. One thread uses it at a time; ``close`` may come from any."""

    def __init__(self) -> None:
        self._process: subprocess.Popen[bytes] | None = None
        self._using = threading.Lock()

    def answer(self, book: Path, limits: Limits) -> Answer:
        """Return the whole answer for a book and limits; what was summed up of it before is kept in the process."""
        found: Answer = self._ask(("answer", book, limits))
        return found

    def map(self, models: Models, limits: Limits, request: MapRequest, chosen: Setting | None) -> SettingMap:
        """Return another map of the same models. Raises ``NienteError`` where there is none."""
        found: SettingMap = self._ask(("map", models, limits, request, chosen))
        return found

    def close(self) -> None:
        """End the process, whatever it is at."""
        process = self._process
        if process is not None:
            process.kill()
            with self._using:  # whoever waits for it gets out at once
                _let_go(process)

    def _ask(self, work: tuple[Any, ...]) -> Any:
        """Return what the process answers. Raises ``NienteError`` where it says so, and ``RuntimeError`` for a bug there, or
        where the process was ended."""
        with self._using:
            process = self._running()
            assert process.stdin is not None
            assert process.stdout is not None
            try:
                _send(process.stdin, work)
                kind, found = _receive(process.stdout)
            except (OSError, EOFError):
                raise RuntimeError("the process that fits and draws maps has ended") from None
        if kind == "refused":
            assert isinstance(found, ErrorText)
            raise found.error()
        if kind == "bug":
            raise RuntimeError(found)
        return found

    def _running(self) -> subprocess.Popen[bytes]:
        """Return the process, started where it does not run."""
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
        return self._process


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
    """Return what comes in. Raises ``EOFError`` at the end. Both ends are this program's own."""
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
    known: dict[Path, Evidence] = {}
    while True:
        try:
            work = _receive(sys.stdin.buffer)
        except EOFError:
            return
        try:
            said: tuple[str, object] = ("done", _worked_out(work, known))
        except NienteError as error:
            said = ("refused", error.text)
        except Exception:
            said = ("bug", traceback.format_exc())
        _send(out, said)


def _worked_out(work: tuple[Any, ...], known: dict[Path, Evidence]) -> object:
    kind, *given = work
    if kind == "map":
        return make_map(*given)
    book, limits = given
    answer = work_out(book, limits, known.get(book))
    if answer.evidence is not None:
        known[book] = answer.evidence
    return answer


if __name__ == "__main__":
    main()
