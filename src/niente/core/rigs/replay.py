"""A machine that was measured before, played again from its book: what it read then, it reads now."""

import threading
import time
from pathlib import Path

import msgspec
import numpy as np

from niente.core.model.errors import BookError, RigError
from niente.core.model.frame import Frame, RigEvent, RigEventKind
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.model.runs import RunKind
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.clock import PacedClock
from niente.core.science.arrays import Array
from niente.core.storage.reader import BookReader, RunRecord

TAIL_SAMPLES = 60
"""Once a recorded run is over, its last samples come again and again: it stands where it ended."""
EVENTS = frozenset(RigEventKind)


class ReplayRig:
    """A rig made from a book.

    A load is answered with the recorded run of that load whose setting lies nearest, each control measured against its
    range; where several are equally near, the latest. The card is the book's own, under another serial number, so that
    readings played again never get into the book of the machine itself.
    """

    def __init__(self, book: Path, *, pace: float | None = None) -> None:
        """Raises ``BookError`` where the file is no book, or holds no run."""
        self._reader = BookReader(book)
        card = self._reader.card()
        own = self._reader.in_variant(card.variant) if card is not None else []
        self._runs = [run for run in own if run.kind == RunKind.STEP and run.outcome is not None]
        if card is None or not self._runs:
            self._reader.close()
            raise BookError(
                f"The book {book} holds no run that could be played again.",
                safe="The file is untouched.",
                remedy="Choose a book with finished runs.",
            )
        self._card: RigCard = msgspec.structs.replace(
            card, title=f"{card.title}, played again", serial=f"{card.serial}-replay", simulated=True
        )
        self._clock = PacedClock(pace)
        self._lock = threading.RLock()  # make_safe comes from any thread
        self._setting = self._card.safe
        self._time_s = 0.0
        self._values: Array = np.full((1, len(self._card.channels)), np.nan)
        self._events: dict[int, tuple[RigEvent, ...]] = {}
        self._next_index = 0
        self._idle = self._card.load_of(LoadKind.IDLE)
        self._play(self._idle.name if self._idle is not None else "")

    # -- the contract ------------------------------------------------------------------------------------------

    def describe(self) -> RigCard:
        """Return the card."""
        return self._card

    def check(self, setting: Setting) -> list[str]:
        """Return in words what the machine does not have or does not reach."""
        return self._card.refusals(setting)

    def apply(self, setting: Setting) -> str | None:
        """Take a setting in; the next load is answered with the run that lies nearest to it."""
        self._card.insist(setting)
        self._setting = setting.over(self._setting)
        return None

    def start(self, load: str) -> None:
        """Play the recorded run of a load. Raises ``RigError`` for one that was never recorded."""
        if self._card.load(load) is None or not self._play(load):
            known = ", ".join(sorted({run.load for run in self._runs}))
            raise RigError(
                f"{self._card.title} has no recorded run of {load!r}.", remedy=f"Choose one of {known}, or another book."
            )

    def stop(self) -> None:
        """Play the idle machine, as far as that was recorded."""
        self._play(self._idle.name if self._idle is not None else "")

    def frame(self, timeout_s: float) -> Frame | None:
        """Return the next recorded sample; see the contract."""
        if not self._clock.wait(self._card.sample_period_s, timeout_s):
            return None
        if self._clock.pace is None:
            time.sleep(0)
        with self._lock:
            self._time_s += self._card.sample_period_s
            index, self._next_index = self._next_index, self._next_index + 1
            events = self._events.get(index, ())
            if index >= self._values.shape[0]:
                tail = min(TAIL_SAMPLES, self._values.shape[0])
                index = self._values.shape[0] - tail + (index - self._values.shape[0]) % tail
            return Frame(self._time_s, self._values[index].copy(), events)

    def make_safe(self) -> None:
        """Nothing can be harmed here: the safe setting is taken in, and the machine is idle."""
        with self._lock:
            self._setting = self._card.safe
            self.stop()

    def close(self) -> None:
        """Let go of the book."""
        self._reader.close()

    @property
    def pace(self) -> float | None:
        """Rig seconds a wall second; ``None`` for as fast as it goes."""
        return self._clock.pace

    def set_pace(self, pace: float | None) -> None:
        """Change the pace at once."""
        self._clock.set_pace(pace)

    # -- inside ------------------------------------------------------------------------------------------------

    def _play(self, load: str) -> bool:
        """Turn to the recorded run that answers a load; ``False`` where there is none."""
        with self._lock:
            run = self._nearest(load)
            if run is None:
                self._values, self._events, self._next_index = self._values[-1:], {}, 0
                return False
            times, values = self._reader.frames(run, [channel.name for channel in self._card.channels])
            if not values.shape[0]:
                return False
            self._values, self._events, self._next_index = values, self._happened(run, times), 0
            return True

    def _nearest(self, load: str) -> RunRecord | None:
        known = [run for run in self._runs if run.load == load]
        return min(reversed(known), key=self._distance, default=None)

    def _distance(self, run: RunRecord) -> float:
        """Return how far a run's setting lies from the one in force: the sum of its controls' shares of their range."""
        recorded, wanted = run.setting.over(self._card.stock), self._setting.over(self._card.stock)
        total = 0.0
        for control in self._card.controls:
            a, b = recorded.value(control.name), wanted.value(control.name)
            total += abs((a or 0.0) - (b or 0.0)) / max(control.high - control.low, 1e-9)
        return total

    def _happened(self, run: RunRecord, times: Array) -> dict[int, tuple[RigEvent, ...]]:
        """Return what happened in a run, by the sample it came with."""
        found: dict[int, tuple[RigEvent, ...]] = {}
        for item in self._reader.events(run):
            if item.kind in EVENTS and item.rig_time_s is not None:
                index = min(int(np.searchsorted(times, item.rig_time_s)), times.shape[0] - 1)
                found[index] = (*found.get(index, ()), RigEvent(RigEventKind(item.kind), str(item.body)))
        return found
