"""All that is watched on one rig during one plan."""

from niente.core.acquisition.guards.fans import FanWatch
from niente.core.acquisition.guards.levels import LevelWatch
from niente.core.acquisition.guards.sensors import CoreSensors, GuardedSensors
from niente.core.acquisition.guards.trip import Trip
from niente.core.model.frame import Frame
from niente.core.model.plan import Guard, GuardAction
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting

GRAVEST = (GuardAction.STOP, GuardAction.PAUSE, GuardAction.SKIP, GuardAction.WARN)


class GuardSet:
    """The plan's guards, and the watch over sensors and fans that is always kept."""

    def __init__(self, guards: tuple[Guard, ...], card: RigCard) -> None:
        self._levels = [LevelWatch(guard, card) for guard in guards]
        self._cores = CoreSensors(card)
        self._sensors = GuardedSensors(guards, card)
        self._fans = FanWatch(card)

    def go_on_from(self, others: "GuardSet") -> None:
        """Take over what was watched before the machine was changed: where the room was when the plan began."""
        for watch in self._levels:
            for other in others._levels:
                if other.guard == watch.guard:
                    watch.go_on_from(other)

    def begin(self) -> None:
        """Another run begins: what stood under the last one's load does not count against it."""
        for watch in self._levels:
            watch.begin()

    def look(self, frame: Frame, setting: Setting, own_s: float | None = None) -> Trip | None:
        """Return the gravest trip that this sample completes. Every watch sees every sample. ``own_s`` is when it came by this
        computer's own clock, in rig seconds; a dwell is over once either clock says so."""
        found = [watch.look(frame, own_s) for watch in self._levels]
        found += [self._cores.look(frame), self._sensors.look(frame), self._fans.look(frame, setting)]
        trips = [trip for trip in found if trip is not None]
        return min(trips, key=lambda trip: GRAVEST.index(trip.action)) if trips else None

    def quiet(self, guard: Guard) -> bool:
        """Return whether a guard's reading is back on the quiet side of its clear level."""
        return all(watch.quiet for watch in self._levels if watch.guard == guard)

    def learn(self, frame: Frame, setting: Setting) -> None:
        """Take note of what a finished run showed."""
        self._fans.learn(frame, setting)
