"""A fitted heat path: the sum with its covariance, the process beside it, and what both say of a setting."""

import math
from collections.abc import Sequence

import msgspec
import numpy as np

from niente.core.science.arrays import Array, Vector
from niente.core.science.heat.sum import (
    LOAD_SD,
    THETA0,
    VARIANT_SD,
    changeable,
    mixing_of,
    of_load,
    of_variant,
    priors,
    rise_alone,
    rise_and_slopes,
    rise_parts,
)
from niente.core.science.statistics import Z95, frozen, inverse, quadratic

REACH_LN_W, REACH_SPEED = 0.7, 0.4
"""Over which distance in ln W and in speed the process beside the sum hangs together."""
ELSEWHERE = 0.6
"""How much of the process another load or another variant has in common."""
COMMON_SD_K = 0.14
"""What all settled temperatures of a machine are off by together, and no number of runs removes (K)."""
FOLLOWED_SHARE_SD = 0.02
"""A sum that leaves out more than this share of the rise is followed less than the nearby runs."""
UNMEASURED_SHARE_SD = 0.012
"""What the sum leaves out before anything was measured, as a share of the rise."""
SMALL_K = 1e-3
"""No part of a rise is too small to share in what nearby runs add."""


class Misfit(msgspec.Struct, frozen=True):
    """A run that the sum does not explain: what was measured and what it says, K over the room, and the interval of the two."""

    run_id: int
    measured_k: float
    modelled_k: float
    half_width_k: float


class Neighbours(msgspec.Struct, frozen=True):
    """The runs as the process beside the sum sees them: points ``(n, 1 + g)``, labels, the sum there ``(n,)``, its slopes
    ``(n, p)``, what is left over ``(n,)`` (K), and the inverse ``(n, n)`` of the covariance of the readings."""

    points: Array
    labels: tuple[tuple[str, str], ...]
    sum_k: Vector
    slopes: Array
    left_k: Vector
    precision: Array


class HeatPath(msgspec.Struct, frozen=True):
    """A fitted heat path. ``logs`` are the parameters' logarithms, then the factors of ``effects`` (label, parameter);
    ``covariance`` belongs to all of them. ``reference`` is the load and the variant that have no factor.

    ``misfits`` are the runs that the sum does not explain, ``share_sd`` is what it leaves out as a share of the rise;
    ``runs`` how many gave a temperature, ``bounds`` how many
    the temperature cap limited. ``quantile`` is how many standard deviations a 95 % half width has: few runs tell their own
    errors less well (Student's t). ``common_share`` is what all runs leave out of the rise alike, so that no number of them
    tells it.
    """

    groups: tuple[str, ...]
    full_rpm: tuple[float, ...]
    sources: tuple[str, ...]
    reference: tuple[str, str]
    effects: tuple[tuple[str, int], ...]
    logs: tuple[float, ...]
    covariance: tuple[tuple[float, ...], ...]
    share_sd: float
    residual_sd_k: float = 0.0
    misfits: tuple[Misfit, ...] = ()
    runs: int = 0
    bounds: int = 0
    quantile: float = Z95
    near: Neighbours | None = None
    common_share: float = 0.0
    carried: tuple[float, ...] = ()
    """Which share of its air each group moves now, of what it moved while measured (empty: all of it)."""
    added_kpw: float = 0.0
    """What is assumed to lie in the way of the package's heat beside (K/W)."""

    @property
    def follows_runs(self) -> bool:
        """Whether the answer is drawn to the nearby runs, since the sum does not explain this machine: some run does not
        fit, or it leaves much out everywhere. Else more fan is never hotter, and the process only widens the interval."""
        return bool(self.misfits) or self.share_sd >= FOLLOWED_SHARE_SD

    def rise(
        self,
        power_w: Array,
        rpm: Array,
        sources_w: Array | None = None,
        load: str = "",
        variant: str = "",
        air: float = 1.0,
    ) -> tuple[Vector, Vector]:
        """Return the rise in K and its 95 % half width, for power ``(n,)``, speeds ``(n, g)`` and sources ``(n, k)`` (none:
        0 W), under a load and in a variant (empty: those of reference), in air of another density than it was measured in.

        The interval is that of a universal kriging predictor (Rasmussen and Williams 2006, section 2.7; from memory).
        """
        power, speeds, sources = self.scaled(power_w, rpm, sources_w, air)
        label = (load or self.reference[0], variant or self.reference[1])
        value, own_slopes, slopes = self._sum(label, power, speeds, sources)
        left_out = (self.share_sd * value) ** 2
        answer = value
        if self.near is not None:
            pulled, shared = self._pulled(label, value, power, speeds)
            slopes = slopes - pulled @ self.near.slopes
            left_out = np.maximum(left_out - np.einsum("nm,nm->n", pulled, shared), 0.0)
            if self.follows_runs:
                answer = value + pulled @ self.near.left_k
        variance = quadratic(slopes, self.covariance) + left_out + COMMON_SD_K**2
        variance = variance + (self.common_share * value) ** 2
        answer = answer + self.added_kpw * power
        return answer, self.quantile * np.sqrt(variance + self._never_seen(own_slopes, label))

    def rise_alone(
        self,
        power_w: Array,
        rpm: Array,
        sources_w: Array | None = None,
        load: str = "",
        variant: str = "",
        air: float = 1.0,
    ) -> Vector:
        """Return the rise of ``rise`` without its interval, which is what takes the time."""
        power, speeds, sources = self.scaled(power_w, rpm, sources_w, air)
        label = (load or self.reference[0], variant or self.reference[1])
        value = rise_alone(mixing_of(label, self.effects, len(self.logs)) @ np.asarray(self.logs), power, speeds, sources)
        answer = value + self.added_kpw * power
        if self.near is None or not self.follows_runs:
            return answer
        return answer + self._pulled(label, value, power, speeds)[0] @ self.near.left_k

    def parts(self, power_w: Array, rpm: Array, sources_w: Array | None = None, load: str = "", air: float = 1.0) -> Array:
        """Return the parts of the rise ``(n, 2 + g)`` in K: what no fan changes, what all groups work on, then each group's
        own; what nearby runs add to the sum is spread over them. Arguments as of ``rise``."""
        power, speeds, sources = self.scaled(power_w, rpm, sources_w, air)
        logs = mixing_of((load or self.reference[0], self.reference[1]), self.effects, len(self.logs)) @ np.asarray(self.logs)
        parts = rise_parts(np.broadcast_to(logs, (power.shape[0], logs.shape[0])), power, speeds, sources)
        more = self.rise_alone(power_w, rpm, sources_w, load, air=air) - parts.sum(axis=1)
        weights = np.maximum(parts, SMALL_K)
        spread: Array = parts + (more / weights.sum(axis=1))[:, None] * weights
        return spread

    def with_air(self, carried: tuple[float, ...]) -> "HeatPath":
        """Return the path where each group moves such a share of the air that it moved while measured (fan laws: as much as at
        that share of its speed)."""
        return msgspec.structs.replace(self, carried=carried)

    def _sum(self, label: tuple[str, str], power: Vector, speeds: Array, sources: Array) -> tuple[Vector, Array, Array]:
        """Return the sum, and how it moves with the logarithms in force and with all that are fitted."""
        mixing = mixing_of(label, self.effects, len(self.logs))
        mixed = np.broadcast_to(mixing @ np.asarray(self.logs), (power.shape[0], mixing.shape[0]))
        value, slopes = rise_and_slopes(mixed, power, speeds, sources)
        return value, slopes, slopes @ mixing

    def _pulled(self, label: tuple[str, str], value: Vector, power: Vector, speeds: Array) -> tuple[Array, Array]:
        """Return how much each run says of each point beside the sum, and what points and runs have in common."""
        near = self.near
        assert near is not None
        likeness = likeness_of(near_points(power, speeds), near.points, [label] * power.shape[0], near.labels)
        shared: Array = self.share_sd**2 * likeness * value[:, None] * near.sum_k
        pulled: Array = shared @ near.precision
        return pulled, shared

    def resistance(self, power_w: float, rpm: Sequence[float], load: str = "") -> tuple[float, float]:
        """Return the slope of the rise in K for one more watt of package power, and its 95 % half width, at a power and
        speeds ``(g,)``: the thermal resistance that a line of rise against watts has there."""
        step = max(0.01 * power_w, 0.1)
        around = np.array([power_w + step, power_w - step])
        power, speeds, sources = self.scaled(around, np.tile(np.asarray(rpm, float), (2, 1)), None)
        value, _, slopes = self._sum((load or self.reference[0], self.reference[1]), power, speeds, sources)
        gradient = (slopes[0] - slopes[1]) / (2 * step)
        variance = float(gradient @ np.asarray(self.covariance) @ gradient)
        slope = float(value[0] - value[1]) / (2 * step)
        return slope, self.quantile * math.hypot(math.sqrt(variance), self.share_sd * slope)

    def knows(self, variant: str) -> bool:
        """Whether runs in a variant are among those that the path is fitted to."""
        return variant == self.reference[1] or of_variant(variant) in {name for name, _ in self.effects}

    def difference(
        self, power_w: Array, rpm: Array, sources_w: Array, variants: tuple[str, str] = ("", "")
    ) -> tuple[float, float]:
        """Return by how many K the rise at a second point lies over that at a first one, and its 95 % half width: what the two
        have in common does not count. Power ``(2,)``, speeds ``(2, g)`` and sources ``(2, k)`` are the two points',
        ``variants`` (empty: that of reference) the states in which they are looked at.
        """
        power, speeds, sources = self.scaled(power_w, rpm, sources_w)
        labels = [(self.reference[0], variant or self.reference[1]) for variant in variants]
        (here, own, slopes), (there, other_own, others) = (
            self._sum(label, power[row : row + 1], speeds[row : row + 1], sources[row : row + 1])
            for row, label in enumerate(labels)
        )
        value, apart = float(there[0] - here[0]), others[0] - slopes[0]
        variance = float(apart @ np.asarray(self.covariance) @ apart) + (self.share_sd * value) ** 2
        if labels[0] != labels[1]:
            variance += self.share_sd**2 * (1.0 - ELSEWHERE) * float(here[0] ** 2 + there[0] ** 2)
            variance += sum(float(self._never_seen(of, label)[0]) for of, label in zip((own, other_own), labels, strict=True))
        return value, self.quantile * math.sqrt(variance)

    def informed_by(self, power_w: Vector, rpm: Array, rise_se_k: Vector) -> "HeatPath":
        """Return the heat path as well as it would be known once runs were made too, each to a standard error ``(n,)``: the
        information of the runs, linear about the parameters, adds to what is known (textbook)."""
        power, speeds, sources = self.scaled(power_w, rpm, None)
        value, _, slopes = self._sum(self.reference, power, speeds, sources)
        weighed = slopes / np.hypot(rise_se_k, self.share_sd * value)[:, None]
        information = inverse(np.asarray(self.covariance)) + weighed.T @ weighed
        return msgspec.structs.replace(self, covariance=frozen(inverse(information)), near=None)

    def scaled(self, power_w: Array, rpm: Array, sources_w: Array | None, air: float = 1.0) -> tuple[Vector, Array, Array]:
        """Return power ``(n,)``, speeds over the highest seen ``(n, g)`` and sources ``(n, k)`` as the sum takes them.

        Air of another density, as a ratio, carries as much as fans at that share of their speed would (mass flow).
        """
        power = np.maximum(np.atleast_1d(np.asarray(power_w, float)), 0.1)
        speeds = air * np.asarray(rpm, float).reshape(power.shape[0], len(self.groups)) / np.asarray(self.full_rpm)
        if self.carried:
            speeds = speeds * np.asarray(self.carried)
        if sources_w is None:
            return power, speeds, np.zeros((power.shape[0], len(self.sources)))
        return power, speeds, np.asarray(sources_w, float).reshape(power.shape[0], len(self.sources))

    def _never_seen(self, slopes: Array, label: tuple[str, str]) -> Vector:
        """Return the variance ``(n,)`` of factors that belong to a load or variant that no run has."""
        known = {name for name, _ in self.effects}
        variance = np.zeros(slopes.shape[0])
        if label[0] != self.reference[0] and of_load(label[0]) not in known:
            variance += (LOAD_SD * slopes[:, THETA0]) ** 2
        if label[1] != self.reference[1] and of_variant(label[1]) not in known:
            variance += np.sum((VARIANT_SD * slopes[:, changeable(len(self.groups))]) ** 2, axis=1)
        return variance


def near_points(power: Vector, speeds: Array) -> Array:
    """Return where settings stand for the process beside the sum, in its reaches: ``(n, 1 + g)``."""
    return np.concatenate([np.log(power)[:, None] / REACH_LN_W, speeds / REACH_SPEED], axis=1)


def likeness_of(one: Array, other: Array, labels: Sequence[tuple[str, str]], others: Sequence[tuple[str, str]]) -> Array:
    """Return the correlation of what the sum leaves out, ``(n, m)``, between points ``(n, d)`` and ``(m, d)``."""
    apart = ((one[:, None, :] - other[None, :, :]) ** 2).sum(axis=-1)
    number = {label: index for index, label in enumerate({*labels, *others})}
    mine, theirs = np.array([number[label] for label in labels]), np.array([number[label] for label in others])
    alike = np.where(mine[:, None] == theirs[None, :], 1.0, ELSEWHERE)
    likeness: Array = alike * np.exp(-0.5 * apart)
    return likeness


def typical(groups: tuple[str, ...], full_rpm: tuple[float, ...]) -> HeatPath:
    """Return the heat path as it is before anything was measured: the priors, with their wide intervals."""
    means, sds = priors(len(groups), 0, ())
    full = tuple(max(rpm, 1.0) for rpm in full_rpm)
    return HeatPath(groups, full, (), ("", ""), (), tuple(means.tolist()), frozen(np.diag(sds**2)), UNMEASURED_SHARE_SD)
