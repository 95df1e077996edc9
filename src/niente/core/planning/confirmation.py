"""What to run once a plan's own steps are done: the pick, under the heaviest load, until it is confirmed."""

from niente.core.choosing.models import fit_models
from niente.core.choosing.pick import choose
from niente.core.choosing.words import place_text
from niente.core.errors import NotEnoughError
from niente.core.evidence import Evidence
from niente.core.plan import Exposure, Plan, Step
from niente.core.project import Limits

STAGE = "confirmation"


def next_step(plan: Plan, evidence: Evidence, limits: Limits, confirmed_so_far: int) -> Step | None:
    """Return the run that confirms the present pick, or ``None`` where it is confirmed, or cannot be."""
    if plan.confirm is None or confirmed_so_far >= plan.confirm.most_runs:
        return None
    try:
        models = fit_models(evidence)
        choice = choose(models, limits)
    except NotEnoughError:
        return None
    if choice.confirmed:
        return None
    least = max(plan.confirm.exposure_s, limits.clean_minutes * 60.0) + 1.0
    exposure = Exposure(least_s=least, most_s=least)
    return Step(choice.pick.setting, models.heavy_load, exposure, STAGE, f"The pick, {place_text(choice.pick)}: does it hold?")
