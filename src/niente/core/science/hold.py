"""What holds the clock back, from readings alone."""

from enum import IntEnum

import numpy as np
from numpy.typing import NDArray

Vector = NDArray[np.float64]

AT_CAP_K = 1.5
AT_LIMIT = 0.035
AT_CLOCK = 0.01


class Hold(IntEnum):
    """What keeps the clock from going higher. The order is that of precedence."""

    UNKNOWN = -1
    NOTHING = 0
    CLOCK_CAP = 1
    POWER_LIMIT = 2
    HEAT = 3
    FAULT = 4

    @property
    def words(self) -> str:
        """The name as a person reads it."""
        return self.name.lower().replace("_", " ")


def hold_of(
    hottest_c: Vector,
    power_w: Vector,
    clock_mhz: Vector,
    *,
    cap_c: float | None,
    limit_w: float | None,
    clock_cap_mhz: float | None,
) -> NDArray[np.int8]:
    """Return what holds the clock at every sample, codes of ``Hold``; all arrays of shape ``(n,)``.

    Heat: the hottest core stands at the temperature cap and the clock below its own. Power: package power stands at
    the limit. Where a reading is missing the answer is ``UNKNOWN``. Common practice, no source.
    """
    held = np.full(hottest_c.shape[0], Hold.NOTHING, dtype=np.int8)
    below_cap = np.ones(hottest_c.shape[0], dtype=bool)
    if clock_cap_mhz is not None:
        below_cap = clock_mhz < clock_cap_mhz * (1 - AT_CLOCK)
        held[~below_cap] = Hold.CLOCK_CAP
    if limit_w is not None:
        held[below_cap & (power_w > limit_w * (1 - AT_LIMIT))] = Hold.POWER_LIMIT
    if cap_c is not None:
        at_cap = below_cap & (hottest_c > cap_c - AT_CAP_K)
        if limit_w is not None:
            at_cap &= power_w < limit_w * (1 - AT_LIMIT / 2)
        held[at_cap] = Hold.HEAT
    held[~(np.isfinite(hottest_c) & np.isfinite(power_w) & np.isfinite(clock_mhz))] = Hold.UNKNOWN
    return held


def shares(held: NDArray[np.int8]) -> dict[Hold, float]:
    """Return the share of samples that each hold takes, of those that occur."""
    if held.shape[0] == 0:
        return {}
    codes, counts = np.unique(held, return_counts=True)
    return {Hold(int(code)): float(count) / held.shape[0] for code, count in zip(codes, counts, strict=True)}
