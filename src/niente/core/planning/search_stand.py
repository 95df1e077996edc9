"""Where a search by exposures stands: the runs that were made for it, what is left of its time, and whether it gives up."""

import msgspec

from niente.core.analysis.evidence import Evidence, RunSummary
from niente.core.model.plan import Search, SearchMethod, Step
from niente.core.model.rig_card import RigCard
from niente.core.model.runs import NOT_MADE_AGAIN, RunOutcome
from niente.core.planning.depth_search import SETTING_S

RESTART_S = 180.0
"""What a restart after a crash takes; common practice, no source."""
GIVES_UP = 3
"""So many exposures that a guard or a person ended, one after the other, end the search: the next would end alike."""


class SearchStand(msgspec.Struct, frozen=True):
    """Where a search by exposures stands: the runs that were made for it, the exposures ahead (the first is sure, the others
    are expected), and what was found: the controls' values; ``None`` while exposures are ahead."""

    made: tuple[RunSummary, ...]
    ahead: tuple[Step, ...]
    found: dict[str, float] | None


def made_for(entry: Search, card: RigCard, evidence: Evidence | None, since_s: float) -> tuple[RunSummary, ...]:
    """Return the runs that were made for a search like this one: over the same setting, with the same control."""
    if evidence is None:
        return ()
    whole = entry.setting.over(card.stock)
    alike = {
        (number, index)
        for number, plan in evidence.plans.items()
        for index, one in enumerate(plan.entries)
        if isinstance(one, Search)
        and one.method == SearchMethod.STRUCTURED
        and one.controls == entry.controls
        and one.setting.over(card.stock) == whole
    }
    return tuple(
        run
        for run in evidence.runs
        if run.outcome in NOT_MADE_AGAIN
        and run.opened_at >= since_s
        and (run.plan_id, run.step) in alike
        and run.load in entry.loads
    )


def seconds_left(entry: Search, made: tuple[RunSummary, ...]) -> float:
    """Return what is left of a search's time; none where it has made all its runs, or its last ones were all ended for it."""
    ended = [run.outcome in (RunOutcome.GUARD, RunOutcome.SKIPPED) for run in made[-GIVES_UP:]]
    if len(made) >= entry.max_runs or (len(ended) == GIVES_UP and all(ended)):
        return 0.0
    return max(entry.budget_s - sum(run.seconds + SETTING_S + RESTART_S * run.crashed for run in made), 0.0)
