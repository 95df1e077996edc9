"""What a client reads from the book: runs from before it came, samples that did not reach it, and the guardian's word."""

import contextlib
import logging
import time
from collections.abc import Callable
from pathlib import Path

from niente.core.acquisition.strip_chart import StripChart
from niente.core.model.errors import NienteError
from niente.core.model.frame import RigEventKind
from niente.core.model.records import MadeSafe, SamplesTaken
from niente.core.model.rig_card import RigCard
from niente.core.model.runs import RunKind
from niente.core.storage.reader import BookReader
from niente.core.storage.record_reader import made_safe, runs_opened

COMMITTED_S = 1.0
"""Samples that were missed stand in the book within this time."""
GUARDIAN_S = 15.0
"""The guardian has said within this time what it did."""
LOOK_S = 0.05
EVENTS = frozenset(kind.value for kind in RigEventKind)
LOG = logging.getLogger(__name__)


def runs_so_far(path: Path, card: RigCard, first_run: int) -> StripChart:
    """Return the strip of the runs of a book from one on (0: of none), but a measuring run that is still open."""
    strip = StripChart(card)
    if not first_run:
        return strip
    with contextlib.suppress(NienteError):
        book = BookReader(path)
        try:
            _fill(strip, book, first_run)
        finally:
            book.close()
    return strip


def _fill(strip: StripChart, book: BookReader, first_run: int) -> None:
    opened = {one.run_id: one for one in runs_opened(book, first_run)}
    for run in book.runs(first_run):
        if run.outcome is None and run.kind == RunKind.STEP:
            continue
        time_s, values = book.frames(run, [channel.name for channel in strip.card.channels])
        if not time_s.shape[0]:
            continue
        begun = opened.get(run.id)
        if begun is not None and run.kind == RunKind.STEP:
            strip.begin(run.id, begun.index + 1, begun.step, float(time_s[0]), None)
        events = [(one.rig_time_s, RigEventKind(one.kind)) for one in book.events(run) if one.kind in EVENTS and one.rig_time_s]
        strip.extend(run.id, time_s, values, events)
        strip.catch_up()


def missed_samples(path: Path, run_id: int, first_s: float, last_s: float) -> SamplesTaken | None:
    """Return the samples of a run between two rig times; it may take a moment until they stand in the book."""
    until = time.monotonic() + COMMITTED_S
    try:
        book = BookReader(path)
    except NienteError as error:
        LOG.warning("missed samples could not be read: %s", error)
        return None
    try:
        run = next((one for one in book.runs(run_id) if one.id == run_id), None)
        while run is not None:
            time_s, values = book.frames(run)
            if (time_s.shape[0] and time_s[-1] >= last_s) or time.monotonic() > until:
                here = (time_s >= first_s) & (time_s <= last_s)
                return SamplesTaken(run_id, time_s[here], values[here])
            time.sleep(LOOK_S)
    finally:
        book.close()
    return None


def word_of_guardian(path: Path, given_up: Callable[[], bool]) -> MadeSafe:
    """Wait for what the guardian of a bench that is gone says in the book, and return it."""
    until = time.monotonic() + GUARDIAN_S
    while time.monotonic() < until and not given_up():
        with contextlib.suppress(NienteError):
            book = BookReader(path)
            try:
                said = made_safe(book)
            finally:
                book.close()
            if said is not None:
                return said
        time.sleep(LOOK_S)
    return MadeSafe(False, "The bench's guardian has not said what it did: look at the machine.")
