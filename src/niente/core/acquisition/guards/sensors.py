"""Sensors that others rely on must be alive: what is lost, frozen or impossible protects nothing."""

import math
import statistics
from collections import deque

import numpy as np

from niente.core.acquisition.guards.trip import Trip
from niente.core.model.frame import Frame
from niente.core.model.guard_rules import CORE, DEW_MARGIN, HUMIDITY, ROOM_MOVED
from niente.core.model.plan import Guard, GuardAction
from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import RigCard

LOST_SAMPLES = 3
FROZEN_SAMPLES, EVERY_STILL = 60, 20
COARSE_STEPS_K, STEPS_MOVED, APART_SAMPLES, STEPS_WIDE = (1.0, 0.5), 3.0, 10, 2.0
"""Sensors of cores that read in such steps (K) may stand still for minutes where all is steady, in the middle of a step while
others flicker at the edge of theirs. One is frozen where the others have since moved by so many steps and it has not for so
many samples more, or where most of them spread over so many steps by their noise alone: no step is wide enough to hide that.
Which machine reads in such steps is told from what most of its cores read, whatever its card declares."""
IMPOSSIBLE_SAMPLES = 2
OVER_SHUT_DOWN_K = 25.0
"""No core is that far above the temperature at which the firmware cuts off."""
SLOW_FROZEN_SAMPLES = 300
"""Readings other than the cores' may stand still for long; not for so many samples after the cores have moved."""
COARSE_TIMES = 4
"""One that comes in whole steps may stand still for so much longer."""
CORES_MOVED_K = 15.0
OF_THE_ROOM = ("room_temperature_c", HUMIDITY)
"""Readings that need not follow the cores: a room may stand still."""


class CoreSensors:
    """Core temperatures: a lost, frozen or impossible one ends the plan, since nothing else protects the processor."""

    def __init__(self, card: RigCard) -> None:
        self._card = card
        self._indices = np.array(card.indices(CORE), dtype=int)
        self._most = card.limits.shut_down_c + OVER_SHUT_DOWN_K
        self._least = quantity_of(CORE).low
        many = self._indices.shape[0]
        self._last = [math.nan] * many
        self._lost, self._still, self._wild = [0] * many, [0] * many, [0] * many
        self._others_then, self._apart = [math.nan] * many, [0] * many
        self._steps_k = [COARSE_STEPS_K[0]] * many
        """The coarse steps that each core's readings have lain on so far; 0 where they lie on none."""
        self._step_k, self._middle = COARSE_STEPS_K[0], math.nan
        self._recent: deque[list[float]] = deque(maxlen=FROZEN_SAMPLES)

    def look(self, frame: Frame) -> Trip | None:
        """Return the trip, if a core's sensor has gone."""
        readings = frame.values[self._indices].tolist()
        if self._step_k:
            known = sorted(reading for reading in readings if reading == reading)
            self._middle = known[len(known) // 2] if known else math.nan
            self._recent.append(readings)
        for core, reading in enumerate(readings):
            if reading != reading:
                self._lost[core] += 1
                self._still[core] = 0
                if self._lost[core] >= LOST_SAMPLES:
                    return Trip(GuardAction.STOP, f"The sensor of {self._title(core)} gives nothing any more.")
                continue
            self._lost[core] = 0
            if not self._least <= reading <= self._most:
                self._wild[core] += 1
                if self._wild[core] >= IMPOSSIBLE_SAMPLES:
                    words = f"The sensor of {self._title(core)} reads {reading:g} °C, which cannot be."
                    return Trip(GuardAction.STOP, words)
            else:
                self._wild[core] = 0
            if reading != self._last[core]:
                self._still[core], self._last[core] = 0, reading
                self._apart[core], self._others_then[core] = 0, self._middle
                if self._steps_k[core] and reading % self._steps_k[core]:
                    self._steps_k[core] = next((step for step in COARSE_STEPS_K if reading % step == 0.0), 0.0)
                    self._step_k = sorted(self._steps_k)[len(self._steps_k) // 2]
                continue
            self._still[core] += 1
            moved = abs(self._middle - self._others_then[core]) >= STEPS_MOVED * self._step_k
            self._apart[core] = self._apart[core] + 1 if moved else 0
            if self._still[core] >= FROZEN_SAMPLES and self._frozen(core):
                words = f"has not moved for {self._still[core]} samples while the others do"
                return Trip(GuardAction.STOP, f"The sensor of {self._title(core)} {words}.")
        return None

    def _frozen(self, core: int) -> bool:
        """Return whether a core's sensor that has long stood still is frozen."""
        if statistics.median(self._still) >= FROZEN_SAMPLES / 6:
            return False
        if not self._step_k or self._apart[core] >= APART_SAMPLES:
            return True
        if self._still[core] % EVERY_STILL:
            return False  # what follows takes its time, and need not be looked at with every sample
        wide = int(np.count_nonzero(np.ptp(np.array(self._recent), axis=0) >= STEPS_WIDE * self._step_k))
        return 2 * wide > len(self._still)

    def _title(self, core: int) -> str:
        return self._card.channels[int(self._indices[core])].title.lower()


class GuardedSensors:
    """What the plan's guards watch besides the cores: a guard whose sensor is lost, frozen or impossible guards nothing."""

    def __init__(self, guards: tuple[Guard, ...], card: RigCard) -> None:
        self._card = card
        names = {guard.quantity for guard in guards if guard.action != GuardAction.WARN} - {CORE}
        if names & {DEW_MARGIN, ROOM_MOVED}:
            names |= set(OF_THE_ROOM)
        indices = [index for name in sorted(names) for index in card.indices(name)]
        self._indices = np.array(indices, dtype=int)
        self._follows = [not card.channels[index].name.startswith(OF_THE_ROOM) for index in indices]
        self._cores = np.array(card.indices(CORE), dtype=int)
        self._ranges = [
            (quantity_of(card.channels[index].name).low, quantity_of(card.channels[index].name).high) for index in indices
        ]
        self._coarse = [card.channels[index].resolution >= 1.0 for index in indices]
        many = len(indices)
        self._last = [math.nan] * many
        self._lost, self._wild, self._still = [0] * many, [0] * many, [0] * many
        self._cores_then = [math.nan] * many

    def look(self, frame: Frame) -> Trip | None:
        """Return the trip, if a sensor that a guard needs has gone."""
        hottest = max((one for one in frame.values[self._cores].tolist() if one == one), default=math.nan)
        for index, reading in enumerate(frame.values[self._indices].tolist()):
            low, high = self._ranges[index]
            self._wild[index] = self._wild[index] + 1 if reading < low or reading > high else 0
            if self._wild[index] >= IMPOSSIBLE_SAMPLES:
                return self._gone(index, f"reads {reading:g}, which cannot be")
            if reading == self._last[index]:
                moved = abs(hottest - self._cores_then[index]) > CORES_MOVED_K
                self._still[index] = self._still[index] + 1 if moved else 0  # counted from where the cores moved
                most = SLOW_FROZEN_SAMPLES * (COARSE_TIMES if self._coarse[index] or reading % 1.0 == 0.0 else 1)
                if self._follows[index] and self._still[index] >= most:
                    return self._gone(index, "has not moved for minutes while the cores did")
                continue
            self._still[index] = 0
            self._cores_then[index] = hottest
            self._last[index] = reading
            self._lost[index] = self._lost[index] + 1 if reading != reading else 0
            if self._lost[index] >= LOST_SAMPLES:
                return self._gone(index, "gives nothing any more")
        return None

    def _gone(self, index: int, what: str) -> Trip:
        title = self._card.channels[int(self._indices[index])].title.lower()
        return Trip(GuardAction.STOP, f"The sensor of {title} {what}; the guard on it protects nothing.")
