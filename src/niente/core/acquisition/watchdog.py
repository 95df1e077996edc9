"""The watchdog: a thread that acts when a call to the rig does not return. It never waits for the rig itself."""

import threading
import time
from collections.abc import Callable

from niente.core.acquisition.rig_link import RigLink

LOOK_S = 0.2


class Watchdog:
    """Watches the calls of one link. ``on_hang`` is called once, from the watchdog's thread, when one has taken longer than
    ``hang_limit_s`` seconds of the computer's own time."""

    def __init__(self, link: RigLink, hang_limit_s: float, on_hang: Callable[[], None]) -> None:
        self.hang_limit_s = hang_limit_s
        self._link = link
        self._on_hang = on_hang
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
            began = self._link.call_began_s
            if began is not None and time.monotonic() - began > self.hang_limit_s:
                self._link.abandoned = True
                self._on_hang()
                return
