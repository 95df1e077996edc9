"""What stands beside a choice: circumstances that were not measured, the setting that holds in all of them, and kept points."""

import msgspec

from niente.core.analysis.circumstances import usual_what_ifs
from niente.core.model.limits import Limits
from niente.core.model.project import Project
from niente.core.model.rig_card import RigCard
from niente.core.model.what_if import WhatIf
from niente.core.selection.answer import Answer
from niente.core.selection.points import PointStand, point_stand
from niente.core.selection.what_ifs import Outcome, RobustPick, outcome_of, robust


class BesideChoice(msgspec.Struct, frozen=True):
    """All of it, as far as it is worked out, with the limits that it was worked out for; ``whole`` once nothing is missing."""

    limits: Limits
    outcomes: tuple[Outcome, ...] = ()
    robust: RobustPick | None = None
    points: tuple[PointStand, ...] = ()
    whole: bool = False


def what_ifs_of(project: Project, card: RigCard) -> tuple[WhatIf, ...]:
    """Return the circumstances that a project looks at; the usual ones where it names none."""
    return usual_what_ifs(card) if project.what_ifs is None else project.what_ifs


def beside_choice(findings: Answer, project: Project) -> BesideChoice:
    """Return what stands beside the choice that was found."""
    found = next_beside(findings, project, None)
    while not found.whole:
        found = next_beside(findings, project, found)
    return found


def next_beside(findings: Answer, project: Project, so_far: BesideChoice | None) -> BesideChoice:
    """Return what stands beside the choice with its next part: the points, then one circumstance after the other, and the
    setting that holds in all; others may be served between them."""
    models, choice, reached = findings.models, findings.choice, findings.reached
    if models is None:
        return BesideChoice(project.limits, whole=True)
    if so_far is None:
        points = tuple(point_stand(models, point) for point in project.points)
        return BesideChoice(project.limits, points=points, whole=choice is None or reached is None)
    assert choice is not None
    assert reached is not None
    what_ifs = [one for one in what_ifs_of(project, models.card) if not one.problem()]
    done = len(so_far.outcomes)
    if done < len(what_ifs):
        own = outcome_of(models, choice.limits, choice.pick.setting, what_ifs[done], reached.settings)
        return msgspec.structs.replace(so_far, outcomes=(*so_far.outcomes, own))
    return msgspec.structs.replace(so_far, robust=robust(models, choice, what_ifs, reached.settings), whole=True)
