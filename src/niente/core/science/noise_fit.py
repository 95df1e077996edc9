"""The noise map's fit: background, speed laws, bends and what the power makes heard, from readings in the room."""

import functools

import msgspec
import numpy as np

from niente.core.science.arrays import Array, Indices, Mask, Vector
from niente.core.science.noise import NODES, NoiseModel, fans_turning, parts_and_slopes, together
from niente.core.science.statistics import frozen, inverse, redescending

PER_DECADE, PER_DECADE_SD = 53.0, 3.0
"""Prior of the speed law in dB a decade of speed: 50 to 57 in practice."""
LEVEL_PRIOR_DB, LEVEL_PRIOR_SD = 38.0, 15.0
BACKGROUND_PRIOR_DB, BACKGROUND_PRIOR_SD = 30.0, 12.0
POWER_PRIOR_DB, POWER_PRIOR_SD = 8.0, 8.0
POWER_PER_DECADE, POWER_PER_DECADE_SD = 14.0, 5.0
"""Priors of what the watts make heard at 1 m: below most rooms, and growing with the current or its square. Common practice, no
source."""
BEND_SDS_DB, BEND_DECADES = (0.5, 1.0, 2.0), 0.07
"""How large bends are, as a standard deviation, chosen by marginal likelihood; and over which distance they hang together."""
MACHINE_SD_DB = 0.06
"""What a machine's own level moves between one reading and the next, as a standard deviation."""
RESONANCE_SD_DB = 0.3
"""What a resonance between the nodes may put a good reading off by: no outlier is made of it."""
MIN_WANDER_DB, MAX_WANDER_DB = 0.05, 2.0
WANDER_S = 900.0
"""How long a room's background stays the same: readings close together do not average it out."""
WANDER_DB, DOUBTS = 0.15, 4.0
"""What a room's background moves between readings, beforehand, and how many readings that is worth."""
RESTLESS_DB = 0.5
"""A background that moves more than this from reading to reading is looked through for steps."""
STEP_DB, CLEAR_STEP, MIN_PIECE, MAX_STEPS = 1.5, 2.0, 4, 4
"""A step of the room: so many dB, so many times what is within the pieces, of so many readings at least; and how often it is
looked for."""
IDLE_SHARE, MIN_IDLE = 0.2, 5
"""Readings up to this share of the highest power were made idle."""
MIN_SCATTER_DB = 0.37
"""Readings scatter about their fit by this at least, as a standard deviation; what is less than two of those of a reading is no
room that it tells of."""
HEARD_WITHIN_DB = 8.0
"""A group this far under a reading is not heard in it."""
ROUNDS = 5


class _Readings(msgspec.Struct):
    """What is fitted to: speeds over the highest, which fans turn, power over the highest; levels and their errors; and how
    much of the room's wander readings have in common, ``(n, n)``."""

    share: Array
    turns: Mask
    power: Vector
    level_dba: Vector
    own_db: Vector
    alike: Array

    def only(self, kept: Indices) -> "_Readings":
        """Return some of them."""
        return _Readings(
            self.share[kept],
            self.turns[kept],
            self.power[kept],
            self.level_dba[kept],
            self.own_db[kept],
            self.alike[np.ix_(kept, kept)],
        )


class _Solved(msgspec.Struct):
    """A fit: values, covariance, the levels it gives, the weights of the readings, the wander found, and its likelihood."""

    values: Vector
    covariance: Array
    weights: Vector
    wander_db: float
    likelihood: float


@functools.lru_cache(maxsize=8)
def _root(bend_sd_db: float) -> Array:
    """Return the lower root of the bends' prior covariance, ``(nodes, nodes)``."""
    apart = NODES[:, None] - NODES[None, :]
    covariance = bend_sd_db**2 * np.exp(-0.5 * (apart / BEND_DECADES) ** 2) + 1e-6 * np.eye(NODES.shape[0])
    return np.asarray(np.linalg.cholesky(covariance), dtype=np.float64)


def fit_noise(
    groups: tuple[str, ...],
    rpm: Array,
    level_dba: Vector,
    level_se_db: Vector,
    power_w: Vector | None = None,
    at_s: Vector | None = None,
) -> NoiseModel:
    """Fit background, speed laws, bends and what the power makes heard to readings.

    ``rpm`` has shape ``(n, g)``, ``level_dba``, its standard error, the power (W; none: not read) and the time that it
    was read at (s; none: far apart) ``(n,)``. Maximum a posteriori
    with normal priors, the bends whitened; the covariance is the inverse of the curvature there (Laplace). How far the
    background moves between readings is learnt from how they scatter where it is heard; readings far off count less and then
    not at all. A group that was never varied keeps its prior, and the interval says so. Raises ``ValueError`` for fewer than
    two readings.
    """
    if level_dba.shape[0] < 2:
        raise ValueError("a noise map needs at least two readings")
    full = np.maximum(np.max(rpm, axis=0), 60.0)
    power = np.zeros(level_dba.shape) if power_w is None else np.nan_to_num(power_w)
    full_w = max(float(np.max(power)), 1.0)
    readings = _Readings(
        rpm / full, fans_turning(rpm), power / full_w, level_dba, np.minimum(level_se_db, 5.0), _alike(at_s, level_dba.shape[0])
    )
    found, kept = _solve_best(readings), np.arange(level_dba.shape[0])
    if found.wander_db > RESTLESS_DB and at_s is not None:
        kept = _in_the_quiet(readings, at_s)
        if kept.shape[0] < level_dba.shape[0]:
            readings = readings.only(kept)
            found = _solve_best(readings)
    counted = set(kept[found.weights > 0.0].tolist())
    count, nodes = len(groups), NODES.shape[0]
    laws, values = 1 + 2 * count, found.values
    return NoiseModel(
        groups,
        tuple(full.tolist()),
        float(values[0]),
        tuple(values[1 : 1 + count].tolist()),
        tuple(values[1 + count : laws].tolist()),
        frozen(values[laws:-2].reshape(count, nodes)),
        frozen(found.covariance),
        (float(values[-2]), float(values[-1])),
        full_w,
        found.wander_db,
        _heard(readings, found),
        tuple(index for index in range(level_dba.shape[0]) if index not in counted),
    )


def _solve_best(readings: _Readings) -> _Solved:
    """Fit with bends of every size, and return what explains the readings best."""
    found: _Solved | None = None
    for bend_sd_db in BEND_SDS_DB:
        tried = _solve(readings, bend_sd_db, found)
        if found is None or tried.likelihood > found.likelihood:
            found = tried
    assert found is not None
    return found


def _in_the_quiet(readings: _Readings, at_s: Vector) -> Indices:
    """Return the readings made while the room was as quiet as it gets, rising in number: where the room's own level makes a
    step (day breaks, a neighbour's fan starts), what was read behind it says little of the machine.

    The room behind each reading is what a fit to the idle ones leaves of it; the steps are found by halving, each where the
    two sides lie furthest apart for how they scatter (binary segmentation of change points, textbook).
    """
    idle = np.flatnonzero(readings.power <= IDLE_SHARE)
    order = np.argsort(at_s, kind="stable")
    first = idle if idle.shape[0] >= MIN_IDLE else order[: max(order.shape[0] // 3, 2)]
    found = _solve(readings.only(first), BEND_SDS_DB[1], None)
    parts, _ = parts_and_slopes(readings.share, readings.turns, readings.power, found.values)
    off = readings.level_dba - 10.0 * np.log10(np.sum(10.0 ** (parts / 10.0), axis=1))
    scatter = max(1.4826 * float(np.median(np.abs(off[first]))), MIN_SCATTER_DB)
    faintest = readings.level_dba + 10.0 * np.log10(1.0 - 10.0 ** (-2.0 * scatter / 10.0))
    energy = 10.0 ** (readings.level_dba / 10.0) - np.sum(10.0 ** (parts[:, 1:-1] / 10.0), axis=1)
    behind = 10.0 * np.log10(np.maximum(energy, 10.0 ** (faintest / 10.0)))
    told = order[(behind > faintest)[order]]
    pieces = _pieces(behind[told])
    if len(pieces) < 2:
        return np.arange(at_s.shape[0])
    levels = np.array([float(np.median(behind[told[piece]])) for piece in pieces])
    begins = at_s[told[[piece.start for piece in pieces[1:]]]]
    quiet = (levels <= np.min(levels) + STEP_DB)[np.searchsorted(begins, at_s, side="right")]
    return np.flatnonzero(quiet)


def _pieces(values: Vector) -> list[slice]:
    """Return pieces of a series ``(n,)`` between its steps, in order."""

    def cut(start: int, stop: int, depth: int) -> list[slice]:
        best, at = 0.0, 0
        for middle in range(start + MIN_PIECE, stop - MIN_PIECE + 1):
            left, right = values[start:middle], values[middle:stop]
            step = abs(float(np.median(left) - np.median(right)))
            within = (float(np.sum(np.abs(left - np.median(left)))) + float(np.sum(np.abs(right - np.median(right))))) / (
                stop - start
            )
            clear = step / max(within, 0.3)
            if step >= STEP_DB and clear > max(best, CLEAR_STEP):
                best, at = clear, middle
        if not at or depth >= MAX_STEPS:
            return [slice(start, stop)]
        return cut(start, at, depth + 1) + cut(at, stop, depth + 1)

    return cut(0, values.shape[0], 0)


def _alike(at_s: Vector | None, count: int) -> Array:
    """Return how much of the wander readings have in common, by how far they lie apart in time, ``(n, n)``."""
    if at_s is None:
        return np.eye(count)
    apart = np.abs(at_s[:, None] - at_s[None, :]) / WANDER_S
    alike: Array = np.where(np.isfinite(apart), np.exp(-np.nan_to_num(apart, nan=1e3)), 0.0)
    np.fill_diagonal(alike, 1.0)
    return alike


def _heard(readings: _Readings, found: _Solved) -> tuple[tuple[float, ...], ...]:
    """Return at which speeds each group was heard: where it made a good part of a reading that counts."""
    parts, _ = parts_and_slopes(readings.share, readings.turns, readings.power, found.values)
    good = parts[:, 1:-1] > (readings.level_dba - HEARD_WITHIN_DB)[:, None]
    good &= readings.turns & (found.weights > 0.0)[:, None]
    decades = np.log10(np.maximum(readings.share, 1e-4))
    return tuple(tuple(np.unique(np.round(decades[good[:, group], group], 3)).tolist()) for group in range(good.shape[1]))


def _priors(groups: int, bend_sd_db: float) -> tuple[Vector, Vector, Array]:
    """Return means and standard deviations of the whitened values, and the matrix that colours them."""
    bends = groups * NODES.shape[0]
    laws = 1 + 2 * groups
    mean = np.array([BACKGROUND_PRIOR_DB, *[LEVEL_PRIOR_DB] * groups, *[PER_DECADE] * groups, *[0.0] * bends])
    sd = np.array([BACKGROUND_PRIOR_SD, *[LEVEL_PRIOR_SD] * groups, *[PER_DECADE_SD] * groups, *[1.0] * bends])
    unwhiten = np.eye(mean.shape[0] + 2)
    for group in range(groups):
        at = slice(laws + group * NODES.shape[0], laws + (group + 1) * NODES.shape[0])
        unwhiten[at, at] = _root(bend_sd_db)
    return (
        np.concatenate([mean, [POWER_PRIOR_DB, POWER_PER_DECADE]]),
        np.concatenate([sd, [POWER_PRIOR_SD, POWER_PER_DECADE_SD]]),
        unwhiten,
    )


def _solve(readings: _Readings, bend_sd_db: float, near: _Solved | None) -> _Solved:
    """Fit with bends of one size: rounds of weights and of the background's wander (iteratively reweighted least squares,
    textbook)."""
    mean, sd, unwhiten = _priors(readings.share.shape[1], bend_sd_db)
    at = mean.copy()
    at[0] = float(np.quantile(readings.level_dba, 0.1))
    wander, weights = WANDER_DB, np.ones(readings.level_dba.shape[0])
    if near is not None:
        at = np.asarray(np.linalg.solve(unwhiten, near.values), dtype=np.float64)
        wander, weights = near.wander_db, near.weights
    heard = np.ones(readings.level_dba.shape[0])
    off = information = None
    for turn in range(ROUNDS):
        own = readings.own_db**2 + MACHINE_SD_DB**2
        spread = np.diag(own / np.maximum(weights, 1e-6)) + wander**2 * readings.alike * np.outer(heard, heard)
        root = np.asarray(np.linalg.cholesky(spread), dtype=np.float64)
        at, information, level, parts, off = _search(readings, at, (mean, sd, unwhiten), inverse(root))
        heard = 10.0 ** ((parts[:, 0] - level) / 10.0)  # how much of each reading the room makes
        before, apart = wander, readings.level_dba - level
        share = weights * heard**2
        beyond = float(np.sum(share * np.maximum(apart**2 - own, 0.0)))
        wander = np.sqrt((DOUBTS * WANDER_DB**2 + beyond) / (DOUBTS + float(np.sum(share * heard**2))))
        wander = float(np.clip(wander, MIN_WANDER_DB, MAX_WANDER_DB))
        each = apart / np.sqrt(own + (wander * heard) ** 2 + RESONANCE_SD_DB**2)
        weights = redescending(each / max(1.4826 * float(np.median(np.abs(each))), 1.0))
        if turn > 1 and abs(wander / before - 1.0) < 0.05:
            break
    assert off is not None
    assert information is not None
    likelihood = float(
        -0.5 * off @ off - np.sum(np.log(np.diag(root))) - 0.5 * np.linalg.slogdet(information)[1] - np.sum(np.log(sd))
    )
    whitened = np.linalg.inv(information)
    return _Solved(unwhiten @ at, unwhiten @ whitened @ unwhiten.T, weights, wander, likelihood)


def _search(
    readings: _Readings, start: Vector, prior: tuple[Vector, Vector, Array], back: Array
) -> tuple[Vector, Array, Vector, Array, Vector]:
    """Return the whitened values that explain the readings best, the information about them, the levels they give, the parts of
    those, and what is missed."""
    from scipy.optimize import least_squares

    mean, sd, unwhiten = prior

    def look(at: Vector) -> tuple[Vector, Array, Array]:
        parts, slopes = parts_and_slopes(readings.share, readings.turns, readings.power, unwhiten @ at)
        return (*together(parts, slopes), parts)

    def residuals(at: Vector) -> Vector:
        level, _, _ = look(at)
        return np.concatenate([back @ (level - readings.level_dba), (at - mean) / sd])

    def slopes(at: Vector) -> Array:
        _, gradient, _ = look(at)
        return np.vstack([back @ (gradient @ unwhiten), np.diag(1.0 / sd)])

    found = least_squares(residuals, start, jac=slopes, max_nfev=60, ftol=1e-6, xtol=1e-6, gtol=1e-6)
    at = np.asarray(found.x, dtype=np.float64)
    level, _, parts = look(at)
    jacobian = slopes(at)
    return at, jacobian.T @ jacobian, level, parts, residuals(at)
