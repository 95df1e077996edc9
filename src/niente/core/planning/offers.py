"""What each question would cost, before one is asked."""

import msgspec

from niente.core.model.plan import Guard
from niente.core.model.question import Question
from niente.core.model.rig_card import RigCard
from niente.core.planning.cost import Pace, cost_of, pace_of, row_seconds
from niente.core.planning.progress import Row, plan_rows
from niente.core.planning.templates import TEMPLATES, plan_for


class Offer(msgspec.Struct, frozen=True):
    """A question that a rig can be asked: as it would first be asked, its runs and its typical time in s of the rig.

    ``parts`` are its runs by load, in the order of their first: the load's title, how many runs, and their seconds.
    """

    question: Question
    runs: int
    seconds: float
    parts: tuple[tuple[str, int, float], ...] = ()


def offers(card: RigCard, guards: tuple[Guard, ...] | None = None) -> tuple[Offer, ...]:
    """Return every question that has runs on a rig, in the order of the templates, each as it would first be asked."""
    pace = pace_of(card, None)
    found = []
    for kind in TEMPLATES:
        if kind.lacks(card):
            continue
        question = kind.first(card)
        rows = plan_rows(plan_for(card, question, guards), card)
        cost = cost_of(rows, card, question, pace)
        if cost.runs:
            found.append(Offer(question, cost.runs, cost.typical_s, _by_load(rows, card, pace)))
    return tuple(found)


def _by_load(rows: tuple[Row, ...], card: RigCard, pace: Pace) -> tuple[tuple[str, int, float], ...]:
    titles = {load.name: load.title for load in card.loads}
    found: dict[str, tuple[int, float]] = {}
    for row in rows:
        seconds = row_seconds(row, pace)
        if seconds > 0.0:
            runs, so_far = found.get(row.step.load, (0, 0.0))
            found[row.step.load] = (runs + 1, so_far + seconds)
    return tuple((titles.get(load, load), runs, seconds) for load, (runs, seconds) in found.items())
