"""The watchdog: a thread that acts when the sampler is not heard of. It never waits for the rig itself."""

import logging
import threading
import time
from collections.abc import Callable

from niente.core.acquisition.sampler import Sampler

LOOK_S = 0.2
STALL_LOOKS = 3.0
"""What goes by between two looks counts up to so many of them."""
LOG = logging.getLogger(__name__)


class Watchdog:
    """Watches one sampler the whole time, with a load on or off, in a call to the rig or between calls.

    ``on_hang`` is called once, from the watchdog's thread, when the sampler was not heard of for ``hang_limit_s`` seconds of
    the computer's own time. ``on_look`` is called with every look: who hears it knows that this process lives.
    """

    def __init__(self, sampler: Sampler, hang_limit_s: float, on_hang: Callable[[], None], on_look: Callable[[], None]) -> None:
        self.hang_limit_s = hang_limit_s
        self._sampler = sampler
        self._on_hang = on_hang
        self._on_look = on_look
        self._stopping = threading.Event()
        self._thread = threading.Thread(target=self._watch, name="niente-watchdog", daemon=True)

    def start(self) -> None:
        """Begin to watch."""
        self._thread.start()

    def stop(self) -> None:
        """Watch no more; returns at once."""
        self._stopping.set()

    def _watch(self) -> None:
        look_s = min(LOOK_S, self.hang_limit_s / 4)
        silent_s, beat_s, last_s = 0.0, self._sampler.beat_s, time.monotonic()
        while not self._stopping.wait(look_s):
            try:
                self._on_look()
            except Exception:
                LOG.exception("the watchdog could not say that it looks")
            now, heard_s = time.monotonic(), self._sampler.beat_s
            # a computer that stood still as a whole has kept the watchdog from looking too: that is no silence
            silent_s = silent_s + min(now - last_s, STALL_LOOKS * look_s) if heard_s == beat_s else 0.0
            beat_s, last_s = heard_s, now
            if silent_s > self.hang_limit_s + self._sampler.patience_s and not self._sampler.abandoned:
                self._sampler.abandoned = True
                try:
                    self._on_hang()
                except Exception:
                    LOG.exception("giving the rig up failed")
                self._sampler.abandon()
