"""Runs that follow from the pick: those that take doubt from it, and those that confirm it."""

import msgspec

from niente.core.analysis.evidence import Evidence, RunSummary
from niente.core.analysis.judged import JudgedSettings
from niente.core.analysis.models import Models, fit_models
from niente.core.model.errors import NotEnoughError
from niente.core.model.kept_point import KeptPoint
from niente.core.model.limits import Limits
from niente.core.model.plan import CONFIRMING, NEAR_PICK, Confirmation, Exposure, PickRuns, Step
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.planning.pick_runs import EXPECTED_RUNS, next_pick_run
from niente.core.selection.explanation import candidate_text
from niente.core.selection.pick import Choice, choose
from niente.core.selection.reach import reachable


def next_of_pick(entry: Confirmation | PickRuns, evidence: Evidence, limits: Limits, so_far: int) -> Step | None:
    """Return the run that an entry asks for next, by what the book comes to; ``None`` where it is over, or cannot be.

    ``so_far`` are the runs that it has taken already.
    """
    if so_far >= entry.max_runs:
        return None
    try:
        models = fit_models(evidence)
    except NotEnoughError:
        return None
    reached = reachable(models, limits)
    try:
        choice = choose(models, limits, reached)
    except NotEnoughError:
        choice = None
    return following(entry, Decided(models, limits, reached, choice), so_far)


class Decided(msgspec.Struct, frozen=True):
    """What the next run follows from: the models, the settings that they reach, and the pick among them; ``None`` while nothing
    surely keeps the limits."""

    models: Models
    limits: Limits
    reached: JudgedSettings
    choice: Choice | None


def following(entry: Confirmation | PickRuns, decided: Decided, so_far: int) -> Step | None:
    """Return the run that an entry asks for next, by a choice; ``None`` where nothing is left to run."""
    if so_far >= entry.max_runs:
        return None
    choice, load = decided.choice, decided.models.heavy_load
    if isinstance(entry, PickRuns):
        wanted = next_pick_run(entry, decided.models, decided.limits, decided.reached, choice)
        if wanted is not None or not entry.confirm_s:
            return wanted
    return confirming(confirm_s_of(entry), choice, load) if choice is not None else None


def confirm_s_of(entry: Confirmation | PickRuns) -> float:
    """Return for how many seconds an entry wants the pick to run; 0 where it does not confirm it."""
    return entry.exposure_s if isinstance(entry, Confirmation) else entry.confirm_s


def confirming(exposure_s: float, choice: Choice, load: str) -> Step | None:
    """Return the run that confirms a choice under a load; ``None`` where nothing is left to confirm."""
    if choice.confirmed:
        return None
    least = max(exposure_s, choice.limits.clean_minutes * 60.0) + 1.0
    words = f"The pick, {candidate_text(choice.pick)}: does it hold?"
    return Step(choice.pick.setting, load, Exposure(min_s=least, max_s=least), CONFIRMING, words)


def confirming_point(point: KeptPoint, load: str) -> Step:
    """Return the run that confirms a kept point under a load, for as long as its limits ask."""
    least = point.limits.clean_minutes * 60.0 + 1.0
    return Step(point.setting, load, Exposure(min_s=least, max_s=least), CONFIRMING, f"The point {point.name}: does it hold?")


def expected_runs(entry: Confirmation | PickRuns, card: RigCard, made: int) -> list[Step]:
    """Return the runs as they are expected before the pick is known, after those that were made; never none."""
    heavy = card.load_of(LoadKind.HEAVY)
    load = heavy.name if heavy is not None else ""
    found = []
    if isinstance(entry, PickRuns):
        near = Step(card.stock, load, entry.exposure, NEAR_PICK, "Near the pick, once that is known: what tells most of it")
        found = [near] * max(EXPECTED_RUNS - made, 0 if entry.confirm_s else 1)
    confirm_s = confirm_s_of(entry)
    if confirm_s:
        words = "The pick, once it is known: does it hold?"
        found.append(Step(card.stock, load, Exposure(min_s=confirm_s, max_s=confirm_s), CONFIRMING, words))
    return found


def run_as_made(entry: Confirmation | PickRuns, run: RunSummary) -> Step:
    """Return the step that a run was made for."""
    confirm_s = confirm_s_of(entry)
    if isinstance(entry, PickRuns) and not 0.0 < confirm_s <= run.seconds:
        return Step(run.setting, run.load, entry.exposure, NEAR_PICK, run.follows or "Near the pick as it was then")
    return Step(
        run.setting, run.load, Exposure(min_s=confirm_s, max_s=confirm_s), CONFIRMING, run.follows or "The pick as it was then"
    )
