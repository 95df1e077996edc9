"""How a book stands, read beside whoever writes it."""

import contextlib
import threading
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click
import msgspec

from niente.cli.values import FILE
from niente.core.acquisition.client import Heard
from niente.core.model.errors import BookError, NienteError
from niente.core.model.quantities import duration_text, quantity_of
from niente.core.model.records import FrameTaken, SamplesTaken, StateChanged
from niente.core.model.runs import RunKind, RunOutcome
from niente.core.model.setting import Setting
from niente.core.model.states import BenchState
from niente.core.serving.remote_bench import RemoteBench
from niente.core.serving.starting import running_bench
from niente.core.storage.notes import BookNote, notes_in
from niente.core.storage.reader import BookReader, RunRecord

POLL_S = 0.5
HEARD_S = 0.5
"""A bench says within this time what it does."""
NOTES = 10
"""So many notes are told, the latest ones."""


class RunningNow(msgspec.Struct, frozen=True):
    """The run under way, and how far it is."""

    run: int
    load: str
    setting: Setting
    seconds: float
    samples: int
    hottest_core_c: float | None


class LastEvent(msgspec.Struct, frozen=True):
    """What was written last that is no sample."""

    kind: str
    body: Any = msgspec.field(name="said")
    rig_time_s: float | None


class BenchNow(msgspec.Struct, frozen=True):
    """The bench's process, where one runs: what it does, and whether a plan runs."""

    state: str
    text: str
    busy: bool


class BookStatus(msgspec.Struct, frozen=True):
    """How a book stands. The keys stand in docs/reference and are kept."""

    rig: str
    title: str
    variant: str
    runs: int
    done: int
    failed: int
    running: RunningNow | None
    notes: Sequence[BookNote]
    last: LastEvent | None
    bench: BenchNow | None = None


@click.command()
@click.argument("book", type=FILE)
@click.option("--json", "as_json", is_flag=True, help="Print it as JSON.")
@click.option("--follow", is_flag=True, help="Print it again whenever it changes, until Ctrl+C.")
def status(book: Path, as_json: bool, follow: bool) -> None:
    """Say how a book stands: what runs, how far it is, what happened last. The book may be written meanwhile."""
    reader = BookReader(book)
    ear = _Ear(book)
    try:
        shown: BookStatus | None = None
        while True:
            now = msgspec.structs.replace(status_of(reader), bench=ear.bench())
            if now != shown:
                shown = now
                click.echo(msgspec.json.encode(now).decode() if as_json else status_text(now))
            if not follow:
                return
            ear.wait(POLL_S)
    finally:
        ear.close()
        reader.close()


class _Ear:
    """Listens to the bench of a book, where one runs; looks for one again where none does."""

    def __init__(self, book: Path) -> None:
        self._book = book
        self._told = threading.Event()
        self._state = StateChanged(BenchState.IDLE)
        self._client = self._reach()

    def bench(self) -> BenchNow | None:
        """Return what the bench does; ``None`` where none runs."""
        if self._client is None or self._client.lost:
            self._client = self._reach()
        if self._client is None:
            return None
        return BenchNow(self._state.state.value, self._state.text, self._client.busy)

    def wait(self, seconds: float) -> None:
        """Wait until something is told, or so long."""
        self._told.wait(seconds)
        self._told.clear()

    def close(self) -> None:
        """Listen no more."""
        if self._client is not None:
            self._client.leave()

    def _reach(self) -> RemoteBench | None:
        with contextlib.suppress(NienteError):
            client = running_bench(self._book, self._hear)
            if client is not None:
                self._told.wait(HEARD_S)
            return client
        return None

    def _hear(self, record: Heard) -> None:
        if isinstance(record, FrameTaken | SamplesTaken):
            return
        if isinstance(record, StateChanged):
            self._state = record
        self._told.set()


def status_of(reader: BookReader) -> BookStatus:
    """Return how a book stands. Raises ``BookError`` for a book without a rig."""
    card = reader.card()
    if card is None:
        raise BookError(f"The book {reader.path} has no rig yet.", remedy="Run a plan into it first.")
    runs = [run for run in reader.runs() if run.kind == RunKind.STEP]
    running = next((run for run in reversed(runs) if run.outcome is None), None)
    happened = reader.events()
    return BookStatus(
        rig=card.name,
        title=card.title,
        variant=card.variant,
        runs=len(runs),
        done=sum(run.outcome == RunOutcome.DONE for run in runs),
        failed=sum(run.outcome == RunOutcome.FAILED for run in runs),
        running=_running(reader, running) if running is not None else None,
        notes=notes_in(reader)[-NOTES:],
        last=LastEvent(happened[-1].kind, happened[-1].body, happened[-1].rig_time_s) if happened else None,
    )


def _running(reader: BookReader, run: RunRecord) -> RunningNow:
    time_s, values = reader.frames(run)
    cores = [index for index, name in enumerate(run.channels) if name.startswith("core_temperature_c")]
    hottest = None
    if time_s.shape[0] and cores:
        read = [value for value in values[-1, cores].tolist() if value == value]
        hottest = round(max(read), 1) if read else None
    seconds = round(float(time_s[-1] - time_s[0]), 1) if time_s.shape[0] else 0.0
    return RunningNow(run.id, run.load, run.setting, seconds, int(time_s.shape[0]), hottest)


def status_text(book: BookStatus) -> str:
    """Return how a book stands in one line."""
    failed = f", {book.failed} failed" if book.failed else ""
    words = f"{book.title}, {book.variant}: {book.done} of {book.runs} runs done{failed}"
    if book.running is not None:
        hot = book.running.hottest_core_c
        reading = f", hottest core {quantity_of('hottest_core_c').with_unit(hot)}" if hot is not None else ""
        words += f"; {book.running.load} for {duration_text(book.running.seconds)}{reading}"
    elif book.last is not None:
        words += f"; nothing runs; last: {book.last.kind}"
    return words
