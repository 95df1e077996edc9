"""What the engine may be doing, and what may follow on what."""

from enum import StrEnum


class State(StrEnum):
    """The engine's states."""

    IDLE = "idle"
    APPLYING = "applying"
    WAITING_FOR_HANDS = "waiting for hands"
    SETTLING = "settling"
    EXPOSING = "exposing"
    RESTING = "resting"
    HOLDING = "holding"
    RESTORING = "restoring"
    ENDED = "ended"


MAY_FOLLOW: dict[State, frozenset[State]] = {
    State.IDLE: frozenset({State.APPLYING, State.RESTING, State.RESTORING, State.ENDED}),
    State.APPLYING: frozenset({State.WAITING_FOR_HANDS, State.SETTLING, State.EXPOSING, State.RESTORING}),
    State.WAITING_FOR_HANDS: frozenset(
        {State.SETTLING, State.EXPOSING, State.RESTING, State.APPLYING, State.HOLDING, State.RESTORING}
    ),
    State.SETTLING: frozenset({State.WAITING_FOR_HANDS, State.APPLYING, State.RESTING, State.HOLDING, State.RESTORING}),
    State.EXPOSING: frozenset({State.WAITING_FOR_HANDS, State.APPLYING, State.RESTING, State.HOLDING, State.RESTORING}),
    State.RESTING: frozenset({State.APPLYING, State.RESTING, State.HOLDING, State.RESTORING}),
    State.HOLDING: frozenset({State.APPLYING, State.RESTING, State.RESTORING}),
    State.RESTORING: frozenset({State.IDLE, State.ENDED}),
    State.ENDED: frozenset(),
}
"""Every change of state that is allowed; a change that is not is a bug and stops the engine."""
