"""A setting: everything a person may dial in on a machine, at one operating point."""

from collections.abc import Iterator
from typing import Any

import msgspec

from niente.core.model.fan_curve import FanCurve
from niente.core.model.names import control_name
from niente.core.model.quantities import quantity_of

FAN_DUTY = "fan_duty"
OFF_AT_ZERO = frozenset({"core_offset_mv", "point_offset_mv", "fixed_clock_mhz", "fixed_voltage_v"})
"""Controls that do nothing at zero; in words they are passed over there."""


NAMED = {"burst_power_w": "burst", "burst_time_s": "for", "fixed_clock_mhz": "fixed", "fixed_voltage_v": "fixed"}
"""What a value is called in words where its unit alone would be taken for another control's."""


class Setting(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One operating point. A field that is ``None``, or a part that a field does not name, is left as the rig has it.

    Fields that are maps go by part: ``core_offset_mv`` by core ("1" is the first), ``point_offset_mv`` by point of the
    voltage/frequency curve ("1" is the lowest), ``active_clock_mhz`` by the number of active cores up to which it
    limits the clock, ``fan_duty`` (fixed duty in percent), ``fan_supply_v`` and ``fan_curve`` by fan group, ``load_size``
    by load: how many of its voices or streams a load with deadlines runs. A *control name* addresses one value:
    ``sustained_power_w``, or ``fan_duty.case`` for the fan group "case". A fixed clock or voltage of 0 leaves it to the
    firmware, a size of 0 lets the load take all that it gets. Where a group has a curve, that sets its duty.
    """

    voltage_offset_mv: float | None = None
    core_offset_mv: dict[str, float] = msgspec.field(default_factory=dict)
    point_offset_mv: dict[str, float] = msgspec.field(default_factory=dict)
    sustained_power_w: float | None = None
    burst_power_w: float | None = None
    burst_time_s: float | None = None
    clock_cap_mhz: float | None = None
    active_clock_mhz: dict[str, float] = msgspec.field(default_factory=dict)
    fixed_clock_mhz: float | None = None
    fixed_voltage_v: float | None = None
    temperature_cap_c: float | None = None
    fan_duty: dict[str, float] = msgspec.field(default_factory=dict)
    fan_supply_v: dict[str, float] = msgspec.field(default_factory=dict)
    fan_curve: dict[str, FanCurve] = msgspec.field(default_factory=dict)
    load_size: dict[str, float] = msgspec.field(default_factory=dict)

    def controls(self) -> Iterator[tuple[str, float]]:
        """Yield each control that this setting names, with its value, in the order of the fields; curves are none."""
        for name in self.__struct_fields__:
            value = getattr(self, name)
            if name == "fan_curve" or value is None:
                continue
            if isinstance(value, dict):
                for part in sorted(value, key=_in_order):
                    yield f"{name}.{part}", value[part]
            else:
                yield name, value

    def value(self, control: str) -> float | None:
        """Return the value of a control, or ``None`` where this setting leaves it alone."""
        name, part = control_name(control)
        value = getattr(self, name)
        found: float | None = value.get(part) if isinstance(value, dict) else value
        return found

    def replaced(self, control: str, value: float) -> "Setting":
        """Return this setting with one control changed. A duty takes its group off its curve.

        Raises ``AttributeError`` for a name that is none.
        """
        name, part = control_name(control)
        if name not in self.__struct_fields__ or bool(part) != isinstance(getattr(self, name), dict) or name == "fan_curve":
            raise AttributeError(control)
        if not part:
            return msgspec.structs.replace(self, **{name: value})
        changed = msgspec.structs.replace(self, **{name: {**getattr(self, name), part: value}})
        if name == FAN_DUTY and part in self.fan_curve:
            curves = {group: curve for group, curve in self.fan_curve.items() if group != part}
            return msgspec.structs.replace(changed, fan_curve=curves)
        return changed

    def without(self, control: str) -> "Setting":
        """Return this setting with one control left as the rig has it."""
        name, part = control_name(control)
        value = getattr(self, name)
        rest = {key: one for key, one in value.items() if key != part} if isinstance(value, dict) else None
        return msgspec.structs.replace(self, **{name: rest})

    def on_curve(self, group: str, curve: FanCurve) -> "Setting":
        """Return this setting with a fan group put on a curve."""
        return msgspec.structs.replace(self, fan_curve={**self.fan_curve, group: curve})

    def over(self, base: "Setting") -> "Setting":
        """Return ``base`` with everything that this setting names put over it."""
        fields: dict[str, Any] = {}
        for name in self.__struct_fields__:
            mine, theirs = getattr(self, name), getattr(base, name)
            fields[name] = theirs if mine is None else {**theirs, **mine} if isinstance(mine, dict) else mine
        if base.fan_curve and self.fan_duty:  # a fixed duty takes its group off the curve beneath
            left = {group: curve for group, curve in base.fan_curve.items() if group not in self.fan_duty}
            fields["fan_curve"] = {**left, **self.fan_curve}
        return Setting(**fields)

    def key(self) -> tuple[tuple[str, float | FanCurve], ...]:
        """Return something hashable that is equal for equal settings."""
        return (*self.controls(), *sorted(self.fan_curve.items()))

    def text(self, only: tuple[str, ...] | None = None) -> str:
        """Return the setting in words, ``120 W, case 38 %``; ``only`` limits it to some controls.

        What does nothing, and the limits by active cores, are passed over unless they are asked for.
        """
        words = []
        for control, value in self.controls():
            name, part = control_name(control)
            if name == "load_size" and value == 0:
                continue
            if only is None and (name == "active_clock_mhz" or (name in OFF_AT_ZERO and value == 0)):
                continue
            if (only is None or control in only) and not (name == FAN_DUTY and part in self.fan_curve):
                words.append(f"{NAMED.get(name, part)} {quantity_of(control).with_unit(value)}".strip())
        if only is None:
            words += [f"{group} on its curve" for group in sorted(self.fan_curve)]
        return ", ".join(words)


def _in_order(part: str) -> tuple[int, str]:
    """Numbers in their own order ("2" before "10"), names after them."""
    return (int(part), "") if part.isdigit() else (1 << 30, part)
