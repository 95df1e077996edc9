"""The controls that a choice may move on a rig: from where to where, and in which steps."""

import math

import msgspec
import numpy as np

from niente.core.analysis.judged import OFFSET
from niente.core.analysis.models import Models
from niente.core.analysis.setting_batch import POWER
from niente.core.analysis.stability import clean_depth_mv
from niente.core.model.limits import Limits
from niente.core.model.rig_card import Control, LoadKind
from niente.core.science.arrays import Vector
from niente.core.science.fan_speed import STANDS_RPM

CLOCK, FIXED, CAP = "clock_cap_mhz", "fixed_clock_mhz", "temperature_cap_c"
FINE = 100
"""Steps of a control that says none."""


class FreeControl(msgspec.Struct, frozen=True):
    """A control that a choice may move: its name, from where to where, and the step in which it can be set, counted from
    ``origin``. ``least`` is the lowest value above zero; below it only zero is left."""

    name: str
    low: float
    high: float
    step: float
    origin: float
    least: float = 0.0

    def on_step(self, values: Vector) -> Vector:
        """Return values that can be set, nearest to those wanted ``(n,)``."""
        found = np.clip(self.origin + np.round((values - self.origin) / self.step) * self.step, self.low, self.high)
        if self.least > 0.0:
            found = np.where(found < self.least, np.where(found < 0.5 * self.least, 0.0, self.least), found)
        stepped: Vector = np.clip(found, self.low, self.high)
        return stepped


def free_controls(models: Models, limits: Limits) -> tuple[FreeControl, ...]:
    """Return the controls that a choice may move on a rig: what holds the clock, the voltage offset where failures taught how
    deep it may go, and the duty of each fan group within what was run."""
    found = [_holding(models, limits, control) for control in models.card.controls]
    found += [_fans(models, limits, group) for group in models.noise.groups]
    return tuple(one for one in found if one is not None and one.high > one.low)


def _holding(models: Models, limits: Limits, control: Control) -> FreeControl | None:
    stock, base = models.card.stock, models.base
    if base.value(control.name) is None:  # what the rig leaves open has no value to come back to
        return None
    seen = [run.setting.value(control.name) for run in models.usable() if run.load_kind != LoadKind.IDLE]
    known = [value for value in seen if value is not None]
    if control.name == POWER and known:
        return _between(control, min(known), max(known))
    if control.name == (FIXED if base.fixed_clock_mhz else CLOCK):
        slowest, fastest = models.power.seen_mhz[models.heavy_load]
        return _between(control, slowest, fastest if base.fixed_clock_mhz else stock.clock_cap_mhz or math.inf)
    if control.name == CAP and limits.min_headroom_k <= 0.0:  # where heat holds the clock there is no headroom
        return _between(control, control.low, stock.temperature_cap_c or math.inf)
    if control.name == OFFSET and known:
        deepest = min(known) if models.stability.laws else _clean_offset_mv(models, limits, min(known))
        return _between(control, deepest, 0.0) if deepest is not None else None
    return None


def _clean_offset_mv(models: Models, limits: Limits, deepest_run_mv: float) -> float | None:
    """Return the deepest offset where nothing has failed: where a search would end, or what was run throughout; ``None`` where
    no clean exposure says how deep it may go."""
    hottest_c = models.card.limits.core_temperature_c - limits.min_headroom_k
    clean = clean_depth_mv(models.stability, limits.failure, hottest_c)
    return min(max(deepest_run_mv, -clean), models.base.voltage_offset_mv or 0.0) if clean > 0.0 else None


def _between(control: Control, low: float, high: float) -> FreeControl:
    """Return a control from its first step at or above ``low`` to its last at or below ``high``, within its own range."""
    step = control.step if control.step > 0.0 else max((control.high - control.low) / FINE, 1e-6)
    first, last = (min(max(value, control.low), control.high) - control.low for value in (low, high))
    first, last = math.ceil(first / step - 1e-9) * step, math.floor(last / step + 1e-9) * step
    return FreeControl(control.name, control.low + first, control.low + last, step, control.low)


def _fans(models: Models, limits: Limits, group: str) -> FreeControl | None:
    control = models.card.control(f"fan_duty.{group}")
    low, high = models.speeds[group].span
    if control is None or not math.isfinite(low):
        return None
    turning = [duty for duty, rpm in models.speeds[group].pairs if rpm > STANDS_RPM]
    if limits.fans_turn:
        low = max(low, min(turning, default=0.0))
    least = min(turning, default=0.0) if low == 0.0 else 0.0
    return msgspec.structs.replace(_between(control, low, high), least=least)
