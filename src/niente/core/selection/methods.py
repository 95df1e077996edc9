"""The ways of limiting a machine, side by side: what each of their rungs comes to in noise and throughput.

A rung is one setting as measured, fans apart. Where power limits the clock, its fans are then set as low as the heat path
lets them be with the headroom wanted; where a temperature cap limits it, fans and clock belong together, and the rung stands
where it was measured.
"""

import math
from collections import defaultdict
from collections.abc import Sequence
from enum import StrEnum

import msgspec
import numpy as np

from niente.core.analysis.evidence import RunSummary
from niente.core.analysis.models import Models, same_silicon, speeds_seen
from niente.core.analysis.prediction import ceilings, heard_levels, predict_under_load, stock_throughput
from niente.core.analysis.setting_batch import SettingBatch
from niente.core.model.limits import Limits
from niente.core.model.plan import Search
from niente.core.model.rig_card import LoadKind
from niente.core.model.setting import Setting

DUTY_STEP = 1.0


class TuningMethod(StrEnum):
    """How a setting limits the machine."""

    OFFSET = "voltage offset"
    LIMIT = "power limit"
    BOTH = "offset and limit"
    CAP = "temperature cap"
    CLOCK = "fixed clock"


class MethodStep(msgspec.Struct, frozen=True):
    """One setting of a way: the lead group's ``duty`` in %, throughput in % of stock, in-room noise with its 95 % half
    width, the core in the design room and its headroom. ``as_measured`` says that the fans are those it was run with."""

    way: TuningMethod
    setting: Setting
    duty: float
    throughput_percent: float
    in_room_dba: float
    in_room_hw: float
    core_c: float
    headroom_k: float
    as_measured: bool


def method_of(setting: Setting, stock: Setting) -> TuningMethod | None:
    """Return how a whole setting limits the machine against stock; ``None`` where it does not."""
    if setting.fixed_clock_mhz or _below(setting.clock_cap_mhz, stock.clock_cap_mhz):
        return TuningMethod.CLOCK
    if _below(setting.temperature_cap_c, stock.temperature_cap_c):
        return TuningMethod.CAP
    plain = msgspec.structs.replace(stock, clock_cap_mhz=setting.clock_cap_mhz)
    deeper = not same_silicon(setting, plain)
    if _below(setting.sustained_power_w, stock.sustained_power_w):
        return TuningMethod.BOTH if deeper else TuningMethod.LIMIT
    return TuningMethod.OFFSET if deeper else None


def method_steps(models: Models, limits: Limits) -> tuple[MethodStep, ...]:
    """Return every rung that was measured without a failure, way by way, from least to most throughput; what a search tried is
    nothing that anybody would keep."""
    evidence = models.evidence
    stock, (stock_work, _) = evidence.card.stock, stock_throughput(models, models.count_load, limits.design_room_c)
    by_setting: dict[object, list[RunSummary]] = defaultdict(list)
    for run in evidence.usable():
        if run.load_kind != LoadKind.IDLE and not isinstance(evidence.entry_of(run), Search):
            by_setting[_without_fans(run.setting).key()].append(run)
    found: list[MethodStep] = []
    for runs in by_setting.values():
        way = method_of(runs[0].setting, stock)
        if way is not None and not any(run.failures for run in runs):
            found += _steps_at(models, limits, way, runs, stock_work)
    order = list(TuningMethod)
    return tuple(sorted(found, key=lambda one: (order.index(one.way), one.throughput_percent, one.in_room_dba)))


def _steps_at(
    models: Models, limits: Limits, way: TuningMethod, runs: Sequence[RunSummary], stock_work: float
) -> list[MethodStep]:
    """Return the rungs that the runs of one setting come to, fans apart; none where the load that counts was not read."""
    counted = [run for run in runs if run.load == models.count_load and math.isfinite(run.throughput_per_s)]
    heavy = [run for run in runs if run.load == models.heavy_load]
    if not counted:
        return []
    if way == TuningMethod.CAP or any(run.heat_limited for run in counted):
        return [_as_measured(models, limits, way, run, stock_work) for run in counted if math.isfinite(run.noise_dba)]
    if not heavy or not math.isfinite(heavy[-1].power_w):
        return []
    work = float(np.mean([run.throughput_per_s for run in counted]))
    quiet = _quietest(models, limits, way, heavy, 100.0 * work / stock_work)
    return [quiet] if quiet is not None else []


def _as_measured(models: Models, limits: Limits, way: TuningMethod, run: RunSummary, stock_work: float) -> MethodStep:
    """Return a run as a rung at its own fans; where firmware limits the temperature, the room does not move it."""
    cap_c = run.setting.temperature_cap_c if run.heat_limited else None
    core = cap_c if cap_c is not None else _in_design_room(run, limits)
    limit = models.evidence.card.limits
    return MethodStep(
        way,
        run.setting,
        run.setting.fan_duty.get(models.lead, 0.0),
        100.0 * run.throughput_per_s / stock_work,
        run.noise_dba,
        run.noise_hw_db if math.isfinite(run.noise_se_db) else 0.0,
        core,
        limit.core_temperature_c - limit.margin_k - core,
        as_measured=True,
    )


def _in_design_room(run: RunSummary, limits: Limits) -> float:
    if not run.settled.known:
        return math.nan
    return limits.design_room_c + run.rise_k


def _quietest(
    models: Models, limits: Limits, way: TuningMethod, heavy: Sequence[RunSummary], percent: float
) -> MethodStep | None:
    """Return a rung with the least duty of the lead group that keeps the headroom; ``None`` where none does."""
    setting = heavy[-1].setting
    seen = [duty for duty, _ in speeds_seen(models.evidence.usable(), models.lead)]
    if not seen:  # fans that were on a curve in every run have no duty to lower
        return None
    duty = np.arange(min(seen), max(seen) + DUTY_STEP / 2, DUTY_STEP)
    settings = SettingBatch(setting, {models.fans: duty}, duty.shape[0])
    rest = predict_under_load(models, settings, models.heavy_load, limits.design_room_c)
    core, rise_hw = rest.core_c, rest.core_hw
    headroom = ceilings(models, settings) - core
    keeps = headroom - rise_hw >= limits.min_headroom_k
    if not keeps.any():
        return None
    heard = heard_levels(models, rest)
    level, level_hw = heard.in_room_dba, heard.in_room_hw
    best = int(np.argmin(np.where(keeps, level, np.inf)))
    return MethodStep(
        way,
        setting.replaced(models.fans, float(duty[best])),
        float(duty[best]),
        percent,
        float(level[best]),
        float(level_hw[best]),
        float(core[best]),
        float(headroom[best]),
        as_measured=False,
    )


def _without_fans(setting: Setting) -> Setting:
    return msgspec.structs.replace(setting, fan_duty={}, fan_curve={}, fan_supply_v={})


def _below(value: float | None, stock: float | None) -> bool:
    return value is not None and stock is not None and value < stock
