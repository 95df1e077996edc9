"""What the models say of many settings at once: where each settles in a room, how loud it is, how much work it does."""

import math

import msgspec
import numpy as np

from niente.core.analysis.models import Models, offset_of, requested_clock
from niente.core.analysis.setting_batch import POWER, SettingBatch, one_setting
from niente.core.model.setting import FanCurve
from niente.core.science.arrays import Array, Codes, Indices, Mask, Vector
from niente.core.science.power.operating_point import HOTTEST_C, SettingLimiter, SteadyState, steady_state
from niente.core.science.statistics import Z95

CAPPED_SD_K = 0.5
"""How well firmware holds a core at its temperature cap (K). Common practice, no source."""
CLOCK_SD, LIMIT_SD = 0.001, 0.002
"""How well a clock cap is the clock, and a power limit the power, as shares."""
STEP = 0.01
MAX_W = 1e5
"""What stands for the power of a machine that runs away."""


class LoadPrediction(msgspec.Struct, frozen=True):
    """Where settings settle under one load, all arrays ``(n,)``; ``*_hw`` are 95 % half widths. ``throughput`` is in the
    load's own unit; ``limiter`` are codes of ``SettingLimiter``."""

    load: str
    core_c: Vector
    core_hw: Vector
    power_w: Vector
    power_hw: Vector
    clock_mhz: Vector
    clock_hw: Vector
    throughput: Vector
    throughput_hw: Vector
    limiter: Codes
    runaway: Mask
    rpm: Array


class SettingPredictions(msgspec.Struct, frozen=True):
    """What the models say of ``n`` settings in a room; every array ``(n,)``, ``*_hw`` are 95 % half widths.

    Temperature, headroom and power belong to the load that heats, throughput (in percent of stock) and clock to the load that
    counts. Where heat limits the clock the core stands at its cap and there is no headroom; ``heat_limited`` says so.
    ``alone_dba`` is the machine without the room.
    """

    core_c: Vector
    core_hw: Vector
    rise_k: Vector
    headroom_k: Vector
    throughput_percent: Vector
    throughput_hw: Vector
    clock_mhz: Vector
    clock_hw: Vector
    power_w: Vector
    power_hw: Vector
    in_room_dba: Vector
    in_room_hw: Vector
    alone_dba: Vector
    heat_limited: Mask
    runaway: Mask


def predict(
    models: Models,
    settings: SettingBatch,
    room_c: float,
    *,
    heats: str = "",
    counts: str = "",
    steady: "LoadPrediction | None" = None,
) -> SettingPredictions:
    """Return what the models say of settings in a room: temperature under the load that ``heats`` (none: the heaviest),
    throughput under the one that ``counts`` (none: the realistic one, where it was measured).

    ``steady`` is where they settle under the load that heats, where that is known already.
    """
    heavy = steady if steady is not None else predict_under_load(models, settings, heats or models.heavy_load, room_c)
    other = counts or models.count_load
    work = heavy if other == heavy.load else predict_under_load(models, settings, other, room_c)
    stock, _ = stock_throughput(models, other, room_c)
    core = np.minimum(heavy.core_c, HOTTEST_C)
    percent = 100.0 / stock
    in_room, in_room_hw = models.noise.in_room(heavy.rpm)
    return SettingPredictions(
        core_c=core,
        core_hw=heavy.core_hw,
        rise_k=core - room_c,
        headroom_k=ceilings(models, settings) - core,
        throughput_percent=work.throughput * percent,
        throughput_hw=work.throughput_hw * percent,
        clock_mhz=work.clock_mhz,
        clock_hw=work.clock_hw,
        power_w=np.minimum(heavy.power_w, MAX_W),
        power_hw=heavy.power_hw,
        in_room_dba=in_room,
        in_room_hw=in_room_hw,
        alone_dba=models.noise.machine_alone(heavy.rpm),
        heat_limited=heavy.limiter == SettingLimiter.HEAT,
        runaway=heavy.runaway,
    )


def ceilings(models: Models, settings: SettingBatch) -> Vector:
    """Return the core temperature that headroom is counted from, ``(n,)``: the cap in force, or the maker's limit less its
    margin, whichever is lower."""
    limits = models.card.limits
    cap = settings.of("temperature_cap_c", math.inf)
    lower: Vector = np.minimum(cap, limits.core_temperature_c - limits.margin_k)
    return lower


def stock_throughput(models: Models, load: str, room_c: float) -> tuple[float, str]:
    """Return a load's throughput at the stock setting, in its own unit, and in words what it is where it is not as measured.

    Where heat limited the stock run its work depends on the room, and is carried to this one by the models; where stock
    was never run under the load, it is what the models predict.
    """
    run = models.stock.get(load)
    if run is not None and not run.heat_limited:
        return run.throughput_per_s, ""
    stock = one_setting(models.card.stock)
    there = float(predict_under_load(models, stock, load, room_c).throughput[0])
    if load in models.by_clock:
        return there, f"no throughput is read under {load}: the clock stands for it"
    if run is None:
        return there, f"stock was not run under {load}: 100 % is what the models say of it"
    room = run.settled.room_c if math.isfinite(run.settled.room_c) else run.room_c
    then = float(predict_under_load(models, stock, load, room).throughput[0])
    return run.throughput_per_s * there / then, "heat limited the stock run: 100 % is carried to the room asked for"


def predict_under_load(models: Models, settings: SettingBatch, load: str, room_c: float, air: float = 1.0) -> LoadPrediction:
    """Return where settings settle under a load, by the fixed point of power, clock and temperature.

    ``air`` is the density of the air over that of the runs (1: the same place). Raises ``KeyError`` for a load that was
    never run.
    """
    n = settings.count
    offset, fixed = offsets_mv(settings), settings.of("fixed_voltage_v", 0.0)
    sources = np.tile(np.array(models.sources_w[load]), (n, 1))
    fixed_rpm = {group: _speeds(models, settings, group) for group in models.noise.groups if not settings.on_curve(group)}

    def rpm(core_c: Vector, at: Indices) -> Array:
        columns = [
            fixed_rpm[group][at] if group in fixed_rpm else _on_curve(models, group, settings.base.fan_curve[group], core_c)
            for group in models.noise.groups
        ]
        return np.stack(columns, axis=-1) if columns else np.zeros((at.shape[0], 0))

    def rise(power_w: Vector, core_c: Vector, at: Indices) -> Vector:
        return models.heat.rise_alone(power_w, rpm(core_c, at), sources[at], load, air=air)

    def power(clock_mhz: Vector, core_c: Vector, at: Indices) -> Vector:
        return models.power.power_w(load, clock_mhz, core_c, offset[at], fixed[at])

    limit = settings.of(POWER, math.inf) * models.gains[load]
    cap = settings.of("temperature_cap_c", math.inf)
    room = np.full(n, room_c)
    steady = steady_state(power, rise, room, limit, cap, _tops(models, settings, load))
    return _with_errors(models, load, steady, (offset, fixed, sources, rpm(steady.core_c, np.arange(n))), air)


def _with_errors(
    models: Models, load: str, steady: SteadyState, at: tuple[Vector, Vector, Array, Array], air: float
) -> LoadPrediction:
    """Return steady states with their intervals; each limit passes the errors of power and heat on in its own way."""
    offset, fixed, sources, speeds = at
    law, clock = models.power, steady.clock_mhz
    core = np.where(np.isfinite(steady.core_c), steady.core_c, HOTTEST_C)
    watts = np.where(np.isfinite(steady.power_w), steady.power_w, law.power_w(load, clock, core, offset, fixed))
    share = law.error(load, clock, core, offset, fixed)
    per_clock = np.log(law.power_w(load, clock * (1 + STEP), core, offset, fixed) / watts) / STEP
    per_clock = np.maximum(per_clock, 0.5)
    rise, rise_hw = models.heat.rise(watts, speeds, sources, load, air=air)
    per_watt = (models.heat.rise_alone(watts * (1 + STEP), speeds, sources, load, air=air) - rise) / (STEP * watts)
    rise_sd = rise_hw / Z95
    by_power, by_heat = steady.limiter == SettingLimiter.POWER, steady.limiter == SettingLimiter.HEAT
    heat_share = rise_sd / np.maximum(per_watt * watts, 1e-9)
    power_sd = watts * np.where(by_power, LIMIT_SD, np.where(by_heat, heat_share, share))
    core_sd = np.where(by_heat, CAPPED_SD_K, np.hypot(rise_sd, per_watt * power_sd))
    limited = np.hypot(share, np.where(by_heat, heat_share, LIMIT_SD)) / per_clock
    clock_sd = clock * np.where(by_power | by_heat, limited, CLOCK_SD)
    work, work_sd = _work(models, load, clock, clock_sd / clock)
    return LoadPrediction(
        load=load,
        core_c=steady.core_c,
        core_hw=Z95 * core_sd,
        power_w=steady.power_w,
        power_hw=Z95 * power_sd,
        clock_mhz=clock,
        clock_hw=Z95 * clock_sd,
        throughput=work,
        throughput_hw=Z95 * work_sd,
        limiter=steady.limiter,
        runaway=steady.runaway,
        rpm=speeds,
    )


def _work(models: Models, load: str, clock_mhz: Vector, clock_share: Vector) -> tuple[Vector, Vector]:
    known = models.power.work.get(load)
    if known is None:
        nothing = np.full(clock_mhz.shape, np.nan)
        return nothing, nothing
    return known.throughput(clock_mhz / models.power.ref_mhz, clock_share)


def offsets_mv(settings: SettingBatch) -> Vector:
    """Return the offset that all cores see on average, ``(n,)`` in mV."""
    own = settings.values.get("voltage_offset_mv")
    base = offset_of(settings.base)
    if own is None:
        return np.full(settings.count, base)
    return own + (base - (settings.base.voltage_offset_mv or 0.0))


def _tops(models: Models, settings: SettingBatch, load: str) -> Vector:
    """Return the highest clock that settings allow a load, in MHz."""
    cap, fixed = settings.of("clock_cap_mhz", math.inf), settings.of("fixed_clock_mhz", 0.0)
    asked = np.minimum(cap, np.where(fixed > 0.0, fixed, math.inf))
    highest = requested_clock(models.card.stock)
    seen = models.power.seen_mhz[load][1]
    most = highest if math.isfinite(highest) else seen
    return np.where(np.isfinite(asked), asked, most) * models.tops[load]


def _speeds(models: Models, settings: SettingBatch, group: str) -> Vector:
    speed: Vector = models.rpm(group, settings.of(f"fan_duty.{group}", 0.0))
    return speed


def _on_curve(models: Models, group: str, curve: FanCurve, core_c: Vector) -> Vector:
    """Return a group's speed on its curve at core temperatures, ``(n,)`` in rpm.

    A curve that follows another sensor than the processor's is read at the core's temperature: what it gives is then the most
    that its fans would turn.
    """
    core = np.where(np.isfinite(core_c), core_c, HOTTEST_C)
    points = np.array(curve.points)
    duty = np.interp(core, points[:, 0], points[:, 1])
    if curve.off_below_c is not None:
        duty = np.where(core < curve.off_below_c, 0.0, duty)
    speed: Vector = models.rpm(group, duty)
    return speed
