"""Where other temperatures than the one that counts settle: board, coolant, and the air at each place of the case."""

import math

import msgspec

from niente.core.analysis.channel_means import JUMPS
from niente.core.model.names import kind_of
from niente.core.model.rig_card import RigCard
from niente.core.science.arrays import Array, Vector
from niente.core.science.settling import Settled, not_yet, settle
from niente.core.science.spikes import without_spikes
from niente.core.science.statistics import Z95, mean_of_known

BURST_S = 45.0
"""Samples this long after a load starts are left out of a settling fit: the firmware still lets a burst through."""
OTHERS_SHARE = 1.0 / 3.0
"""What sits far from the processor first follows other bodies that come to rest sooner: so much of a run tells of those."""
UNSEEN = 0.04
"""What sits far from the processor goes on to warm for hours: this share of its rise, as a half width, is not seen in a run."""
LATE_K, LATE_S = 7.0, 500.0
"""Another source's heat (a graphics card's) reaches the core by the air in the case and its walls, which warm late: what is
still to come, as a standard deviation, is so many kelvin times its share of all watts, and fades over this time (s). Measured
on random machines with places: short runs of mixed loads were foretold 0.8 to 2 K too low."""
LAST_SAMPLES = 60
SOURCES = ("graphics_power_w",)
"""Channels that meter heat beside the package's."""
AIR = "case_air_temperature_c"
BESIDE = ("coolant_temperature_c", "board_temperature_c", "graphics_temperature_c")
"""What warms beside cores and air, and may be limited."""


def settled_reading(time_s: Vector, values: Vector, room_c: Vector) -> Settled:
    """Return where a temperature beside the one that counts settles, from a run's readings so far ``(n,)``, °C."""
    if not time_s.size:
        return not_yet("the run has only begun")
    first = max(int(time_s.searchsorted(time_s[0] + BURST_S)), round(OTHERS_SHARE * time_s.size))
    found = settle(time_s[first:], values[first:], without_spikes(room_c[first:], JUMPS["room_temperature_c"]))
    if not found.known:
        return found
    unseen = UNSEEN * max(found.value_c - found.room_c, 0.0)
    return msgspec.structs.replace(found, half_width_k=math.hypot(found.half_width_k, unseen), slow_weights=())


def warmed_late(settled: Settled, card: RigCard, time_s: Vector, values: Array) -> Settled:
    """Return where the temperature that counts settles with what another source may still add in its interval, from a run's
    trusted samples so far ``(n,)`` and ``(n, channels)``."""
    package = card.index("package_power_w")
    metered = [index for name in SOURCES if (index := card.index(name)) is not None]
    if package is None or not metered or not settled.known:
        return settled
    others_w = sum(mean_of_known(values[-LAST_SAMPLES:, index]) for index in metered)
    package_w = mean_of_known(values[-LAST_SAMPLES:, package])
    if not (others_w > 0.0 and package_w >= 0.0):  # nothing else is heated, or it is not read
        return settled
    late_k = LATE_K * others_w / (package_w + others_w) * math.exp(-float(time_s[-1] - time_s[0]) / LATE_S)
    return msgspec.structs.replace(settled, half_width_k=math.hypot(settled.half_width_k, Z95 * late_k))


def settled_beside(card: RigCard, time_s: Vector, values: Array) -> dict[str, Settled]:
    """Return where the air at each place that is read, coolant, board and graphics settle, by channel, from a run's trusted
    samples ``(n,)`` and ``(n, channels)``; one that cannot be foreseen yet is left out."""
    room = card.index("room_temperature_c")
    if room is None:
        return {}
    found = {}
    for index, channel in enumerate(card.channels):
        if kind_of(channel.name) in (AIR, *BESIDE):
            settled = settled_reading(time_s, values[:, index], values[:, room])
            if settled.known:
                found[channel.name] = settled
    return found
