"""What was worked out before, kept for the latest few: a bounded memory that several threads may share."""

import threading
from collections.abc import Hashable
from typing import Generic, TypeVar

K = TypeVar("K", bound=Hashable)
V = TypeVar("V")


class Remembered(Generic[K, V]):
    """Keeps at most ``most`` values by key; what was put in longest ago is forgotten first."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._kept: dict[K, V] = {}
        self._lock = threading.Lock()

    def get(self, key: K) -> V | None:
        """Return what is kept for a key, or ``None``."""
        with self._lock:
            return self._kept.get(key)

    def put(self, key: K, value: V) -> V:
        """Keep a value, and return it."""
        with self._lock:
            self._kept.pop(key, None)
            self._kept[key] = value
            while len(self._kept) > self._most:
                del self._kept[next(iter(self._kept))]
        return value
