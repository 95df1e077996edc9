"""Things that go wrong on purpose: a sensor lost or frozen, a fan that stalls, a machine that hangs."""

from enum import StrEnum

import msgspec


class FaultKind(StrEnum):
    """What can be made to go wrong."""

    SENSOR_LOST = "sensor_lost"
    SENSOR_FROZEN = "sensor_frozen"
    SENSOR_IMPOSSIBLE = "sensor_impossible"
    """A sensor gives what cannot be: all bits set, as a bus gives whose wire is off."""
    FAN_STALL = "fan_stall"
    SILENT = "silent"
    """No sample comes any more, but calls return in time."""
    HANG = "hang"
    """A call for the next sample does not return (for ``seconds`` of wall time)."""
    CRASH = "crash"
    SUSPEND = "suspend"
    """The machine sleeps for ``seconds``: they go by on its clock, and no sample comes."""


class Fault(msgspec.Struct, frozen=True):
    """One fault: what, where (a channel name or fan group) and from which rig second on, for how long."""

    kind: FaultKind
    at_s: float
    where: str = ""
    seconds: float = float("inf")

    def active(self, kind: FaultKind, time_s: float) -> bool:
        """Return whether this is a fault of that kind that is on at a time."""
        return self.kind == kind and self.at_s <= time_s < self.at_s + self.seconds
