"""Where a ladder ends before its last rung: by what a run on it showed."""

import math

from niente.core.analysis.evidence import RunSummary
from niente.core.model.plan import Step, Until

STANDS_RPM = 30.0
"""A fan that reads less than this stands still."""
ENDED_BY = {
    Until.HEAT: "heat limited the clock before it",
    Until.STANDS: "the fans stood still before it",
    Until.TURNS: "the fans turned before it",
}
"""Why the rest of a ladder is left out."""


def ends_ladder(step: Step, run: RunSummary) -> bool:
    """Return whether a run of a step leaves the rest of its ladder out. Of fans whose speed is not read nothing is known."""
    if step.until == Until.HEAT:
        return run.heat_limited
    rpm = run.fan_rpm.get(step.watches, math.nan)
    return rpm < STANDS_RPM if step.until == Until.STANDS else rpm >= STANDS_RPM
