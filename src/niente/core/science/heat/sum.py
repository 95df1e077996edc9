"""How far the temperature that counts rises over the room, from the heat that is made and the speeds of all fans: a sum.

    rise = (P - beside) theta0 + P free (P/100 W)^-0.2 + sum over stages (P + s (other + sources)) A phi + sum of d_k Q_k

P is the package's power, of which ``beside`` does not pass by the cores; Q_k are other measured sources (a graphics card),
``other`` what is never measured (board, memory, output cards). A stage is where air takes heat on: A is what is lost there at
full speed in K/W, s the share that other heat passes too (1: case air, 0: a cooler of the package's own).

    a group's own stage:   phi = (1 + w) / (w (H/100 W)^0.2 + r_g^m)
    the stage in common:   phi = ((1 + w) / (w (H/100 W)^0.4 + F^2))^(m/2)     F^2 = sum of c_g^2 r_g^2 / sum of c_g^2

H is the heat that passes the stage, r_g a group's speed over the highest seen. On its own stage free convection helps beside
the fan (conductances add; h ~ dT^1/4, so dT ~ Q^4/5: textbook form for plates); in the stage in common, where all groups and
the draught of warm air work on the same way, pressures add, which grow with the square of the speed (fan laws, AMCA 201; from
memory). More fan is never hotter and more watts are never cooler, whatever the parameters.

Loads and variants share every parameter but for a factor of their own on those that they may change.
"""

import math
from collections.abc import Sequence

import numpy as np

from niente.core.science.arrays import Array, Vector

THETA0, BESIDE, FREE, OTHER, EXPONENT, COMMON = range(6)
COMMON_STILL, COMMON_SHARE = COMMON + 1, COMMON + 2
SHARED = 8
"""Parameters before those of the groups; then A, w, s, c of each group, then d of each source. All in logarithms."""
OF_GROUP = 4
PRIOR = ((0.22, 0.7), (6.0, 0.7), (0.02, 1.0), (25.0, 0.7), (0.8, 0.15), (0.025, 1.0), (0.15, 0.8), (0.4, 0.6))
GROUP_PRIOR = ((0.04, 1.0), (0.2, 0.8), (0.35, 0.8), (1.0, 0.8))
SOURCE_PRIOR = (0.02, 1.2)
"""Median and standard deviation of the logarithm. Chosen wide, for machines from a phone's size to a rack's; the exponent's
from handbooks (0.6 to 0.8 and more for forced convection over fins and through radiators)."""

LOAD_SD, VARIANT_SD = 0.12, 0.25
"""How far a load changes the core's own part, and a variant each part of the path, as a share (standard deviation)."""
FREE_EXPONENT = 0.2
REFERENCE_W = 100.0
STILL = 1e-9


def rise_and_slopes(logs: Array, power: Vector, speeds: Array, sources: Array) -> tuple[Vector, Array]:
    """Return the rise in K ``(n,)`` and how it moves with each logarithm ``(n, k)``, for logarithms ``(n, k)``, power ``(n,)``,
    speeds over the highest ``(n, g)`` and sources ``(n, s)``."""
    slopes = np.zeros_like(logs)
    return _summed(logs, power, speeds, sources, slopes), slopes


def rise_alone(logs: Array, power: Vector, speeds: Array, sources: Array) -> Vector:
    """Return the rise of ``rise_and_slopes`` without its slopes; the logarithms may be ``(k,)`` for all."""
    return _summed(logs, power, speeds, sources, None)


def _summed(logs: Array, power: Vector, speeds: Array, sources: Array, slopes: Array | None) -> Vector:
    """Return the sum, and fill in its slopes where they are wanted."""
    groups, others = speeds.shape[1], sources.shape[1]
    at = np.exp(logs)
    beside = -at[..., BESIDE] * at[..., THETA0]
    core, free = power * at[..., THETA0] + beside, power * at[..., FREE] * (power / REFERENCE_W) ** -FREE_EXPONENT
    rise: Vector = core + free
    if slopes is not None:
        slopes[:, BESIDE], slopes[:, THETA0], slopes[:, FREE] = beside, core, free
    r, more = np.maximum(speeds, STILL), at[..., OTHER] + sources.sum(axis=1)
    for group in range(groups):
        rise = rise + _own_stage(at, slopes, SHARED + OF_GROUP * group, r[:, group], power, more)
    if groups:
        rise = rise + _common_stage(at, slopes, r, power, more)
    for index in range(others):
        last = SHARED + OF_GROUP * groups + index
        part = sources[:, index] * at[..., last]
        if slopes is not None:
            slopes[:, last] = part
        rise = rise + part
    return rise


def _own_stage(at: Array, slopes: Array | None, first: int, r: Vector, power: Vector, more: Vector) -> Vector:
    """Return what is lost where one group works, and fill in its slopes."""
    still, m = at[..., first + 1], at[..., EXPONENT]
    heat = power + at[..., first + 2] * more
    free = still * (heat / REFERENCE_W) ** FREE_EXPONENT
    carried = r**m
    below = free + carried
    part: Vector = heat * at[..., first] * (1.0 + still) / below
    if slopes is not None:
        slopes[:, first + 1] = part * (still / (1.0 + still) - free / below)
        slopes[:, EXPONENT] += -part * carried * np.log(r) * m / below
        _heat_slopes(at, slopes, first, part, heat, more, FREE_EXPONENT * free / below)
    return part


def _common_stage(at: Array, slopes: Array | None, r: Array, power: Vector, more: Vector) -> Vector:
    """Return what is lost where all groups and the draught of warm air work on the same way, and fill in its slopes."""
    heights = SHARED + OF_GROUP * np.arange(r.shape[1]) + 3
    weight = at[..., heights] ** 2
    blown = weight * r**2
    total, whole = blown.sum(axis=-1), weight.sum(axis=-1)
    draught, half = at[..., COMMON_STILL], 0.5 * at[..., EXPONENT]
    heat = power + at[..., COMMON_SHARE] * more
    drawn = draught * (heat / REFERENCE_W) ** (2.0 * FREE_EXPONENT)
    pressure = drawn + total / whole
    part: Vector = heat * at[..., COMMON] * ((1.0 + draught) / pressure) ** half
    if slopes is not None:
        slopes[:, COMMON_STILL] = part * half * (draught / (1.0 + draught) - drawn / pressure)
        slopes[:, EXPONENT] += part * half * (np.log(1.0 + draught) - np.log(pressure))
        by_total = (-part * half * 2.0 * total / whole / pressure)[:, None]
        slopes[:, heights] = by_total * (blown / total[:, None] - weight / whole[:, None])
        _heat_slopes(at, slopes, COMMON, part, heat, more, 2.0 * FREE_EXPONENT * half * drawn / pressure)
    return part


def _heat_slopes(at: Array, slopes: Array, first: int, part: Vector, heat: Vector, more: Vector, eases: Vector) -> None:
    """Fill in the slopes of a stage's resistance and share, which stand first and third among its parameters, and of the other
    heat; ``eases`` is by how much its resistance falls with the heat through it, in logarithms."""
    per_watt = part / heat * (1.0 - eases)
    share = at[..., first + 2]
    slopes[:, first] = part
    slopes[:, first + 2] = share * more * per_watt
    slopes[:, OTHER] += share * at[..., OTHER] * per_watt


def rise_parts(logs: Array, power: Vector, speeds: Array, sources: Array) -> Array:
    """Return the parts of the rise, ``(n, 2 + g)``: what no fan changes, the stage in common, then each group's own."""
    rise, slopes = rise_and_slopes(logs, power, speeds, sources)
    by_fans = slopes[:, [COMMON, *(SHARED + OF_GROUP * group for group in range(speeds.shape[1]))]]
    return np.concatenate([(rise - by_fans.sum(axis=1))[:, None], by_fans], axis=1)


def of_load(load: str) -> str:
    """Return the name of a load's factor."""
    return f"load {load}"


def of_variant(variant: str) -> str:
    """Return the name of a variant's factors."""
    return f"variant {variant}"


def changeable(groups: int) -> list[int]:
    """Return the parameters that a variant may change: every resistance."""
    return [THETA0, FREE, COMMON, *(SHARED + OF_GROUP * group for group in range(groups))]


def mixing_of(label: tuple[str, str], effects: Sequence[tuple[str, int]], count: int) -> Array:
    """Return the matrix ``(k, p)`` that makes the logarithms in force under a load and variant from all that are fitted."""
    plain = count - len(effects)
    mixing = np.eye(plain, count)
    names = (of_load(label[0]), of_variant(label[1]))
    for index, (name, parameter) in enumerate(effects):
        if name in names:
            mixing[parameter, plain + index] = 1.0
    return mixing


def priors(groups: int, sources: int, effects: Sequence[tuple[str, int]]) -> tuple[Vector, Vector]:
    """Return the priors' means and standard deviations ``(p,)``, in logarithms."""
    plain = [*PRIOR, *GROUP_PRIOR * groups, *[SOURCE_PRIOR] * sources]
    means = [math.log(median) for median, _ in plain] + [0.0] * len(effects)
    sds = [sd for _, sd in plain] + [LOAD_SD if name.startswith("load ") else VARIANT_SD for name, _ in effects]
    return np.array(means), np.array(sds)
