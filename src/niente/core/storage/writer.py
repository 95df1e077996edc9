"""Writing the book: the one way in. Every call either stands on the disk when it returns, or is kept for the next try."""

import contextlib
import itertools
import sqlite3
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from niente.core.model.errors import BookError
from niente.core.model.frame import Frame
from niente.core.model.plan import Plan
from niente.core.model.rig_card import RigCard
from niente.core.model.runs import RunKind, RunOutcome
from niente.core.model.setting import Setting
from niente.core.storage.connection import (
    LATEST,
    Transaction,
    WriterLock,
    beside,
    book_gone,
    cannot_write,
    damaged,
    open_for_writing,
)

RIG = "rig"
"""The kind of document that holds a rig card; a run belongs to the latest."""
TICK_S = 1e-5
"""What is written by a clock that is behind the book's comes so much after what was written before."""
GROUP_S = 0.25
"""What is not committed at once waits at most this long (wall time) for company."""


class _Sample(msgspec.Struct, frozen=True):
    """A sample that waits to be committed."""

    run_id: int
    time_s: float
    values: np.ndarray


class _Line(msgspec.Struct, frozen=True):
    """A line of the record that waits to be committed."""

    written_at: float
    kind: str
    body: str


class BookWriter:
    """The writer of one book. Thread safe: the bench writes, a watchdog may close a run in its stead.

    What could not be committed (a full disk) stays in memory and goes in with the next commit that succeeds.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise cannot_write(path, error) from error
        self._guard = threading.RLock()
        self._lock = WriterLock(path)
        try:
            self._link = open_for_writing(path)
            row = self._link.execute("SELECT max(id) FROM document WHERE kind = ?", (RIG,)).fetchone()
            self._card_id: int | None = row[0]
            self._latest = float(self._link.execute(LATEST).fetchone()[0] or 0.0)
            self._frames_id = int(self._link.execute("SELECT max(id) FROM frames").fetchone()[0] or 0)
        except (sqlite3.Error, ValueError, TypeError) as error:
            self._link.close()
            self._lock.release()
            raise damaged(path, error) from error
        except BaseException:
            self._lock.release()
            raise
        self._waiting: list[_Sample | _Line] = []
        self._group_started = 0.0
        self._together = False
        self._closed = False

    def add_document(self, kind: str, body: msgspec.Struct) -> int:
        """Add a document (a rig card, a plan, a version of the project) and return its number."""
        number = self._insert("document", kind=kind, written_at=self._now(), body=msgspec.json.encode(body).decode())
        if kind == RIG:
            self._card_id = number
        return number

    def ensure_plan(self, plan: Plan) -> int:
        """Return the number of a plan in the book, adding it where it is not there yet."""
        with self._guard:
            row = self._link.execute(
                "SELECT id FROM document WHERE kind = 'plan' AND body = ?", (msgspec.json.encode(plan).decode(),)
            ).fetchone()
            return int(row[0]) if row is not None else self.add_document("plan", plan)

    def next_run_id(self) -> int:
        """Return the number that the next run has."""
        with self._guard:
            return int(self._link.execute("SELECT max(id) FROM run").fetchone()[0] or 0) + 1

    def open_run(
        self, plan_id: int, step: int, kind: RunKind, setting: Setting, load: str, card: RigCard, rig_time_s: float
    ) -> int:
        """Open a run: committed before its setting is applied, so that a machine that goes down leaves a trace."""
        return self._insert(
            "run",
            plan_id=plan_id,
            step=step,
            kind=kind,
            opened_at=self._now(),
            rig_time_s=rig_time_s,
            setting=msgspec.json.encode(setting).decode(),
            load=load,
            card_id=self._card_id,
            channels=msgspec.json.encode([channel.name for channel in card.channels]).decode(),
        )

    def add_frame(self, run_id: int, frame: Frame, *, at_once: bool) -> None:
        """Take a frame in. It is committed now where ``at_once``, otherwise within ``GROUP_S`` of its group's first."""
        self._wait_for_company(_Sample(run_id, frame.time_s, frame.values), at_once=at_once)

    def add_event(self, kind: str, body: Any, run_id: int | None = None, rig_time_s: float | None = None) -> None:
        """Add something that happened: a rig's event, a guard's trip, a note, a change of state."""
        text = msgspec.json.encode(body).decode()
        self._insert("happening", run_id=run_id, rig_time_s=rig_time_s, written_at=self._now(), kind=kind, body=text)

    def add_line(self, kind: str, body: str, *, at_once: bool) -> None:
        """Add a line of the record, after the samples that came before it: now, or within ``GROUP_S``."""
        self._wait_for_company(_Line(self._now(), kind, body), at_once=at_once)

    def close_run(self, run_id: int, outcome: RunOutcome, reason: str, rig_time_s: float) -> None:
        """Close a run, after committing what is left of its frames."""
        self._insert("closing", run_id=run_id, closed_at=self._now(), rig_time_s=rig_time_s, how=outcome, why=reason)

    @contextlib.contextmanager
    def together(self) -> Iterator[None]:
        """Commit what is added inside as a whole, or nothing of it. Raises ``BookError``."""
        with self._guard:
            self.flush()
            self._insist_on_place()
            try:
                with Transaction(self._link):
                    self._together = True
                    yield
            except sqlite3.Error as error:
                raise cannot_write(self.path, error) from error
            finally:
                self._together = False

    def flush(self) -> None:
        """Commit what waits. Raises ``BookError``; it is then still kept."""
        with self._guard:
            if not self._waiting:
                return
            self._insist_on_place()
            frames_id = self._frames_id
            try:
                with Transaction(self._link):
                    for run_id, group in itertools.groupby(self._waiting, lambda one: getattr(one, "run_id", None)):
                        if run_id is None:
                            self._insert_lines([one for one in group if isinstance(one, _Line)])
                        else:
                            self._insert_samples(run_id, [one for one in group if isinstance(one, _Sample)])
            except sqlite3.Error as error:
                self._frames_id = frames_id
                raise cannot_write(self.path, error) from error
            self._waiting.clear()

    def flush_if_due(self) -> None:
        """Commit what has waited long enough."""
        with self._guard:
            if self._waiting and time.monotonic() - self._group_started >= GROUP_S:
                self.flush()

    def close(self) -> None:
        """Commit what is left and let go of the book; a second time does nothing."""
        with self._guard:
            if self._closed:
                return
            self._closed = True
            try:
                self.flush()
            finally:
                self._link.close()
                self._lock.release()

    def _wait_for_company(self, one: _Sample | _Line, *, at_once: bool) -> None:
        with self._guard:
            if self._together:
                assert isinstance(one, _Line)
                self._insert_lines([one])
                return
            if not self._waiting:
                self._group_started = time.monotonic()
            self._waiting.append(one)
            if at_once or time.monotonic() - self._group_started >= GROUP_S:
                self.flush()

    def _insert_samples(self, run_id: int, samples: list[_Sample]) -> None:
        rows = np.empty((len(samples), 1 + samples[0].values.shape[0]), dtype="<f8")
        for row, sample in zip(rows, samples, strict=True):
            row[0] = sample.time_s
            row[1:] = sample.values
        cursor = self._link.execute(
            "INSERT INTO frames (run_id, count, data) VALUES (?, ?, ?)", (run_id, len(samples), rows.tobytes())
        )
        self._frames_id = int(cursor.lastrowid or 0)

    def _insert_lines(self, lines: list[_Line]) -> None:
        self._link.executemany(
            "INSERT INTO record (frames_id, written_at, kind, body) VALUES (?, ?, ?, ?)",
            [(self._frames_id, line.written_at, line.kind, line.body) for line in lines],
        )

    def _insist_on_place(self) -> None:
        """Raise ``BookError`` where the book is not where it was: SQLite would go on writing into what nobody finds again.

        What it held is then in a new file beside, where it can be written, and the book goes on there.
        """
        if self._lock.holds(self.path):
            return
        lost, kept = self.path, beside(self.path)
        lock: WriterLock | None = None
        try:
            lock = WriterLock(kept)
            if self._lock.holds(self.path):  # it came back while this was looked at: there is one book, and not two
                kept.unlink(missing_ok=True)
                lock.release()
                return
            with contextlib.closing(sqlite3.connect(kept)) as copy:
                self._link.backup(copy)
            link = open_for_writing(kept)
        except (sqlite3.Error, OSError, BookError) as error:
            if lock is not None:  # what could not be filled is not left lying about
                kept.unlink(missing_ok=True)
                lock.release()
            raise book_gone(lost, None) from error
        self._link.close()
        self._lock.release()
        self.path, self._link, self._lock = kept, link, lock
        raise book_gone(lost, kept)

    def _now(self) -> float:
        """Return the wall's time, which in a book never goes back: a clock that is set back must not make runs older than
        the plan they were made for."""
        self._latest = max(time.time(), self._latest + TICK_S)
        return self._latest

    def _insert(self, table: str, **columns: Any) -> int:
        names, marks = ", ".join(columns), ", ".join("?" * len(columns))
        statement, values = f"INSERT INTO {table} ({names}) VALUES ({marks})", tuple(columns.values())
        with self._guard:
            if self._together:
                return int(self._link.execute(statement, values).lastrowid or 0)
            self.flush()
            self._insist_on_place()
            try:
                with Transaction(self._link):
                    return int(self._link.execute(statement, values).lastrowid or 0)
            except sqlite3.Error as error:
                raise cannot_write(self.path, error) from error
