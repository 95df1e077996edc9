"""The points of an axis on a rig: what is wrong with them, and what the rig makes of them."""

from itertools import pairwise

from niente.core.model.names import control_name, kind_of
from niente.core.model.quantities import quantity_of
from niente.core.model.question import Axis
from niente.core.model.rig_card import RigCard

SPEED, LEVEL = "fan_speed_rpm", "noise_dba"


def is_fan_axis(axis: Axis) -> bool:
    """Return whether an axis is over fans: their duty, their speed, or the level they make."""
    return kind_of(axis.control) in ("fan_duty", SPEED, LEVEL)


def axis_title(axis: Axis, card: RigCard) -> str:
    """Return the axis' name as a person reads it."""
    name, part = control_name(axis.control)
    if name == SPEED:
        return f"Fan speed, {part}"
    if name == LEVEL:
        return "Level of all fans"
    control = card.control(axis.control)
    return control.title if control is not None else axis.control


def offered_controls(card: RigCard) -> list[str]:
    """Return the controls that may be varied or fixed, those of many parts as one as well."""
    names = [control.name for control in card.controls]
    many = ("core_offset_mv", "point_offset_mv")
    whole = [name for name in many if any(one.startswith(f"{name}.") for one in names)]
    return whole + [name for name in names if not name.startswith(many)]


def range_of(axis: Axis, card: RigCard) -> tuple[float, float, float]:
    """Return the lowest and highest value an axis can take on a rig, and the step it is set in."""
    control = card.control(axis.control)
    if control is not None:
        return control.low, control.high, control.step
    quantity = quantity_of(axis.control)
    return quantity.low, quantity.high, 10.0 if axis.control.startswith(SPEED) else 0.5


def axis_problem(axis: Axis, card: RigCard) -> str:
    """Return what is wrong with an axis for a rig, in words; empty where nothing is."""
    span_problem = axis.span.problem() if axis.span is not None else ""
    missing = _missing_for(axis, card) or span_problem
    if missing:
        return missing
    return _points_problem(axis, card) if axis.points() else "it is empty"


def _missing_for(axis: Axis, card: RigCard) -> str:
    """Return what a rig lacks for an axis, in words; empty where nothing."""
    name, part = control_name(axis.control)
    if name == SPEED:
        known = part in card.fan_groups() and bool(card.indices(SPEED))
        return "" if known else f"this rig reads no speed of the fan group {part!r}"
    if name == LEVEL:
        known = card.index(LEVEL) is not None and bool(card.fan_groups())
        return "" if known else "this rig reads no noise, or has no fans to set"
    return "" if card.control(axis.control) is not None else f"this rig has no control {axis.control!r}"


def _points_problem(axis: Axis, card: RigCard) -> str:
    """Return what is wrong with the points of an axis, in words; empty where nothing is."""
    control, points = card.control(axis.control), axis.points()
    by_ratio = axis.span is not None and axis.span.by_ratio
    low, high, step = range_of(axis, card)
    outside = next((value for value in points if not (control.takes(value) if control else low <= value <= high)), None)
    quantity = quantity_of(axis.control)
    if outside is not None:
        return f"{quantity.with_unit(outside)} lies outside {quantity.text(low)} to {quantity.with_unit(high)}"
    if axis.span is not None and not by_ratio and axis.span.step < step * 0.999:
        return f"its step of {axis.span.step:g} is finer than the rig's {step:g} {quantity.unit}"
    if len(set(points)) != len(points):
        return "a point stands there twice"
    if not by_ratio and any(abs(b - a) < step * 0.999 for a, b in pairwise(sorted(points))):
        return f"its points lie closer than the rig's step of {step:g} {quantity.unit}"
    return ""


def snapped(axis: Axis, card: RigCard) -> tuple[float, ...]:
    """Return the points of an axis as the rig can set them, each once, in the order given."""
    control = card.control(axis.control)
    low, _, step = range_of(axis, card)
    start = control.low if control is not None else low
    found: dict[float, None] = {}
    for point in axis.points():
        if control is not None and point == control.rest:
            found[point] = None
        else:
            found[float(f"{start + round((point - start) / step) * step:.8g}")] = None
    return tuple(found)
