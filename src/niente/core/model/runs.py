"""What a run is made for, and how it ended. The values are those that books and scripts hold."""

from enum import StrEnum


class RunKind(StrEnum):
    """What a run is made for."""

    STEP = "step"
    """It measures: a step of a plan under its load."""
    IDLE = "rest"
    """The machine is idle at a setting before its load starts."""


class RunOutcome(StrEnum):
    """How a run ended."""

    DONE = "done"
    """It came to its own end."""
    FAILED = "failed"
    """The machine failed in it: a wrong result, a drop-out, a crash."""
    SKIPPED = "skipped"
    GUARD = "guard"
    """A guard tripped."""
    VOIDED = "voided"
    """It is no measurement, and is made again."""
    STOPPED = "stopped"
    """The plan was stopped in it."""
    INTERRUPTED = "interrupted"
    """It was found open at the next start, and nobody knows why it ended."""


CONCLUSIVE = frozenset({RunOutcome.DONE, RunOutcome.FAILED})
"""The outcomes that say something of the setting."""
NOT_MADE_AGAIN = CONCLUSIVE | {RunOutcome.SKIPPED, RunOutcome.GUARD}
"""The outcomes after which a plan goes on with its next run."""
