"""Guards: what is watched at every sample, and when a run is ended over it."""

import math
import statistics

import msgspec
import numpy as np

from niente.core.frame import Frame
from niente.core.plan import Guard, GuardAction
from niente.core.quantities import part_of, quantity_of
from niente.core.rigcard import RigCard
from niente.core.setting import Setting

LOST_SAMPLES = 3
FROZEN_SAMPLES = 60
STALLED_SAMPLES = 5
STANDSTILL_RPM = 60.0


class Trip(msgspec.Struct, frozen=True):
    """A guard has tripped: what it does, and why in words."""

    action: GuardAction
    reason: str


class LevelWatch:
    """One guard of the plan: trips when the largest reading has stood at or above its level for its hold time.

    Where a person has said how a sensor errs, the higher of what it reads and what that makes of it counts.
    """

    def __init__(self, guard: Guard, card: RigCard) -> None:
        self.guard = guard
        self._places = np.array(card.indices(guard.quantity), dtype=int)
        self._above_since: float | None = None
        channels = [card.channels[place] for place in self._places]
        trust = [card.trust_in(channel.name) for channel in channels]
        self._errs = any(one.offset or one.gain != 1.0 for one in trust)
        self._offset = np.array([one.offset for one in trust])
        self._gain = np.array([one.gain for one in trust])

    def look(self, frame: Frame, setting: Setting) -> Trip | None:
        """Return the trip, if this sample completes one."""
        highest = -math.inf
        read = frame.values[self._places]
        if self._errs:
            read = np.fmax(read, (read - self._offset) / self._gain)
        for reading in read.tolist():
            if reading > highest:  # false for a lost sensor, which is another guard's business
                highest = reading
        if highest < self.guard.trip:
            self._above_since = None
            return None
        if self._above_since is None:
            self._above_since = frame.time_s
        if frame.time_s - self._above_since < self.guard.hold_s:
            return None
        quantity = quantity_of(self.guard.quantity)
        reading, level = quantity.with_unit(highest), quantity.with_unit(self.guard.trip)
        return Trip(self.guard.action, f"{self.guard.reason} It read {reading}; the guard stands at {level}.")


class SensorWatch:
    """Core temperatures must be alive: a lost or frozen one ends the plan, since nothing else protects the machine."""

    def __init__(self, card: RigCard) -> None:
        self._card = card
        self._places = np.array(card.indices("core_temperature_c"), dtype=int)
        self._last = [math.nan] * self._places.shape[0]
        self._lost = [0] * self._places.shape[0]
        self._still = [0] * self._places.shape[0]

    def look(self, frame: Frame, setting: Setting) -> Trip | None:
        """Return the trip, if a core's sensor has gone."""
        for core, reading in enumerate(frame.values[self._places].tolist()):
            if reading != reading:
                self._lost[core] += 1
                self._still[core] = 0
                if self._lost[core] >= LOST_SAMPLES:
                    return Trip(GuardAction.STOP, f"The sensor of {self._title(core)} gives nothing any more.")
                continue
            self._lost[core] = 0
            self._still[core] = self._still[core] + 1 if reading == self._last[core] else 0
            self._last[core] = reading
            if self._still[core] >= FROZEN_SAMPLES and statistics.median(self._still) < FROZEN_SAMPLES / 6:
                return Trip(
                    GuardAction.STOP,
                    f"The sensor of {self._title(core)} has not moved for {FROZEN_SAMPLES} samples while the others do.",
                )
        return None

    def _title(self, core: int) -> str:
        return self._card.channels[int(self._places[core])].title.lower()


class FanWatch:
    """A fan that stands although it was seen turning at this duty or a lower one has stalled."""

    def __init__(self, card: RigCard) -> None:
        self._fans = [(place, part_of(card.channels[place].name)) for place in card.indices("fan_speed_rpm")]
        self._turns_at = {group: card.safe.fan_duty.get(group, 100.0) for _, group in self._fans}
        self._standing = {group: 0 for _, group in self._fans}

    def look(self, frame: Frame, setting: Setting) -> Trip | None:
        """Return the trip, if a fan has stalled."""
        for place, group in self._fans:
            duty, rpm = setting.fan_duty.get(group, 0.0), float(frame.values[place])
            standing = rpm < STANDSTILL_RPM and duty >= self._turns_at[group]
            self._standing[group] = self._standing[group] + 1 if standing else 0
            if self._standing[group] >= STALLED_SAMPLES:
                return Trip(GuardAction.STOP, f"The {group} fans stand still at {duty:g} % duty.")
        return None

    def learn(self, frame: Frame, setting: Setting) -> None:
        """Take note, at the end of a run, that the fans turn at its duties."""
        for place, group in self._fans:
            if frame.values[place] > 2 * STANDSTILL_RPM and setting.fan_duty.get(group, 0.0) > 0.0:
                self._turns_at[group] = min(self._turns_at[group], setting.fan_duty[group])


class Guards:
    """All that is watched on one rig during one plan."""

    def __init__(self, guards: tuple[Guard, ...], card: RigCard) -> None:
        self._fans = FanWatch(card)
        levels = [LevelWatch(guard, card) for guard in guards]
        self._watches: list[LevelWatch | SensorWatch | FanWatch] = [*levels, SensorWatch(card), self._fans]

    def look(self, frame: Frame, setting: Setting) -> Trip | None:
        """Return the first trip that this sample completes."""
        for watch in self._watches:
            trip = watch.look(frame, setting)
            if trip is not None:
                return trip
        return None

    def learn(self, frame: Frame, setting: Setting) -> None:
        """Take note of what a finished run showed."""
        self._fans.learn(frame, setting)
