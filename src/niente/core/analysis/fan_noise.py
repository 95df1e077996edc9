"""Noise against duty and speed: each fan group alone and all together, over the room, with what was read."""

import math

import msgspec
import numpy as np

from niente.core.analysis.evidence import RunSummary
from niente.core.analysis.model_runs import turning
from niente.core.analysis.models import Models
from niente.core.science.acoustics import add_levels
from niente.core.science.arrays import Vector
from niente.core.science.statistics import Z95

POINTS = 101
MIN_RPM = 40.0
"""Below it a fan stands."""
CLEARLY_DB = 6.0
"""A group that is so much louder than all others together adds 1 dB less than all of them do: the reading is its own."""
STOPPED_DBA = -60.0
"""The level of a group that stands: far below any room, and small enough to vanish in a sum."""


class HeardLevel(msgspec.Struct, frozen=True):
    """One reading: duty (%) and speed (rpm) of the group it tells of, and the level in the room with its 95 % half width."""

    run_id: int
    duty: float
    rpm: float
    dba: float
    half_width_db: float


class GroupNoise(msgspec.Struct, frozen=True):
    """A fan group over its duty (%) as far as it was heard, with the other groups stopped: speed, its level alone and in the
    room, each with its 95 % half width, and the readings in which it was louder than the others. ``seen`` is the least and
    highest duty read."""

    group: str
    duty: Vector
    rpm: Vector
    alone_dba: Vector
    alone_hw: Vector
    in_room_dba: Vector
    in_room_hw: Vector
    seen: tuple[float, float]
    heard: tuple[HeardLevel, ...]


class Loudness(msgspec.Struct, frozen=True):
    """All groups, what they come to together at the same duty, and the room. ``heard`` are the readings in which no group is
    much the loudest."""

    groups: tuple[GroupNoise, ...]
    duty: Vector
    together_dba: Vector
    together_hw: Vector
    background_dba: float
    background_hw: float
    heard: tuple[HeardLevel, ...]


def _by_group(models: Models) -> tuple[dict[int, list[HeardLevel]], list[HeardLevel]]:
    """Return the readings that one group makes by its index, and those of all together."""
    assigned: dict[int, list[HeardLevel]] = {index: [] for index in range(len(models.noise.groups))}
    together: list[HeardLevel] = []
    for run in models.evidence.usable():
        if np.isfinite([run.noise_dba, run.noise_se_db]).all():
            group, level = _heard(models, run)
            (together if group is None else assigned[group]).append(level)
    return assigned, together


def _heard(models: Models, run: RunSummary) -> tuple[int | None, HeardLevel]:
    """Return a run's reading and the group that makes it; ``None`` where none stands 6 dB over the others."""
    groups = models.noise.groups
    if not groups:
        return None, HeardLevel(run.run_id, math.nan, 0.0, run.noise_dba, run.noise_hw_db)
    rpm = np.array([turning(run, group) for group in groups])
    levels = np.array([_own(models, index, rpm[index : index + 1])[0] for index in range(len(groups))])
    loudest = int(np.argmax(levels))
    duty = run.setting.fan_duty.get(groups[loudest], math.nan)
    level = HeardLevel(run.run_id, duty, float(rpm[loudest]), run.noise_dba, run.noise_hw_db)
    others = np.delete(levels, loudest)
    clear = others.shape[0] == 0 or float(add_levels(others)) <= levels[loudest] - CLEARLY_DB
    return (loudest if clear else None), level


def loudness_of(models: Models) -> Loudness:
    """Return the noise map group by group. A reading is given to the group that its fans make loudest, where the others lie 6
    dB and more below it; the rest are readings of all together."""
    noise = models.noise
    count = len(noise.groups)
    seen = {group: [known for known, _ in models.speeds[group].pairs] or [0.0] for group in noise.groups}
    duty = np.linspace(0.0, min((max(known) for known in seen.values()), default=100.0), POINTS)
    speeds = np.stack([models.rpm(group, duty) for group in noise.groups], axis=1) if count else np.zeros((POINTS, 0))
    assigned, together = _by_group(models)
    groups = []
    for index, group in enumerate(noise.groups):
        own = np.linspace(0.0, max(seen[group]), POINTS)
        only = np.zeros((POINTS, count))
        only[:, index] = models.rpm(group, own)
        heard = noise.hear(only)
        by_itself, span = _own(models, index, only[:, index]), (min(seen[group]), max(seen[group]))
        levels = (by_itself, heard.alone_hw, heard.in_room_dba, heard.in_room_hw)
        groups.append(GroupNoise(group, own, only[:, index], *levels, span, tuple(assigned[index])))
    level, level_hw = noise.in_room(speeds)
    return Loudness(tuple(groups), duty, level, level_hw, noise.background_dba, Z95 * noise.background_sd_db, tuple(together))


def _own(models: Models, index: int, rpm: Vector) -> Vector:
    """Return the modelled level of one group alone at speeds ``(n,)`` in dBA; far below any room where it stands."""
    alone = np.zeros((rpm.shape[0], len(models.noise.groups)))
    alone[:, index] = rpm
    level: Vector = np.where(rpm > MIN_RPM, models.noise.machine_alone(alone), STOPPED_DBA)
    return level
