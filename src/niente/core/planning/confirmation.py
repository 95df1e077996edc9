"""Confirming the pick: the heaviest load at it, long enough, until it holds."""

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.models import fit_models
from niente.core.model.errors import NotEnoughError
from niente.core.model.plan import Confirmation, Exposure, Step
from niente.core.model.project import Limits
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.selection.explanation import candidate_text
from niente.core.selection.pick import Choice, choose

STAGE = "confirmation"


def next_confirmation(entry: Confirmation, evidence: Evidence, limits: Limits, so_far: int) -> Step | None:
    """Return the run that confirms the present pick, or ``None`` where it is confirmed, or cannot be.

    ``so_far`` are the runs that this confirmation has taken already.
    """
    if so_far >= entry.max_runs:
        return None
    try:
        models = fit_models(evidence)
        return confirming(entry, choose(models, limits), models.heavy_load, so_far)
    except NotEnoughError:
        return None


def confirming(entry: Confirmation, choice: Choice, load: str, so_far: int) -> Step | None:
    """Return the run that confirms a choice under a load; ``None`` where nothing is left to confirm."""
    if choice.confirmed or so_far >= entry.max_runs:
        return None
    least = max(entry.exposure_s, choice.limits.clean_minutes * 60.0) + 1.0
    words = f"The pick, {candidate_text(choice.pick)}: does it hold?"
    return Step(choice.pick.setting, load, Exposure(min_s=least, max_s=least), STAGE, words)


def expected_confirmation(entry: Confirmation, card: RigCard) -> Step:
    """Return the run as it is expected before the pick is known."""
    heavy = card.load_of(LoadKind.HEAVY)
    exposure = Exposure(min_s=entry.exposure_s, max_s=entry.exposure_s)
    return Step(
        card.stock, heavy.name if heavy is not None else "", exposure, STAGE, "The pick, once it is known: does it hold?"
    )
