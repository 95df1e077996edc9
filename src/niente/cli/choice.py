"""A choice for people and for scripts."""

from typing import Any

import msgspec

from niente.core.answers.beside_choice import BesideChoice
from niente.core.model.quantities import quantity_of
from niente.core.selection import explanation
from niente.core.selection.pick import Candidate, Choice
from niente.core.selection.what_if_words import outcome_text, robust_text, what_if_title

FORMAT = "niente-choice/1"


def choice_as_data(choice: Choice) -> dict[str, Any]:
    """Return the choice as plain data; its keys are public (docs/reference/command-line.md)."""
    return {
        "format": FORMAT,
        "pick": _candidate(choice.pick),
        "confirmed": choice.confirmed,
        "state": str(choice.standing),
        "reason": explanation.pick_reason(choice),
        "standing": explanation.confirmation_text(choice),
        "runners_up": [
            {**_candidate(other), "against": explanation.comparison_text(choice, other)} for other in choice.runners_up
        ],
        "limits": msgspec.to_builtins(choice.limits),
        "costs": [
            {
                "limit": str(cost.limit),
                "wins_db": cost.wins_db,
                "wins": cost.wins,
                "unit_wins": cost.unit_wins,
                "instead": _candidate(cost.instead) if cost.instead is not None else None,
                "words": explanation.limit_cost_text(choice, cost.limit),
            }
            for cost in choice.costs
        ],
        "settings": choice.settings,
        "eligible": choice.eligible,
    }


def _candidate(candidate: Candidate) -> dict[str, Any]:
    """Return a candidate; its own public names are the keys."""
    data: dict[str, Any] = msgspec.to_builtins(candidate)
    del data["limit_w"], data["duty"]  # they stand in the setting
    return data


def choice_as_text(choice: Choice) -> str:
    """Return the choice for a terminal."""
    lines = [
        f"The pick: {explanation.candidate_text(choice.pick)}",
        f"  {explanation.pick_reason(choice)}",
        f"  {explanation.confirmation_text(choice)}",
        "",
        "Runners-up",
        *(
            f"  {explanation.candidate_text(other)}: {explanation.comparison_text(choice, other)}"
            for other in choice.runners_up
        ),
        "",
        "What each limit costs",
        *(
            f"  {explanation.limit_text(choice, cost.limit)}: {explanation.limit_cost_text(choice, cost.limit)}"
            for cost in choice.costs
        ),
    ]
    return "\n".join(lines)


def beside_as_data(beside: BesideChoice) -> dict[str, Any]:
    """Return what stands beside a choice as plain data."""
    robust = beside.robust
    return {
        "circumstances": [
            {
                "what_if": msgspec.to_builtins(one.what_if),
                "holds": one.holds,
                "breaks": [str(limit) for limit in one.breaks],
                "there": _candidate(one.there) if one.known else None,
                "instead": None if one.instead is None else _candidate(one.instead),
                "words": outcome_text(one),
            }
            for one in beside.outcomes
        ],
        "robust": None
        if robust is None
        else {
            "pick": None if robust.pick is None else _candidate(robust.pick),
            "louder_db": robust.louder_db,
            "slower_percent": robust.slower_percent,
            "words": robust_text(robust),
        },
        "points": [{"name": one.point.name, "holds": one.holds, "words": one.words} for one in beside.points],
    }


def beside_as_text(beside: BesideChoice) -> str:
    """Return what stands beside a choice for a terminal."""
    lines = ["What if (assumed, not measured)"]
    for one in beside.outcomes:
        headroom = quantity_of("headroom_k").with_unit(one.there.headroom_k, one.there.core_hw)
        noise = quantity_of("noise_dba").with_unit(one.heard_dba)
        figures = f"{headroom}, {noise}; " if one.known else ""
        lines.append(f"  {what_if_title(one.what_if)}: {figures}{outcome_text(one)}")
    if beside.robust is not None:
        lines.append(f"  {robust_text(beside.robust)}")
    if beside.points:
        lines += ["", "Kept points, against stock", *(f"  {one.point.name}: {one.words}" for one in beside.points)]
    return "\n".join(lines)
