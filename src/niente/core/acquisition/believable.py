"""Whether a rig can be believed: what was set shows, units are plausible, and the channels that a run needs are alive.

A rig that takes a setting and ignores it, or reads a clock in another unit, costs a night and gives a false map. Each run is
looked at while it goes on, and against those before it; the first that cannot be true ends the plan, with the channel by name.
"""

from collections.abc import Iterable

import msgspec
import numpy as np

from niente.core.acquisition.samples import Samples
from niente.core.analysis.evidence import column, hottest_core
from niente.core.model.names import kind_of, part_of
from niente.core.model.plan import Plan, Search, Step
from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import LoadKind, RigCard, SetBy
from niente.core.model.setting import Setting
from niente.core.science.statistics import mean_of_known, median_of_known

LOOK_S, RECENT_S = 25.0, 20.0
"""From when on a run is looked at, and over how long; limits need ``LIMITS_SHOW_S``, since a burst goes before them."""
LIMITS_SHOW_S, AGAIN_S, AS_LONG_S = 180.0, 600.0, 3.0
PLAUSIBLE = {
    "core_temperature_c": (1.0, 125.0),
    "room_temperature_c": (-15.0, 48.0),
    "noise_dba": (3.0, 110.0),
    "core_voltage_v": (0.0, 2.0),
    "wall_power_w": (1.0, 3000.0),
}
UNDER_LOAD = {"package_power_w": (1.0, 1500.0), "effective_clock_mhz": (150.0, 9000.0), "core_voltage_v": (0.2, 2.0)}
"""What quantities of a machine of this kind can be, always and under a load that heats (cores that rest may be off). Wide;
common practice, no source."""
OVER_LIMIT, OVER_LIMIT_W, OVER_CLOCK, OVER_CAP_K = 1.3, 3.0, 1.05, 8.0
"""How far a limit is passed before it is said to be ignored: shares of power and clock, watts, kelvin."""
DUTY_STEP, FLOOR_DUTY, SAME_SPEED, TURNING_RPM = 40.0, 40.0, 0.03, 60.0
"""Two duties this far apart (%) cannot give the same speed, as a share of it, while the fans turn. Many have a least speed of
their own, which they keep below a duty of 20 to 40 %: what is below counts as that (common practice, no source)."""
LIMIT_RATIO, SAME_WATTS, AT_LOWER, BELOW_CAP, COOL_K = 1.3, 0.02, 0.1, 0.97, 4.0
"""Two limits this far apart (a ratio) do not give the same watts and clock (shares) while the clock is below its cap, as a
share, and the cores are so much cooler than theirs (K). Watts so near the lower limit (a share, for meters that are off) may be
held by it, and by something without a name under the higher one."""
OFFSET_STEP_MV, SAME_CLOCK, SHOWN, LESS_POWER = 35.0, 0.01, 0.3, 0.01
"""Two offsets this far apart (mV) at the same clock show at least this share of it in the voltage; or, where what is read is
the voltage that was requested, in so much less power (a share; some 6 % are expected)."""
UNMOVED, UNMOVED_K = 0.002, 0.4
"""Where no voltage is read, an offset shows in clock or power (shares), or in temperature (K)."""


class Seen(msgspec.Struct, frozen=True):
    """What one run came to: its whole setting and load, and means of its last samples by channel."""

    setting: Setting
    load: str
    means: dict[str, float]
    seconds: float

    @property
    def limits_show(self) -> bool:
        """Whether it lasted long enough for limits to hold: a burst goes before them."""
        return self.seconds >= LIMITS_SHOW_S - 1.0

    def compares_with(self, before: "Seen") -> bool:
        """Return whether two runs read alike but for their settings: limits hold in both, or they are as long, so that a burst
        reaches as far into both."""
        alike = min(self.seconds, before.seconds) >= LOOK_S and abs(self.seconds - before.seconds) < AS_LONG_S
        return alike or (self.limits_show and before.limits_show)


class Believable:
    """Looks at the runs of one plan, one after another. What a later run needs has to be alive in the first."""

    def __init__(self, card: RigCard, plan: Plan | None = None) -> None:
        self._card = card
        self._settles = plan is not None and any(
            isinstance(entry, Step | Search) and entry.exposure.known_to_k is not None for entry in plan.entries
        )
        self._seen: list[Seen] = []
        self._due_s = LOOK_S

    def begin(self) -> None:
        """Begin to look at another run."""
        self._due_s = LOOK_S

    def doubt(self, step: Step, whole: Setting, samples: Samples) -> str:
        """Return in words why what a run reads cannot be true so far; empty where it can."""
        seconds = samples.seconds
        if seconds < self._due_s:
            return ""
        self._due_s = LIMITS_SHOW_S if seconds < LIMITS_SHOW_S else seconds + AGAIN_S
        recent = samples.values[samples.time_s >= samples.time_s[-1] - RECENT_S]
        load = self._card.load(step.load)
        works = load is not None and load.kind in (LoadKind.HEAVY, LoadKind.REALISTIC)
        found = [*self._dead(step, recent, works), *self._implausible(recent, works)]
        if works and not found and seconds >= LIMITS_SHOW_S:
            found += self._over_limits(whole, recent)
        return next(iter(found), "")

    def compare(self, step: Step, whole: Setting, samples: Samples) -> str:
        """Take a run that came to its end along; return in words what it shows that was set and ignored, empty for nothing."""
        recent = samples.values[samples.time_s >= samples.time_s[-1] - RECENT_S]
        means = {channel.name: mean_of_known(recent[:, index]) for index, channel in enumerate(self._card.channels)}
        now = Seen(whole, step.load, means, samples.seconds)
        found = [*self._same_speeds(now), *self._same_power(now), *self._same_voltage(now)]
        self._seen.append(now)
        return next(iter(found), "")

    def _dead(self, step: Step, recent: np.ndarray, works: bool) -> Iterable[str]:
        """Yield needed channels that give nothing."""
        needed = ["noise_dba"] if step.stage == "noise" else []
        if self._settles:
            needed += ["room_temperature_c", *(["package_power_w"] if works else [])]
            if hottest_core(self._card, recent) is None:
                yield "no core temperature is read (channels core_temperature_c), and where it settles is what the plan is for"
        for name in needed:
            index = self._card.index(name)
            if index is None:
                if name == "room_temperature_c":
                    yield f"the rig has no channel {name}, and a settled temperature belongs to a room"
            elif self._card.channels[index].by == SetBy.HANDS:
                continue  # hands read it at a run's end
            elif not np.isfinite(column(self._card, recent, name)).any():
                yield f"the channel {name} has given no reading for {RECENT_S:.0f} s, and the plan needs it"

    def _implausible(self, recent: np.ndarray, works: bool) -> Iterable[str]:
        """Yield channels whose readings are in no unit that can be meant."""
        for index, channel in enumerate(self._card.channels):
            kind = kind_of(channel.name)
            span = (UNDER_LOAD.get(kind) if works else None) or PLAUSIBLE.get(kind)
            value = median_of_known(recent[:, index])
            if span is None or not np.isfinite(value) or span[0] <= value <= span[1]:
                continue
            quantity = quantity_of(channel.name)
            yield (
                f"the channel {channel.name} reads {value:.4g}, and a machine that works gives {span[0]:g} to {span[1]:g} "
                f"{quantity.unit}: is it in another unit?"
            )

    def _over_limits(self, whole: Setting, recent: np.ndarray) -> Iterable[str]:
        """Yield limits that are set and do not hold."""
        power, clock = (
            median_of_known(column(self._card, recent, name)) for name in ("package_power_w", "effective_clock_mhz")
        )
        hot = hottest_core(self._card, recent)
        core = median_of_known(recent[:, hot]) if hot is not None else np.nan
        limit, cap, heat = whole.sustained_power_w, whole.fixed_clock_mhz or whole.clock_cap_mhz, whole.temperature_cap_c
        if limit and power > OVER_LIMIT * limit + OVER_LIMIT_W:
            yield f"sustained_power_w is set to {limit:g} W and package_power_w reads {power:.0f} W: the limit is ignored"
        if cap and clock > OVER_CLOCK * cap:
            yield f"the clock is set to {cap:g} MHz at most and effective_clock_mhz reads {clock:.0f} MHz: that is ignored"
        if heat and core > heat + OVER_CAP_K:
            yield f"temperature_cap_c is set to {heat:g} °C and the hottest core reads {core:.0f} °C: the cap is ignored"

    def _same_speeds(self, now: Seen) -> Iterable[str]:
        for name, duty in now.setting.controls():
            group = part_of(name)
            if kind_of(name) != "fan_duty" or group in now.setting.fan_curve:
                continue
            speed = now.means.get(f"fan_speed_rpm.{group}", np.nan)
            for before in self._seen:
                other, was = before.setting.fan_duty.get(group), before.means.get(f"fan_speed_rpm.{group}", np.nan)
                if other is None or group in before.setting.fan_curve:
                    continue
                if abs(max(duty, FLOOR_DUTY) - max(other, FLOOR_DUTY)) < DUTY_STEP:
                    continue
                if min(speed, was) > TURNING_RPM and abs(speed - was) < SAME_SPEED * speed:
                    yield (
                        f"{name} was set to {other:g} and {duty:g} %, and fan_speed_rpm.{group} read {was:.0f} and "
                        f"{speed:.0f} rpm: "
                        "the duty is ignored, or the channel is another fan's"
                    )

    def _same_power(self, now: Seen) -> Iterable[str]:
        """Yield a power limit that was moved far and moved nothing, where no cap and no heat held the clock either time."""
        for before in self._seen:
            one, other = now.setting.sustained_power_w or 0.0, before.setting.sustained_power_w or 0.0
            if not (now.limits_show and before.limits_show):
                continue
            if before.load != now.load or not 0.0 < LIMIT_RATIO * min(one, other) <= max(one, other):
                continue
            if not (self._free(now) and self._free(before)):
                continue
            watts, clocks = (_ratio(now.means, before.means, name) for name in ("package_power_w", "effective_clock_mhz"))
            held = abs(now.means.get("package_power_w", np.nan) / min(one, other) - 1.0) < AT_LOWER
            if not held and abs(watts) < SAME_WATTS and abs(clocks) < SAME_WATTS:
                yield (
                    f"sustained_power_w was set to {other:g} and {one:g} W, and package_power_w read "
                    f"{now.means['package_power_w']:.0f} W both times: the limit is ignored"
                )

    def _free(self, one: Seen) -> bool:
        """Return whether neither its cap nor heat held the clock of a run that draws what heats."""
        load = self._card.load(one.load)
        cap, heat = one.setting.fixed_clock_mhz or one.setting.clock_cap_mhz, one.setting.temperature_cap_c
        cores = [value for name, value in one.means.items() if kind_of(name) == "core_temperature_c"]
        clock = one.means.get("effective_clock_mhz", np.nan)
        cool = heat is None or max(cores, default=np.nan) < heat - COOL_K
        heavy = load is not None and load.kind == LoadKind.HEAVY
        return bool(heavy and cool and cap is not None and clock < BELOW_CAP * cap)

    def _same_voltage(self, now: Seen) -> Iterable[str]:
        depth = now.setting.voltage_offset_mv
        for before in self._seen:
            other = before.setting.voltage_offset_mv
            if depth is None or other is None or before.load != now.load or abs(depth - other) < OFFSET_STEP_MV:
                continue
            plain = msgspec.structs.replace(now.setting, voltage_offset_mv=other)
            if plain != before.setting:
                continue  # something else moved the voltage too
            if not now.compares_with(before) or self._shows(now.means, before.means, depth - other):
                continue
            yield (
                f"voltage_offset_mv was set to {other:g} and {depth:g} mV, and neither voltage, clock, power nor "
                "temperature moved: the offset is ignored"
            )

    def _shows(self, now: dict[str, float], before: dict[str, float], apart_mv: float) -> bool:
        """Return whether an offset shows in what two runs read."""
        volt, was = now.get("core_voltage_v", np.nan), before.get("core_voltage_v", np.nan)
        clocks, powers = _ratio(now, before, "effective_clock_mhz"), _ratio(now, before, "package_power_w")
        if np.isfinite(volt) and np.isfinite(was) and abs(clocks) < SAME_CLOCK:
            less = powers if apart_mv > 0.0 else -powers
            return bool(1000.0 * (volt - was) / apart_mv > SHOWN or less > LESS_POWER or abs(clocks) > UNMOVED)
        cores = [name for name in now if kind_of(name) == "core_temperature_c"]
        warmer = max((abs(now[name] - before.get(name, np.nan)) for name in cores), default=np.nan)
        return not (abs(clocks) < UNMOVED and abs(powers) < UNMOVED and warmer < UNMOVED_K)


def _ratio(now: dict[str, float], before: dict[str, float], name: str) -> float:
    was = before.get(name, np.nan)
    return now.get(name, np.nan) / was - 1.0 if was else np.nan
