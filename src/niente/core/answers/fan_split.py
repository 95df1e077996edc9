"""The quietest split of fans for a given cooling: which group turns how fast, where the rise stays what it was."""

from collections.abc import Sequence
from itertools import product

import msgspec
import numpy as np

from niente.core.analysis.evidence import RunSummary
from niente.core.analysis.model_runs import source_watts
from niente.core.analysis.models import Models

STEPS = 14
"""Duties a group that are looked at."""
AS_COOL_K = 0.05
HEARD_S = 20.0
"""What was run for less asked where fans start and stall: nobody lets them turn there."""


class Split(msgspec.Struct, frozen=True):
    """A run, and the duties of each group with which the models keep its rise at the least noise: the level there and at the
    run's own duties (dBA), and how much warmer it is there (K, and the half width of its 95 % interval), by the same models."""

    run: RunSummary
    duties: dict[str, float]
    level_dba: float
    own_dba: float
    warmer_k: float
    warmer_half_k: float

    @property
    def wins_db(self) -> float:
        """How much quieter the split is."""
        return self.own_dba - self.level_dba


def quietest_splits(models: Models, runs: Sequence[RunSummary]) -> list[Split]:
    """Return the quietest split for the rise of each settled run, among duties of the range that was run."""
    groups = models.noise.groups
    heard = [run for run in models.evidence.usable() if run.seconds >= HEARD_S]
    seen = {
        group: sorted({run.setting.fan_duty[group] for run in heard if run.setting.fan_duty.get(group)}) for group in groups
    }
    if any(not duties for duties in seen.values()):
        return []
    axes = [np.unique(np.round(np.linspace(seen[group][0], seen[group][-1], STEPS))) for group in groups]
    grid = np.array(list(product(*axes)))
    rpm = np.stack([models.rpm(group, grid[:, index]) for index, group in enumerate(groups)], axis=1)
    found = []
    for run, sources in zip(runs, source_watts(list(runs), models.heat.sources), strict=True):
        own = np.array([[float(models.rpm(group, np.array(run.setting.fan_duty.get(group, 0.0)))) for group in groups]])
        every = np.concatenate([rpm, own])
        count = every.shape[0]
        rise, _ = models.heat.rise(np.full(count, run.power_w), every, np.tile(sources, (count, 1)), run.load)
        level, _ = models.noise.in_room(every, run.power_w + float(sources.sum()))
        cool = rise[:-1] <= rise[-1] + AS_COOL_K
        if not cool.any() or np.min(np.where(cool, level[:-1], np.inf)) > level[-1]:
            continue
        best = int(np.argmin(np.where(cool, level[:-1], np.inf)))
        duties = dict(zip(groups, grid[best].tolist(), strict=True))
        pair = np.stack([every[-1], every[best]])
        apart = models.heat.difference(np.full(2, run.power_w), pair, np.tile(sources, (2, 1)))
        found.append(Split(run, duties, float(level[best]), float(level[-1]), *apart))
    return found
