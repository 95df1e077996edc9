"""Waiting for what comes by itself. A wait ends with what it waits for; the most that it may take is for a machine that is busy
with much else, and says nothing of speed."""

import time
from collections.abc import Callable

PATIENCE_S = 300.0


def until(true: Callable[[], object], meanwhile: Callable[[], object] = lambda: None) -> None:
    """Wait until something is true; ``meanwhile`` is called again and again."""
    end = time.monotonic() + PATIENCE_S
    while not true():
        assert time.monotonic() < end, "it did not come in time"
        meanwhile()
        time.sleep(0.005)
