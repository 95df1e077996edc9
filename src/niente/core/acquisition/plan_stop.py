"""The way out of a plan from anywhere inside a run."""

from niente.core.model.errors import ErrorText
from niente.core.model.runs import RunOutcome


class StopPlan(Exception):  # noqa: N818 (it is a way out, not an error)
    """Ends the plan from anywhere inside a run."""

    def __init__(self, reason: str, outcome: RunOutcome, error: ErrorText | None = None) -> None:
        super().__init__(reason)
        self.reason = reason
        self.outcome = outcome
        self.error = error
