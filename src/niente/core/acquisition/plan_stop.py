"""The way out of a plan from anywhere inside a run."""

from niente.core.model.errors import NienteError


class StopPlan(Exception):  # noqa: N818 (it is a way out, not an error)
    """Ends the plan from anywhere inside a run."""

    def __init__(self, why: str, how: str, error: NienteError | None = None) -> None:
        super().__init__(why)
        self.why = why
        self.how = how
        self.error = error
