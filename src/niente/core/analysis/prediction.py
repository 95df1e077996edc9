"""What the models say of many settings at once: where each settles in a room, how loud it is, how much work it does."""

import math

import msgspec
import numpy as np

from niente.core.analysis.limits_learnt import requested_clock
from niente.core.analysis.model_runs import offset_of
from niente.core.analysis.models import Models, StockState
from niente.core.analysis.setting_batch import POWER, SettingBatch, one_setting
from niente.core.model.fan_curve import FanCurve
from niente.core.science.arrays import Array, Codes, Indices, Mask, Vector
from niente.core.science.noise import HeardLevels
from niente.core.science.power.operating_point import HOTTEST_C, SettingLimiter, SteadyState, steady_state
from niente.core.science.statistics import Z95

MEASURED_CLOCK_SD = 0.0004
"""How well a run's mean clock is known, as a share."""
CARRIED_SD, CARRIED_SHARE = 0.3, 0.002
"""What the models are off by when they carry stock to another room, as a share of the way; and a way too short to mention."""
SEEN_SLACK = 0.002
"""So far above the highest clock that was run, as a share, nothing new is expected."""
CERTAIN_SHARE = 0.002
"""A speed known better than this, as a share of the highest, moves no temperature."""
STEP = 0.01


class LoadPrediction(msgspec.Struct, frozen=True):
    """Where settings settle under one load, all arrays ``(n,)``; ``*_hw`` are 95 % half widths. ``throughput`` is in the
    load's own unit; ``limiter`` are codes of ``SettingLimiter``; ``rpm`` and its standard errors ``(n, g)``."""

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
    rpm_sd: Array
    offset_mv: Vector
    sources_w: Vector


class SettingPredictions(msgspec.Struct, frozen=True):
    """What the models say of ``n`` settings in a room; every array ``(n,)``, ``*_hw`` are 95 % half widths.

    Temperature, headroom and power belong to the load that heats, throughput (in percent of stock) and clock to the load that
    counts; they are NaN where nothing holds a setting under that load and it does not settle. Where heat limits the clock the
    core stands at its cap and there is no headroom; ``heat_limited`` says so.
    ``alone_dba`` is the machine without the room, as modelled; where that cannot be told from the room, ``alone_hw`` is NaN and
    ``alone_at_most_dba`` a bound.
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
    alone_hw: Vector
    alone_at_most_dba: Vector
    heat_limited: Mask


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
    core = _settled(heavy, heavy.core_c)
    percent, percent_hw = percent_of_stock(models, work, room_c)
    heard = heard_levels(models, heavy)
    return SettingPredictions(
        core_c=core,
        core_hw=_settled(heavy, heavy.core_hw),
        rise_k=core - room_c,
        headroom_k=_settled(heavy, headroom(models, settings, heavy)),
        throughput_percent=_settled(work, percent),
        throughput_hw=_settled(work, percent_hw),
        clock_mhz=_settled(work, work.clock_mhz),
        clock_hw=_settled(work, work.clock_hw),
        power_w=_settled(heavy, heavy.power_w),
        power_hw=_settled(heavy, heavy.power_hw),
        in_room_dba=heard.in_room_dba,
        in_room_hw=heard.in_room_hw,
        alone_dba=heard.alone_dba,
        alone_hw=np.where(heard.bound, np.nan, heard.alone_hw),
        alone_at_most_dba=np.where(heard.bound, heard.at_most_dba, np.nan),
        heat_limited=heavy.limiter == SettingLimiter.HEAT,
    )


def _settled(predicted: LoadPrediction, values: Vector) -> Vector:
    """Return values ``(n,)`` of settings, NaN where nothing holds them and they do not settle."""
    settled: Vector = np.where(predicted.runaway, np.nan, values)
    return settled


def headroom(models: Models, settings: SettingBatch, predicted: LoadPrediction) -> Vector:
    """Return the headroom in K, ``(n,)``; where heat limits the clock the core stands at its cap, whatever its sensor reads
    then."""
    by_heat = predicted.limiter == SettingLimiter.HEAT
    core = np.minimum(predicted.core_c, HOTTEST_C) - np.where(by_heat, models.cap.over_k, 0.0)
    room: Vector = ceilings(models, settings) - core
    return room


def ceilings(models: Models, settings: SettingBatch) -> Vector:
    """Return the core temperature that headroom is counted from, ``(n,)``: the cap in force, or the maker's limit less its
    margin, whichever is lower."""
    limits = models.card.limits
    cap = settings.of("temperature_cap_c", math.inf)
    lower: Vector = np.minimum(cap, limits.core_temperature_c - limits.margin_k)
    return lower


def stock_state(models: Models, load: str, room_c: float) -> StockState:
    """Return where stock stands in a room. What was measured is carried there by the models: in a hotter room leakage takes
    more of a power limit, and a temperature cap leaves less clock. Where stock was never run under the load, it is what they
    predict."""
    known = models.stock_states.get((load, room_c))
    if known is None:
        known = models.stock_states[load, room_c] = _solved_stock(models, load, room_c)
    return known


def _solved_stock(models: Models, load: str, room_c: float) -> StockState:
    there = predict_under_load(models, one_setting(models.card.stock), load, room_c)
    if there.runaway[0]:
        return StockState(
            math.nan, math.nan, math.nan, "nothing holds stock itself in this room, so that it is 100 % of nothing"
        )
    clock, share = float(there.clock_mhz[0]), float(there.clock_hw[0] / there.clock_mhz[0] / Z95)
    run = models.stock.get(load)
    unread = load in models.by_clock
    if run is None or unread:
        words = (
            f"no throughput is read under {load}: the clock stands for it"
            if unread
            else f"stock was not run under {load}: 100 % is what the models say of it"
        )
        return StockState(clock, share, float(there.throughput[0]), words)
    room = run.settled.room_c if math.isfinite(run.settled.room_c) else run.room_c
    then = predict_under_load(models, one_setting(models.card.stock), load, room if math.isfinite(room) else models.room_c)
    moved = clock / float(then.clock_mhz[0])
    ref, depth = models.power.ref_mhz, offset_of(models.card.stock)
    carried = models.power.work[load].ratio(
        np.array([moved * run.clock_mhz / ref]), np.array([depth]), run.clock_mhz / ref, depth
    )[0]
    words = (
        "100 % is stock carried to the room asked for"
        if run.heat_limited or abs(float(carried[0]) - 1.0) > CARRIED_SHARE
        else ""
    )
    error = math.hypot(MEASURED_CLOCK_SD, CARRIED_SD * abs(math.log(moved)))
    return StockState(moved * run.clock_mhz, error, run.throughput_per_s * float(carried[0]), words)


def stock_throughput(models: Models, load: str, room_c: float) -> tuple[float, str]:
    """Return a load's throughput at the stock setting in a room, in its own unit, and in words what it is where it is not as
    measured; see ``stock_state``."""
    stock = stock_state(models, load, room_c)
    return stock.throughput_per_s, stock.reason


def percent_of_stock(models: Models, predicted: LoadPrediction, room_c: float) -> tuple[Vector, Vector]:
    """Return throughput in percent of stock in the same room, ``(n,)``, and its 95 % half width; NaN where it is not known."""
    law = models.power.work.get(predicted.load)
    if law is None:
        nothing = np.full(predicted.clock_mhz.shape, np.nan)
        return nothing, nothing
    stock = stock_state(models, predicted.load, room_c)
    share = predicted.clock_mhz / models.power.ref_mhz
    base = stock.clock_mhz / models.power.ref_mhz
    ratio, error = law.ratio(share, predicted.offset_mv, base, offset_of(models.card.stock))
    own = law.slope(share) * predicted.clock_hw / predicted.clock_mhz / Z95
    other = law.slope(np.array(base)) * stock.clock_share_sd
    half_width: Vector = 100.0 * Z95 * np.sqrt(error**2 + ratio**2 * (own**2 + other**2))
    return 100.0 * ratio, half_width


def heard_w(predicted: LoadPrediction) -> Vector:
    """Return the watts that are heard as such, ``(n,)``: the package's and what is metered beside it."""
    watts: Vector = np.where(np.isfinite(predicted.power_w), predicted.power_w, 0.0) + predicted.sources_w
    return watts


def heard_levels(models: Models, predicted: LoadPrediction) -> HeardLevels:
    """Return the levels in the room and of the machine alone at the fans' speeds, each ``(n,)``; what is not known of the
    speeds is in their intervals."""
    return models.noise.hear(predicted.rpm, heard_w(predicted), predicted.rpm_sd)


def predict_under_load(models: Models, settings: SettingBatch, load: str, room_c: float, air: float = 1.0) -> LoadPrediction:
    """Return where settings settle under a load, by the fixed point of power, clock and temperature.

    ``air`` is the density of the air over that of the runs (1: the same place). Raises ``KeyError`` for a load that was
    never run.
    """
    n = settings.count
    offset, fixed = offsets_mv(settings), settings.of("fixed_voltage_v", 0.0)
    sources = np.tile(np.array(models.sources_w[load]), (n, 1))
    fixed_rpm = {group: _speeds(models, settings, group) for group in models.noise.groups if not settings.on_curve(group)}

    def speeds(core_c: Vector, at: Indices) -> tuple[Array, Array]:
        """Return the groups' speeds and their standard errors, ``(m, g)``."""
        columns = [
            (fixed_rpm[group][0][at], fixed_rpm[group][1][at])
            if group in fixed_rpm
            else models.speeds[group].at(_on_curve(settings.base.fan_curve[group], core_c))
            for group in models.noise.groups
        ]
        if not columns:
            return np.zeros((at.shape[0], 0)), np.zeros((at.shape[0], 0))
        return np.stack([speed for speed, _ in columns], axis=-1), np.stack([error for _, error in columns], axis=-1)

    def rpm(core_c: Vector, at: Indices) -> Array:
        return speeds(core_c, at)[0]

    def rise(power_w: Vector, core_c: Vector, at: Indices) -> Vector:
        return models.heat.rise_alone(power_w, rpm(core_c, at), sources[at], load, air=air)

    def power(clock_mhz: Vector, core_c: Vector, at: Indices) -> Vector:
        return models.power.power_w(load, clock_mhz, core_c, offset[at], fixed[at])

    limit = settings.of(POWER, math.inf) * models.gains[load].value
    cap = settings.of("temperature_cap_c", math.inf) + models.cap.over_k
    room = np.full(n, room_c)
    top, top_sd = _tops(models, settings, load)
    follow = any(settings.on_curve(group) for group in models.noise.groups)
    steady = steady_state(power, rise, room, limit, cap, top, fans_follow=follow)
    turning = speeds(steady.core_c, np.arange(n))
    return _with_errors(models, load, steady, (offset, fixed, sources, *turning), top_sd, air)


def _with_errors(
    models: Models, load: str, steady: SteadyState, at: tuple[Vector, Vector, Array, Array, Array], top_sd: Vector, air: float
) -> LoadPrediction:
    """Return steady states with their intervals; each limit passes the errors of power and heat on in its own way."""
    offset, fixed, sources, speeds, speeds_sd = at
    law, clock = models.power, steady.clock_mhz
    core = np.where(np.isfinite(steady.core_c), steady.core_c, HOTTEST_C)
    watts = np.where(np.isfinite(steady.power_w), steady.power_w, law.power_w(load, clock, core, offset, fixed))
    share = law.error(load, clock, core, offset, fixed)
    per_clock = np.log(law.power_w(load, clock * (1 + STEP), core, offset, fixed) / watts) / STEP
    per_clock = np.maximum(per_clock, 0.5)
    rise, rise_hw = models.heat.rise(watts, speeds, sources, load, air=air)
    per_watt = (models.heat.rise_alone(watts * (1 + STEP), speeds, sources, load, air=air) - rise) / (STEP * watts)
    rise_sd = np.sqrt((rise_hw / Z95) ** 2 + _by_speed(models, load, rise, (watts, speeds, speeds_sd, sources), air))
    limit_sd = models.gains[load].error
    by_power, by_heat = steady.limiter == SettingLimiter.POWER, steady.limiter == SettingLimiter.HEAT
    heat_share = rise_sd / np.maximum(per_watt * watts, 1e-9)
    power_sd = watts * np.where(by_power, limit_sd, np.where(by_heat, heat_share, share))
    limited = np.hypot(share, np.where(by_heat, heat_share, limit_sd)) / per_clock
    power_sd = np.where(by_power | by_heat, power_sd, np.hypot(power_sd, watts * per_clock * top_sd))
    core_sd = np.where(by_heat, models.cap.error_k, np.hypot(rise_sd, per_watt * power_sd))
    clock_sd = clock * np.where(by_power | by_heat, limited, top_sd)
    beyond = np.where(by_heat, 0.0, np.maximum(clock / (law.seen_mhz[load][1] * (1.0 + SEEN_SLACK)) - 1.0, 0.0))
    clock_sd = np.hypot(clock_sd, clock * beyond)  # up there something that no run met may limit the clock
    power_sd = np.hypot(power_sd, watts * per_clock * beyond)
    core_sd = np.hypot(core_sd, per_watt * watts * per_clock * beyond)
    work, work_sd = _work(models, load, (clock, offset), clock_sd / clock)
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
        rpm_sd=speeds_sd,
        offset_mv=offset,
        sources_w=sources.sum(axis=1),
    )


def _by_speed(models: Models, load: str, rise: Vector, at: tuple[Vector, Array, Array, Array], air: float) -> Vector:
    """Return the variance of the rise ``(n,)`` that comes of what is not known of the fans' speeds."""
    watts, speeds, errors, sources = at
    variance = np.zeros(rise.shape)
    for group in range(speeds.shape[1]):
        if np.all(errors[:, group] < CERTAIN_SHARE * models.heat.full_rpm[group]):
            continue
        slower = speeds.copy()
        slower[:, group] = np.maximum(slower[:, group] - errors[:, group], 0.0)
        variance += (models.heat.rise_alone(watts, slower, sources, load, air=air) - rise) ** 2
    return variance


def _work(models: Models, load: str, at: tuple[Vector, Vector], clock_share: Vector) -> tuple[Vector, Vector]:
    """Return a load's throughput in its own unit at clocks and offsets, and its standard error."""
    known = models.power.work.get(load)
    clock_mhz, offset = at
    if known is None:
        nothing = np.full(clock_mhz.shape, np.nan)
        return nothing, nothing
    return known.throughput(clock_mhz / models.power.ref_mhz, offset, clock_share)


def offsets_mv(settings: SettingBatch) -> Vector:
    """Return the offset that all cores see on average, ``(n,)`` in mV."""
    own = settings.values.get("voltage_offset_mv")
    base = offset_of(settings.base)
    if own is None:
        return np.full(settings.count, base)
    return own + (base - (settings.base.voltage_offset_mv or 0.0))


def _tops(models: Models, settings: SettingBatch, load: str) -> tuple[Vector, Vector]:
    """Return the clock (MHz) that a load comes to where neither power nor heat limits it, and its standard error as a share."""
    asked = requested_clocks(models, settings)
    ceiling = models.ceilings[load]
    found = {cap: ceiling.at(cap if math.isfinite(cap) else models.power.seen_mhz[load][1]) for cap in set(asked.tolist())}
    return np.array([found[cap][0] for cap in asked.tolist()]), np.array([found[cap][1] for cap in asked.tolist()])


def requested_clocks(models: Models, settings: SettingBatch) -> Vector:
    """Return the highest clock that settings allow, ``(n,)`` in MHz; stock's where they say none, infinite where that says
    none."""
    cap, fixed = settings.of("clock_cap_mhz", math.inf), settings.of("fixed_clock_mhz", 0.0)
    plain = msgspec.structs.replace(settings.base, clock_cap_mhz=None, fixed_clock_mhz=None)
    asked = np.where(fixed > 0.0, fixed, np.minimum(cap, requested_clock(plain)))
    clocks: Vector = np.where(np.isfinite(asked), asked, requested_clock(models.card.stock))
    return clocks


def _speeds(models: Models, settings: SettingBatch, group: str) -> tuple[Vector, Vector]:
    return models.speeds[group].at(settings.of(f"fan_duty.{group}", 0.0))


def _on_curve(curve: FanCurve, core_c: Vector) -> Vector:
    """Return a group's duty on its curve at core temperatures, ``(n,)`` in %.

    A curve that follows another sensor than the processor's is read at the core's temperature: what it gives is then the most
    that its fans would turn.
    """
    core = np.where(np.isfinite(core_c), core_c, HOTTEST_C)
    duty = curve.duty(core)
    if curve.off_below_c is not None and curve.off_below_w is None:  # a load draws more than fans stand at
        duty = np.where(core < curve.off_below_c, 0.0, duty)
    return duty
