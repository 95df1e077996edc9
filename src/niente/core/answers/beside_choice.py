"""What stands beside a choice: circumstances that were not measured, the setting that holds in all of them, and kept points."""

import msgspec

from niente.core.analysis.circumstances import usual_what_ifs
from niente.core.model.limits import Limits
from niente.core.model.project import Project
from niente.core.model.rig_card import RigCard
from niente.core.model.what_if import WhatIf
from niente.core.selection.answer import Answer
from niente.core.selection.points import PointStand, point_stand
from niente.core.selection.what_ifs import Outcome, RobustPick, outcomes, robust


class BesideChoice(msgspec.Struct, frozen=True):
    """All of it, with the limits that it was worked out for."""

    limits: Limits
    outcomes: tuple[Outcome, ...] = ()
    robust: RobustPick | None = None
    points: tuple[PointStand, ...] = ()


def what_ifs_of(project: Project, card: RigCard) -> tuple[WhatIf, ...]:
    """Return the circumstances that a project looks at; the usual ones where it names none."""
    return usual_what_ifs(card) if project.what_ifs is None else project.what_ifs


def beside_choice(findings: Answer, project: Project) -> BesideChoice:
    """Return what stands beside the choice that was found."""
    models, choice, reached = findings.models, findings.choice, findings.reached
    if models is None:
        return BesideChoice(project.limits)
    points = tuple(point_stand(models, point) for point in project.points)
    if choice is None or reached is None:
        return BesideChoice(project.limits, points=points)
    what_ifs = what_ifs_of(project, models.card)
    return BesideChoice(
        choice.limits,
        outcomes(models, choice, what_ifs, reached.settings),
        robust(models, choice, what_ifs, reached.settings),
        points,
    )
