"""A quiet point that is looked for on a grid, for tests that want many runs over every axis and the same ones each time."""

from niente.core.model.question import Question
from niente.core.model.rig_card import RigCard
from niente.core.planning.templates import grid_project


def grid_question(card: RigCard) -> Question:
    """The quiet point of a rig over its grid."""
    return grid_project(card).question
