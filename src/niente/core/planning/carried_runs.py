"""Runs that still say what they said when a search finds another value: heat, noise and clock carry over through the models.

A failure late in a plan moves an offset by a few steps. What was measured a little deeper is no less true for that: only the
runs at the highest limit of each load, where the clock has most to bear, are made again at the value that is now found.
"""

from collections import defaultdict
from collections.abc import Callable, Iterable

from niente.core.analysis.evidence import RunSummary
from niente.core.analysis.models import CARRIES_MV
from niente.core.model.plan import Exposure, Plan, Search, Step
from niente.core.model.rig_card import RigCard
from niente.core.model.runs import RunOutcome
from niente.core.model.setting import Setting


class CarriedRuns:
    """The clean runs of a plan, by what they were but for the controls that its searches set."""

    def __init__(self, plan: Plan, card: RigCard, runs: Iterable[RunSummary]) -> None:
        self._searches = {entry.name: entry for entry in plan.entries if isinstance(entry, Search)}
        self._card = card
        self._top: dict[tuple[str, str], float] = {}
        for entry in plan.entries:
            if isinstance(entry, Step) and entry.takes:
                key, limit = (entry.takes, entry.load), entry.setting.sustained_power_w or 0.0
                self._top[key] = max(self._top.get(key, 0.0), limit)
        self._runs = list(runs) if self._searches else []
        self._like: dict[str, dict[object, list[RunSummary]]] = {}
        self._taken: set[int] = set()

    def answer(self, entry: Step, step: Step, fits: Callable[[RunSummary, Exposure], bool]) -> RunSummary | None:
        """Return a run that answers a step which takes a search's result, though it was made at another; ``None`` where none
        does.

        ``step`` is the entry as it is set now; ``fits`` says whether a run is as long, or as well known, as its exposure wants.
        """
        search = self._searches.get(entry.takes)
        limit = step.setting.sustained_power_w or 0.0
        if search is None or limit >= self._top.get((entry.takes, entry.load), 0.0):
            return None
        whole = step.setting.over(self._card.stock)
        for run in self._by_rest(search).get((self._rest(search, whole), step.load, step.variant or self._card.variant), ()):
            if run.run_id not in self._taken and _near(search, run.setting, whole) and fits(run, step.exposure):
                self._taken.add(run.run_id)
                return run
        return None

    def _by_rest(self, search: Search) -> dict[object, list[RunSummary]]:
        found = self._like.get(search.name)
        if found is None:
            found = defaultdict(list)
            for run in self._runs:
                if run.outcome == RunOutcome.DONE and not run.failures:
                    found[self._rest(search, run.setting), run.load, run.variant].append(run)
            self._like[search.name] = found
        return found

    @staticmethod
    def _rest(search: Search, whole: Setting) -> object:
        """Return a whole setting as something hashable, the searched controls apart."""
        return tuple((name, value) for name, value in whole.controls() if name not in search.controls)


def _near(search: Search, one: Setting, other: Setting) -> bool:
    """Return whether two settings lie close enough together in the searched controls to carry over, and differ in them."""
    apart = [(one.value(name) or 0.0) - (other.value(name) or 0.0) for name in search.controls]
    return any(apart) and all(abs(value) <= CARRIES_MV for value in apart)
