"""What the engine may be doing, and what may follow on what."""

from enum import StrEnum


class BenchState(StrEnum):
    """The engine's states."""

    IDLE = "idle"
    APPLYING = "applying"
    WAITING_FOR_HANDS = "waiting for hands"
    SETTLING = "settling"
    EXPOSING = "exposing"
    WAITING = "resting"
    PAUSED = "holding"
    RESTORING = "restoring"
    ENDED = "ended"


MAY_FOLLOW: dict[BenchState, frozenset[BenchState]] = {
    BenchState.IDLE: frozenset({BenchState.APPLYING, BenchState.WAITING, BenchState.RESTORING, BenchState.ENDED}),
    BenchState.APPLYING: frozenset(
        {
            BenchState.IDLE,  # a setting that stays
            BenchState.APPLYING,  # the machine went down as it was set, and is back already
            BenchState.WAITING_FOR_HANDS,
            BenchState.SETTLING,
            BenchState.EXPOSING,
            BenchState.WAITING,
            BenchState.PAUSED,
            BenchState.RESTORING,
        }
    ),
    BenchState.WAITING_FOR_HANDS: frozenset(
        {
            BenchState.IDLE,  # a setting that stays
            BenchState.SETTLING,
            BenchState.EXPOSING,
            BenchState.WAITING,
            BenchState.APPLYING,
            BenchState.PAUSED,
            BenchState.RESTORING,
        }
    ),
    BenchState.SETTLING: frozenset(
        {BenchState.WAITING_FOR_HANDS, BenchState.APPLYING, BenchState.WAITING, BenchState.PAUSED, BenchState.RESTORING}
    ),
    BenchState.EXPOSING: frozenset(
        {BenchState.WAITING_FOR_HANDS, BenchState.APPLYING, BenchState.WAITING, BenchState.PAUSED, BenchState.RESTORING}
    ),
    BenchState.WAITING: frozenset({BenchState.APPLYING, BenchState.WAITING, BenchState.PAUSED, BenchState.RESTORING}),
    BenchState.PAUSED: frozenset({BenchState.APPLYING, BenchState.WAITING, BenchState.RESTORING}),
    BenchState.RESTORING: frozenset({BenchState.IDLE, BenchState.ENDED}),
    BenchState.ENDED: frozenset(),
}
"""Every change of state that is allowed; a change that is not is a bug and stops the engine."""
