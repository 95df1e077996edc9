"""The record as it is read back from a book: the same records, in the same order, that the bench's listeners heard."""

import logging

import msgspec

from niente.core.model.json_files import JsonError, decoded_json
from niente.core.model.plan import plan_of
from niente.core.model.project import project_of
from niente.core.model.records import (
    BenchFailed,
    BenchStarted,
    HandCardShown,
    MadeSafe,
    PlanEnded,
    PlanStarted,
    ProjectSaved,
    Record,
    RigCardChanged,
    RunOpened,
    SamplesTaken,
    StateChanged,
)
from niente.core.storage.reader import BookReader, FrameRow, RecordRow, card_in

LOG = logging.getLogger(__name__)


class RecordReader:
    """Reads a book's record on from where it was last read. It begins with what is under way: the plan, the run from its
    first sample, a card that waits for hands; where nothing is, with what comes next."""

    def __init__(self, book: BookReader) -> None:
        self._book = book
        self._first: list[Record] = []
        self._record_id, self._frames_id = book.last_ids()
        started = book.latest_row(PlanStarted)
        if started is None or any(self._later(kind, started) for kind in (PlanEnded, BenchFailed, BenchStarted)):
            return
        self._begin(started)
        opened = book.latest_row(RunOpened)
        last = book.last_run_id()
        if opened is not None and opened.id > started.id and any(run.outcome is None for run in book.runs(last)):
            self._record_id, self._frames_id = opened.id - 1, opened.frames_id
            return
        for kind in (StateChanged, HandCardShown):
            row = book.latest_row(kind)
            if row is not None and row.id > started.id:
                self._begin(row)

    def read(self) -> list[Record]:
        """Return what was recorded since the last time, in order."""
        records, frames = self._book.rows_after(self._record_id, self._frames_id)
        found, self._first = self._first, []
        for row in records:
            while frames and frames[0].id <= row.frames_id:
                found += self._samples(frames.pop(0))
            self._record_id = row.id
            found += self._decoded(row)
        for block in frames:
            found += self._samples(block)
        return found

    def _later(self, kind: type[msgspec.Struct], than: RecordRow) -> bool:
        row = self._book.latest_row(kind)
        return row is not None and row.id > than.id

    def _begin(self, row: RecordRow) -> None:
        self._first += self._decoded(row)

    def _samples(self, block: FrameRow) -> list[Record]:
        self._frames_id = block.id
        return [SamplesTaken(block.run_id, block.values[:, 0], block.values[:, 1:])]

    def _decoded(self, row: RecordRow) -> list[Record]:
        """Return a row as a record; none where this Niente does not know it."""
        try:
            fields = decoded_json(row.body)
            match row.kind:
                case "PlanStarted":
                    plan = self._book.document(fields["plan_id"], plan_of)
                    return [PlanStarted(plan, fields["plan_id"], fields["done"])] if plan is not None else []
                case "RigCardChanged":
                    card = self._book.document(fields["document"], card_in)
                    return [RigCardChanged(card)] if card is not None else []
                case "ProjectSaved":
                    project = self._book.document(fields["document"], project_of)
                    return [ProjectSaved(project)] if project is not None else []
            return [msgspec.convert(fields, type=Record, strict=False)]
        except (JsonError, msgspec.ValidationError, KeyError, TypeError) as error:
            LOG.warning("%s: record %d (%s) cannot be read: %s", self._book.path, row.id, row.kind, error)
            return []


def made_safe(book: BookReader) -> MadeSafe | None:
    """Return what a guardian did since the bench was last started; ``None`` where it had nothing to do, or has not said."""
    said, started = book.latest_row(MadeSafe), book.latest_row(BenchStarted)
    if said is None or (started is not None and started.id > said.id):
        return None
    return msgspec.json.decode(said.body, type=MadeSafe)


def runs_opened(book: BookReader, first_run: int) -> list[RunOpened]:
    """Return the openings of the runs from a number on, oldest first."""
    rows = book.rows_of(RunOpened)
    opened = [msgspec.json.decode(row.body, type=RunOpened, strict=False) for row in rows]
    return [one for one in opened if one.run_id >= first_run]
