"""How far each guard is: the reading, the level, what is left, and how long that lasts at the present slope."""

import math

import msgspec
import numpy as np

from niente.core.acquisition.guards.levels import RATE_S, reading_for
from niente.core.acquisition.samples import Samples
from niente.core.model.frame import Frame
from niente.core.model.guard_rules import DEW_MARGIN, RISE_RATE, can_watch
from niente.core.model.plan import Guard, GuardAction
from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting

SLOPE_S = 60.0
MIN_SLOPE = 1.0 / 600.0
"""Below one unit in ten minutes a reading counts as steady."""


class Distance(msgspec.Struct, frozen=True):
    """One guard, or one cap that firmware enforces (``by_firmware``), as it stands now.

    ``floor`` is where its scale begins; ``seconds`` is infinite where the reading does not rise towards the level.
    """

    title: str
    quantity: str
    reading: float
    level: float
    floor: float
    seconds: float
    by_firmware: bool = False
    falling: bool = False
    """Whether the reading must not fall to the level; otherwise it must not rise to it."""

    @property
    def left(self) -> float:
        """What is left to the level, in the quantity's unit."""
        return self.reading - self.level if self.falling else self.level - self.reading

    @property
    def share(self) -> float:
        """How much of the way from floor to level is used up, 0 to 1."""
        used = (self.reading - self.floor) / (self.level - self.floor)
        return min(max(used, 0.0), 1.0) if math.isfinite(used) else 0.0


def distances(card: RigCard, guards: tuple[Guard, ...], setting: Setting, samples: Samples) -> tuple[Distance, ...]:
    """Return how far every guard is that ends something, in the plan's order, and then the caps that firmware enforces."""
    if samples.count == 0:
        return ()
    room = _latest(card, samples, "room_temperature_c")
    found = []
    for guard in guards:
        if guard.action == GuardAction.WARN or not can_watch(card, guard.quantity):
            continue
        if guard.quantity in (RISE_RATE, DEW_MARGIN):
            found.append(_derived(card, samples, guard))
        else:
            found.append(_distance(card, samples, guard.quantity, guard.trip, room, "", by_firmware=False))
    whole = setting.over(card.stock)
    if whole.temperature_cap_c is not None:
        found.append(
            _distance(card, samples, "core_temperature_c", whole.temperature_cap_c, room, "Temperature cap", by_firmware=True)
        )
    if whole.sustained_power_w is not None and card.index("package_power_w") is not None:
        found.append(
            _distance(card, samples, "package_power_w", whole.sustained_power_w, room, "Power limit", by_firmware=True)
        )
    return tuple(found)


def _derived(card: RigCard, samples: Samples, guard: Guard) -> Distance:
    """Return how far a guard is whose reading follows from others; how long it takes is not foreseen."""
    reading, of = math.nan, reading_for(card, guard.quantity)
    # A rate is taken over a minute, once a load has run for another: so many samples are given to what watches it.
    needed = 2 * max(round(RATE_S / card.sample_period_s), 1) if guard.quantity == RISE_RATE else 1
    if samples.count >= needed:
        for index in range(samples.count - needed, samples.count):
            reading = of.of(Frame(float(samples.time_s[index]), samples.values[index]))
    floor = guard.trip + 15.0 if guard.falling else 0.0
    title = quantity_of(guard.quantity).title
    return Distance(title, guard.quantity, reading, guard.trip, floor, math.inf, falling=guard.falling)


def _latest(card: RigCard, samples: Samples, name: str) -> float:
    index = card.index(name)
    return float(samples.values[-1, index]) if index is not None else math.nan


def _distance(
    card: RigCard, samples: Samples, name: str, level: float, room: float, title: str, *, by_firmware: bool
) -> Distance:
    indices = list(card.indices(name))
    recent = samples.time_s >= samples.time_s[-1] - SLOPE_S
    time_s, values = samples.time_s[recent], samples.values[recent][:, indices]
    with_reading = np.isfinite(values).any(axis=1)
    highest = np.max(np.where(np.isfinite(values), values, -np.inf), axis=1)[with_reading]
    reading = float(highest[-1]) if highest.shape[0] else math.nan
    thermal = name.endswith("_c")
    floor = min(room, level - 1.0) if thermal and math.isfinite(room) else 0.0
    if not title:
        title = "Hottest core" if name == "core_temperature_c" else quantity_of(name).title
    return Distance(title, name, reading, level, floor, _seconds(time_s[with_reading], highest, level), by_firmware=by_firmware)


def _seconds(time_s: np.ndarray, readings: np.ndarray, level: float) -> float:
    """Return the time to a level at the slope of the last minute; the median of each third stands against noise."""
    if readings.shape[0] < 12:
        return math.inf
    third = readings.shape[0] // 3
    first, last = float(np.median(readings[:third])), float(np.median(readings[-third:]))
    span = float(np.median(time_s[-third:]) - np.median(time_s[:third]))
    slope = (last - first) / span if span > 0 else 0.0
    left = level - last
    if left <= 0:
        return 0.0
    return left / slope if slope > MIN_SLOPE else math.inf
