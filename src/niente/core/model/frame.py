"""A frame: what a rig read at one sample instant, and what happened to it since the last."""

from enum import StrEnum

import msgspec

from niente.core.science.arrays import Vector


class RigEventKind(StrEnum):
    """What can happen on a machine between two samples."""

    WRONG_RESULT = "wrong_result"
    DROP_OUT = "drop_out"
    CRASH = "crash"
    SHUT_DOWN = "shut_down"
    SENSOR_LOST = "sensor_lost"


class RigEvent(msgspec.Struct, frozen=True):
    """One thing that happened on the machine. ``detail`` says in words what and where."""

    kind: RigEventKind
    detail: str = ""


class Frame(msgspec.Struct, frozen=True):
    """One sample. ``time_s`` is the rig's monotonic clock in seconds; ``values`` has shape ``(channels,)`` in the
    order of ``RigCard.channels``, in each channel's unit, NaN where a sensor gave nothing.
    """

    time_s: float
    values: Vector
    events: tuple[RigEvent, ...] = ()
