"""What limits the clock back, from readings alone."""

from enum import IntEnum

import numpy as np

from niente.core.science.arrays import Codes, Mask, Vector

AT_CAP_K = 1.5
AT_LIMIT = 0.035
AT_CLOCK = 0.01
DROPPED = 0.8
"""Throughput per clock below this share of what it was is work that dropped out."""
REFERENCE = 120
"""Samples that throughput per clock is set against: their median."""
MIN_REFERENCE = 30


class ClockLimiter(IntEnum):
    """What keeps the clock from going higher. The order is that of precedence."""

    UNKNOWN = -1
    """A reading is missing, or the clock stands below its target and no limit that is read stands in its way."""
    NOTHING = 0
    CLOCK_CAP = 1
    SUSTAINED_LIMIT = 2
    BURST_LIMIT = 3
    TEMPERATURE_CAP = 4
    DROP_OUT = 5
    FAULT = 6

    @property
    def words(self) -> str:
        """The name as a person reads it."""
        return (
            "cannot be told"
            if self == ClockLimiter.UNKNOWN
            else self.name.lower().replace("drop_out", "drop-out").replace("_", " ")
        )


def limiters_from_readings(
    hottest_c: Vector,
    power_w: Vector,
    clock_mhz: Vector,
    throughput_per_s: Vector | None = None,
    *,
    cap_c: float | None,
    limit_w: float | None,
    clock_cap_mhz: float | None,
    burst_w: float | None = None,
    takes_all: bool = False,
) -> Codes:
    """Return what limits the clock at every sample, codes of ``ClockLimiter``; all arrays of shape ``(n,)``.

    Temperature cap: the hottest core stands at it and the clock below its own. Sustained and burst limit: package power
    stands at them. Drop-out: throughput falls away from the clock (where it is given). A load that ``takes_all`` has no
    reason of its own to run below the clock cap: where none is read, the answer is ``UNKNOWN``, as it is where a reading
    is missing; a reading that cannot be is a ``FAULT``. Common practice, no source.
    """
    limiters = np.full(hottest_c.shape[0], ClockLimiter.NOTHING, dtype=np.int8)
    below_cap = np.ones(hottest_c.shape[0], dtype=bool)
    if clock_cap_mhz is not None:
        below_cap = clock_mhz < clock_cap_mhz * (1 - AT_CLOCK)
        limiters[~below_cap] = ClockLimiter.CLOCK_CAP
    at_cap, near_cap = _at(hottest_c, cap_c, AT_CAP_K)
    slack = AT_LIMIT * (limit_w or 0.0)
    at_limit, near_limit = _at(power_w, limit_w, slack)
    above = power_w > (limit_w or 0.0) + slack if limit_w is not None else np.ones_like(below_cap)
    at_burst, near_burst = _at(power_w, burst_w, AT_LIMIT * (burst_w or 0.0))
    if takes_all and clock_cap_mhz is not None:
        limiters[below_cap & ~(near_cap | near_limit | near_burst)] = ClockLimiter.UNKNOWN
        at_cap, at_limit = at_cap | (near_cap & ~near_limit), at_limit | near_limit
    limiters[below_cap & at_limit] = ClockLimiter.SUSTAINED_LIMIT
    limiters[below_cap & at_burst & above] = ClockLimiter.BURST_LIMIT
    if limit_w is not None:
        at_cap &= power_w < limit_w * (1 - AT_LIMIT / 2)
    limiters[below_cap & at_cap] = ClockLimiter.TEMPERATURE_CAP
    if throughput_per_s is not None:
        limiters[drop_outs(throughput_per_s, clock_mhz)] = ClockLimiter.DROP_OUT
    missing = ~(np.isfinite(hottest_c) & np.isfinite(power_w) & np.isfinite(clock_mhz))
    limiters[missing] = ClockLimiter.UNKNOWN
    limiters[~missing & ((power_w < 0.0) | (clock_mhz < 0.0) | (hottest_c < -60.0) | (hottest_c > 160.0))] = ClockLimiter.FAULT
    return limiters


def _at(reading: Vector, level: float | None, slack: float) -> tuple[Mask, Mask]:
    """Return where a reading stands at a level, and where it is near it: within twice the slack."""
    if level is None:
        none = np.zeros(reading.shape[0], dtype=bool)
        return none, none
    return reading > level - slack, reading > level - 2.0 * slack


def drop_outs(throughput_per_s: Vector, clock_mhz: Vector) -> Mask:
    """Return at which samples ``(n,)`` work dropped out: throughput per clock far below its median over the samples
    before. A few samples tell nothing, and neither does a missing reading."""
    found = np.zeros(clock_mhz.shape[0], dtype=bool)
    known = np.isfinite(throughput_per_s) & np.isfinite(clock_mhz) & (clock_mhz > 0.0)
    if np.count_nonzero(known) < MIN_REFERENCE:
        return found
    per_clock = throughput_per_s[known] / clock_mhz[known]
    low = np.flatnonzero(per_clock < DROPPED * np.max(per_clock))
    indices = np.flatnonzero(known)
    for index in low.tolist():
        before = per_clock[max(index - REFERENCE, 0) : index]
        if before.shape[0] >= MIN_REFERENCE and per_clock[index] < DROPPED * float(np.median(before)):
            found[indices[index]] = True
    return found


def limiter_shares(limiters: Codes) -> dict[ClockLimiter, float]:
    """Return the share of samples that each limiter takes, of those that occur."""
    if limiters.shape[0] == 0:
        return {}
    codes, counts = np.unique(limiters, return_counts=True)
    return {ClockLimiter(int(code)): float(count) / limiters.shape[0] for code, count in zip(codes, counts, strict=True)}
