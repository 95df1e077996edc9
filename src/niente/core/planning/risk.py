"""Risk: gentle before deep, and what one failure says of settings that were not run."""

from niente.core.model.names import kind_of
from niente.core.model.plan import Confirmation, PickRuns, Plan, Search
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.selection.setting_words import values_text

PARTED = ("core_offset_mv", "point_offset_mv")
DEPTHS = ("voltage_offset_mv", *PARTED)
CLOCKS = ("sustained_power_w", "clock_cap_mhz", "fixed_clock_mhz", "temperature_cap_c")


def depth_mv(setting: Setting) -> float:
    """Return how deep a setting goes in mV, the deepest of its offsets, as a positive figure; 0 where it has none."""
    values = [value for control, value in setting.controls() if kind_of(control) in DEPTHS]
    return max([0.0, *(-value for value in values)])


def risk_of(setting: Setting, stock: Setting) -> tuple[float, float, float]:
    """Return what orders settings from safe to risky: depth of the offsets, clock asked for over stock, lack of voltage."""
    over_stock = (setting.fixed_clock_mhz or 0.0) - (stock.clock_cap_mhz or 0.0)
    return depth_mv(setting), max(over_stock, 0.0), -(setting.fixed_voltage_v or 9.9)


def raised_voltages(plan: Plan, card: RigCard) -> tuple[str, ...]:
    """Return the settings of a plan that put a voltage above stock, in words, each once; a fixed voltage is one of a person's
    own and is not judged here."""
    found: list[str] = []
    for entry in plan.entries:
        if isinstance(entry, Confirmation | PickRuns) or entry.skip:
            continue
        setting = entry.setting
        if isinstance(entry, Search) and kind_of(entry.controls[0]) in DEPTHS:
            for control in entry.controls:
                setting = setting.replaced(control, max(entry.start, entry.deepest))
        if raised := raised_in(setting, card):
            found.append(raised)
    return tuple(dict.fromkeys(found))


def raised_in(setting: Setting, card: RigCard) -> str:
    """Return the voltages that a setting puts above stock, in words; empty where it puts none there."""
    raised = [
        (control, value)
        for control, value in setting.controls()
        if kind_of(control) in DEPTHS and value > max(card.stock.value(control) or 0.0, 0.0)
    ]
    return ", ".join(values_text(raised))


def is_telling(failed: Setting) -> bool:
    """Return whether a failure says anything of other settings: one without any offset or fixed voltage does not."""
    return bool(failed.fixed_voltage_v) or depth_mv(failed) > 0.0


def as_risky(setting: Setting, failed: Setting) -> bool:
    """Return whether a setting asks at least as much of the silicon as another; both whole.

    It does where every offset is at least as deep, a fixed voltage no higher, and nothing limits the clock lower. If the
    other failed, and ``is_telling`` says that this means something, the setting is taken to fail too, under the same load.
    """
    if not all(_at_least(getattr(setting, name), getattr(failed, name)) for name in CLOCKS):
        return False
    if (setting.voltage_offset_mv or 0.0) > (failed.voltage_offset_mv or 0.0):
        return False
    for name in PARTED:
        mine, theirs = getattr(setting, name), getattr(failed, name)
        if mine != theirs and any(mine.get(part, 0.0) > theirs.get(part, 0.0) for part in mine.keys() | theirs.keys()):
            return False
    if failed.fixed_voltage_v:
        return bool(setting.fixed_voltage_v) and setting.fixed_voltage_v <= failed.fixed_voltage_v  # type: ignore[operator]
    return not setting.fixed_voltage_v


def _at_least(mine: float | None, theirs: float | None) -> bool:
    """Return whether a clock is limited no lower than another: no limit (or a fixed clock of 0) is the highest."""
    return (mine or 1e9) >= (theirs or 1e9)
