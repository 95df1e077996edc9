"""What the models foresee of the steps of a plan, so that lists can say it before they are run."""

import math
from collections.abc import Sequence

import msgspec
import numpy as np

from niente.core.choosing.models import Models, predict
from niente.core.plan import Step


class Seen(msgspec.Struct, frozen=True):
    """What is foreseen of one step, in the room measured in: °C ± K (95 %) and dBA; NaN where nothing can be said."""

    core_c: float = math.nan
    core_hw: float = math.nan
    noise_dba: float = math.nan


def foresee(models: Models | None, steps: Sequence[Step]) -> list[Seen]:
    """Return what is foreseen of each step; without models, nothing of any.

    Temperatures are given for the heaviest load alone: the heat path is fitted to it.
    """
    if models is None or not steps:
        return [Seen()] * len(steps)
    stock = models.evidence.card.stock
    whole = [step.setting.over(stock) for step in steps]
    limits = np.array([one.sustained_power_w if one.sustained_power_w is not None else math.nan for one in whole])
    duties = {group: np.array([one.fan_duty.get(group, 0.0) for one in whole]) for group in models.noise.groups}
    said = predict(models, limits, duties, models.room_c)
    return [
        Seen(
            float(core) if step.load == models.heavy_load else math.nan,
            float(half_width) if step.load == models.heavy_load else math.nan,
            float(noise),
        )
        for step, core, half_width, noise in zip(steps, said.core_c, said.core_hw, said.in_room_dba, strict=True)
    ]
