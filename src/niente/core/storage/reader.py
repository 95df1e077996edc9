"""Reading the book, while it is written or long after: runs, their frames as arrays, and what happened."""

import functools
import logging
import sqlite3
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, Concatenate, ParamSpec, TypeVar

import msgspec
import numpy as np

from niente.core.model.errors import BookError
from niente.core.model.json_files import JsonError, converted, decoded_json
from niente.core.model.plan import Plan, plan_of
from niente.core.model.project import Project, project_of
from niente.core.model.rig_card import RigCard
from niente.core.model.runs import RunKind, RunOutcome
from niente.core.model.setting import Setting
from niente.core.science.arrays import Array
from niente.core.storage.connection import LATEST, damaged, open_for_reading
from niente.core.storage.kinds import FOLLOWS, VERDICT

LOG = logging.getLogger(__name__)
Document = TypeVar("Document", bound=msgspec.Struct)
P = ParamSpec("P")
R = TypeVar("R")


class RunRecord(msgspec.Struct, frozen=True):
    """One run as it stands in the book. ``outcome`` is ``None`` while it is open; ``follows`` says why it was made, where that
    followed from what was measured."""

    id: int
    plan_id: int
    step: int
    kind: RunKind
    opened_at: float
    rig_time_s: float
    setting: Setting
    load: str
    channels: tuple[str, ...]
    outcome: RunOutcome | None
    reason: str
    closed_rig_time_s: float | None
    card_id: int | None
    follows: str = ""


class BookEvent(msgspec.Struct, frozen=True):
    """Something that happened, in the order written."""

    run_id: int | None
    rig_time_s: float | None
    written_at: float
    kind: str
    body: Any


class RecordRow(msgspec.Struct, frozen=True):
    """A record as it stands in the book; ``frames_id`` is the last row of samples before it."""

    id: int
    frames_id: int
    kind: str
    body: str


class FrameRow(msgspec.Struct, frozen=True):
    """A row of samples ``(n, 1 + channels)`` of one run, times first."""

    id: int
    run_id: int
    values: Array


def _told(method: Callable[Concatenate[Any, P], R]) -> Callable[Concatenate[Any, P], R]:
    """Have a method raise ``BookError`` for a book whose content cannot be what a Niente wrote."""

    @functools.wraps(method)
    def reads(self: Any, /, *given: P.args, **named: P.kwargs) -> R:
        try:
            return method(self, *given, **named)
        except (sqlite3.Error, msgspec.MsgspecError, ValueError, TypeError, KeyError, OverflowError, MemoryError) as error:
            raise damaged(self.path, error) from error

    return reads


class BookReader:
    """A read-only look at a book; follows a writer. Every method raises ``BookError`` where the file is no book, or damaged."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._link = open_for_reading(path)

    def close(self) -> None:
        """Let go of the book."""
        self._link.close()

    @_told
    def documents(self, kind: str, read: Callable[[Any], Document], after: int = 0) -> dict[int, Document]:
        """Return the documents of a kind after a number, by number, oldest first, each as ``read`` makes it of the decoded
        JSON. One that this Niente cannot read any more is left out."""
        rows = self._link.execute("SELECT id, body FROM document WHERE kind = ? AND id > ? ORDER BY id", (kind, after))
        found = {}
        for number, body in rows:
            try:
                found[number] = read(decoded_json(body))
            except JsonError as error:
                LOG.warning("%s: document %d (%s) cannot be read: %s", self.path, number, kind, error)
        return found

    @_told
    def newest(self, kind: str, read: Callable[[Any], Document]) -> Document | None:
        """Return the newest document of a kind; none of the others is read. Raises ``BookError`` where it cannot be read."""
        query = "SELECT body FROM document WHERE kind = ? ORDER BY id DESC LIMIT 1"
        row = self._link.execute(query, (kind,)).fetchone()
        try:
            return read(decoded_json(row[0])) if row is not None else None
        except JsonError as error:
            raise BookError(
                f"The book {self.path} holds a {kind} that this Niente cannot read: {error}.",
                safe="The file is untouched.",
                remedy="Open it with the Niente that wrote it.",
            ) from None

    @_told
    def document(self, number: int, read: Callable[[Any], Document]) -> Document | None:
        """Return one document; ``None`` where there is none of that number, or it cannot be read any more."""
        row = self._link.execute("SELECT body FROM document WHERE id = ?", (number,)).fetchone()
        try:
            return read(decoded_json(row[0])) if row is not None else None
        except JsonError:
            return None

    @_told
    def plans(self, after: int = 0) -> dict[int, Plan]:
        """Return the plans after a number, by number."""
        return self.documents("plan", plan_of, after)

    @_told
    def cards(self) -> dict[int, RigCard]:
        """Return the rig cards by number, oldest first."""
        return self.documents("rig", card_in)

    @_told
    def card(self) -> RigCard | None:
        """Return the latest rig card, or ``None``."""
        return self.newest("rig", card_in)

    @_told
    def in_variant(self, variant: str) -> list["RunRecord"]:
        """Return the runs that were measured in a variant of the machine, oldest first."""
        cards = self.cards()
        first = next(iter(cards.values()), None)

        def of(run: RunRecord) -> RigCard | None:
            return cards.get(run.card_id, first) if run.card_id is not None else first

        return [run for run in self.runs() if (card := of(run)) is None or card.variant == variant]

    @_told
    def project(self) -> Project | None:
        """Return the latest version of the project, or ``None``."""
        return self.newest("project", project_of)

    @_told
    def runs(self, first: int = 0) -> list[RunRecord]:
        """Return the runs from a number on, oldest first; one that a person has judged since it was closed stands as they
        judged it."""
        rows = self._link.execute(
            "SELECT run.id, plan_id, step, kind, opened_at, run.rig_time_s, setting, load, channels, how, why,"
            " closing.rig_time_s, card_id FROM run LEFT JOIN closing ON closing.run_id = run.id"
            " WHERE run.id >= ? ORDER BY run.id",
            (first,),
        )
        told: dict[str, dict[int, str]] = {VERDICT: {}, FOLLOWS: {}}
        said = self._link.execute("SELECT kind, run_id, body FROM happening WHERE kind IN (?, ?) ORDER BY id", tuple(told))
        for kind, number, body in said:
            told[kind][number] = body
        return [_judged(_run_record(row, told[FOLLOWS]), told[VERDICT]) for row in rows]

    @_told
    def last_written_s(self) -> float:
        """Return when the book was last written, in seconds of the epoch; 0 for one that never was."""
        return float(self._link.execute(LATEST).fetchone()[0] or 0.0)

    @_told
    def last_run_id(self) -> int:
        """Return the number of the latest run; 0 in a book without any."""
        row = self._link.execute("SELECT max(id) FROM run").fetchone()
        return int(row[0] or 0)

    @_told
    def frames(self, run: RunRecord, channels: Sequence[str] | None = None) -> tuple[Array, Array]:
        """Return the samples of a run: rig times ``(n,)`` in s, and readings ``(n, channels)``, in the order of the run's own
        channels or of those that are named; NaN for one that the run does not have.
        """
        blocks = self._link.execute("SELECT data FROM frames WHERE run_id = ? ORDER BY id", (run.id,))
        data = b"".join(block for (block,) in blocks)
        rows = np.frombuffer(data, dtype="<f8").reshape(-1, 1 + len(run.channels))
        if channels is None or tuple(channels) == tuple(run.channels):
            return rows[:, 0], rows[:, 1:]
        order = [1 + run.channels.index(name) if name in run.channels else -1 for name in channels]
        readings = rows[:, order]
        readings[:, np.array(order) < 0] = np.nan
        return rows[:, 0], readings

    @_told
    def events(self, run: RunRecord | None = None, kind: str | None = None) -> list[BookEvent]:
        """Return what happened, in one run or in all, of one kind or of every."""
        wanted = {"run_id": run.id if run is not None else None, "kind": kind}
        given = {name: value for name, value in wanted.items() if value is not None}
        where = "WHERE " + " AND ".join(f"{name} = ?" for name in given) if given else ""
        values = tuple(given.values())
        rows = self._link.execute(
            f"SELECT run_id, rig_time_s, written_at, kind, body FROM happening {where} ORDER BY id", values
        )
        return [BookEvent(run_id, at, written, kind, msgspec.json.decode(body)) for run_id, at, written, kind, body in rows]

    @_told
    def latest_row(self, record: type[msgspec.Struct]) -> RecordRow | None:
        """Return the latest row of a kind of record; ``None`` where there is none."""
        row = self._link.execute(
            "SELECT id, frames_id, kind, body FROM record WHERE kind = ? ORDER BY id DESC LIMIT 1", (record.__name__,)
        ).fetchone()
        return RecordRow(*row) if row is not None else None

    @_told
    def rows_of(self, record: type[msgspec.Struct]) -> list[RecordRow]:
        """Return the rows of a kind of record, oldest first."""
        rows = self._link.execute("SELECT id, frames_id, kind, body FROM record WHERE kind = ? ORDER BY id", (record.__name__,))
        return [RecordRow(*row) for row in rows]

    @_told
    def rows_after(self, record_id: int, frames_id: int) -> tuple[list[RecordRow], list[FrameRow]]:
        """Return what was recorded after a row of the record and a row of samples, both as they stood at one moment."""
        self._link.execute("BEGIN")
        try:
            records = self._link.execute(
                "SELECT id, frames_id, kind, body FROM record WHERE id > ? ORDER BY id", (record_id,)
            ).fetchall()
            frames = self._link.execute(
                "SELECT id, run_id, count, data FROM frames WHERE id > ? ORDER BY id", (frames_id,)
            ).fetchall()
        finally:
            self._link.execute("COMMIT")
        blocks = [FrameRow(number, run, np.frombuffer(data, "<f8").reshape(count, -1)) for number, run, count, data in frames]
        return [RecordRow(*row) for row in records], blocks

    @_told
    def last_ids(self) -> tuple[int, int]:
        """Return the numbers of the latest row of the record and of the latest row of samples; 0 where there is none."""
        record = self._link.execute("SELECT max(id) FROM record").fetchone()[0]
        return int(record or 0), int(self._link.execute("SELECT max(id) FROM frames").fetchone()[0] or 0)


def card_in(document: Any) -> RigCard:
    """Return the rig card in a decoded JSON document. Raises ``JsonError``."""
    return converted(document, RigCard)


def _judged(run: RunRecord, verdicts: dict[int, str]) -> RunRecord:
    verdict = verdicts.get(run.id)
    if verdict is None:
        return run
    outcome = msgspec.json.decode(verdict, type=RunOutcome)
    return msgspec.structs.replace(run, outcome=outcome, reason=f"{run.reason}; judged by the person at the bench")


def _run_record(row: tuple[Any, ...], follows: dict[int, str]) -> RunRecord:
    number, plan_id, step, kind, opened_at, rig_time_s, setting, load, channels, outcome, why, closed_rig_time_s, card_id = row
    return RunRecord(
        id=number,
        plan_id=plan_id,
        step=step,
        kind=RunKind(kind),
        opened_at=opened_at,
        rig_time_s=rig_time_s,
        setting=msgspec.json.decode(setting, type=Setting),
        load=load,
        channels=msgspec.json.decode(channels, type=tuple[str, ...]),
        outcome=RunOutcome(outcome) if outcome is not None else None,
        reason=why or "",
        closed_rig_time_s=closed_rig_time_s,
        card_id=card_id,
        follows=msgspec.json.decode(follows[number], type=str) if number in follows else "",
    )
