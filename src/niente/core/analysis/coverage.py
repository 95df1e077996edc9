"""What lies inside of what was measured: watts and fan speeds among those of the runs, clocks and voltages in their range."""

import math

import numpy as np

from niente.core.analysis.model_runs import offset_of, turning
from niente.core.analysis.models import Models
from niente.core.analysis.prediction import LoadPrediction, offsets_mv, requested_clocks
from niente.core.analysis.setting_batch import SettingBatch
from niente.core.model.quantities import quantity_of
from niente.core.science.arrays import Mask
from niente.core.science.hull import inside_hull
from niente.core.science.power.operating_point import SettingLimiter

WATT_SLACK = 0.02
"""So far over the edge of what was measured, as a share of the watts run, still counts as inside."""
DUTY_SLACK = 0.5
RPM_SLACK, CLOCK_SLACK, OFFSET_SLACK_MV, VOLT_SLACK_V = 15.0, 0.01, 0.6, 0.003


def inside(models: Models, settings: SettingBatch, steady: LoadPrediction) -> Mask:
    """Return which settings lie inside of what was measured ``(n,)``; ``steady`` is where they settle under a load."""
    found: Mask = np.ones(settings.count, dtype=bool)
    for _, kept in _tests(models, settings, steady):
        found &= kept
    return found


def outside_words(models: Models, settings: SettingBatch, steady: LoadPrediction) -> tuple[str, ...]:
    """Return in words where a single setting lies beyond what was measured; empty inside."""
    words = [words for words, kept in _tests(models, settings, steady) if not kept[0]]
    whole = settings.at(0)
    words += [
        f"the {group} fans follow {whole.fan_curve[group].source}, which is taken for the core"
        for group in models.noise.groups
        if settings.on_curve(group) and not whole.fan_curve[group].source.startswith(("core_temp", "package_temp"))
    ]
    return tuple(words)


def _duties(models: Models, settings: SettingBatch) -> list[tuple[str, Mask]]:
    """Return for each fan group which settings have a duty between those that were run."""
    found = []
    for group in models.noise.groups:
        low, high = models.speeds[group].span
        if settings.on_curve(group) or not math.isfinite(low):
            continue
        duty = settings.of(f"fan_duty.{group}", 0.0)
        unit = quantity_of("fan_duty")
        run = f"{unit.text(low)} to {unit.with_unit(high)} were" if high > low else f"only {unit.with_unit(low)} was"
        words = f"the {group} fans were not run at such a duty: {run}"
        found.append((words, (duty >= low - DUTY_SLACK) & (duty <= high + DUTY_SLACK)))
    return found


def _limiters(models: Models, settings: SettingBatch, steady: LoadPrediction) -> list[tuple[str, Mask]]:
    """Return which settings are limited by what some run was limited by: a limiter that was not measured is not known."""
    ceiling = models.ceilings[steady.load]
    asked = requested_clocks(models, settings)
    known = {cap: not math.isfinite(cap) or ceiling.at(cap)[2] for cap in set(asked.tolist())}
    shown = np.array([known[cap] for cap in asked.tolist()])
    by_clock, by_power = steady.limiter == SettingLimiter.CLOCK, steady.limiter == SettingLimiter.POWER
    held = np.full(settings.count, models.gains[steady.load].seen)
    return [
        (f"no run under {steady.load} shows what limits the clock there when power and heat do not", ~by_clock | shown),
        (f"no run under {steady.load} was held by a power limit", ~by_power | held),
    ]


def _tests(models: Models, settings: SettingBatch, steady: LoadPrediction) -> list[tuple[str, Mask]]:
    """Return every edge of what was measured, in words, with which settings lie on its inner side."""
    runs = [run for run in models.usable() if math.isfinite(run.power_w)]
    found: list[tuple[str, Mask]] = []
    watts = np.array([run.power_w for run in runs if run.load == steady.load] or [math.nan])
    low, high = float(np.min(watts)), float(np.max(watts))
    slack = WATT_SLACK * high
    unit = quantity_of("package_power_w")
    limit = f"the power lies outside the {unit.text(low)} to {unit.with_unit(high)} run under {steady.load}"
    found.append((limit, (steady.power_w >= low - slack) & (steady.power_w <= high + slack)))
    points = np.array([[run.power_w, *(turning(run, group) for group in models.noise.groups)] for run in runs])
    indices = np.concatenate([np.where(np.isfinite(steady.power_w), steady.power_w, 1e9)[:, None], steady.rpm], axis=1)
    slacks = np.array([slack, *[RPM_SLACK] * len(models.noise.groups)])
    found.append(("no runs surround these watts and fan speeds together", inside_hull(np.nan_to_num(points), indices, slacks)))
    least, most = models.power.seen_mhz[steady.load]
    clock = f"the clock lies outside the {least:.0f} to {most:.0f} MHz run under {steady.load}"
    spare = 1 + CLOCK_SLACK
    found.append((clock, (steady.clock_mhz >= least / spare) & (steady.clock_mhz <= most * spare)))
    for name, slack_of, of_runs, here in (
        ("voltage offset", OFFSET_SLACK_MV, [offset_of(run.setting) for run in runs], offsets_mv(settings)),
        (
            "fixed voltage",
            VOLT_SLACK_V,
            [run.setting.fixed_voltage_v or 0.0 for run in runs],
            settings.of("fixed_voltage_v", 0.0),
        ),
    ):
        words = f"no run has its {name} or one beyond it"
        found.append((words, (here >= min(of_runs) - slack_of) & (here <= max(of_runs) + slack_of)))
    found += [*_duties(models, settings), *_limiters(models, settings, steady)]
    points_same = [run.setting.point_offset_mv for run in runs]
    own_points = settings.base.point_offset_mv
    found.append(
        ("no run has its offsets by point", np.full(settings.count, not any(own_points.values()) or own_points in points_same))
    )
    return found
