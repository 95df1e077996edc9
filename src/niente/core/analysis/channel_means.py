"""What each channel read in the last minutes of a run: its mean with its error, and its highest reading."""

import math

import msgspec
import numpy as np

from niente.core.model.names import kind_of
from niente.core.model.rig_card import RigCard
from niente.core.science.arrays import Array, Vector
from niente.core.science.spikes import without_spikes
from niente.core.science.statistics import Z95, mean_with_error

JUMPS = {
    "core_temperature_c": 12.0,
    "room_temperature_c": 2.0,
    "noise_dba": 25.0,
}
"""How far a quantity can lie from its neighbours in time within a few seconds; a single reading beyond is none. Wide: common
practice, no source."""


GOES_ON_MOVING = frozenset({"package_power_w", "wall_power_w", "effective_clock_mhz", "throughput_per_s"})
"""What still moves while a cap holds the temperature."""


class ChannelMean(msgspec.Struct, frozen=True):
    """The mean of a channel's readings, its standard error with their autocorrelation in it, the highest of them, and by how
    much power, clock and work moved from the first to the second half of them; 0 where that is not more than their scatter."""

    mean: float = math.nan
    error: float = math.inf
    highest: float = math.nan
    moved: float = 0.0

    @property
    def half_width(self) -> float:
        """The 95 % half width of the mean."""
        return Z95 * self.error


def channel_means(card: RigCard, tail: Array) -> dict[str, ChannelMean]:
    """Return what each channel read in samples ``(n, channels)``; one that read nothing is left out."""
    found: dict[str, ChannelMean] = {}
    for index, channel in enumerate(card.channels[: tail.shape[1]] if tail.ndim == 2 else ()):
        jump = JUMPS.get(kind_of(channel.name))
        values = without_spikes(tail[:, index], jump) if jump is not None else tail[:, index]
        if np.isfinite(values).any():
            moved = _moved(values) if kind_of(channel.name) in GOES_ON_MOVING else 0.0
            found[channel.name] = ChannelMean(*mean_with_error(values), float(np.nanmax(values)), moved)
    return found


def _moved(values: Vector) -> float:
    """Return by how much the second half of readings ``(n,)`` lies over the first; 0 within twice its standard error."""
    half = values.shape[0] // 2
    (before, error_before), (after, error_after) = mean_with_error(values[:half]), mean_with_error(values[half:])
    moved = after - before
    return moved if abs(moved) > 2.0 * math.hypot(error_before, error_after) else 0.0
