"""What sensors beside the core see of its warming: coolant, case air, the board's supply, a graphics card.

Such a sensor stands somewhere along the path of the heat, so that its rise over the room is a share of each part of the core's,
and a few kelvin for each watt that other sources give off where it stands:

    T_sensor - T_room = sum of share_i y_i + r P + sum of r_k P_k        shares and r not negative

where P is the package's power and P_k that of the others (a supply stands in the air that the processor warms, and warms itself
by what the processor draws, so that shares over one may come out). It is fitted over whole runs by bounded least squares (Stark
and Parker 1995, as in scipy.optimize.lsq_linear; from memory).
"""

import msgspec
import numpy as np

from niente.core.analysis.channel_means import JUMPS
from niente.core.analysis.evidence import column, trusted
from niente.core.analysis.models import Models
from niente.core.analysis.warming import readings_of, told_runs
from niente.core.model.names import kind_of
from niente.core.model.rig_card import RigCard
from niente.core.science.arrays import Vector
from niente.core.science.heat.response import HeatResponse, parts_of_runs
from niente.core.science.settling import ROOM_LAG_S, lagged
from niente.core.science.spikes import without_spikes
from niente.core.storage.reader import BookReader

OF_CORE_OR_ROOM = ("core_temperature_c", "package_temperature_c", "room_temperature_c")
EVERY = 15
"""One reading in so many is looked at: parts of a rise move slowly."""
MIN_SPREAD_K = 1.0
"""A sensor that moved less in all runs tells nothing of what moves it."""
MOST_SHARE, MOST_K_PER_W = 2.5, 1.0


class SensorShare(msgspec.Struct, frozen=True):
    """What a sensor sees: its share of each part of the core's rise ``(p,)``, what a watt of the package and of each other
    source ``(k,)`` adds in K, and what is left of its readings in K (standard deviation)."""

    of_parts: tuple[float, ...]
    of_power_k_per_w: float
    k_per_w: tuple[float, ...]
    residual_sd_k: float


def sensor_shares_in(book: BookReader, models: Models, response: HeatResponse) -> dict[str, SensorShare]:
    """Return what each temperature of a card sees, beside the core's own and the room's; a channel that never moved, or that no
    run has, is left out."""
    records = told_runs(book, models)
    told = parts_of_runs(models.heat, response, [warming for _, warming in records])
    found = {}
    for name in other_sensors(models.card):
        rows: list[Vector] = []
        wanted: list[Vector] = []
        for (record, warming), parts in zip(records, told, strict=True):
            time_s, raw = readings_of(book, record, models.card)
            values = trusted(models.card, raw)
            reading, room = column(models.card, values, name), column(models.card, values, "room_temperature_c")
            rise = reading - lagged(time_s, without_spikes(room, JUMPS["room_temperature_c"]), ROOM_LAG_S)
            here = np.isfinite(rise) & (np.arange(rise.shape[0]) % EVERY == 0)
            sources = np.tile(np.array(warming.sources_w, float), (int(here.sum()), 1))
            rows.append(np.concatenate([parts[here], warming.power_w[here, None], sources], axis=1))
            wanted.append(rise[here])
        share = _share(np.concatenate(rows), np.concatenate(wanted), len(models.heat.groups) + 3) if rows else None
        if share is not None:
            found[name] = share
    return found


def other_sensors(card: RigCard) -> list[str]:
    """Return the temperatures of a card that are neither the core's nor the room's."""
    names = [channel.name for channel in card.channels if kind_of(channel.name).endswith("_temperature_c")]
    return [name for name in names if kind_of(name) not in OF_CORE_OR_ROOM]


def _share(columns: Vector, rise_k: Vector, parts: int) -> SensorShare | None:
    """Return what a sensor sees, of the parts and the watts at the same moments ``(n, p + k)``."""
    from scipy.optimize import lsq_linear

    if rise_k.shape[0] < 2 * columns.shape[1] or float(np.ptp(rise_k)) < MIN_SPREAD_K:
        return None
    upper = np.concatenate([np.full(parts, MOST_SHARE), np.full(columns.shape[1] - parts, MOST_K_PER_W)])
    found = lsq_linear(columns, rise_k, (np.zeros(upper.shape), upper))
    left = rise_k - columns @ found.x
    shares, k_per_w = found.x[:parts].tolist(), found.x[parts:].tolist()
    return SensorShare(tuple(shares), k_per_w[0], tuple(k_per_w[1:]), float(np.sqrt(np.mean(left**2))))
