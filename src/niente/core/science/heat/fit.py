"""The heat path's fit: all runs of a machine together, settled and unsettled, robustly, with bounds where heat limited."""

import math

import msgspec
import numpy as np

from niente.core.science.arrays import Array, Mask, Vector
from niente.core.science.heat.path import COMMON_SD_K, HeatPath, Misfit, Neighbours, likeness_of, near_points
from niente.core.science.heat.sum import (
    COMMON_SHARE,
    CORE_PRIOR,
    OF_GROUP,
    SHARED,
    THETA0,
    PathPrior,
    changeable,
    mixing_of,
    of_load,
    of_variant,
    priors,
    rise_and_slopes,
)
from niente.core.science.statistics import Z95, frozen, inverse, redescending

SHARE_SDS = (0.003, 0.01, 0.025, 0.06)
"""Candidates for what the sum leaves out, as a share of the rise; weighed by marginal likelihood."""
SHARE_PRIOR = (0.5, 0.34, 0.12, 0.04)
LEAST_WEIGHT = 1e-6
MIN_RUNS = 3
BOUND_SD_K, ABOVE_BOUND_SD_K = 1.0, 3.0
"""A run that its temperature cap limited draws less and less until it is settled: at the power of its end the rise would
be at least what it read, give or take the first (K), and hardly far more (the second)."""
OWN_SD_K = 0.1
"""A settled temperature is never better known than this beside what all have in common (K)."""
DOUBTS, MIN_SIZE, MAX_SIZE = 8.0, 0.5, 9.0
"""The size of the runs' own errors is learnt from how they scatter; what they claim themselves counts as so many runs."""
ROUNDS = 5
TOLERANCE = 1e-5
MISFIT_SD = 3.0
"""A run is said not to fit where it lies beyond the sum by more than so many standard deviations of the two."""
EDGE = 4.0
"""Parameters stay within so many standard deviations of their prior."""


class Runs(msgspec.Struct, frozen=True):
    """What a heat path is fitted to, all arrays over ``n`` runs: package power (W), speeds ``(n, g)`` in rpm, other sources
    ``(n, k)`` in W, settled rise over the lagged room with its standard error (K), load and variant by name.

    ``bound`` marks runs that the firmware's temperature cap limited: at the power they drew the rise would be at least that.
    ``number`` names a run where it does not fit.
    """

    power_w: Vector
    rpm: Array
    sources_w: Array
    rise_k: Vector
    rise_se_k: Vector
    bound: Mask
    load: tuple[str, ...]
    variant: tuple[str, ...]
    number: tuple[int, ...]


class _Solved(msgspec.Struct):
    """A fit under one share that the sum leaves out; ``size`` is how large the runs' own errors turned out, as a ratio of
    variances; ``wide`` how many standard deviations 95 % take."""

    share_sd: float
    logs: Vector
    weights: Vector
    size: float
    wide: float
    covariance: Array
    sum_k: Vector
    slopes: Array
    precision: Array
    likelihood: float


class _Problem:
    """Everything about a fit that does not move."""

    def __init__(self, bare: HeatPath, runs: Runs, prior: PathPrior) -> None:
        self.bare, self.runs = bare, runs
        self.means, self.sds = priors(len(bare.groups), len(bare.sources), bare.effects, prior)
        self.labels = list(zip(runs.load, runs.variant, strict=True))
        mixings = {label: mixing_of(label, bare.effects, self.means.shape[0]) for label in set(self.labels)}
        self.mixing = np.stack([mixings[label] for label in self.labels])
        self.power, self.speeds, self.sources = bare.scaled(runs.power_w, runs.rpm, runs.sources_w)
        points = near_points(self.power, self.speeds)
        self.known = ~runs.bound
        labels = [label for label, known in zip(self.labels, self.known.tolist(), strict=True) if known]
        self.points, self.known_labels = points[self.known], labels
        self.alike = likeness_of(self.points, self.points, labels, labels)
        self.y, self.bounds = runs.rise_k[self.known], runs.rise_k[~self.known]
        self.own = np.maximum(runs.rise_se_k[self.known] ** 2 - COMMON_SD_K**2, OWN_SD_K**2)

    def look(self, logs: Vector) -> tuple[Vector, Array]:
        """Return the sum at every run ``(n,)`` and its slopes ``(n, p)``."""
        value, slopes = rise_and_slopes(self.mixing @ logs, self.power, self.speeds, self.sources)
        return value, np.matmul(slopes[:, None, :], self.mixing)[:, 0, :]

    def solve(self, share_sd: float, near: "_Solved | None") -> _Solved:
        """Fit under one share, starting near another fit: a few rounds of weights and of the errors' size (iteratively
        reweighted least squares, textbook)."""
        from scipy.stats import t

        logs, weights, size = self.means, np.ones(self.own.shape[0]), 1.0
        if near is not None:
            logs, weights, size = near.logs, near.weights, near.size
        sum_k = self.look(logs)[0][self.known] if near is not None else self.y
        for turn in range(ROUNDS):
            spread = np.diag(size * self.own / weights) + share_sd**2 * self.alike * np.outer(sum_k, sum_k)
            root = np.asarray(np.linalg.cholesky(spread), dtype=np.float64)
            logs, information, off = self._search(inverse(root), logs)
            value, each = self.look(logs)
            sum_k, slopes, covariance = value[self.known], each[self.known], inverse(information)
            before = weights, size
            variance = size * self.own + (share_sd * sum_k) ** 2
            apart = np.abs(self.y - sum_k) / np.sqrt(variance)
            claimed = apart * np.sqrt(min(size, 1.0))  # errors that turned out small make no outlier of what was claimed
            weights = np.maximum(redescending(claimed), LEAST_WEIGHT)
            labels = float(np.sum(np.einsum("ni,ij,nj->n", slopes, covariance, slopes) / variance))
            free = max(self.y.shape[0] - labels, 0.0)
            size *= (DOUBTS + float(np.sum(weights * apart**2))) / (DOUBTS + free)
            size = min(max(size, MIN_SIZE), MAX_SIZE)
            if (
                (turn > 0 or near is not None)
                and np.allclose(before[0], weights, atol=0.02)
                and abs(before[1] / size - 1.0) < 0.05
            ):
                break
        _, curvature = np.linalg.slogdet(information)
        likelihood = float(-0.5 * off @ off - np.sum(np.log(np.diag(root))) - 0.5 * curvature)
        wide = float(t.ppf(0.975, DOUBTS + free))
        return _Solved(share_sd, logs, weights, size, wide, covariance, sum_k, slopes, inverse(spread), likelihood)

    def _search(self, back: Array, logs: Vector) -> tuple[Vector, Array, Vector]:
        """Return the parameters that explain the runs best under the inverse of a covariance's root, the information about
        them, and what is missed."""
        from scipy.optimize import least_squares

        upper = self.means + EDGE * self.sds
        shares = [COMMON_SHARE, *(SHARED + OF_GROUP * group + 2 for group in range(len(self.bare.groups)))]
        upper[shares] = 0.0  # a share is at most whole
        last: tuple[Vector, Vector, Array] | None = None

        def missed(at: Vector) -> tuple[Vector, Array]:
            """Return what is missed and how that moves; kept, since the search asks for the two one after the other."""
            nonlocal last
            if last is None or not np.array_equal(last[0], at):
                last = at.copy(), *self._misses(back, at)
            return last[1], last[2]

        found = least_squares(
            lambda at: missed(at)[0],
            np.minimum(logs, upper - 1e-6),
            jac=lambda at: missed(at)[1],
            bounds=(self.means - EDGE * self.sds, upper),
            max_nfev=60,
            ftol=TOLERANCE,
            xtol=TOLERANCE,
            gtol=TOLERANCE,
        )
        off, slopes = missed(found.x)
        return np.asarray(found.x, dtype=np.float64), slopes.T @ slopes, off

    def _misses(self, back: Array, logs: Vector) -> tuple[Vector, Array]:
        """Return by how many standard deviations runs, bounds and priors are missed ``(m,)``, and how that moves ``(m, p)``."""
        value, each = self.look(logs)
        over = value[~self.known] - self.bounds
        side = np.where(over < 0.0, BOUND_SD_K, ABOVE_BOUND_SD_K)
        missed = np.concatenate([back @ (value[self.known] - self.y), over / side, (logs - self.means) / self.sds])
        return missed, np.vstack([back @ each[self.known], each[~self.known] / side[:, None], np.diag(1.0 / self.sds)])

    def path(self, one: _Solved) -> HeatPath:
        """Return a fit as a heat path, with the runs that it does not explain."""
        left = self.y - one.sum_k
        of_sum = np.einsum("ni,ij,nj->n", one.slopes, one.covariance, one.slopes) + (one.share_sd * one.sum_k) ** 2
        sds = np.sqrt(of_sum + self.own + COMMON_SD_K**2)
        numbers = np.array(self.runs.number)[self.known]
        misfits = [
            Misfit(int(numbers[i]), float(one.sum_k[i] + left[i]), float(one.sum_k[i]), float(Z95 * sds[i]))
            for i in np.flatnonzero(np.abs(left) > MISFIT_SD * sds).tolist()
        ]
        return msgspec.structs.replace(
            self.bare,
            logs=tuple(one.logs.tolist()),
            covariance=frozen(one.covariance),
            share_sd=one.share_sd,
            residual_sd_k=float(np.sqrt(np.mean(left**2))),
            misfits=tuple(sorted(misfits, key=lambda found: -abs(found.measured_k - found.modelled_k) / found.half_width_k)),
            runs=int(np.count_nonzero(self.known)),
            bounds=int(np.count_nonzero(~self.known)),
            quantile=one.wide,
            near=Neighbours(self.points, tuple(self.known_labels), one.sum_k, one.slopes, left, one.precision),
        )


def fit_heat_path(
    groups: tuple[str, ...],
    sources: tuple[str, ...],
    reference: tuple[str, str],
    runs: Runs,
    prior: PathPrior = CORE_PRIOR,
) -> HeatPath:
    """Fit the heat path to all runs together, settled and unsettled, each by its own error.

    ``reference`` is the load and variant that others have factors against, ``prior`` what is thought of such paths beforehand.
    Maximum a posteriori with log-normal priors, so that what the runs do not tell apart stays within what is physical and
    widens the interval. Runs far off count less, and from some distance on not at all. What the sum leaves out is chosen among
    ``SHARE_SDS`` by marginal likelihood (Laplace).
    Raises ``ValueError`` for fewer than three runs that gave a temperature.
    """
    if np.count_nonzero(~runs.bound) < MIN_RUNS:
        raise ValueError("the heat path needs at least three settled runs")
    full = tuple(np.maximum(runs.rpm.max(axis=0), 1.0).tolist()) if groups else ()
    changed = [(of_load(load), THETA0) for load in sorted(set(runs.load) - {reference[0]})]
    for variant in sorted(set(runs.variant) - {reference[1]}):
        changed += [(of_variant(variant), parameter) for parameter in changeable(len(groups))]
    effects = tuple(changed)
    bare = HeatPath(groups, full, sources, reference, effects, (), (), 0.0, common_share=prior.common_share)
    problem = _Problem(bare, runs, prior)
    found: list[_Solved] = []
    for share_sd in SHARE_SDS:
        found.append(problem.solve(share_sd, found[-1] if found else None))
    best = max(range(len(found)), key=lambda index: found[index].likelihood + math.log(SHARE_PRIOR[index]))
    return problem.path(found[best])
