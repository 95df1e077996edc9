"""What sensors beside the core see of its warming: coolant, case air, the board's supply, a graphics card.

Such a sensor stands somewhere along the path of the heat, so that its rise over the room is a share of each part of the core's,
and a few kelvin for each watt that other sources give off where it stands:

    T_sensor - T_room = sum of share_i y_i + r P + sum of r_k P_k        shares and r not negative

where P is the package's power and P_k that of the others (a supply stands in the air that the processor warms, and warms itself
by what the processor draws, so that shares over one may come out). It is fitted over whole runs by bounded least squares (Stark
and Parker 1995, as in scipy.optimize.lsq_linear; from memory).
"""

from collections.abc import Sequence

import msgspec
import numpy as np

from niente.core.analysis.models import Models
from niente.core.analysis.warming import ToldRun, other_sensors
from niente.core.science.arrays import Array, Vector
from niente.core.science.heat.response import HeatResponse, parts_of_runs

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


def sensor_shares(models: Models, response: HeatResponse, told: Sequence[ToldRun]) -> dict[str, SensorShare]:
    """Return what each temperature of a card sees, beside the core's own and the room's, from the runs that told the response;
    a channel that never moved, or that no run has, is left out."""
    every = parts_of_runs(models.heat, response, [run.warming for run in told])
    columns = []
    for run, parts in zip(told, every, strict=True):
        watts = np.tile(np.array(run.warming.sources_w, float), (parts.shape[0], 1))
        columns.append(np.concatenate([parts, run.warming.power_w[:, None], watts], axis=1)[::EVERY])
    found = {}
    for name in other_sensors(models.card) if told else ():
        rise_k = np.concatenate([run.sensors_k[name][::EVERY] for run in told])
        share = _share(np.concatenate(columns), rise_k, len(models.heat.groups) + 3)
        if share is not None:
            found[name] = share
    return found


def _share(columns: Array, rise_k: Vector, parts: int) -> SensorShare | None:
    """Return what a sensor sees, of the parts and the watts at the same moments ``(n, p + k)``."""
    from scipy.optimize import lsq_linear

    read = np.isfinite(rise_k)
    columns, rise_k = columns[read], rise_k[read]
    if rise_k.shape[0] < 2 * columns.shape[1] or float(np.ptp(rise_k)) < MIN_SPREAD_K:
        return None
    upper = np.concatenate([np.full(parts, MOST_SHARE), np.full(columns.shape[1] - parts, MOST_K_PER_W)])
    found = lsq_linear(columns, rise_k, (np.zeros(upper.shape), upper))
    left = rise_k - columns @ found.x
    shares, k_per_w = found.x[:parts].tolist(), found.x[parts:].tolist()
    return SensorShare(tuple(shares), k_per_w[0], tuple(k_per_w[1:]), float(np.sqrt(np.mean(left**2))))
