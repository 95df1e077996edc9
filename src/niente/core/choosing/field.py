"""The settings that a choice looks at: a grid over the two axes, inside what was measured, and the measured ones."""

import msgspec
import numpy as np
from numpy.typing import NDArray

from niente.core.choosing.models import POWER, Models, Predicted, predict
from niente.core.project import Limits
from niente.core.rigcard import LoadKind
from niente.core.setting import Setting

Vector = NDArray[np.float64]

POWER_STEP_W = 3.0
DUTY_STEP = 2.0


class Field(msgspec.Struct, frozen=True):
    """Settings on a grid with what the models say of them.

    ``limit_w`` and ``duty`` are the grid's edges ``(p,)`` and ``(d,)``; every array in ``predicted`` is ``(d * p,)``,
    limits running fastest. ``clean_s`` and ``failures`` ``(d * p,)`` are what was run there under the heaviest load.
    """

    limit_w: Vector
    duty: Vector
    predicted: Predicted
    clean_s: Vector
    failures: NDArray[np.int64]
    measured: NDArray[np.bool_]

    def place(self, index: int) -> tuple[float, float]:
        """Return limit (W) and fan duty (%) of a setting by its place in the arrays."""
        row, column = divmod(index, self.limit_w.shape[0])
        return float(self.limit_w[column]), float(self.duty[row])

    def as_grid(self, values: Vector) -> NDArray[np.float64]:
        """Return an array ``(d * p,)`` as ``(d, p)``."""
        return values.reshape(self.duty.shape[0], self.limit_w.shape[0])


def setting_at(models: Models, limit_w: float, duty: float) -> Setting:
    """Return the whole setting at a place of the field."""
    return models.base.replaced(POWER, limit_w).replaced(models.fans, duty)


def survey(models: Models, limits: Limits) -> Field:
    """Lay the grid over what was measured and predict every setting of it."""
    law = models.loads[models.heavy_load]
    runs = [run for run in models.evidence.usable() if run.load_kind != LoadKind.IDLE]
    measured_w = {run.setting.sustained_power_w for run in runs if run.setting.sustained_power_w is not None}
    lead = models.lead
    measured_d = {run.setting.fan_duty[lead] for run in runs if lead in run.setting.fan_duty}
    limit_w = _edges(law.lowest_w, law.highest_w, POWER_STEP_W, measured_w)
    duty = _edges(min(measured_d), max(measured_d), DUTY_STEP, measured_d)
    w, d = np.meshgrid(limit_w, duty)
    flat_w, flat_d = w.ravel(), d.ravel()
    duties = {group: np.full(flat_w.shape, models.base.fan_duty.get(group, 0.0)) for group in models.noise.groups}
    duties[lead] = flat_d
    clean = np.zeros(flat_w.shape)
    failures = np.zeros(flat_w.shape, dtype=np.int64)
    measured = np.zeros(flat_w.shape, dtype=bool)
    for run in runs:
        at = (flat_w == run.setting.sustained_power_w) & (flat_d == run.setting.fan_duty.get(lead))
        same = run.setting == setting_at(models, run.setting.sustained_power_w or 0.0, run.setting.fan_duty.get(lead, 0.0))
        if not same:
            continue
        measured |= at
        failures[at] += run.failures
        if run.load == models.heavy_load:
            clean[at] += run.seconds
    return Field(limit_w, duty, predict(models, flat_w, duties, limits.design_room_c), clean, failures, measured)


def _edges(low: float, high: float, step: float, also: set[float]) -> Vector:
    """Return a grid of whole steps from low to high, with the measured values in it."""
    return np.array(sorted(set(np.arange(low, high + 1e-9, step).tolist()) | {v for v in also if low <= v <= high}))
