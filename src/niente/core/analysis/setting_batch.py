"""Many settings at once: a base, and the few controls in which they differ."""

import msgspec
import numpy as np

from niente.core.model.setting import Setting
from niente.core.science.arrays import Indices, Vector

POWER = "sustained_power_w"
"""The control that stands along the map when nothing else is chosen."""


class SettingBatch(msgspec.Struct, frozen=True):
    """``n`` settings: ``values`` gives ``(n,)`` a control, all else is as ``base`` has it, a whole setting."""

    base: Setting
    values: dict[str, Vector]
    count: int

    def of(self, control: str, otherwise: float = np.nan) -> Vector:
        """Return a control's values ``(n,)``, or ``otherwise`` where neither they nor the base say any."""
        own = self.values.get(control)
        if own is not None:
            return own
        value = self.base.value(control)
        return np.full(self.count, otherwise if value is None else value)

    def on_curve(self, group: str) -> bool:
        """Return whether a fan group follows its curve, and is not set to duties here."""
        return group in self.base.fan_curve and f"fan_duty.{group}" not in self.values

    def at(self, index: int) -> Setting:
        """Return one of them as a whole setting."""
        found = self.base
        for control, values in self.values.items():
            found = found.replaced(control, float(values[index]))
        return found

    def taken(self, indices: Indices) -> "SettingBatch":
        """Return some of them, in an order."""
        return SettingBatch(self.base, {control: values[indices] for control, values in self.values.items()}, indices.shape[0])


def one_setting(setting: Setting) -> SettingBatch:
    """Return a single whole setting as many are."""
    return SettingBatch(setting, {}, 1)
