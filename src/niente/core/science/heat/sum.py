"""How far the temperature that counts rises over the room, from the heat that is made and the speeds of all fans: a sum.

    rise = (P - beside) theta0 + P free (P/100 W)^-0.2 + sum over stages H A phi + sum of d_k Q_k
    H    = P + s (other + sum of e_k Q_k)

P is the package's power, of which ``beside`` does not pass by the cores; Q_k are other measured sources (a graphics card),
``other`` what is never measured (board, memory, output cards). A stage is where air takes heat on: A is what is lost there at
full speed in K/W, s the share that other heat passes too (1: case air, 0: a cooler of the package's own); e_k is how much of a
source warms the air that is taken in, as a ratio to other heat, and d_k what it adds that no fan changes (a plate in common).

    a group's own stage:   phi = (1 + w) / (w (H/100 W)^0.2 + r_g^m)
    the stage in common:   phi = ((1 + w) / (w (H/100 W)^0.4 + F^2))^(m/2)     F^2 = sum of c_g^2 r_g^2 / sum of c_g^2

H is the heat that passes the stage, r_g a group's speed over the highest seen. On its own stage free convection helps beside
the fan (conductances add; h ~ dT^1/4, so dT ~ Q^4/5: textbook form for plates); in the stage in common, where all groups and
the draught of warm air work on the same way, pressures add, which grow with the square of the speed (fan laws, AMCA 201; from
memory).

A group may work against another one, because it blows against the stream or sends air round that the other should carry off:
r_g^2 is then what is left of it, r_g^2 / (1 + sum over h of n_hg^2 r_h^2 / (r_g^2 + 0.01)), which goes by the ratio of the two
pressures and keeps the fan laws. Where every n is nothing, more fan is never hotter; more watts are never cooler, whatever the
parameters.

Loads and variants share every parameter but for a factor of their own on those that they may change.
"""

import math
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from niente.core.science.arrays import Array, Vector

THETA0, BESIDE, FREE, OTHER, EXPONENT, COMMON = range(6)
COMMON_STILL, COMMON_SHARE = COMMON + 1, COMMON + 2
SHARED = 8
"""Parameters before those of the groups; then A, w, s, c of each group, n of each pair of them, d, e of each source. All in
logarithms."""
OF_GROUP, OF_SOURCE = 4, 2
PRIOR = ((0.22, 0.7), (6.0, 0.7), (0.02, 1.0), (25.0, 0.7), (0.8, 0.15), (0.025, 1.0), (0.15, 0.8), (0.4, 0.6))
GROUP_PRIOR = ((0.04, 1.0), (0.2, 0.8), (0.35, 0.8), (1.0, 0.8))
PAIR_PRIOR = (0.05, 1.5)
SOURCE_PRIOR = ((0.02, 1.2), (1.0, 0.7))
"""Median and standard deviation of the logarithm. Chosen wide, for machines from a phone's size to a rack's; the exponent's
from handbooks (0.6 to 0.8 and more for forced convection over fins and through radiators). Most groups work with each
other: n is next to nothing, and about 1 between two fans that blow against each other."""

LOAD_SD, VARIANT_SD = 0.12, 0.25
"""How far a load changes the core's own part, and a variant each part of the path, as a share (standard deviation)."""


class PathPrior(NamedTuple):
    """What is thought of a path before it is measured: pairs of a median and a standard deviation of the logarithm, for the
    shared parameters, a group's, a pair's and a source's; how far a load and a variant change it, as a share; and what no run
    sees of the rise, alike in all of them."""

    shared: tuple[tuple[float, float], ...]
    group: tuple[tuple[float, float], ...]
    pair: tuple[float, float]
    source: tuple[tuple[float, float], ...]
    load_sd: float
    variant_sd: float
    common_share: float = 0.0


CORE_PRIOR = PathPrior(PRIOR, GROUP_PRIOR, PAIR_PRIOR, SOURCE_PRIOR, LOAD_SD, VARIANT_SD)
"""From the hottest core to the room."""
AIR_PRIOR = PathPrior(
    ((0.0005, 0.3), (6.0, 0.3), (0.0005, 0.5), (25.0, 0.7), (1.0, 0.15), (0.03, 1.3), (0.2, 0.8), (0.8, 0.3)),
    ((0.004, 1.5), (0.2, 0.8), (0.8, 0.3), (1.0, 0.8)),
    PAIR_PRIOR,
    ((0.002, 1.5), (1.0, 0.9)),
    0.02,
    1.5,
    0.02,
)
"""From the air at a place of the case to the room: nothing but air carries the heat, so that a rise falls with the flow itself
(an exponent of 1, by the balance of energy), the watts count and hardly the load, and a panel taken off may change all."""
BESIDE_PRIOR = PathPrior(
    ((0.03, 1.2), (6.0, 0.5), (0.01, 1.0), (25.0, 0.7), (0.9, 0.15), (0.03, 1.3), (0.2, 0.8), (0.6, 0.6)),
    ((0.02, 1.3), (0.2, 0.8), (0.8, 0.4), (1.0, 0.8)),
    PAIR_PRIOR,
    ((0.05, 1.5), (1.0, 0.9)),
    0.05,
    0.5,
    0.015,
)
"""From coolant, board or graphics to the room: wide, since a loop loses all heat of the package there and a board little."""
FREE_EXPONENT = 0.2
REFERENCE_W = 100.0
STILL = 1e-9
STANDS = 0.01
"""The square of a speed, over the highest, below which a group hardly turns."""


def first_pair(groups: int) -> int:
    """Return where the parameters of the pairs of groups begin: each group against the next ones, in order."""
    return SHARED + OF_GROUP * groups


def first_source(groups: int) -> int:
    """Return where the parameters of the sources begin."""
    return first_pair(groups) + groups * (groups - 1)


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
    fixed = [first_source(groups) + OF_SOURCE * index for index in range(others)]
    warms = {last + 1: at[..., last + 1] * sources[:, index] for index, last in enumerate(fixed)} | {OTHER: at[..., OTHER]}
    heats, left = _Heats(power, warms), _Left(at, np.maximum(speeds, STILL))
    for group in range(groups):
        rise = rise + _own_stage(at, slopes, group, left, heats)
    if groups:
        rise = rise + _common_stage(at, slopes, left, heats)
    if slopes is not None:
        left.fill(slopes)
    for index, last in enumerate(fixed):
        part = sources[:, index] * at[..., last]
        if slopes is not None:
            slopes[:, last] = part
        rise = rise + part
    return rise


class _Heats:
    """The heats that stages pass: the package's ``(n,)``, and what else warms the air by the parameter that says how much."""

    def __init__(self, power: Vector, warms: dict[int, Vector]) -> None:
        self.power, self.warms = power, warms
        self.more: Vector = np.zeros(power.shape[0]) + sum(warms.values())


class _Left:
    """What is left of every group's speed ``(n, g)`` where others work against it; ``by_speed`` gathers how the sum moves with
    the logarithm of each."""

    def __init__(self, at: Array, speeds: Array) -> None:
        self._groups = speeds.shape[1]
        pairs = [(one, other) for one in range(self._groups) for other in range(self._groups) if one != other]
        first = first_pair(self._groups)
        squares = speeds**2
        self._taken = {
            (first + index, other): at[..., first + index] ** 2 * squares[:, one] / (squares[:, other] + STANDS)
            for index, (one, other) in enumerate(pairs)
        }
        self._whole = np.ones_like(speeds)
        for (_, other), taken in self._taken.items():
            self._whole[:, other] += taken
        self.speeds: Array = speeds / np.sqrt(self._whole)
        self.by_speed = np.zeros_like(speeds)

    def fill(self, slopes: Array) -> None:
        """Fill in the slopes of all pairs."""
        for (parameter, other), taken in self._taken.items():
            slopes[:, parameter] = -self.by_speed[:, other] * taken / self._whole[:, other]


def _own_stage(at: Array, slopes: Array | None, group: int, left: _Left, heats: _Heats) -> Vector:
    """Return what is lost where one group works, and fill in its slopes."""
    first, r = SHARED + OF_GROUP * group, left.speeds[:, group]
    still, m = at[..., first + 1], at[..., EXPONENT]
    heat = heats.power + at[..., first + 2] * heats.more
    free = still * (heat / REFERENCE_W) ** FREE_EXPONENT
    carried = r**m
    below = free + carried
    part: Vector = heat * at[..., first] * (1.0 + still) / below
    if slopes is not None:
        slopes[:, first] = part
        slopes[:, first + 1] = part * (still / (1.0 + still) - free / below)
        slopes[:, EXPONENT] += -part * carried * np.log(r) * m / below
        left.by_speed[:, group] += -part * carried * m / below
        _heat_slopes(at, slopes, first + 2, part / heat * (1.0 - FREE_EXPONENT * free / below), heats)
    return part


def _common_stage(at: Array, slopes: Array | None, left: _Left, heats: _Heats) -> Vector:
    """Return what is lost where all groups and the draught of warm air work on the same way, and fill in its slopes."""
    r = left.speeds
    heights = SHARED + OF_GROUP * np.arange(r.shape[1]) + 3
    weight = at[..., heights] ** 2
    blown = weight * r**2
    total, whole = blown.sum(axis=-1), weight.sum(axis=-1)
    draught, half = at[..., COMMON_STILL], 0.5 * at[..., EXPONENT]
    heat = heats.power + at[..., COMMON_SHARE] * heats.more
    drawn = draught * (heat / REFERENCE_W) ** (2.0 * FREE_EXPONENT)
    pressure = drawn + total / whole
    part: Vector = heat * at[..., COMMON] * ((1.0 + draught) / pressure) ** half
    if slopes is not None:
        slopes[:, COMMON] = part
        slopes[:, COMMON_STILL] = part * half * (draught / (1.0 + draught) - drawn / pressure)
        slopes[:, EXPONENT] += part * half * (np.log(1.0 + draught) - np.log(pressure))
        by_total = (-part * half * 2.0 * total / whole / pressure)[:, None]
        slopes[:, heights] = by_total * (blown / total[:, None] - weight / whole[:, None])
        left.by_speed += by_total * blown / total[:, None]
        per_watt = part / heat * (1.0 - 2.0 * FREE_EXPONENT * half * drawn / pressure)
        _heat_slopes(at, slopes, COMMON_SHARE, per_watt, heats)
    return part


def _heat_slopes(at: Array, slopes: Array, share: int, per_watt: Vector, heats: _Heats) -> None:
    """Fill in the slopes of a stage's share and of all that warms its air, from how its part grows with the heat through it."""
    passing = at[..., share] * per_watt
    slopes[:, share] = passing * heats.more
    for parameter, watts in heats.warms.items():
        slopes[:, parameter] += passing * watts


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


def priors(
    groups: int, sources: int, effects: Sequence[tuple[str, int]], prior: PathPrior = CORE_PRIOR
) -> tuple[Vector, Vector]:
    """Return the priors' means and standard deviations ``(p,)``, in logarithms."""
    pairs = groups * (groups - 1)
    plain = [*prior.shared, *prior.group * groups, *[prior.pair] * pairs, *prior.source * sources]
    means = [math.log(median) for median, _ in plain] + [0.0] * len(effects)
    sds = [sd for _, sd in plain]
    sds += [prior.load_sd if name.startswith("load ") else prior.variant_sd for name, _ in effects]
    return np.array(means), np.array(sds)
