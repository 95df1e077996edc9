"""A project: what a person wants of a machine. It is kept in the book, version after version."""

from typing import Any

import msgspec

from niente.core.rigsheet import RigSheet
from niente.core.setting import Setting


class Axis(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One control and the values it takes, in the order given."""

    control: str
    values: tuple[float, ...]


class QuietPoint(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The question "which setting is quiet, fast enough and sound?": two axes over a base setting, and the loads.

    ``known_to_k`` is how well each settled temperature is to be known (± K, 95 %).
    """

    power: Axis
    fans: Axis
    base: Setting
    loads: tuple[str, ...]
    known_to_k: float = 1.0
    most_minutes: float = 40.0
    confirm_minutes: float = 20.0


class Limits(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a pick must keep.

    Throughput in percent of stock in the load that counts, headroom in kelvin in the design room with its 95 %
    interval, and minutes of the heaviest load at the setting without a wrong result. ``most_noise_dba`` is the most
    noise in the room, with its interval; ``None`` sets no such limit.
    """

    least_throughput_percent: float = 90.0
    least_headroom_k: float = 8.0
    design_room_c: float = 28.0
    clean_minutes: float = 20.0
    most_noise_dba: float | None = None


class Project(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a person has decided so far: the rig, its question, and the limits of the choice.

    ``sheet`` is what the person says of the machine; ``None`` where that is what its driver says. ``sheet_kept`` is the
    document that a sheet was taken from, whose unknown fields go out again with it.
    """

    rig: str
    question: QuietPoint
    limits: Limits = Limits()
    sheet: RigSheet | None = None
    sheet_kept: dict[str, Any] = msgspec.field(default_factory=dict)
