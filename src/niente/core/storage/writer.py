"""Writing the book: the one way in. Every call either stands on the disk when it returns, or is kept for the next try."""

import sqlite3
import threading
import time
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from niente.core.model.frame import Frame
from niente.core.model.plan import Plan
from niente.core.model.rig_card import RigCard
from niente.core.model.runs import RunKind, RunOutcome
from niente.core.model.setting import Setting
from niente.core.storage.connection import Transaction, WriterLock, cannot_write, open_for_writing

RIG = "rig"
"""The kind of document that holds a rig card; a run belongs to the latest."""
_LATEST = (
    "SELECT max(t) FROM (SELECT max(opened_at) AS t FROM run UNION ALL SELECT max(closed_at) FROM closing"
    " UNION ALL SELECT max(written_at) FROM document UNION ALL SELECT max(written_at) FROM happening)"
)
GROUP_S = 0.25
"""Frames wait at most this long (wall time) for company before they are committed."""


class BookWriter:
    """The writer of one book. Thread safe: the engine writes, a watchdog may close a run in its stead.

    Frames that could not be committed (a full disk) stay in memory and go in with the next commit that succeeds.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        path.parent.mkdir(parents=True, exist_ok=True)
        self._guard = threading.RLock()
        self._lock = WriterLock(path)
        try:
            self._link = open_for_writing(path)
        except BaseException:
            self._lock.release()
            raise
        row = self._link.execute("SELECT max(id) FROM document WHERE kind = ?", (RIG,)).fetchone()
        self._card_id: int | None = row[0]
        self._latest = float(self._link.execute(_LATEST).fetchone()[0] or 0.0)
        self._pending: list[tuple[float, np.ndarray]] = []
        self._pending_run: int | None = None
        self._group_started = 0.0
        self._closed = False

    def add_document(self, kind: str, body: msgspec.Struct) -> int:
        """Add a document (a rig card, a plan, a version of the project) and return its number."""
        number = self._insert("document", kind=kind, written_at=self._now(), body=msgspec.json.encode(body).decode())
        if kind == RIG:
            self._card_id = number
        return number

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
        with self._guard:
            if self._pending_run != run_id:
                self.flush()
                self._pending_run = run_id
            now = time.monotonic()
            if not self._pending:
                self._group_started = now
            self._pending.append((frame.time_s, frame.values))
            if at_once or now - self._group_started >= GROUP_S:
                self.flush()

    def add_event(self, kind: str, body: Any, run_id: int | None = None, rig_time_s: float | None = None) -> None:
        """Add something that happened: a rig's event, a guard's trip, a note, a change of state."""
        text = msgspec.json.encode(body).decode()
        self._insert("happening", run_id=run_id, rig_time_s=rig_time_s, written_at=self._now(), kind=kind, body=text)

    def close_run(self, run_id: int, outcome: RunOutcome, reason: str, rig_time_s: float) -> None:
        """Close a run, after committing what is left of its frames."""
        self._insert("closing", run_id=run_id, closed_at=self._now(), rig_time_s=rig_time_s, how=outcome, why=reason)

    def flush(self) -> None:
        """Commit the frames that wait. Raises ``BookError``; they are then still kept."""
        with self._guard:
            if not self._pending:
                return
            rows = np.empty((len(self._pending), 1 + self._pending[0][1].shape[0]), dtype="<f8")
            for row, (time_s, values) in zip(rows, self._pending, strict=True):
                row[0] = time_s
                row[1:] = values
            try:
                with Transaction(self._link):
                    self._link.execute(
                        "INSERT INTO frames (run_id, count, data) VALUES (?, ?, ?)",
                        (self._pending_run, len(self._pending), rows.tobytes()),
                    )
            except sqlite3.Error as error:
                raise cannot_write(self.path, error) from error
            self._pending.clear()

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

    def _now(self) -> float:
        """Return the wall's time, which in a book never goes back: a clock that is set back must not make runs older than
        the plan they were made for."""
        self._latest = max(time.time(), self._latest)
        return self._latest

    def _insert(self, table: str, **columns: Any) -> int:
        with self._guard:
            self.flush()
            names, marks = ", ".join(columns), ", ".join("?" * len(columns))
            try:
                with Transaction(self._link):
                    cursor = self._link.execute(f"INSERT INTO {table} ({names}) VALUES ({marks})", tuple(columns.values()))
            except sqlite3.Error as error:
                raise cannot_write(self.path, error) from error
            return int(cursor.lastrowid or 0)


def ensure_plan(writer: BookWriter, plan: Plan, known: dict[int, Plan]) -> int:
    """Return the number of a plan in the book, adding it where it is not there yet."""
    for number, other in known.items():
        if other == plan:
            return number
    return writer.add_document("plan", plan)
