"""What the models foresee of the steps of a plan, so that lists can say it before they are run."""

import math
from collections.abc import Sequence

import msgspec
import numpy as np

from niente.core.choosing.models import Models, predict
from niente.core.evidence import Evidence
from niente.core.plan import Step
from niente.core.setting import Setting


class Seen(msgspec.Struct, frozen=True):
    """What is foreseen of one step, in the room measured in: °C ± K and dBA ± dB (95 %); NaN where nothing can be said."""

    core_c: float = math.nan
    core_hw: float = math.nan
    noise_dba: float = math.nan
    noise_hw: float = math.nan


NOTHING = Seen()


def foresee(models: Models | None, steps: Sequence[Step]) -> list[Seen]:
    """Return what is foreseen of each step; without models, nothing of any.

    Temperatures are given for the heaviest load alone, to which the heat path is fitted, and where power holds the clock;
    a temperature cap holds them down. Noise is given where the fans are fixed and nothing of them is left open. Of another
    state of the machine than the one the models are of, nothing is said.
    """
    if models is None or not steps:
        return [NOTHING] * len(steps)
    stock, groups = models.evidence.card.stock, models.noise.groups
    limits = np.array([_or_stock(step.setting.sustained_power_w, stock.sustained_power_w) for step in steps])
    caps = np.array([_or_stock(step.setting.temperature_cap_c, stock.temperature_cap_c, math.inf) for step in steps])
    duties = {
        group: np.array([step.setting.fan_duty.get(group, stock.fan_duty.get(group, 0.0)) for step in steps])
        for group in groups
    }
    said = predict(models, limits, duties, models.room_c)
    core, half_width = said.core_c.tolist(), said.core_hw.tolist()
    noise, noise_hw = said.in_room_dba.tolist(), said.in_room_hw.tolist()
    found = []
    for place, step in enumerate(steps):
        elsewhere = step.variant not in ("", models.evidence.card.variant)
        if elsewhere or step.setting.fan_curve or step.speed_rpm:
            found.append(NOTHING)
            continue
        level, level_hw = noise[place], noise_hw[place]
        if step.level_dba is not None:
            level, level_hw = step.level_dba, math.nan
        if step.load != models.heavy_load or step.level_dba is not None or not _held_by_power(step.setting, models.base):
            found.append(Seen(noise_dba=level, noise_hw=level_hw))
        else:
            found.append(Seen(min(core[place], float(caps[place])), half_width[place], level, level_hw))
    return found


def _or_stock(value: float | None, stock: float | None, otherwise: float = math.nan) -> float:
    if value is not None:
        return value
    return stock if stock is not None else otherwise


def _held_by_power(setting: Setting, base: Setting) -> bool:
    """Return whether nothing but a power limit (or heat) holds a setting's clock, as it did where the models were fitted."""
    if setting.fixed_clock_mhz or setting.fixed_voltage_v:
        return False
    return setting.clock_cap_mhz is None or setting.clock_cap_mhz >= (base.clock_cap_mhz or 0.0)


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
        if run.how == "done" and math.isfinite(run.noise_dba) and not run.setting.fan_curve
        if all(run.setting.fan_duty.get(group, 0.0) <= duty for group, duty in wanted.items())
    ]
    return max(heard, default=math.nan)
