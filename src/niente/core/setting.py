"""A setting: everything a person may dial in on a machine, at one operating point."""

from collections.abc import Iterator

import msgspec

from niente.core.quantities import part_of, quantity_of

FAN_DUTY = "fan_duty"


class Setting(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One operating point. A field that is ``None``, or a fan group that is not named, is left as the rig has it.

    ``fan_duty`` maps a fan group to its fixed duty in percent. A *control name* addresses one field:
    ``sustained_power_w``, or ``fan_duty.case`` for the fan group "case".
    """

    voltage_offset_mv: float | None = None
    sustained_power_w: float | None = None
    burst_power_w: float | None = None
    burst_time_s: float | None = None
    clock_cap_mhz: float | None = None
    temperature_cap_c: float | None = None
    fan_duty: dict[str, float] = msgspec.field(default_factory=dict)

    def controls(self) -> Iterator[tuple[str, float]]:
        """Yield each control that this setting names, with its value, in the order of the fields."""
        for name in self.__struct_fields__:
            value = getattr(self, name)
            if name == FAN_DUTY:
                for group in sorted(value):
                    yield f"{FAN_DUTY}.{group}", value[group]
            elif value is not None:
                yield name, value

    def value(self, control: str) -> float | None:
        """Return the value of a control, or ``None`` where this setting leaves it alone."""
        if control.startswith(f"{FAN_DUTY}."):
            return self.fan_duty.get(part_of(control))
        value: float | None = getattr(self, control)
        return value

    def replaced(self, control: str, value: float) -> "Setting":
        """Return this setting with one control changed. Raises ``AttributeError`` for a name that is none."""
        if control.startswith(f"{FAN_DUTY}."):
            return msgspec.structs.replace(self, fan_duty={**self.fan_duty, part_of(control): value})
        if control not in self.__struct_fields__:
            raise AttributeError(control)
        return msgspec.structs.replace(self, **{control: value})

    def over(self, base: "Setting") -> "Setting":
        """Return ``base`` with everything that this setting names put over it."""
        result = base
        for control, value in self.controls():
            result = result.replaced(control, value)
        return result

    def key(self) -> tuple[tuple[str, float], ...]:
        """Return something hashable that is equal for equal settings."""
        return tuple(self.controls())

    def text(self, only: tuple[str, ...] | None = None) -> str:
        """Return the setting in words, ``120 W, case 38 %``; ``only`` limits it to some controls."""
        words = []
        for control, value in self.controls():
            if only is None or control in only:
                words.append(f"{part_of(control)} {quantity_of(control).with_unit(value)}".strip())
        return ", ".join(words)
