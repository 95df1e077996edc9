"""Circumstances that were not measured, and what becomes of a choice in them, in words."""

from niente.core.model.limits import Limits
from niente.core.model.quantities import NO_BREAK_SPACE, number_text
from niente.core.model.what_if import Circumstance, WhatIf
from niente.core.selection.explanation import candidate_text, short_candidate_text
from niente.core.selection.kept import Limit
from niente.core.selection.pick import Candidate
from niente.core.selection.what_ifs import Outcome, RobustPick

SHORT = {Limit.FAILURES: "reliability", Limit.FANS: "fans that turn", Limit.LOADS: "what single loads must keep"}
"""What breaks, in a word or two; other limits are called as they are."""


def what_if_title(what_if: WhatIf) -> str:
    """Return a circumstance with its figure: ``hotter room, 32 °C``."""
    figure = {
        Circumstance.ROOM: f"{what_if.value:g}{NO_BREAK_SPACE}°C",
        Circumstance.ALTITUDE: f"{what_if.value:g}{NO_BREAK_SPACE}m",
        Circumstance.FLOW: f"{what_if.value:g}{NO_BREAK_SPACE}% of the flow",
        Circumstance.PASTE: f"{what_if.value:g}{NO_BREAK_SPACE}K more at 100{NO_BREAK_SPACE}W",
    }.get(what_if.kind, what_if.part)
    return f"{what_if.kind.value}, {figure}" if figure else what_if.kind.value


def outcome_text(outcome: Outcome) -> str:
    """Say what becomes of the pick: that it holds, where it moves to, or that nothing holds."""
    if outcome.holds:
        return "holds"
    if not outcome.known:
        return f"not known: {outcome.problem}"
    broken = " and ".join(SHORT.get(limit, limit.value) for limit in outcome.breaks)
    if outcome.instead is None:
        return f"breaks {broken}; nothing holds there"
    return f"breaks {broken}; moves to {candidate_text(outcome.instead)}, {_by(outcome.there, outcome.instead)}"


def outcome_brief(outcome: Outcome) -> str:
    """Say the same in less room: ``moves, 0.9 dB louder: 102 W, 33 %, cooler fans 41 %``."""
    if outcome.holds:
        return "holds"
    if not outcome.known:
        return f"not known: {outcome.problem}"
    if outcome.instead is None:
        return "nothing holds there"
    return f"moves, {_by(outcome.there, outcome.instead)}: {short_candidate_text(outcome.instead)}"


def _by(here: Candidate, instead: Candidate) -> str:
    """Return how much louder or quieter another setting is in the room, in words."""
    louder = instead.in_room_dba - here.in_room_dba
    if abs(louder) < 0.05:
        return "as loud"
    return f"{number_text(abs(louder), 1)}{NO_BREAK_SPACE}dB {'louder' if louder > 0.0 else 'quieter'}"


def robust_text(robust: RobustPick) -> str:
    """Say which setting holds in all circumstances that it must hold in, and what that costs."""
    if robust.pick is None:
        return robust.problem
    costs = []
    if robust.louder_db >= 0.05:
        costs.append(f"{number_text(robust.louder_db, 1)}{NO_BREAK_SPACE}dB")
    if robust.slower_percent >= 0.05:
        costs.append(f"{number_text(robust.slower_percent, 1)}{NO_BREAK_SPACE}% of throughput")
    price = f"costs {' and '.join(costs)}" if costs else "costs nothing"
    return f"Holds in all that it must: {candidate_text(robust.pick)}; {price}."


def assumed_text(limits: Limits) -> str:
    """Say what the figures of circumstances rest on."""
    room = f"{limits.design_room_c:g}{NO_BREAK_SPACE}°C"
    return (
        f"Assumed, not measured; all else as in the {room} room. A filter hinders the fans of the case, paste adds by the watt."
    )
