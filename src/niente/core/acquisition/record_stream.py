"""The record's one order: the book has a record before anybody else hears it."""

import logging
import threading

from niente.core.model.errors import BookError
from niente.core.model.records import (
    BenchFailed,
    ForecastMade,
    FrameTaken,
    Listener,
    PlanEnded,
    Record,
    SettingStays,
    StateChanged,
    WarningRaised,
)
from niente.core.storage.recorder import Recorder

LOG = logging.getLogger(__name__)
_TOLD_ALL_THE_SAME = (StateChanged, ForecastMade, WarningRaised, PlanEnded, BenchFailed, SettingStays)
"""Records that are told even where the disk does not take them: the next run or sample fails by it, and a plan, or
what became of a setting, has to come to an end."""


class RecordStream:
    """Takes records from any thread, one after the other. A listener must not wait; what it raises is logged and goes no
    further, so that nobody who listens can hold up a guard."""

    def __init__(self, recorder: Recorder, listener: Listener) -> None:
        self._recorder = recorder
        self._listener = listener
        self._order = threading.RLock()

    def publish(self, record: Record) -> None:
        """Write a record and tell it. Raises ``BookError`` where it could not be written: it was then not told, unless it is
        a sample, which is kept until the next write that succeeds."""
        with self._order:
            try:
                self._recorder.write(record)
            except BookError:
                if isinstance(record, FrameTaken):
                    self._tell(record)
                    raise
                if not isinstance(record, _TOLD_ALL_THE_SAME):
                    raise
                LOG.warning("a record could not be written: %s", type(record).__name__)
            self._tell(record)

    def _tell(self, record: Record) -> None:
        try:
            self._listener(record)
        except Exception:
            LOG.exception("a listener failed")
