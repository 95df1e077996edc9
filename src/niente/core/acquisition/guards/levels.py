"""Guards of the plan: a reading against a level that it must not stand at for long."""

import math
from collections import deque
from collections.abc import Callable
from typing import Protocol

import numpy as np

from niente.core.acquisition.guards.sensors import OVER_SHUT_DOWN_K
from niente.core.acquisition.guards.trip import Trip
from niente.core.model.frame import Frame
from niente.core.model.guard_rules import CORE, DEW_MARGIN, HUMIDITY, RISE_RATE, ROOM_MOVED
from niente.core.model.plan import Guard, GuardAction
from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import RigCard
from niente.core.science.humidity import dew_point_c

RATE_S = 60.0
"""The rate of rise is taken over so many seconds, and not before a load has run for as long."""
RATE_MEAN_S = 15.0
"""Its ends are means over so many seconds."""
REFERENCE_S = 60.0
"""Where the room was is the mean over the first seconds of what is watched."""


class WatchedReading(Protocol):
    """What a guard watches, worked out at every sample."""

    def of(self, frame: Frame) -> float:
        """Return the reading at a sample; NaN where there is none."""

    def begin(self) -> None:
        """Another run begins."""


class Channels:
    """The largest reading of a quantity's channels.

    Where a person has said how a sensor errs, the higher of what it reads and what that makes of it counts.
    """

    def __init__(self, card: RigCard, quantity: str) -> None:
        self._indices = np.array(card.indices(quantity), dtype=int)
        channels = [card.channels[index] for index in self._indices]
        trust = [card.trust_in(channel.name) for channel in channels]
        self._errs = any(one.offset or one.gain != 1.0 for one in trust)
        self._offset = np.array([one.offset for one in trust])
        self._gain = np.array([one.gain for one in trust])

    def of(self, frame: Frame) -> float:
        """Return the largest; a lost sensor is another watch's business."""
        read = frame.values[self._indices]
        if self._errs:
            read = np.fmax(read, (read - self._offset) / self._gain)
        highest = -math.inf
        for reading in read.tolist():
            if reading > highest:
                highest = reading
        return highest if highest > -math.inf else math.nan

    def begin(self) -> None:
        """Nothing is remembered."""


class RiseRate:
    """How fast the hottest core rises, in K a minute: the means of two quarters of a minute, three quarters apart."""

    def __init__(self, card: RigCard) -> None:
        self._hottest = Channels(card, CORE)
        self._possible_c = card.limits.shut_down_c + OVER_SHUT_DOWN_K
        self._most = max(round(RATE_S / card.sample_period_s), 4)
        self._mean = max(round(RATE_MEAN_S / card.sample_period_s), 1)
        self._minutes = (self._most - self._mean) * card.sample_period_s / 60.0
        self._seen, self._full = 0, False
        self._first = self._last = 0.0
        self._recent: deque[float] = deque()

    def of(self, frame: Frame) -> float:
        """Return the rate, once a load has run for long enough that its jump at the start is out of sight."""
        reading = self._hottest.of(frame)
        if not reading <= self._possible_c:  # missing, or a slip of the sensor, which would stand in the means for long
            return math.nan
        self._seen += 1
        if self._seen <= self._most:
            return math.nan
        recent = self._recent
        if len(recent) == self._most:
            middle, first = recent[-self._mean], recent[0]
            self._first += recent[self._mean] - first
            self._last += reading - middle
            recent.popleft()
        recent.append(reading)
        if len(recent) < self._most:
            return math.nan
        if not self._full:
            self._full = True
            readings = list(recent)
            self._first, self._last = sum(readings[: self._mean]), sum(readings[-self._mean :])
        return (self._last - self._first) / self._mean / self._minutes

    def begin(self) -> None:
        """Another load: what it does in its first minute is no fault."""
        self._seen, self._full = 0, False
        self._recent.clear()


class DewMargin:
    """How far the coldest temperature that is read stands over the dew point of the room."""

    def __init__(self, card: RigCard) -> None:
        room = card.index("room_temperature_c")
        self._room = -1 if room is None else room
        self._humidity = card.index(HUMIDITY)
        self._said = float(card.room.get(HUMIDITY, 0.0))
        surfaces = [i for i, channel in enumerate(card.channels) if "temperature_c" in channel.name and i != room]
        self._surfaces = np.array(surfaces, dtype=int)

    def of(self, frame: Frame) -> float:
        """Return the margin; NaN without a room or a humidity."""
        humidity = float(frame.values[self._humidity]) if self._humidity is not None else self._said
        room = float(frame.values[self._room])
        if not humidity > 0.0 or room != room:
            return math.nan
        coldest = min((one for one in frame.values[self._surfaces].tolist() if one == one), default=math.nan)
        return coldest - dew_point_c(room, humidity)

    def begin(self) -> None:
        """Nothing is remembered."""


class RoomMoved:
    """How far the room has moved from the first minute that was watched."""

    def __init__(self, card: RigCard) -> None:
        room = card.index("room_temperature_c")
        self.index = -1 if room is None else room
        self._most = max(round(REFERENCE_S / card.sample_period_s), 1)
        self._sum, self._count = 0.0, 0
        self._recent: deque[float] = deque(maxlen=self._most)

    def of(self, frame: Frame) -> float:
        """Return the distance of the last minute's mean from the first one's; 0 during the first minute."""
        room = float(frame.values[self.index])
        if room != room:
            return math.nan
        self._recent.append(room)
        if self._count < self._most:
            self._sum, self._count = self._sum + room, self._count + 1
            return 0.0
        return abs(sum(self._recent) / len(self._recent) - self._sum / self._count)

    def begin(self) -> None:
        """The first minute stays what everything is held against."""


def reading_for(card: RigCard, quantity: str) -> WatchedReading:
    """Return what a guard on a quantity watches."""
    special: dict[str, Callable[[RigCard], WatchedReading]] = {
        RISE_RATE: RiseRate,
        DEW_MARGIN: DewMargin,
        ROOM_MOVED: RoomMoved,
    }
    made = special.get(quantity)
    return made(card) if made is not None else Channels(card, quantity)


class LevelWatch:
    """One guard: trips when its reading has stood at or beyond its level for its dwell."""

    def __init__(self, guard: Guard, card: RigCard) -> None:
        self.guard = guard
        self.reading = math.nan
        """The latest reading."""
        self._of = reading_for(card, guard.quantity)
        self._sign = -1.0 if guard.falling else 1.0
        self._beyond_since: tuple[float, float] | None = None
        """When the reading went beyond its level, by the rig's clock and by this computer's."""
        self._warned = False

    def look(self, frame: Frame, own_s: float | None = None) -> Trip | None:
        """Return the trip, if this sample completes one. A guard that only warns says so once until it is quiet again."""
        self.reading = self._of.of(frame)
        if not self._sign * self.reading >= self._sign * self.guard.trip:
            self._beyond_since = None
            self._warned = self._warned and not self.quiet
            return None
        now = (frame.time_s, frame.time_s if own_s is None else own_s)
        since = self._beyond_since = self._beyond_since or now
        if max(now[0] - since[0], now[1] - since[1]) < self.guard.dwell_s or self._warned:
            return None
        self._warned = self.guard.action == GuardAction.WARN
        quantity = quantity_of(self.guard.quantity)
        reading, level = quantity.with_unit(self.reading), quantity.with_unit(self.guard.trip)
        return Trip(self.guard.action, f"{self.guard.reason} It read {reading}; the guard stands at {level}.", self.guard)

    @property
    def quiet(self) -> bool:
        """Whether the latest reading lies on the quiet side of the clear level; a missing one is not noisy."""
        return not self._sign * self.reading >= self._sign * self.guard.clear

    def begin(self) -> None:
        """Another run begins."""
        self._beyond_since = None
        self._of.begin()

    def go_on_from(self, other: "LevelWatch") -> None:
        """Hold the room against where it was for another watch, where both watch that in the same channel."""
        mine, theirs = self._of, other._of
        if isinstance(mine, RoomMoved) and isinstance(theirs, RoomMoved) and mine.index == theirs.index:
            self._of, self._warned = theirs, other._warned
