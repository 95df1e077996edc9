"""A setting in words: every control in which it differs from stock, so that it can be entered and is never half of itself."""

from collections import defaultdict
from collections.abc import Sequence

import msgspec

from niente.core.model.names import kind_of, part_of
from niente.core.model.quantities import NO_BREAK_SPACE, quantity_of
from niente.core.model.setting import FAN_DUTY, Setting

PARTED = {"core_offset_mv": "core", "point_offset_mv": "curve point"}
SAID = {
    "voltage_offset_mv": "",
    "clock_cap_mhz": "clock cap",
    "fixed_clock_mhz": "clock fixed at",
    "fixed_voltage_v": "voltage fixed at",
    "temperature_cap_c": "temperature cap",
    "burst_power_w": "burst",
    "burst_time_s": "burst time",
}
"""What stands before a control's value where the unit alone does not tell it."""


def differing(setting: Setting, stock: Setting) -> tuple[tuple[str, float], ...]:
    """Return the controls whose values differ from stock, in the setting's order; both whole. The duty of a fan group on a
    curve is none; one that takes a group off stock's curve differs, whatever it is."""
    return tuple((name, value) for name, value in setting.controls() if _differs(name, value, setting, stock))


def _differs(name: str, value: float, setting: Setting, stock: Setting) -> bool:
    group = part_of(name) if kind_of(name) == FAN_DUTY else ""
    return group not in setting.fan_curve and (value != stock.value(name) or group in stock.fan_curve)


def setting_text(setting: Setting, stock: Setting, brief: bool = False) -> str:
    """Return in words where a setting differs from stock, curves named; empty where it does not."""
    curves = [group for group, curve in sorted(setting.fan_curve.items()) if curve != stock.fan_curve.get(group)]
    return ", ".join([*values_text(differing(setting, stock), brief), *map(follows_text, curves)])


def follows_text(group: str) -> str:
    """Return in words that a fan group follows its curve."""
    return f"{group}{NO_BREAK_SPACE}fans on their curve"


def values_text(values: Sequence[tuple[str, float]], brief: bool = False) -> list[str]:
    """Return controls with their values in words, parts of one quantity that have one value together; in brief only from where
    to where the parts' values go, where they are more than two."""
    words: list[str] = []
    parts: dict[tuple[str, float], list[str]] = defaultdict(list)
    for name, value in values:
        kind = kind_of(name)
        if kind in PARTED:
            parts[kind, value].append(part_of(name))
            continue
        words.append(_value_text(name, value))
    for kind in PARTED:
        own = [value for other, value in parts if other == kind]
        if brief and len(own) > 2:
            parts = {key: of for key, of in parts.items() if key[0] != kind}
            unit = quantity_of(kind)
            words.append(f"{PARTED[kind]}s {unit.with_unit(max(own))} to {unit.with_unit(min(own))}")
    for (kind, value), of in parts.items():
        many = "s" if len(of) > 1 else ""
        words.append(f"{PARTED[kind]}{many}{NO_BREAK_SPACE}{spans_text(of)} {quantity_of(kind).with_unit(value)}")
    return words


def told_apart(settings: Sequence[Setting]) -> list[str]:
    """Return settings in words, each by the controls in which they differ; as a whole where they do in none."""
    seen: dict[str, set[float]] = {}
    for setting in settings:
        for control, value in setting.controls():
            seen.setdefault(control, set()).add(value)
    varied = tuple(control for control, values in seen.items() if len(values) > 1)
    return [setting.text(varied) or setting.text() for setting in settings]


def brief_text(setting: Setting) -> str:
    """Return a whole setting in words, the values of single parts in brief."""
    parted = [(name, value) for name, value in setting.controls() if kind_of(name) in PARTED and value]
    rest = msgspec.structs.replace(setting, core_offset_mv={}, point_offset_mv={})
    return ", ".join([rest.text(), *values_text(parted, brief=True)])


def parts_text(values: Sequence[tuple[str, float]]) -> str:
    """Return the values of single parts in full, where in brief they would be cut short; empty where they are not."""
    parted = [(name, value) for name, value in values if kind_of(name) in PARTED]
    return "" if values_text(parted) == values_text(parted, brief=True) else ", ".join(values_text(parted))


def _value_text(name: str, value: float) -> str:
    kind, part = kind_of(name), part_of(name)
    amount = quantity_of(name).with_unit(value)
    if kind == "fan_duty":
        return f"{part}{NO_BREAK_SPACE}fans {amount}"
    if kind == "fan_supply_v":
        return f"{part}{NO_BREAK_SPACE}fans at {amount}"
    if kind == "load_size":
        return f"{amount} {part}"
    if kind == "active_clock_mhz":
        return f"{part} cores at most {amount}"
    said = SAID.get(kind, "")
    return f"{said} {amount}".strip()


def spans_text(parts: Sequence[str]) -> str:
    """Return numbers in short: ``1 to 4, 7``."""
    found: list[list[str]] = []
    for part in parts:
        if found and part.isdigit() and found[-1][-1].isdigit() and int(part) == int(found[-1][-1]) + 1:
            found[-1].append(part)
        else:
            found.append([part])
    return ", ".join(run[0] if len(run) == 1 else f"{run[0]} to {run[-1]}" for run in found)
