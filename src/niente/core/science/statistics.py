"""Small statistics that the models share."""

import math
from collections.abc import Sequence

import msgspec
import numpy as np

from niente.core.science.arrays import Array, Vector
from niente.core.science.cycles import cycle_length, whole_cycle_means

Z95 = 1.959963984540054
"""Half width of a 95 % interval of the normal distribution, in standard deviations."""


SUSPECT_SD, REJECTED_SD = 2.5, 6.0
"""From how many standard deviations on a reading counts less, and not at all."""
ENDS_SAMPLES = 0.2
"""By how much of a sample the ends of whole cycles may miss each other (a judgement): their length is only so well known."""


class FittedLine(msgspec.Struct, frozen=True):
    """A straight line fitted by least squares: ``y = intercept + slope x`` with standard errors.

    ``residual_sd`` is the standard deviation of the residuals with ``n - 2`` degrees of freedom; ``mean_x`` and ``spread_x``
    are the mean of the ``points`` and the sum of their squares about it.
    """

    intercept: float
    slope: float
    intercept_se: float
    slope_se: float
    residual_sd: float
    degrees: int
    mean_x: float = 0.0
    spread_x: float = 1.0
    points: int = 0

    def at(self, x: float, *, of_mean: bool = False) -> tuple[float, float]:
        """Return y at an x and its 95 % half width: of a new reading there, or of the line itself.

        y +- t(0.975, n - 2) s sqrt(h + 1), h = 1/n + (x - mean)^2/Sxx; without the 1 for the mean (Montgomery, Peck and
        Vining, Linear Regression Analysis, ch. 2; from memory).
        """
        from scipy.stats import t

        leverage = 1.0 / self.points + (x - self.mean_x) ** 2 / self.spread_x
        half_width = float(t.ppf(0.975, self.degrees)) * self.residual_sd * math.sqrt(leverage + (0.0 if of_mean else 1.0))
        return self.intercept + self.slope * x, half_width


def fit_line(x: Vector, y: Vector) -> FittedLine:
    """Fit a straight line to ``x`` and ``y`` of shape ``(n,)``, n at least 3.

    Centred sums (any text on linear regression; held against NIST's Norris data set). Raises ``ValueError`` where
    there are fewer than three points or all ``x`` are equal.
    """
    n = x.shape[0]
    if n < 3:
        raise ValueError("a line with its errors needs at least three points")
    mean_x, mean_y = float(np.mean(x)), float(np.mean(y))
    spread = float(np.sum((x - mean_x) ** 2))
    if spread == 0.0:
        raise ValueError("all x are equal")
    slope = float(np.sum((x - mean_x) * (y - mean_y))) / spread
    intercept = mean_y - slope * mean_x
    residual_sd = math.sqrt(float(np.sum((y - intercept - slope * x) ** 2)) / (n - 2))
    slope_se = residual_sd / math.sqrt(spread)
    return FittedLine(
        intercept, slope, residual_sd * math.sqrt(1 / n + mean_x**2 / spread), slope_se, residual_sd, n - 2, mean_x, spread, n
    )


def inverse(matrix: Array) -> Array:
    """Return the inverse of a matrix ``(n, n)``. Raises ``numpy.linalg.LinAlgError`` where it has none."""
    return np.asarray(np.linalg.inv(matrix), dtype=np.float64)


def quadratic(slopes: Array, covariance: Sequence[Sequence[float]]) -> Array:
    """Return the variance ``(...)`` of figures that move by slopes ``(..., k)`` with parameters of a covariance ``(k, k)``."""
    variance: Array = np.sum((slopes @ np.asarray(covariance)) * slopes, axis=-1)
    return variance


def frozen(matrix: Array) -> tuple[tuple[float, ...], ...]:
    """Return a matrix ``(n, m)`` as tuples of its rows, which a frozen structure can hold."""
    return tuple(tuple(row) for row in matrix.tolist())


def redescending(apart: Vector) -> Vector:
    """Return how much readings count that lie so many standard deviations off ``(n,)``: fully up to 2.5, then as 1/r^2, and
    from 6 on not at all, so that what cannot be true moves nothing (a redescending weight after Hampel 1974; from memory)."""
    off = np.abs(apart)
    weights: Vector = np.where(off >= REJECTED_SD, 0.0, np.minimum(1.0, SUSPECT_SD / np.maximum(off, 1e-9)) ** 2)
    return weights


def autocorrelation(residuals: Vector) -> float:
    """Return the lag-one autocorrelation of residuals ``(n,)``, between 0 and 0.95; 0 for fewer than eight."""
    if residuals.shape[0] < 8:
        return 0.0
    centred = residuals - np.mean(residuals)
    power = float(np.dot(centred, centred))
    if power <= 0.0:
        return 0.0
    return min(max(float(np.dot(centred[1:], centred[:-1])) / power, 0.0), 0.95)


def mean_of_known(values: Vector) -> float:
    """Return the mean of the finite ones of ``values`` ``(n,)``; NaN where there are none."""
    known = values[np.isfinite(values)]
    return float(np.mean(known)) if known.shape[0] else math.nan


def mean_by_work(values: Vector, work: Vector) -> float:
    """Return the mean of the finite ones of ``values`` ``(n,)``, each counted by the ``work`` ``(n,)`` that was done in it
    where work comes round: what a clock does between two bursts says nothing of what is done in them. Of steady work, and of
    work that was not read throughout, it is the plain mean."""
    known = np.isfinite(values)
    if not known.any() or not np.all(np.isfinite(work)) or float(np.sum(work[known])) <= 0.0 or cycle_length(work) is None:
        return mean_of_known(values)
    return float(np.average(values[known], weights=np.maximum(work[known], 0.0)))


def median_of_known(values: Vector) -> float:
    """Return the median of the finite ones of ``values`` ``(n,)``; NaN where there are none."""
    known = values[np.isfinite(values)]
    return float(np.median(known)) if known.shape[0] else math.nan


def mean_with_error(values: Vector) -> tuple[float, float]:
    """Return the mean of ``values`` ``(n,)`` and its standard error, with autocorrelation taken into account.

    Readings that come round are taken by whole cycles: a swing that is the same in each is no doubt about their mean.
    NaN are left out; (NaN, infinity) where nothing is left.
    """
    kept = values[np.isfinite(values)]
    if kept.shape[0] == 0:
        return math.nan, math.inf
    if kept.shape[0] == 1:
        return float(kept[0]), math.inf
    length = cycle_length(kept) if kept.shape[0] == values.shape[0] else None
    ends = 0.0
    if length is not None:
        ends = float(np.std(kept)) * ENDS_SAMPLES / kept.shape[0]
        kept = whole_cycle_means(kept, length)
    rho = autocorrelation(kept)
    error = float(np.std(kept, ddof=1)) / math.sqrt(kept.shape[0]) * math.sqrt((1 + rho) / (1 - rho))
    return float(np.mean(kept)), math.hypot(error, ends)


def share_interval(times: int, of: int, confidence: float = 0.95) -> tuple[float, float]:
    """Return the exact interval of a share of which ``times`` of ``of`` draws were seen (Clopper and Pearson 1934).

    Raises ``ValueError`` for more than there were draws, and for a confidence that is none.
    """
    from scipy.stats import beta

    if not 0 <= times <= of or of < 1 or not 0.0 < confidence < 1.0:
        raise ValueError("wanted 0 <= times <= of, and a confidence between 0 and 1")
    tail = 0.5 * (1.0 - confidence)
    low = float(beta.ppf(tail, times, of - times + 1)) if times else 0.0
    high = float(beta.ppf(1.0 - tail, times + 1, of - times)) if times < of else 1.0
    return low, high
