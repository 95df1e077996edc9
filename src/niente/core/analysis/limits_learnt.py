"""What limits come to on a machine: the metered watts of its power limit, and the clock where neither power nor heat limits it.

Only limits that were seen to hold are known. A clock that stands below its cap under no known limit is limited by something
that nobody named (a clock fused for all cores, a current limit): it is taken for a clock of its own, not for a share of the
cap.
"""

import math
from collections.abc import Sequence

import msgspec
import numpy as np

from niente.core.analysis.evidence import RunSummary
from niente.core.model.setting import Setting
from niente.core.science.clock_limiter import ClockLimiter
from niente.core.science.statistics import Z95

TOGETHER = 0.01
"""Watts a watt of limit that lie so close to the highest ones, as a share, belong to runs that the limit held."""
GAIN_SD, UNMEASURED_GAIN_SD = 0.0006, 0.03
"""How well a power limit is the power, from one run to the next; and where no run was held by it (shares)."""
PAUSES_SD = 0.008
"""The same for a load that rests in between: how much of the time it works is not the same at every limit (a share)."""
AT_CAP = 0.015
"""A clock this close to its cap, as a share, is held by it."""
CLOCK_SD, NAMELESS_SD = 0.0008, 0.004
"""How well a clock is known where its cap holds it, and where something without a name does (shares)."""
NEARLY_FREE = 0.05
ALL_BUT = 0.95
FEW = 3
"""Fewer runs than this of a load leave its watts a watt of limit to what all loads have."""
NEAR_CAP_K = 1.5
"""Closer than this to its temperature cap heat may have had a part in the clock (K)."""
CAPPED_SD_K, UNMEASURED_CAP_SD_K = 0.25, 0.6
"""How well firmware holds the temperature that counts where it has held it before, and where no run shows it (K). Common
practice, no source."""


class PowerGain(msgspec.Struct, frozen=True):
    """Metered watts a watt of limit, with the standard error as a share; ``seen`` says whether a run was held by a limit."""

    value: float
    error: float
    seen: bool


class ClockCeiling(msgspec.Struct, frozen=True):
    """The clock that a load comes to where neither power nor heat limits it.

    ``share`` of the cap where the cap holds; ``caps_mhz`` the least and highest cap that was seen to hold (NaN: none).
    ``nameless_mhz`` is where the clock stood under something without a name (infinite: nothing), and ``under_mhz`` the least
    cap that it was seen under.
    """

    share: float = 1.0
    caps_mhz: tuple[float, float] = (math.nan, math.nan)
    nameless_mhz: float = math.inf
    under_mhz: float = math.nan

    def at(self, cap_mhz: float) -> tuple[float, float, bool]:
        """Return the clock under a cap (infinite: none), its standard error as a share, and whether runs show what limits
        it."""
        low, high = self.caps_mhz
        top = min(self.share * cap_mhz, self.nameless_mhz)
        if math.isfinite(self.nameless_mhz) and top < self.nameless_mhz and not low * (1 - AT_CAP) <= cap_mhz:
            # the cap was never seen to hold: it may, or the clock may be a share of it
            return top, max(1.0 - self.nameless_mhz / self.under_mhz, NAMELESS_SD) / Z95, False
        if top >= self.nameless_mhz:
            return top, NAMELESS_SD, cap_mhz >= self.under_mhz * (1 - AT_CAP)
        return top, CLOCK_SD, low * (1 - AT_CAP) <= cap_mhz <= high * (1 + AT_CAP)


def requested_clock(setting: Setting) -> float:
    """Return the highest clock that a whole setting allows all cores together, in MHz; infinite where nothing says any."""
    if setting.fixed_clock_mhz:
        return setting.fixed_clock_mhz
    by_cores = setting.active_clock_mhz
    together = by_cores[max(by_cores, key=int)] if by_cores else None
    asked = [setting.clock_cap_mhz, together]
    return min((clock for clock in asked if clock), default=math.inf)


def _ratio(run: RunSummary) -> float:
    return run.power_w / (run.setting.sustained_power_w or math.nan)


def _below_cap(run: RunSummary) -> bool:
    return run.clock_mhz < requested_clock(run.setting) * (1 - AT_CAP)


def _cool(run: RunSummary) -> bool:
    """Whether neither heat nor a burst had a part in what the clock was."""
    hot = (ClockLimiter.TEMPERATURE_CAP, ClockLimiter.BURST_LIMIT)
    below = run.core_c < (run.setting.temperature_cap_c or math.inf) - NEAR_CAP_K
    return below and all(run.limiter_shares.get(limiter.words, 0.0) < NEARLY_FREE for limiter in hot)


def power_gains(runs: Sequence[RunSummary], loads: Sequence[str]) -> dict[str, PowerGain]:
    """Return the metered watts a watt of limit, by load; a load that no limit held has what the others have.

    Runs that the limit held have the highest ratio of all, and nearly the same; one that stands below its limit for another
    reason, however near, has less. Those that the readings call limited are believed where several of different limits agree.
    """
    named = [run for run in runs if _cool(run) and _below_cap(run) and math.isfinite(_ratio(run)) and _ratio(run) > 0.0]
    held = _agreeing([run for run in named if run.power_limited])
    if not held:
        held = _proportional(named)
    typical = _gain([_ratio(run) for run in held])
    if not held:  # what was drawn without being held was allowed
        drawn = [_ratio(run) for run in runs if math.isfinite(_ratio(run))]
        typical = msgspec.structs.replace(typical, value=max(1.0, (1.0 + TOGETHER) * max(drawn, default=0.0)))
    found = {}
    for load in loads:
        between = [_ratio(run) for run in named if run.load == load and _held_between_pauses(run)]
        throughout = [run for run in named if run.load == load and _held_throughout(run)]
        if len(between) > len(throughout):  # else it is no load that rests, but a run just under its limit
            gain = _gain(between)
            found[load] = msgspec.structs.replace(gain, error=max(gain.error, PAUSES_SD))
            continue
        own = _agreeing([run for run in held if run.load == load])
        found[load] = _gain([_ratio(run) for run in own]) if len(own) >= FEW else typical
    return found


def _held_between_pauses(run: RunSummary) -> bool:
    """Whether the limit held a load whenever it worked, and it rests in between: its mean watts are then no limit's."""
    return NEARLY_FREE < 1.0 - run.limiter_shares.get(ClockLimiter.SUSTAINED_LIMIT.words, 0.0) < 0.5


def _held_throughout(run: RunSummary) -> bool:
    """Whether the limit held a load all the time."""
    return run.limiter_shares.get(ClockLimiter.SUSTAINED_LIMIT.words, 0.0) > 1.0 - NEARLY_FREE


def _agreeing(runs: Sequence[RunSummary]) -> list[RunSummary]:
    """Return the runs whose ratio lies with the highest ones; a single ratio above all others is doubted."""
    if not runs:
        return []
    ratios = np.sort(np.array([_ratio(run) for run in runs]))
    top = ratios[-1]
    if ratios.shape[0] > 2 and ratios[-2] < top * (1 - TOGETHER):
        top = ratios[-2]
    return [run for run in runs if top * (1 - TOGETHER) <= _ratio(run) <= top * (1 + TOGETHER / 4)]


def _proportional(runs: Sequence[RunSummary]) -> list[RunSummary]:
    """Return runs at different limits whose watts go with their limits, the clock moving: a meter that is far off hides from
    each run by itself that its limit held it."""
    together = _agreeing(runs)
    limits = [run.setting.sustained_power_w or 0.0 for run in together]
    clocks = [run.clock_mhz for run in together]
    if len(together) < 2 or max(limits) < 1.05 * min(limits) or max(clocks) < 1.01 * min(clocks):
        return []
    return together


def _gain(ratios: Sequence[float]) -> PowerGain:
    if not ratios:
        return PowerGain(1.0, UNMEASURED_GAIN_SD, seen=False)
    middle = float(np.median(ratios))
    scatter = 1.4826 * float(np.median(np.abs(np.array(ratios) / middle - 1.0)))
    return PowerGain(middle, math.hypot(GAIN_SD, scatter), seen=True)


class CapReading(msgspec.Struct, frozen=True):
    """By how much the temperature that counts reads above the cap that holds it (K), with its standard error: firmware goes by
    a sensor of its own, and sensors are off."""

    over_k: float = 0.0
    error_k: float = UNMEASURED_CAP_SD_K


def cap_reading(runs: Sequence[RunSummary]) -> CapReading:
    """Return what a temperature cap reads, from the runs that it limited all the time."""
    held = [
        run.core_c - run.setting.temperature_cap_c
        for run in runs
        if run.setting.temperature_cap_c
        and run.limiter_shares.get(ClockLimiter.TEMPERATURE_CAP.words, 0.0) > ALL_BUT
        and math.isfinite(run.core_c)
    ]
    if not held:
        return CapReading()
    middle = float(np.median(held))
    return CapReading(middle, math.hypot(CAPPED_SD_K, 1.4826 * float(np.median(np.abs(np.array(held) - middle)))))


def clock_ceilings(runs: Sequence[RunSummary], gains: dict[str, PowerGain]) -> dict[str, ClockCeiling]:
    """Return what each load comes to where neither power nor heat limits it."""
    return {load: _ceiling([run for run in runs if run.load == load and _free(run, gain)]) for load, gain in gains.items()}


def _free(run: RunSummary, gain: PowerGain) -> bool:
    """Whether neither power nor heat limited a run. Near its limit only the cap tells: a clock at its cap is free."""
    if not _cool(run) or not math.isfinite(requested_clock(run.setting)):
        return False
    if not _below_cap(run):
        return True
    if _held_between_pauses(run):
        return False
    ratio = _ratio(run)
    return not math.isfinite(ratio) or (gain.seen and ratio < gain.value * (1 - 2 * TOGETHER)) or ratio < 0.85


def _ceiling(free: Sequence[RunSummary]) -> ClockCeiling:
    if not free:
        return ClockCeiling()
    capped = [run for run in free if not _below_cap(run)]
    nameless = [run for run in free if _below_cap(run)]
    caps = [requested_clock(run.setting) for run in capped]
    share = float(np.median([run.clock_mhz / cap for run, cap in zip(capped, caps, strict=True)])) if capped else 1.0
    return ClockCeiling(
        min(share, 1.02),
        (min(caps, default=math.nan), max(caps, default=math.nan)),
        float(np.median([run.clock_mhz for run in nameless])) if nameless else math.inf,
        min((requested_clock(run.setting) for run in nameless), default=math.nan),
    )
