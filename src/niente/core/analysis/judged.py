"""Settings as a choice looks at them: what the models say of each in the design room, how surely it lasts, and what was run
there."""

import math
from collections.abc import Iterable

import msgspec
import numpy as np

from niente.core.analysis.coverage import inside
from niente.core.analysis.limit_figures import LimitFigures, limit_figures
from niente.core.analysis.models import CARRIES_MV, Models
from niente.core.analysis.prediction import LoadPrediction, SettingPredictions, predict, predict_under_load
from niente.core.analysis.setting_batch import SettingBatch
from niente.core.analysis.stability import FIXED_FROM_V, FailureRisk, failures_against, risk_at, risk_by_exposure
from niente.core.model.limits import Limits
from niente.core.model.rig_card import LoadKind
from niente.core.model.setting import Setting
from niente.core.science.arrays import Indices, Mask, Vector

OFFSET = "voltage_offset_mv"
LAWS = 1000
"""So many laws stand for all that failures taught, of one setting as of many: a setting is judged alike wherever it is."""


class JudgedSettings(msgspec.Struct, frozen=True):
    """Settings with what the models say of them; every array is ``(n,)``.

    ``clean_s`` and ``failures`` are what was run there under the load that heats, ``stable`` the expected chance of a horizon
    without a failure, ``risk`` the chance of one that is surely not exceeded, ``lasts`` how surely it is no more than is
    allowed, ``by_law`` whether these follow from a law that failures taught, ``makers`` whether voltage and clock are no other
    than the maker's, ``against`` how many failures speak against it, ``figures`` what limits are set to, ``inside`` whether
    a setting lies inside of what was measured; ``measured`` whether it was run, ``nearly`` whether
    it was, its voltage offset apart; ``changed`` how many of the controls that vary differ from stock.
    """

    settings: SettingBatch
    predicted: SettingPredictions
    stable: Vector
    risk: Vector
    lasts: Vector
    by_law: bool
    makers: Mask
    against: Indices
    inside: Mask
    clean_s: Vector
    failures: Indices
    measured: Mask
    nearly: Mask
    changed: Indices
    figures: LimitFigures


def judge(models: Models, limits: Limits, settings: SettingBatch, load: str = "") -> JudgedSettings:
    """Return settings with what the models say of them in the design room; ``load`` (none: the heaviest heats and the realistic
    one counts) both heats and counts."""
    steady = predict_under_load(models, settings, load or models.heavy_load, limits.design_room_c)
    risk = failure_risk(models, limits, settings, steady)
    predicted = predict(models, settings, limits.design_room_c, heats=load, counts=load, steady=steady)
    clean, failures, measured, nearly = _run_there(models, settings, steady.load)
    return JudgedSettings(
        settings=settings,
        predicted=predicted,
        stable=1.0 - risk.expected,
        risk=risk.at_most,
        lasts=risk.lasts,
        by_law=any(risk.load),
        makers=makers_own(settings, models.card.stock),
        against=failures_against(models.stability, depths_mv(settings), steady.clock_mhz),
        inside=inside(models, settings, steady),
        clean_s=clean,
        failures=failures,
        measured=measured,
        nearly=nearly,
        changed=_changed(settings, models.card.stock),
        figures=limit_figures(models, limits, settings, steady, predicted),
    )


def depths_mv(settings: SettingBatch) -> Vector:
    """Return how deep settings go, ``(n,)`` in mV: below the maker's voltage, or below 1.2 V where the voltage is fixed."""
    fixed = settings.of("fixed_voltage_v", 0.0)
    return np.where(fixed > 0.0, 1000.0 * (FIXED_FROM_V - fixed), -settings.of("voltage_offset_mv", 0.0))


def _changed(settings: SettingBatch, stock: Setting) -> Indices:
    """Return how many of the controls that vary are set otherwise than stock ``(n,)``."""
    found = np.zeros(settings.count, dtype=np.int64)
    for control, values in settings.values.items():
        found += values != stock.value(control)
    return found


def makers_own(settings: SettingBatch, stock: Setting) -> Mask:
    """Return where neither the voltage lies under the maker's nor a clock over it ``(n,)``."""
    base, top = settings.base, stock.clock_cap_mhz or math.inf
    own = any(value < 0.0 for values in (base.core_offset_mv, base.point_offset_mv) for value in values.values())
    clock = np.maximum(settings.of("fixed_clock_mhz", 0.0), settings.of("clock_cap_mhz", 0.0))
    fixed = settings.of("fixed_voltage_v", 0.0) > 0.0
    return ~fixed & (depths_mv(settings) <= 0.0) & (clock <= top) & (not own)


def failure_conditions(
    models: Models, limits: Limits, settings: SettingBatch, loads: Iterable[str], steady: LoadPrediction | None = None
) -> dict[str, LoadPrediction]:
    """Return where settings settle in the design room under each load that was run; ``steady`` is known already."""
    return {
        load: steady
        if steady is not None and load == steady.load
        else predict_under_load(models, settings, load, limits.design_room_c)
        for load in loads
        if load in models.power.loads
    }


def failure_risk(models: Models, limits: Limits, settings: SettingBatch, steady: LoadPrediction) -> FailureRisk:
    """Return the chance of a failure within the horizon at settings, under the worst of the loads that were run, each at the
    clock and the temperature that it comes to in the design room; by exposure alone where nothing has failed yet."""
    stability = models.stability
    each = failure_conditions(models, limits, settings, stability.laws, steady)
    if not each:
        return risk_by_exposure(stability, limits.failure, depths_mv(settings), steady.clock_mhz)
    clocks = {load: one.clock_mhz for load, one in each.items()}
    cores = {load: one.core_c for load, one in each.items()}
    laws = {load: law.thinned(LAWS) for load, law in stability.laws.items()}
    return risk_at(laws, limits.failure, depths_mv(settings), clocks, cores)


def _run_there(models: Models, settings: SettingBatch, load: str) -> tuple[Vector, Indices, Mask, Mask]:
    """Return what was run at each setting: clean seconds under a load, failures under any, whether anything was, and whether
    that was at it or at another voltage offset, which heat and noise carry over from."""
    clean = np.zeros(settings.count)
    failures = np.zeros(settings.count, dtype=np.int64)
    measured, nearly = np.zeros(settings.count, dtype=bool), np.zeros(settings.count, dtype=bool)
    for run in models.evidence.usable():
        if run.load_kind == LoadKind.IDLE:
            continue
        at = np.ones(settings.count, dtype=bool)
        for control in settings.values.keys() - {OFFSET}:
            at &= settings.of(control) == run.setting.value(control)
        for index in np.flatnonzero(at).tolist():
            here = settings.at(index)
            depth = run.setting.voltage_offset_mv
            near = abs((here.voltage_offset_mv or 0.0) - (depth or 0.0)) <= CARRIES_MV
            nearly[index] |= near and msgspec.structs.replace(here, voltage_offset_mv=depth) == run.setting
            if here != run.setting:
                continue
            measured[index] = True
            failures[index] += run.failures
            if run.load == load:
                clean[index] += run.seconds
    return clean, failures, measured, nearly
