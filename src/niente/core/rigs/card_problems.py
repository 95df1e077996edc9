"""What keeps a rig card from being used, in words: found when a rig is opened, before anything relies on it."""

import math
from collections import Counter

from niente.core.model.quantities import is_quantity
from niente.core.model.rig_card import LoadKind, RigCard


def card_problems(card: RigCard) -> list[str]:
    """Return everything about a card that breaks the contract; an empty list where nothing does."""
    names = _of_names(card)
    if names:
        return names  # what is not declared cannot be held against anything
    return [*_of_ranges(card), *_of_limits(card), *_of_settings(card), *_of_air(card)]


def _of_air(card: RigCard) -> list[str]:
    if card.air is None:
        return []
    return card.air.problems(tuple(channel.name for channel in card.channels), card.fan_groups())


def _of_names(card: RigCard) -> list[str]:
    channels, controls, loads = ([one.name for one in of] for of in (card.channels, card.controls, card.loads))
    found = [f"it names {name!r}, which is no quantity" for name in (*channels, *controls) if not is_quantity(name)]
    for kind, of in (("channel", channels), ("control", controls), ("load", loads)):
        found += [f"it has the {kind} {name!r} twice" for name, times in Counter(of).items() if times > 1]
    if not card.indices("core_temperature_c"):
        found.append("it has no core temperature, which every guard needs")
    if all(load.kind == LoadKind.IDLE for load in card.loads):
        found.append("it has no load that does any work")
    return found


def _of_ranges(card: RigCard) -> list[str]:
    found = []
    for one in card.controls:
        if not (math.isfinite(one.low) and math.isfinite(one.high) and one.low <= one.high):
            found.append(f"{one.name} goes from {one.low:g} to {one.high:g}")
        if not 0.0 < one.step < math.inf:
            found.append(f"{one.name} goes in steps of {one.step:g}")
        if one.file is not None and (problem := one.file.problem()):
            found.append(f"{one.name}: {problem}")
    return found


def _of_limits(card: RigCard) -> list[str]:
    limits, found = card.limits, []
    if not -math.inf < limits.core_temperature_c <= limits.shut_down_c < math.inf:
        found.append(f"its cores' limit is {limits.core_temperature_c:g} °C, and it shuts down at {limits.shut_down_c:g} °C")
    if not 0.0 <= limits.margin_k < math.inf:
        found.append(f"its margin is {limits.margin_k:g} K")
    if not 0.0 < card.sample_period_s < math.inf:
        found.append(f"its sample period is {card.sample_period_s:g} s")
    if not 0.0 <= card.restart_limit_s < math.inf:
        found.append(f"its restart limit is {card.restart_limit_s:g} s")
    return found


def _of_settings(card: RigCard) -> list[str]:
    found = []
    for title, setting in (("stock", card.stock), ("safe", card.safe)):
        found += [f"its {title} setting: {problem}" for problem in card.refusals(setting)]
    missing = {control.name for control in card.controls} - {name for name, _ in card.safe.controls()}
    if missing:
        found.append(f"its safe setting leaves {', '.join(sorted(missing))} open")
    return found
