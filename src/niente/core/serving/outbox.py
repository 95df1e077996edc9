"""What is to be sent to one client. Whoever puts something in never waits; a client that is slow misses samples."""

import itertools
import threading
from collections import deque
from typing import Any

import msgspec
import numpy as np

from niente.core.model.records import FrameTaken, Record, SamplesTaken
from niente.core.serving.messages import Message, SamplesMissed, Told

MAX_SAMPLES = 20_000
"""Samples that wait for a client; further ones are missed, until it has taken all of them."""
MAX_OTHERS = 20_000
"""Other messages that wait for a client; one that lets more of them pile up is given up."""
PACK_S = 0.015
"""What comes within this time is sent together."""


class OutboxFullError(Exception):
    """A client does not take what it is told."""


class _Missed(msgspec.Struct):
    """Samples of a run that go out as a word that they were missed; it grows while it waits."""

    run_id: int
    first_s: float
    last_s: float


class Outbox:
    """One client's queue; ``put`` and ``say`` come from any thread, ``take`` from the client's own."""

    def __init__(self) -> None:
        self._waiting: deque[Record | Message | _Missed] = deque()
        self._samples = 0
        self._missing = False
        self._change = threading.Condition()
        self._over = False

    def put(self, record: Record) -> None:
        """Queue a record. Raises ``OutboxFullError`` where the client took nothing for long."""
        with self._change:
            if not isinstance(record, FrameTaken):
                self._add(record)
            elif self._missing or self._samples >= MAX_SAMPLES:
                self._miss(record)
            else:
                self._samples += 1
                self._waiting.append(record)
            if len(self._waiting) == 1:
                self._change.notify()

    def say(self, message: Message) -> None:
        """Queue a message. Raises ``OutboxFullError``."""
        with self._change:
            self._add(message)
            self._change.notify()

    def miss(self, run_id: int, first_s: float, last_s: float) -> None:
        """Have the client read samples from the book."""
        self.say(SamplesMissed(run_id, first_s, last_s))

    def close(self) -> None:
        """Send what is queued, and then no more."""
        with self._change:
            self._over = True
            self._change.notify()

    def take(self) -> list[Message] | None:
        """Wait for messages; ``None`` once the box is closed and empty."""
        with self._change:
            self._change.wait_for(lambda: bool(self._waiting) or self._over)
            if not self._waiting:
                return None
            if not self._over:
                self._change.wait_for(lambda: self._over, PACK_S)
            taken, self._waiting = list(self._waiting), deque()
            self._samples, self._missing = 0, False
        return _packed(taken)

    def _add(self, one: Record | Message) -> None:
        if len(self._waiting) >= MAX_SAMPLES + MAX_OTHERS:
            raise OutboxFullError
        self._waiting.append(one)

    def _miss(self, record: FrameTaken) -> None:
        self._missing = True
        if record.run_id is None:
            return
        time_s = record.frame.time_s
        last = self._waiting[-1] if self._waiting else None
        if isinstance(last, _Missed) and last.run_id == record.run_id:
            last.last_s = time_s
        else:
            self._waiting.append(_Missed(record.run_id, time_s, time_s))


def _packed(taken: list[Record | Message | _Missed]) -> list[Message]:
    """Return what goes over the line: samples that follow on each other as blocks, records in lists."""
    found: list[Message] = []
    for together, group in itertools.groupby(taken, _kind_of):
        members: list[Any] = list(group)
        if together == _MESSAGE:
            found += [_as_message(one) for one in members]
            continue
        records = members if together == _RECORD else [_block(members)]
        if found and isinstance(found[-1], Told):
            found[-1].records.extend(records)
        else:
            found.append(Told(records))
    return found


_MESSAGE, _RECORD = "message", "record"


def _kind_of(one: Record | Message | _Missed) -> object:
    """Return what goes together over the line: messages, records, or samples of one run and one size."""
    if isinstance(one, FrameTaken) and not one.frame.events:
        return one.run_id, one.frame.values.shape[0]
    return _MESSAGE if isinstance(one, Message | _Missed) else _RECORD


def _as_message(one: Message | _Missed) -> Message:
    return SamplesMissed(one.run_id, one.first_s, one.last_s) if isinstance(one, _Missed) else one


def _block(frames: list[FrameTaken]) -> SamplesTaken:
    time_s = np.array([one.frame.time_s for one in frames])
    return SamplesTaken(frames[0].run_id, time_s, np.array([one.frame.values for one in frames]))
