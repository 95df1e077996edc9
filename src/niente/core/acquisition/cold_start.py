"""Idle time before a run: how long, and when a machine counts as cold."""

from collections import deque

import numpy as np

from niente.core.model.frame import Frame
from niente.core.model.plan import Exposure
from niente.core.model.rig_card import RigCard

STEADY_K = 0.3
"""Cold is where the means of no temperature differ by more than this from one five minutes to the next."""
SPAN_S = 300.0
MAX_S = 7200.0
"""However slowly a machine cools, idle time is over after so long."""


class ColdStart:
    """Watches idle time. It is over after its time; one that waits for a cold machine, not before that is one."""

    def __init__(self, rule: Exposure, card: RigCard, begun_s: float) -> None:
        self._least = begun_s + rule.idle_s
        self._most = begun_s + max(MAX_S, rule.idle_s)
        self._waits = rule.from_cold
        self._indices = np.array([i for i, channel in enumerate(card.channels) if "temperature_c" in channel.name], dtype=int)
        self._half = max(round(SPAN_S / card.sample_period_s), 1)
        self._recent: deque[np.ndarray] = deque(maxlen=2 * self._half)

    def reached(self, frame: Frame) -> bool:
        """Take a sample in, and return whether the rest is over."""
        if self._waits:
            self._recent.append(frame.values[self._indices])
        if frame.time_s < self._least:
            return False
        return not self._waits or frame.time_s >= self._most or self._still()

    def _still(self) -> bool:
        """Return whether nothing moves; looked at once in a while, since it takes ten minutes to change."""
        recent = self._recent
        if len(recent) < 2 * self._half or len(recent) % 10:
            return False
        values = np.array(recent)
        before, after = values[: self._half], values[self._half :]
        seen = np.isfinite(values).all(axis=0)
        moved = np.abs(after[:, seen].mean(axis=0) - before[:, seen].mean(axis=0))
        return bool(np.all(moved <= STEADY_K))
