"""The watchdog: a thread that acts when the sampler is not heard of. It never waits for the rig itself."""

import logging
import threading
import time
from collections.abc import Callable

from niente.core.acquisition.sampler import Sampler

LOOK_S = 0.2
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
        while not self._stopping.wait(min(LOOK_S, self.hang_limit_s / 4)):
            try:
                self._on_look()
            except Exception:
                LOG.exception("the watchdog could not say that it looks")
            silent_s = time.monotonic() - self._sampler.beat_s
            if silent_s > self.hang_limit_s + self._sampler.patience_s and not self._sampler.abandoned:
                self._sampler.abandoned = True
                try:
                    self._on_hang()
                except Exception:
                    LOG.exception("giving the rig up failed")
                self._sampler.abandon()
