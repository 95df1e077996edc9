"""Where other temperatures than the one that counts settle: board, coolant, and the air at each place of the case."""

import math

import msgspec

from niente.core.analysis.channel_means import JUMPS
from niente.core.model.names import kind_of
from niente.core.model.rig_card import RigCard
from niente.core.science.arrays import Array, Vector
from niente.core.science.settling import Settled, not_yet, settle
from niente.core.science.spikes import without_spikes

BURST_S = 45.0
"""Samples this long after a load starts are left out of a settling fit: the firmware still lets a burst through."""
OTHERS_SHARE = 1.0 / 3.0
"""What sits far from the processor first follows other bodies that come to rest sooner: so much of a run tells of those."""
UNSEEN = 0.04
"""What sits far from the processor goes on to warm for hours: this share of its rise, as a half width, is not seen in a run."""
AIR = "case_air_temperature_c"


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


def settled_air(card: RigCard, time_s: Vector, values: Array) -> dict[str, Settled]:
    """Return where the air at each place that is read settles, by channel, from a run's trusted samples ``(n,)`` and
    ``(n, channels)``; one that cannot be foreseen yet is left out."""
    room = card.index("room_temperature_c")
    if room is None:
        return {}
    found = {}
    for index, channel in enumerate(card.channels):
        if kind_of(channel.name) == AIR:
            settled = settled_reading(time_s, values[:, index], values[:, room])
            if settled.known:
                found[channel.name] = settled
    return found
