"""What a plan costs in time, before it is run, and what the naive way would cost."""

import msgspec

from niente.core.plan import Exposure, Plan
from niente.core.project import QuietPoint

TYPICAL_S = 840.0
"""How long a run takes that ends when it is known, where nothing better is known: practice on air coolers."""
NAIVE_S = 1800.0
"""The careful half hour a setting."""


class PlanCost(msgspec.Struct, frozen=True):
    """Runs and seconds of a plan (typical), at the most, and of the full factorial by half hours."""

    runs: int
    typical_s: float
    most_s: float
    naive_runs: int
    naive_s: float


def typical_seconds(exposure: Exposure) -> float:
    """Return how long a run with this rule typically takes, in s."""
    if exposure.known_to_k is None:
        return exposure.least_s
    return min(max(TYPICAL_S, exposure.least_s), exposure.most_s)


def cost_of(plan: Plan, question: QuietPoint | None = None) -> PlanCost:
    """Return what a plan costs; the full factorial is every setting of the question's axes under every load."""
    confirm = plan.confirm.exposure_s if plan.confirm is not None else 0.0
    typical = sum(typical_seconds(step.exposure) for step in plan.steps) + confirm
    most = sum(step.exposure.most_s for step in plan.steps) + confirm * (plan.confirm.most_runs if plan.confirm else 0)
    naive = len(question.power.values) * len(question.fans.values) * len(question.loads) if question else len(plan.steps)
    return PlanCost(len(plan.steps) + (plan.confirm is not None), typical, most, naive, naive * NAIVE_S)
