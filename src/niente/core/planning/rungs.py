"""The runs of a search: those of one rung, and what is expected of those to come. A guess, for lists and costs only."""

from collections.abc import Iterator

import msgspec

from niente.core.model.plan import Exposure, Search, SearchMethod, Step
from niente.core.model.setting import Setting
from niente.core.planning.search import rung_text

EXPECTED_SHARE = 0.6
"""How far down a search is expected to get before the first failure."""
FAILS_S = 60.0
"""After about so long a load of too large a size drops out: the firmware's window is over."""


def rung_step(entry: Search, setting: Setting, load: str) -> Step:
    """Return the run of one load at a rung."""
    return Step(setting, load, entry.exposure, entry.stage, f"{rung_text(entry, setting)}: does it pass?")


def rung_steps(entry: Search, setting: Setting) -> Iterator[Step]:
    """Yield the runs of one rung, in the order in which they are asked for."""
    for load in entry.loads:
        for _ in range(entry.passes):
            yield rung_step(entry, setting, load)


def expected_to_pass(entry: Search, setting: Setting) -> bool:
    """Return whether a rung is expected to pass: it lies no deeper than a search usually gets."""
    values = [value for name in entry.controls if (value := setting.value(name)) is not None]
    share = max((value - entry.start) / (entry.deepest - entry.start) for value in values) if values else 0.0
    return share <= EXPECTED_SHARE


def as_foreseen(entry: Search, step: Step, passes: bool) -> Step:
    """Return a run as it is expected: from above, one that is too much fails long before its time."""
    if passes or entry.method != SearchMethod.FROM_ABOVE:
        return step
    brief_s = min(FAILS_S, step.exposure.min_s)
    return msgspec.structs.replace(step, exposure=Exposure(brief_s, brief_s))
