"""The columns of the run list for what is set: which there are, their heads, and what a run sets."""

from niente.core.model.names import control_name, kind_of, part_of
from niente.core.model.plan import Step
from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import OFF_AT_ZERO, Setting
from niente.core.planning.columns import deepest
from niente.desktop.services.translation import tr

FANS = "fan_duty"
"""The column that all fan groups share where several are set apart: there is no room for one each beside the reasons."""
SHORT = {
    "sustained_power_w": "Limit, W",
    "voltage_offset_mv": "Offset, mV",
    "core_offset_mv": "Core, mV",
    "point_offset_mv": "Point, mV",
    "clock_cap_mhz": "Cap, MHz",
    "fixed_clock_mhz": "Fixed, MHz",
    "fixed_voltage_v": "Fixed, V",
    "temperature_cap_c": "Cap, °C",
    "burst_power_w": "Burst, W",
    "burst_time_s": "Burst, s",
}
"""Column heads: the control and its unit; a fan group's is its own name."""


def with_fans_together(columns: tuple[str, ...]) -> tuple[str, ...]:
    """Return columns where several fan groups share one."""
    fans = [control for control in columns if kind_of(control) == FANS]
    if len(fans) < 2:
        return columns
    return tuple(FANS if control == fans[0] else control for control in columns if control not in fans[1:])


def set_head(columns: tuple[str, ...], run_index: int) -> str:
    """Return a column's head: the unit, and the fan group where two of them have a column."""
    name = kind_of(columns[run_index])
    if columns[run_index] == FANS:
        return tr("Fans, %")
    part = part_of(columns[run_index])
    if name in SHORT:
        return tr(SHORT[name])
    if name == "load_size":
        return part
    unit = quantity_of(columns[run_index]).unit
    return f"{part.capitalize()}, {unit}" if part else unit


def _set_text(speed_rpm: dict[str, float], level_dba: float | None, whole: Setting, control: str) -> str:
    """Return what a run sets a control to, as short as a column has room for."""
    name, part = control_name(control)
    if name == "fan_duty":
        if part in speed_rpm:
            return f"{speed_rpm[part]:g} rpm"
        if level_dba is not None:
            return f"{level_dba:g} dBA"
        if part in whole.fan_curve:
            return tr("curve")
    value = deepest(whole, name) if name in ("core_offset_mv", "point_offset_mv") and not part else whole.value(control)
    if value is None or (value == 0 and name in OFF_AT_ZERO and name.startswith("fixed")):
        return "–"  # the firmware's own
    if name == "load_size" and value == 0:
        return tr("all")
    return quantity_of(control).text(value)


def set_words(card: RigCard, step: Step, whole: Setting, control: str) -> str:
    """Return what a run sets a control to; of all fan groups in one column their duties, in the card's order."""
    if control != FANS:
        return _set_text(step.speed_rpm, step.level_dba, whole, control)
    groups = card.fan_groups()
    if step.speed_rpm or step.level_dba is not None:
        return " · ".join(_set_text(step.speed_rpm, step.level_dba, whole, f"{FANS}.{group}") for group in groups)
    duties = [None if group in whole.fan_curve else whole.fan_duty.get(group) for group in groups]
    return " · ".join(tr("curve") if duty is None else f"{duty:g}" for duty in duties)
