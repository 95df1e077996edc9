"""The limits of a choice: what a setting must keep to be picked, and what is wanted of those that do."""

from enum import StrEnum

import msgspec

from niente.core.model.failure_goal import A_DAY, FailureGoal


class Aim(StrEnum):
    """What a choice is for, among the settings that keep every limit."""

    QUIETEST = "quietest"
    FASTEST = "fastest"
    LEAST_WATTS = "least watts"
    COOLEST = "coolest"
    WEIGHED = "best as weighed"


class NoisePlace(StrEnum):
    """Where, and when, the most noise is judged."""

    ROOM = "in the room"
    LISTENER_BY_DAY = "listener by day"
    LISTENER_AT_NIGHT = "listener at night"


class Ceiling(StrEnum):
    """What may be limited beside core, noise and throughput, by its quantity: each at its hottest sensor, in the design room,
    under the load that heats."""

    COOLANT = "coolant_temperature_c"
    BOARD = "board_temperature_c"
    GRAPHICS = "graphics_temperature_c"
    WALL = "wall_power_w"


CEILINGS = tuple(one.value for one in Ceiling)


class LoadLimits(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What one load must keep by itself: throughput in percent of stock, and headroom in kelvin in the design room; ``None``
    where it has no such limit."""

    min_throughput_percent: float | None = None
    min_headroom_k: float | None = None


class Weights(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What a decibel less, a per cent of throughput more, a watt less and a kelvin less are worth beside each other."""

    noise_db: float = 1.0
    throughput_percent: float = 0.3
    power_w: float = 0.05
    core_k: float = 0.0


class Limits(
    msgspec.Struct,
    frozen=True,
    forbid_unknown_fields=True,
    rename={
        "min_throughput_percent": "least_throughput_percent",
        "min_headroom_k": "least_headroom_k",
        "max_noise_dba": "most_noise_dba",
        "max_over_background_db": "most_over_background_db",
    },
):
    """What a pick must keep.

    Throughput in percent of stock in the load that counts, headroom in kelvin in the design room, and minutes of the heaviest
    load at the setting without a wrong result. ``max_noise_dba`` is the most noise at ``noise_at``, ``max_over_background_db``
    the most by which it may lie over the background there; ``None`` sets no such limit. ``failure`` is what it has to last.
    ``ceilings`` are the most that further readings may come to, by quantity; ``fans_turn`` asks that no fan
    group stands; ``each_load`` is what single loads must keep beside. ``aim`` is what is wanted beyond the limits, by
    ``weights`` where that is weighed.
    """

    min_throughput_percent: float = 90.0
    min_headroom_k: float = 8.0
    design_room_c: float = 28.0
    clean_minutes: float = 20.0
    max_noise_dba: float | None = None
    failure: FailureGoal = A_DAY
    aim: Aim = Aim.QUIETEST
    noise_at: NoisePlace = NoisePlace.ROOM
    max_over_background_db: float | None = None
    ceilings: dict[Ceiling, float] = msgspec.field(default_factory=dict)
    fans_turn: bool = False
    each_load: dict[str, LoadLimits] = msgspec.field(default_factory=dict)
    weights: Weights = Weights()

    def with_ceiling(self, quantity: str, most: float | None) -> "Limits":
        """Return limits with the most that a further reading may come to; ``None`` takes that limit away. Raises ``ValueError``
        for a quantity that has no such limit."""
        rest = {name: value for name, value in self.ceilings.items() if name != quantity}
        return msgspec.structs.replace(self, ceilings=rest if most is None else {**rest, Ceiling(quantity): most})

    def with_load(self, load: str, wanted: LoadLimits) -> "Limits":
        """Return limits with what one load must keep by itself; no limit at all takes it out."""
        rest = {name: value for name, value in self.each_load.items() if name != load}
        return msgspec.structs.replace(self, each_load=rest if wanted == LoadLimits() else {**rest, load: wanted})
