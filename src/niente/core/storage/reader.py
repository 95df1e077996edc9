"""Reading the book, while it is written or long after: runs, their frames as arrays, and what happened."""

from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

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
from niente.core.storage.connection import open_for_reading

"""How a run closed that came to its own end."""

VERDICT = "verdict"
"""The kind of happening that says how a run is to stand after all; the closing it corrects stays where it is."""

Document = TypeVar("Document", bound=msgspec.Struct)


class RunRecord(msgspec.Struct, frozen=True):
    """One run as it stands in the book. ``outcome`` is ``None`` while it is open."""

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


class BookEvent(msgspec.Struct, frozen=True):
    """Something that happened, in the order written."""

    run_id: int | None
    rig_time_s: float | None
    written_at: float
    kind: str
    body: Any


class BookReader:
    """A read-only look at a book; follows a writer. Raises ``BookError`` where the file is no book."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._link = open_for_reading(path)

    def close(self) -> None:
        """Let go of the book."""
        self._link.close()

    def documents(self, kind: str, read: Callable[[Any], Document]) -> dict[int, Document]:
        """Return all documents of a kind by number, oldest first, each as ``read`` makes it of the decoded JSON.

        Raises ``BookError`` for one that cannot be read.
        """
        rows = self._link.execute("SELECT id, body FROM document WHERE kind = ? ORDER BY id", (kind,))
        try:
            return {number: read(decoded_json(body)) for number, body in rows}
        except JsonError as error:
            raise BookError(
                f"The book {self.path} holds a {kind} that this Niente cannot read: {error}.",
                safe="The file is untouched.",
                remedy="Open it with the Niente that wrote it.",
            ) from None

    def plans(self) -> dict[int, Plan]:
        """Return the plans by number."""
        return self.documents("plan", plan_of)

    def cards(self) -> dict[int, RigCard]:
        """Return the rig cards by number, oldest first."""
        return self.documents("rig", lambda document: converted(document, RigCard))

    def card(self) -> RigCard | None:
        """Return the latest rig card, or ``None``."""
        return next(reversed(self.cards().values()), None)

    def in_variant(self, variant: str) -> list["RunRecord"]:
        """Return the runs that were measured in a variant of the machine, oldest first."""
        cards = self.cards()
        first = next(iter(cards.values()), None)

        def of(run: RunRecord) -> RigCard | None:
            return cards.get(run.card_id, first) if run.card_id is not None else first

        return [run for run in self.runs() if (card := of(run)) is None or card.variant == variant]

    def project(self) -> Project | None:
        """Return the latest version of the project, or ``None``."""
        return next(reversed(self.documents("project", project_of).values()), None)

    def runs(self, first: int = 0) -> list[RunRecord]:
        """Return the runs from a number on, oldest first; one that a person has judged since it was closed stands as they
        judged it."""
        rows = self._link.execute(
            "SELECT run.id, plan_id, step, kind, opened_at, run.rig_time_s, setting, load, channels, how, why,"
            " closing.rig_time_s, card_id FROM run LEFT JOIN closing ON closing.run_id = run.id"
            " WHERE run.id >= ? ORDER BY run.id",
            (first,),
        )
        verdicts = dict(self._link.execute("SELECT run_id, body FROM happening WHERE kind = ? ORDER BY id", (VERDICT,)))
        return [_judged(_run_record(row), verdicts) for row in rows]

    def last_run_id(self) -> int:
        """Return the number of the latest run; 0 in a book without any."""
        row = self._link.execute("SELECT max(id) FROM run").fetchone()
        return int(row[0] or 0)

    def frames_after(self, run: RunRecord, row_id: int) -> tuple[int, Array]:
        """Return the samples of a run that were written after a row of the book, times first, ``(n, 1 + channels)``, and the
        row to go on from."""
        blocks = self._link.execute("SELECT id, data FROM frames WHERE run_id = ? AND id > ? ORDER BY id", (run.id, row_id))
        last, parts = row_id, []
        for number, data in blocks:
            last = number
            parts.append(data)
        return last, np.frombuffer(b"".join(parts), dtype="<f8").reshape(-1, 1 + len(run.channels))

    def frames(self, run: RunRecord) -> tuple[Array, Array]:
        """Return the samples of a run: rig times ``(n,)`` in s, and readings ``(n, channels)`` in channel order."""
        blocks = self._link.execute("SELECT data FROM frames WHERE run_id = ? ORDER BY id", (run.id,))
        data = b"".join(block for (block,) in blocks)
        rows = np.frombuffer(data, dtype="<f8").reshape(-1, 1 + len(run.channels))
        return rows[:, 0], rows[:, 1:]

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


def _judged(run: RunRecord, verdicts: dict[int, str]) -> RunRecord:
    verdict = verdicts.get(run.id)
    if verdict is None:
        return run
    outcome = msgspec.json.decode(verdict, type=RunOutcome)
    return msgspec.structs.replace(run, outcome=outcome, reason=f"{run.reason}; judged by the person at the bench")


def _run_record(row: tuple[Any, ...]) -> RunRecord:
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
    )
