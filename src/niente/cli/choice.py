"""A choice for people and for scripts."""

from typing import Any

import msgspec

from niente.core.selection import explanation
from niente.core.selection.pick import Candidate, Choice

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
