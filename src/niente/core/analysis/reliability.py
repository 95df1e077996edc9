"""How surely a setting stands: the chance of a day without a failure, from what was run there and at riskier settings."""

import numpy as np

from niente.core.analysis.models import Models, offset_of
from niente.core.model.rig_card import LoadKind
from niente.core.science.arrays import Indices, Vector

DAY_S = 86400.0
SAME_CLOCK, SAME_MV = 0.005, 0.5
PRIOR_FAILURES = 0.5
"""Half a failure beforehand (Jeffreys' prior of a Poisson rate; textbook)."""


def reliability_over_a_day(models: Models, clock_mhz: Vector, offset_mv: Vector) -> tuple[Vector, Indices]:
    """Return the chance of 24 h without a failure, for clocks and voltage offsets ``(n,)``, and how many failures at settings
    that are no riskier speak against each.

    No curve is assumed, only that more clock and a deeper offset are riskier: exposure at riskier settings counts for a
    setting, failures at safer ones against it. With k failures in T seconds the rate has a gamma posterior and the chance is
    (T / (T + 24 h))^(k + 1/2) (textbook). So it is low until days were run: that is what is known then.
    """
    runs = [run for run in models.evidence.usable() if run.load_kind != LoadKind.IDLE and np.isfinite(run.clock_mhz)]
    if not runs:
        return np.zeros(clock_mhz.shape), np.zeros(clock_mhz.shape, dtype=np.int64)
    clock = np.array([run.clock_mhz for run in runs])[None, :]
    offset = np.array([offset_of(run.setting) for run in runs])[None, :]
    clean = np.array([run.seconds for run in runs])[None, :]
    failures = np.array([run.failures for run in runs])[None, :]
    mine, depth = clock_mhz[:, None], offset_mv[:, None]
    riskier = (clock >= mine * (1 - SAME_CLOCK)) & (offset <= depth + SAME_MV)
    safer = (clock <= mine * (1 + SAME_CLOCK)) & (offset >= depth - SAME_MV)
    exposed = np.where(riskier, clean, 0.0).sum(axis=1)
    against = np.where(safer, failures, 0).sum(axis=1)
    chance: Vector = (exposed / (exposed + DAY_S)) ** (against + PRIOR_FAILURES)
    return chance, against.astype(np.int64)
