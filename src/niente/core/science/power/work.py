"""How much work a load does at a clock and a voltage offset: its law and the fit of it.

    ln X = a + b x + c x^2/2 + g(offset, x) + h(x)      x = ln(f / f_ref)

Work that waits for nothing goes with the clock (b = 1, c = 0); what waits for memory takes its time at any clock, so that b
falls as the clock rises (c < 0), as 1/X = p/f + q says (textbook: Amdahl's law with the clock as the speed-up). Near its
threshold a core stretches its clock, and work falls behind what is reported: g, a process over offset and clock, since the
margin shrinks with the clock. What is left is h, a small one over the clock. All five are one Gaussian process (Rasmussen and
Williams 2006, section 2.7; from memory).
"""

import msgspec
import numpy as np

from niente.core.science.arrays import Array, Vector
from niente.core.science.statistics import Z95, frozen, inverse, quadratic, redescending

LEVEL_SD = 3.0
"""The level is not known beforehand, as a logarithm about the mean of the runs."""
BETA, BETA_SD = 0.85, 0.4
BEND, BEND_SD = -0.1, 0.25
"""Priors of b and c: from work that waits half of its time to work that never does."""
STRETCH_SD, STRETCH_MV, STRETCH_REACH = 0.006, 20.0, 0.4
"""How much an offset takes from the work at a clock (share), over which distance it is the same, and over which part of a
clock. Common practice, no source."""
LOCAL_SD, LOCAL_REACH = 0.0008, 0.1
"""What the law leaves out (share), and over which part of a clock it hangs together."""
RUN_SD = 0.0004
"""What a run's mean throughput is off by beside its own scatter, as a share."""
DOUBTS, MIN_SIZE, MAX_SIZE = 5.0, 0.6, 400.0
"""The size of the runs' own errors is learnt from how they scatter; what they claim counts as so many runs."""
ROUNDS = 6


class Work(msgspec.Struct, frozen=True):
    """A load's throughput. ``runs`` ``(n, 2)`` are x and offset (mV) of its runs, ``pulls`` and ``precision`` what they say;
    ``level`` is their mean logarithm. ``wide`` is how many times a normal interval the 95 % one is: few runs tell their own
    errors less well (Student's t). ``rejected`` are the indices of runs that cannot be true beside the others."""

    level: float
    runs: tuple[tuple[float, ...], ...]
    pulls: tuple[float, ...]
    precision: tuple[tuple[float, ...], ...]
    wide: float = 1.0
    rejected: tuple[int, ...] = ()

    @property
    def beta(self) -> float:
        """The slope d ln X / d ln f at f_ref."""
        return BETA + BETA_SD**2 * float(np.asarray(self.runs)[:, 0] @ np.asarray(self.pulls))

    @property
    def bend(self) -> float:
        """How the slope moves with ln f."""
        return BEND + BEND_SD**2 * float(0.5 * np.asarray(self.runs)[:, 0] ** 2 @ np.asarray(self.pulls))

    def slope(self, share: Array) -> Array:
        """Return d ln X / d ln f at clocks over f_ref: never below none and hardly above in proportion."""
        slope: Array = np.clip(self.beta + self.bend * np.log(share), 0.0, 1.2)
        return slope

    def throughput(self, share: Vector, offset_mv: Vector, ln_clock_sd: Vector) -> tuple[Vector, Vector]:
        """Return throughput at clocks over f_ref and offsets, ``(n,)``, and its standard error, the clock's own as a share."""
        here = np.stack([np.log(share), offset_mv], axis=-1)
        value = np.exp(self.level + _mean(here) + _likeness(here, np.asarray(self.runs)) @ np.asarray(self.pulls))
        variance = self._variance(_likeness(here, np.asarray(self.runs)), _own(here))
        return value, value * self.wide * np.sqrt(variance + (self.slope(share) * ln_clock_sd) ** 2)

    def ratio(self, share: Vector, offset_mv: Vector, to: float, to_offset_mv: float) -> tuple[Vector, Vector]:
        """Return throughput at clocks over f_ref and offsets as a ratio to that at another, ``(n,)``, and its standard error,
        the clocks being known: what the two have in common (the load's own level) is in neither."""
        here = np.stack([np.log(share), offset_mv], axis=-1)
        there = np.array([[np.log(to), to_offset_mv]])
        runs = np.asarray(self.runs)
        apart = _likeness(here, runs) - _likeness(there, runs)
        value = np.exp(_mean(here) - _mean(there) + apart @ np.asarray(self.pulls))
        own = _own(here) + _own(there) - 2.0 * _likeness(here, there)[:, 0]
        return value, value * self.wide * np.sqrt(self._variance(apart, own))

    def _variance(self, shared: Array, own: Vector) -> Vector:
        variance: Vector = np.maximum(own - quadratic(shared, self.precision), 0.0)
        return variance


def _mean(points: Array) -> Vector:
    """Return the prior's mean without the level, ``(n,)``."""
    mean: Vector = BETA * points[:, 0] + 0.5 * BEND * points[:, 0] ** 2
    return mean


def _likeness(one: Array, other: Array) -> Array:
    """Return the prior's covariance of ln X between points ``(n, 2)`` and ``(m, 2)``: ``(n, m)``."""
    x, y = one[:, 0][:, None], other[:, 0][None, :]
    deeper = (one[:, 1][:, None] - other[:, 1][None, :]) / STRETCH_MV
    likeness: Array = (
        LEVEL_SD**2
        + BETA_SD**2 * x * y
        + 0.25 * BEND_SD**2 * x**2 * y**2
        + STRETCH_SD**2 * np.exp(-0.5 * (deeper**2 + ((x - y) / STRETCH_REACH) ** 2))
        + LOCAL_SD**2 * np.exp(-0.5 * ((x - y) / LOCAL_REACH) ** 2)
    )
    return likeness


def _own(points: Array) -> Vector:
    """Return the prior's variance at points ``(n, 2)``."""
    x = points[:, 0]
    own: Vector = LEVEL_SD**2 + BETA_SD**2 * x**2 + 0.25 * BEND_SD**2 * x**4 + STRETCH_SD**2 + LOCAL_SD**2
    return own


def fit_work(share: Vector, offset_mv: Vector, throughput_per_s: Vector, error: Vector) -> Work:
    """Fit a load's throughput over clocks as shares of f_ref and offsets; all ``(n,)``, ``error`` is a run's own as a share
    (NaN: not known).

    Runs far off count less and then not at all, and the size of the errors is learnt from how the others scatter. Raises
    ``ValueError`` without runs.
    """
    from scipy.stats import t

    if not share.shape[0]:
        raise ValueError("there is no run with a throughput")
    runs, y = np.stack([np.log(share), offset_mv], axis=-1), np.log(throughput_per_s)
    level = float(np.median(y - _mean(runs)))
    left = y - _mean(runs) - level
    own = np.minimum(np.nan_to_num(error, nan=0.0, posinf=0.01), 0.05) ** 2 + RUN_SD**2
    prior = _likeness(runs, runs)
    weights, size = np.ones(left.shape[0]), 1.0
    free = 0.0
    for _ in range(ROUNDS):
        spread = size * own / np.maximum(weights, 1e-9)
        precision = inverse(prior + np.diag(spread))
        apart = spread * (precision @ left) / np.sqrt(own)  # what the process does not follow
        free = float(np.sum(spread * np.diag(precision) * (weights > 0.0)))
        size = (DOUBTS + float(np.sum(weights * apart**2))) / (DOUBTS + free)
        size = min(max(size, MIN_SIZE), MAX_SIZE)
        weights = redescending(apart / max(1.4826 * float(np.median(np.abs(apart))), np.sqrt(size), 1.0))
    return Work(
        level,
        frozen(runs),
        tuple((precision @ left).tolist()),
        frozen(precision),
        float(t.ppf(0.975, DOUBTS + free)) / Z95,
        tuple(np.flatnonzero(weights == 0.0).tolist()),
    )
