"""The heat path as a ladder that people read: a rung for what no fan changes, and one for what each fan group works on."""

import math
from collections.abc import Sequence
from enum import StrEnum

import msgspec
import numpy as np

from niente.core.science.arrays import Array, Vector
from niente.core.science.heat.path import HeatPath
from niente.core.science.heat.sum import OF_GROUP, OF_SOURCE, SHARED, first_source, mixing_of, rise_parts
from niente.core.science.statistics import quadratic

MIN_RUNG_K = 0.5
STEP = 1e-5


class RungKind(StrEnum):
    """What a rung is lost in."""

    CORE = "core"
    """Between the core and the air that its cooler takes in: what no fan changes."""
    GROUP = "group"
    """What a fan group works on."""
    OWN = "own"
    """What the place where air is taken in warms by itself."""
    SOURCE = "source"
    """What another source adds to it."""
    RETURN = "return"
    """What comes back to where the room's air enters."""


class Rung(msgspec.Struct, frozen=True):
    """One rung of the heat path: the fan group that works there (empty: none does), the kelvins lost there with their 95 %
    half width, and how many of them the fans at their fastest would take away. ``kind`` says what it is lost in, ``at`` the
    place of the air or the channel of the source."""

    group: str
    kelvin: float
    half_width_k: float
    by_fans_k: float
    kind: RungKind = RungKind.GROUP
    at: str = ""


def heat_rungs(path: HeatPath, power_w: float, rpm: Sequence[float], load: str = "") -> tuple[Rung, ...]:
    """Return the rungs from the core to the room at a power and speeds ``(g,)``: what no fan changes, then what each fan group
    works on, the one that cools the package alone first. The kelvins of all rungs add up to the sum's rise.

    What all groups work on together counts to the one that could change most of it, or moves most of that air. A group on
    which hardly a kelvin hangs, or whose part the runs do not tell from none, has no rung of its own: it counts to what no fan
    changes.
    """
    mixing = mixing_of((load or path.reference[0], path.reference[1]), path.effects, len(path.logs))
    logs, count = np.asarray(path.logs), len(path.groups)
    speeds = np.asarray(rpm, float).reshape(1, count) / np.asarray(path.full_rpm)
    best = np.maximum(speeds, 1.0)
    drives = _drives(mixing @ logs, power_w, speeds) if count else 0

    def each(at: Vector, r: Array) -> Vector:
        """Return what no fan changes, and each group's part, the stage in common with one of them."""
        parts = _parts(mixing @ at, power_w, r)
        if not count:
            return np.array([parts[0] + parts[1]])
        own = np.concatenate([parts[:1], parts[2:]])
        own[1 + drives] += parts[1]
        return own

    now, then = each(logs, speeds), each(logs, best)
    slopes = np.stack([(each(logs + STEP * one, speeds) - now) / STEP for one in np.eye(logs.shape[0])], axis=-1)
    spread = path.quantile * np.sqrt(quadratic(slopes, path.covariance))
    distinct = _distinct(path, now[1:], spread[1:])
    rest = [0, *(1 + group for group in range(count) if group not in distinct)]
    rungs = [Rung("", float(np.sum(now[rest])), math.hypot(*spread[rest]), 0.0, RungKind.CORE)]
    for group in distinct:
        by_fans = max(float(now[1 + group] - then[1 + group]), 0.0)
        rungs.append(Rung(path.groups[group], float(now[1 + group]), float(spread[1 + group]), by_fans))
    return tuple(rungs)


def _parts(logs: Vector, power_w: float, r: Array) -> Vector:
    nothing = np.zeros((1, (logs.shape[0] - first_source(r.shape[1])) // OF_SOURCE))
    parts: Vector = rise_parts(logs[None, :], np.array([power_w]), r, nothing)[0]
    return parts


def _drives(logs: Vector, power_w: float, speeds: Array) -> int:
    """Return the group to which the stage in common is counted."""
    now = _parts(logs, power_w, speeds)[1]
    wins = []
    for group in range(speeds.shape[1]):
        faster = speeds.copy()
        faster[0, group] = max(faster[0, group], 1.0)
        strength = math.exp(logs[SHARED + OF_GROUP * group + 3]) * speeds[0, group]
        wins.append((round(float(now - _parts(logs, power_w, faster)[1]), 3), strength))
    return wins.index(max(wins))


def _distinct(path: HeatPath, parts_k: Vector, spread_k: Vector) -> list[int]:
    """Return the groups that have a rung of their own, the one that cools the package alone first.

    ``parts_k`` ``(g,)`` are the groups' parts of the rise, ``spread_k`` ``(g,)`` their half widths.
    """
    clear = parts_k >= np.maximum(MIN_RUNG_K, spread_k)
    if not clear.any():  # before anything is measured nothing is told apart: show what is typical
        clear = parts_k >= MIN_RUNG_K
    share = [path.logs[SHARED + OF_GROUP * group + 2] for group in range(len(path.groups))]
    return [group for group in sorted(range(len(share)), key=share.__getitem__) if clear[group]]
