"""What lies inside of what was measured: watts and fan speeds among those of the runs, clocks and voltages in their range."""

import math

import numpy as np

from niente.core.analysis.models import Models, offset_of, turning
from niente.core.analysis.prediction import LoadPrediction, offsets_mv
from niente.core.analysis.setting_batch import SettingBatch
from niente.core.model.quantities import quantity_of
from niente.core.science.arrays import Mask
from niente.core.science.hull import inside_hull

WATT_SLACK = 0.02
"""So far over the edge of what was measured, as a share of the watts run, still counts as inside."""
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
    points_same = [run.setting.point_offset_mv for run in runs]
    own_points = settings.base.point_offset_mv
    found.append(
        ("no run has its offsets by point", np.full(settings.count, not any(own_points.values()) or own_points in points_same))
    )
    return found
