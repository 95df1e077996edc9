"""What the models foresee of the steps of a plan, so that lists can say it before they are run."""

import math
from collections.abc import Sequence

import msgspec
import numpy as np

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.models import Models
from niente.core.analysis.prediction import heard_levels, predict_under_load
from niente.core.analysis.setting_batch import SettingBatch
from niente.core.model.plan import Step
from niente.core.model.runs import RunOutcome
from niente.core.model.setting import Setting


class StepForecast(msgspec.Struct, frozen=True):
    """What is foreseen of one step, in the room measured in: °C ± K and dBA ± dB (95 %); NaN where nothing can be said."""

    core_c: float = math.nan
    core_hw: float = math.nan
    noise_dba: float = math.nan
    noise_hw: float = math.nan


NO_FORECAST = StepForecast()


def foresee(models: Models | None, steps: Sequence[Step]) -> list[StepForecast]:
    """Return what is foreseen of each step; without models, nothing of any.

    Temperatures are given for loads that were run, by the fixed point of power, clock and heat. Noise is given where the fans
    are fixed and nothing of them is left open. Of another state of the machine than the one the models are of, nothing is
    said.
    """
    found = [NO_FORECAST] * len(steps)
    if models is None:
        return found
    known = [
        index
        for index, step in enumerate(steps)
        if step.variant in ("", models.card.variant) and not step.setting.fan_curve and not step.speed_rpm
    ]
    for load in sorted({steps[index].load for index in known}):
        indices = [index for index in known if steps[index].load == load]
        forecasts = _under_load(models, load, [steps[index] for index in indices])
        for index, forecast in zip(indices, forecasts, strict=True):
            found[index] = forecast
    return found


def _under_load(models: Models, load: str, steps: Sequence[Step]) -> list[StepForecast]:
    """Return the forecasts of steps under one load; without a temperature where that load was never run."""
    settings = _together([step.setting.over(models.card.stock) for step in steps])
    was_run = load in models.power.loads
    steady = predict_under_load(models, settings, load if was_run else models.heavy_load, models.room_c)
    heard = heard_levels(models, steady)
    level, level_hw = heard.in_room_dba, heard.in_room_hw
    found = []
    for row, step in enumerate(steps):
        if step.level_dba is not None:  # its duties are open: only the level is known
            found.append(StepForecast(math.nan, math.nan, step.level_dba, math.nan))
            continue
        known = was_run and not steady.runaway[row]
        core = (float(steady.core_c[row]), float(steady.core_hw[row])) if known else (math.nan, math.nan)
        found.append(StepForecast(*core, float(level[row]), float(level_hw[row])))
    return found


def _together(wholes: Sequence[Setting]) -> SettingBatch:
    """Return whole settings as many at once, by the controls in which they differ."""
    first = wholes[0]
    named = [dict(whole.controls()) for whole in wholes]
    differ = sorted({control for one in named for control, value in one.items() if value != first.value(control)})
    values = {control: np.array([one.get(control, math.nan) for one in named]) for control in differ}
    return SettingBatch(first, values, len(wholes))


def heard_at(evidence: Evidence | None, step: Step) -> float:
    """Return how loud a step is at least, in dBA: what was read at its fans' duties, or at lower ones; NaN where nothing
    was."""
    if evidence is None or step.setting.fan_curve:
        return step.level_dba if step.level_dba is not None else math.nan
    if step.level_dba is not None:
        return step.level_dba
    wanted = step.setting.over(evidence.card.stock).fan_duty
    heard = [
        run.noise_dba
        for run in evidence.in_variant(step.variant)
        if run.outcome == RunOutcome.DONE and math.isfinite(run.noise_dba) and not run.setting.fan_curve
        if all(run.setting.fan_duty.get(group, 0.0) <= duty for group, duty in wanted.items())
    ]
    return max(heard, default=math.nan)
