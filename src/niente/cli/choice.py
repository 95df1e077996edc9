"""A choice for people and for scripts."""

from typing import Any

import msgspec

from niente.core.selection import explanation as words
from niente.core.selection.pick import Candidate, Choice

FORMAT = "niente-choice/1"


def choice_as_data(choice: Choice) -> dict[str, Any]:
    """Return the choice as plain data; its keys are public (docs/reference/command-line.md)."""
    return {
        "format": FORMAT,
        "pick": _candidate(choice.pick),
        "confirmed": choice.confirmed,
        "reason": words.why_this(choice),
        "standing": words.standing(choice),
        "runners_up": [{**_candidate(other), "against": words.against(choice, other)} for other in choice.runners_up],
        "limits": msgspec.to_builtins(choice.limits),
        "costs": [
            {
                "limit": str(cost.limit),
                "wins_db": cost.wins_db,
                "instead": _candidate(cost.instead) if cost.instead is not None else None,
                "words": words.limit_cost(choice, cost.limit),
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
        f"The pick: {words.place_text(choice.pick)}",
        f"  {words.why_this(choice)}",
        f"  {words.standing(choice)}",
        "",
        "Runners-up",
        *(f"  {words.place_text(other)}: {words.against(choice, other)}" for other in choice.runners_up),
        "",
        "What each limit costs",
        *(f"  {words.limit_name(choice, cost.limit)}: {words.limit_cost(choice, cost.limit)}" for cost in choice.costs),
    ]
    return "\n".join(lines)
