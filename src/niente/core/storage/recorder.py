"""The recorder: the first who hears a record, and makes the book's rows of it before anybody else hears it."""

import math
from collections.abc import Callable
from typing import Any

import msgspec

from niente.core.model.cautions import READ
from niente.core.model.plan import CONFIRMING, NEAR_PICK
from niente.core.model.records import (
    BenchStarted,
    CautionsRead,
    ForecastMade,
    FrameTaken,
    GuardTripped,
    HandCardConfirmed,
    HandCardShown,
    HandCardTicked,
    MadeSafe,
    NoteAdded,
    PlanEnded,
    PlanStarted,
    ProjectSaved,
    ReadingTaken,
    Record,
    RigCardChanged,
    RigEventSeen,
    RunClosed,
    RunJudged,
    RunLeftOut,
    RunOpened,
    SampleGap,
    SettingStays,
    StateChanged,
)
from niente.core.model.rig_card import RigCard
from niente.core.storage import kinds
from niente.core.storage.writer import RIG, BookWriter

_LATER = (ForecastMade, StateChanged)
"""Records that may wait a quarter of a second for company: they repeat what follows from the samples, or lead up to a record
that is written at once."""


class Recorder:
    """Writes records into a book. ``card`` is the rig's card until another is told. Called from any thread, one record at a
    time."""

    def __init__(self, writer: BookWriter, card: RigCard) -> None:
        self.commit_each: Callable[[], bool] = lambda: True
        """Whether every sample is committed by itself."""
        self._writer = writer
        self._card = card
        self._rows: dict[type, Callable[[Any], None]] = {
            BenchStarted: lambda one: self._event(kinds.START, one.boot),
            RunOpened: self._run_opened,
            RunClosed: lambda one: self._writer.close_run(one.run_id, one.outcome, one.reason, one.rig_time_s),
            RigEventSeen: lambda one: self._event(one.event.kind, one.event.detail, one.run_id, one.rig_time_s),
            GuardTripped: lambda one: self._event(kinds.GUARD, one.reason, one.run_id, one.rig_time_s),
            SampleGap: lambda one: self._event(kinds.GAP, one.seconds, one.run_id, one.rig_time_s),
            RunLeftOut: lambda one: self._event(kinds.IMPLIED, {"step": one.entry, "why": one.reason}),
            HandCardShown: self._hand_card,
            HandCardTicked: lambda one: self._event(kinds.CARD_TICKED, one.boxes),
            HandCardConfirmed: lambda one: self._event(kinds.CARD_CONFIRMED, one.sets, one.run_id, one.rig_time_s),
            ReadingTaken: self._reading,
            NoteAdded: lambda one: self._event(kinds.NOTE, one.text, one.run_id, one.rig_time_s),
            RunJudged: lambda one: self._event(kinds.VERDICT, one.outcome, one.run_id),
            CautionsRead: lambda one: self._event(READ, list(one.cautions)),
            SettingStays: lambda one: self._event(kinds.STAYS, one.setting),
            PlanEnded: lambda one: self._event(kinds.PLAN_ENDED, one.reason),
            MadeSafe: lambda one: self._event(kinds.MADE_SAFE, one.text),
        }
        self._documents: dict[type, tuple[str, Callable[[Any], msgspec.Struct]]] = {
            RigCardChanged: (RIG, lambda one: one.card),
            ProjectSaved: ("project", lambda one: one.project),
        }

    def write(self, record: Record) -> None:
        """Write one record. Raises ``BookError``; samples are then still kept."""
        if isinstance(record, FrameTaken):
            self._frame(record)
            return
        kind = type(record).__name__
        if isinstance(record, _LATER):
            self._writer.add_line(kind, body_of(record), at_once=False)
            return
        with self._writer.together():
            line = body_of(record)
            if (document := self._documents.get(type(record))) is not None:
                line = _name_of(self._document(record, *document))
            if (row := self._rows.get(type(record))) is not None:
                row(record)
            self._writer.add_line(kind, line, at_once=True)

    def _frame(self, record: FrameTaken) -> None:
        if record.run_id is None:
            self._writer.flush_if_due()
        else:
            self._writer.add_frame(record.run_id, record.frame, at_once=self.commit_each())

    def _document(self, record: Record, kind: str, body: Callable[[Any], msgspec.Struct]) -> int:
        if isinstance(record, RigCardChanged):
            self._card = record.card
        return self._writer.add_document(kind, body(record))

    def _run_opened(self, one: RunOpened) -> None:
        number = self._writer.open_run(one.plan_id, one.entry, one.kind, one.setting, one.load, self._card, one.rig_time_s)
        assert number == one.run_id, "a run has another number than was told"
        if one.step.stage in (NEAR_PICK, CONFIRMING):
            self._event(kinds.FOLLOWS, one.step.reason, one.run_id, one.rig_time_s)

    def _hand_card(self, one: HandCardShown) -> None:
        if one.card is not None:
            self._event(kinds.CARD_SHOWN, one.card)

    def _reading(self, one: ReadingTaken) -> None:
        self._event(kinds.READING, {"channel": one.channel, "value": one.value}, one.run_id, one.rig_time_s)

    def _event(self, kind: str, body: object, run_id: int | None = None, rig_time_s: float | None = None) -> None:
        self._writer.add_event(kind, body, run_id, rig_time_s)


def body_of(record: Record) -> str:
    """Return a record as JSON; a plan only by its number, since the book has it as a document."""
    fields = msgspec.to_builtins(record)
    if isinstance(record, PlanStarted):
        del fields["plan"]
    return msgspec.json.encode(_finite(fields)).decode()


def _name_of(document: int) -> str:
    """Return the body of a record whose content is a document."""
    return msgspec.json.encode({"document": document}).decode()


def _finite(value: object) -> object:
    """Return a value with words in place of what JSON has no number for."""
    if isinstance(value, float) and not math.isfinite(value):
        return str(value)
    if isinstance(value, dict):
        return {key: _finite(one) for key, one in value.items()}
    if isinstance(value, list | tuple):
        return [_finite(one) for one in value]
    return value
