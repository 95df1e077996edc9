"""Where a temperature will settle, told from a run that is not finished.

y(t) = y_end - sum of A_i exp(-t / tau_i), with time constants of tens of seconds (spreader, base) and of minutes
(fins, coolant, case); the die's own seconds are over before the fit begins. The constants are not
fitted but averaged over a grid, each pair weighted by how well it explains the readings: a wrong guess of the slow
constant is then part of the interval and not hidden.
"""

import functools
import math

import msgspec
import numpy as np

from niente.core.science.arrays import Array, Vector
from niente.core.science.statistics import Z95, autocorrelation

BIN_S = 10.0
"""Samples are averaged over this long before they are fitted."""
MIN_BINS = 12
MIN_KNOWN = 0.8
"""A run of which fewer bins than this share were read does not tell where it settles."""
MIDDLE_TAUS_S = np.geomspace(15.0, 90.0, 6)
SLOW_TAUS_S = np.geomspace(150.0, 3000.0, 14)
RARE_TAU_S, RARE = 1600.0, 0.1
"""Slower ones than this are rare: a machine has to show them, and weighs so much beforehand."""
AMPLITUDE_SD_K = (25.0, 25.0)
"""Prior standard deviation of the slow and middle amplitude."""
CREEP_SHARE, MIN_CREEP_SD_K = 0.3, 0.5
"""That of a creep that is ``CREEPS`` times slower than slow, as a share of what the run has moved so far: panels and
furniture that no run is long enough to show, and that would otherwise bias its end. From a cold start they have far to go."""
CREEPS = np.array([2.0, 5.0])
FLOOR_SD_K = 0.25
"""What no fit removes (sensor, room, model): never tighter than about ±0.5 K."""
EARLIER, DRIFTED, WORTH_CHECKING_K2 = 0.7, 0.5, 1.0
"""A forecast that its own data have not let stand is not believed: what the first part of the run would have said, and how much
of the difference counts as variance; looked at where the interval is near enough to matter (K^2)."""
ROOM_LAG_S = 420.0
MAX_BINS = 1100
PRIOR_FLOOR = 1e-3
"""No time constant is ever ruled out by earlier runs alone."""
TREND_S = 240.0
SLOWEST_HALVING_S = 1800.0
"""An interval that takes longer than this to halve is not foreseen to close."""


class Settled(msgspec.Struct, frozen=True):
    """A settled temperature: ``value_c`` ± ``half_width_k`` (95 %), or ``reason`` why there is none yet.

    ``room_c`` is the lagged room temperature that the value belongs to. ``slow_weights`` (28,) is how well each slow
    time constant, with each creep behind it, explains this run; it can be handed to the next run of the same variant.
    """

    value_c: float
    half_width_k: float
    room_c: float
    reason: str = ""
    slow_weights: tuple[float, ...] = ()

    @property
    def known(self) -> bool:
        """Whether there is an answer at all."""
        return not self.reason

    def known_to(self, kelvin: float) -> bool:
        """Whether the value is known to ± that many kelvin (95 %)."""
        return self.known and self.half_width_k <= kelvin


def not_yet(reason: str) -> Settled:
    """Return the answer where there is none."""
    return Settled(math.nan, math.inf, math.nan, reason)


@functools.lru_cache(maxsize=1)
def _basis() -> Array:
    """Return 1, e^(-t/slow), e^(-t/middle), e^(-t/creep) at bin middles for every combination of the grid, one row each:
    ``(4 combinations, MAX_BINS)``. Slow turns slowest, then creep, then middle."""
    t = (np.arange(MAX_BINS) + 0.5) * BIN_S
    slow, creep, middle = (taus.reshape(-1, 1) for taus in np.meshgrid(SLOW_TAUS_S, CREEPS, MIDDLE_TAUS_S, indexing="ij"))
    parts = [np.ones((slow.shape[0], MAX_BINS)), np.exp(-t / slow), np.exp(-t / middle), np.exp(-t / (slow * creep))]
    return np.stack(parts, axis=1).reshape(-1, MAX_BINS)


@functools.lru_cache(maxsize=512)
def _gram(n: int) -> Array:
    """Return the products of the basis with itself over the first ``n`` bins, ``(combinations, 4, 4)``; they belong to the
    grid and not to a run."""
    basis = _basis()[:, :n].reshape(-1, 4, n)
    product: Array = basis @ np.swapaxes(basis, 1, 2)
    return product


def lagged(time_s: Vector, values: Vector, lag_s: float = ROOM_LAG_S) -> Vector:
    """Return ``values`` ``(n,)`` as a first-order lag of ``lag_s`` sees them, starting from their first minute's mean."""
    result = np.empty_like(values)
    state = float(np.mean(values[time_s < time_s[0] + 60.0]))
    steps = np.diff(time_s, prepend=time_s[0])
    gains = -np.expm1(-steps / lag_s)
    for i, (value, gain) in enumerate(zip(values.tolist(), gains.tolist(), strict=True)):
        state += gain * (value - state)
        result[i] = state
    return result


def binned(values: Vector, per_bin: int) -> Vector:
    """Return the means of every so many values ``(n,)``, NaN left out; what is left over at the end is dropped."""
    whole = values.shape[0] // per_bin
    rows = values[: whole * per_bin].reshape(whole, per_bin)
    known = np.isfinite(rows)
    if known.all():
        return np.asarray(rows.mean(axis=1), dtype=np.float64)
    count = known.sum(axis=1)
    means: Vector = np.where(count > 0, np.where(known, rows, 0.0).sum(axis=1) / np.maximum(count, 1), np.nan)
    return means


def _bridged(bins: Vector) -> Vector | None:
    """Return bins ``(n,)`` with short gaps bridged by straight lines; ``None`` where too much is missing, or the end is."""
    known = np.isfinite(bins)
    if known.all():
        return bins
    if not known[-1] or np.count_nonzero(known) < MIN_KNOWN * bins.shape[0]:
        return None
    at = np.arange(bins.shape[0])
    bridged: Vector = np.interp(at, at[known], bins[known])
    return bridged


def settle(time_s: Vector, core_c: Vector, room_c: Vector, slow_prior: tuple[float, ...] = ()) -> Settled:
    """Return where ``core_c`` settles, from samples since its power became steady.

    ``time_s``, ``core_c`` and ``room_c`` have shape ``(n,)``, evenly spaced, in s and °C; the lagged room is taken out
    before the fit and put back at its last value. ``slow_prior`` are weights (28,) of the slow time constants and their
    creeps from earlier runs. Bayesian linear regression at every combination of grid constants (normal prior on the
    amplitudes), averaged by marginal likelihood; the variance is inflated by the residuals' autocorrelation.
    """
    if time_s.shape[0] < 2:
        return not_yet("the run has only begun")
    spacing = float(time_s[-1] - time_s[0]) / (time_s.shape[0] - 1)
    per_bin = max(1, round(BIN_S / spacing))
    if time_s.shape[0] < MIN_BINS * per_bin:
        return not_yet("two minutes of steady power are needed first")
    core_bins, room_bins = _bridged(binned(core_c, per_bin)), _bridged(binned(room_c, per_bin))
    if core_bins is None or room_bins is None:
        return not_yet("readings are missing")
    room = lagged(binned(time_s, per_bin), room_bins)
    y = (core_bins - room)[:MAX_BINS]
    mean, total, slow_weights = _end_of(y, slow_prior)
    if total < WORTH_CHECKING_K2 and y.shape[0] >= 2 * MIN_BINS:
        earlier, _, _ = _end_of(y[: round(EARLIER * y.shape[0])], slow_prior)
        total += DRIFTED * (mean - earlier) ** 2
    last_room = float(room[-1])
    return Settled(mean + last_room, Z95 * math.sqrt(total), last_room, "", tuple(slow_weights.tolist()))


def _end_of(y: Vector, slow_prior: tuple[float, ...]) -> tuple[float, float, Vector]:
    """Return where bins ``(n,)`` end, the variance of that, and how well each slow constant explains them."""
    n = y.shape[0]
    rough = np.diff(y)
    noise_var = max(float(np.median(rough**2)) / 2 / 0.455, 1e-4)
    creep_sd = max(CREEP_SHARE * float(np.max(y) - np.min(y)), MIN_CREEP_SD_K)
    precision = np.diag([0.0, *(noise_var / sd**2 for sd in (*AMPLITUDE_SD_K, creep_sd))])
    basis = _basis()[:, :n]
    gram = _gram(n) + precision
    level = float(np.mean(y))
    moment = (basis @ (y - level)).reshape(-1, 4)
    found = np.linalg.solve(gram, moment[:, :, None])[:, :, 0]
    cost = float((y - level) @ (y - level)) - np.einsum("gi,gi->g", moment, found)  # of residuals and prior together
    best = int(np.argmin(cost))
    residuals = y - level - found[best] @ basis[4 * best : 4 * best + 4]
    rho = autocorrelation(residuals)
    variance = max(noise_var, float(cost[best]) / max(n - 4, 1)) * (1 + rho) / (1 - rho)
    log_weight = -cost / (2 * variance) - 0.5 * np.linalg.slogdet(gram / noise_var)[1]
    log_weight += np.repeat(np.log(np.where(SLOW_TAUS_S > RARE_TAU_S, RARE, 1.0)), len(CREEPS) * len(MIDDLE_TAUS_S))
    if slow_prior:
        log_weight += np.repeat(np.log(np.asarray(slow_prior) + PRIOR_FLOOR), len(MIDDLE_TAUS_S))
    weight = np.exp(log_weight - np.max(log_weight))
    weight /= np.sum(weight)
    end = found[:, 0] + level
    within = variance * np.linalg.inv(gram)[:, 0, 0]
    mean = float(weight @ end)
    total = float(weight @ (within + (end - mean) ** 2)) + FLOOR_SD_K**2
    return mean, total, weight.reshape(-1, len(MIDDLE_TAUS_S)).sum(axis=1)


def seconds_until_known(time_s: Vector, half_width_k: Vector, wanted_k: float) -> float:
    """Return in how many seconds the interval will be down to ± ``wanted_k``; NaN where that cannot be foreseen.

    ``time_s`` and ``half_width_k`` ``(n,)`` are the forecasts of the last minutes; the interval is taken to go on
    closing by the same share a minute (a straight line through its logarithm). 0 where it is there already.
    """
    if not time_s.shape[0]:
        return math.nan
    if half_width_k[-1] <= wanted_k:
        return 0.0
    recent = time_s >= time_s[-1] - TREND_S
    t, log_k = time_s[recent] - time_s[-1], np.log(half_width_k[recent])
    if t.shape[0] < 3:
        return math.nan
    slope = float(np.polyfit(t, log_k, 1)[0])
    if slope > -math.log(2.0) / SLOWEST_HALVING_S:
        return math.nan
    return (math.log(wanted_k) - float(log_k[-1])) / slope


def slow_tau_s(prior: tuple[float, ...]) -> float:
    """Return the slow time constant in s that earlier runs speak for, from their weights (28,)."""
    weights = np.asarray(prior).reshape(len(SLOW_TAUS_S), -1).sum(axis=1)
    return float(np.exp(weights @ np.log(SLOW_TAUS_S) / weights.sum()))


def learn(prior: tuple[float, ...], seen: Settled) -> tuple[float, ...]:
    """Return the weights of the slow time constants after one more run; half of what it says counts.

    Fans move the slow constants, so what one run teaches the next is tempered.
    """
    if not seen.slow_weights:
        return prior
    fresh = np.asarray(seen.slow_weights)
    old = np.asarray(prior) if prior else np.full(fresh.shape[0], 1.0 / fresh.shape[0])
    mixed = 0.7 * old + 0.3 * fresh
    return tuple((mixed / mixed.sum()).tolist())
