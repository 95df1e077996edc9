"""How fast a machine warms: the steady heat path with a heat capacity behind each of its parts, fitted to whole runs.

Each part of the rise (what no fan changes, before and behind the body that the heat spreads in; what all fans work on; each
group's own stage) follows what it would settle at:

    dy_i/dt = (target_i - y_i) / (R_i C_i)        rise = sum of y_i

so that a slower fan, which raises R_i, slows its stage as well (a lumped capacity behind a resistance; textbook). R_i is the
part over the package's power at one power that is usual under load: at idle other heat would count as the package's. The steady
path tells the targets, the C_i and the share that lies behind the body are what is fitted: by least squares over all readings,
where each run's beginning and a factor on its rise are linear and eliminated (variable projection, Golub and Pereyra 1973; from
memory).
"""

import math
from collections.abc import Sequence

import msgspec
import numpy as np

from niente.core.science.arrays import Array, Vector
from niente.core.science.heat.path import HeatPath
from niente.core.science.statistics import Z95, autocorrelation

FAST_J_PER_K, BODY_J_PER_K, COMMON_J_PER_K, OWN_J_PER_K = (30.0, 0.7), (400.0, 1.0), (6000.0, 1.2), (700.0, 1.2)
"""Median and standard deviation of the logarithm of a capacity before anything is measured: of silicon and spreader; of the
body that the package's heat spreads in before air takes it; of what all air warms (panels, boards, coolant that several groups
cool); of a heat sink or a loop. A kilogram of aluminium holds 900 J/K, of water 4200 (handbook values, from memory)."""
BODY_ODDS = (-1.0, 1.0)
"""The same of the log odds that a kelvin of what no fan changes is lost behind the body, and not before it."""
BEGINS_SD_K, FACTOR_SD = 15.0, 0.08
"""How far a part of the rise may begin from where the first reading puts it, and what the steady path may be off by in a
run."""
CARRIED_SD_K, CARRIED_SHARE, LONGEST_GAP_S = 1.0, 0.5, 3600.0
"""A run begins where the last one ended, to this many kelvin and this share of what was lost between them; after longer it is
not known where."""
READING_SD_K = 0.3
FASTEST_S, SLOWEST_S = 0.5, 20000.0
LOADED_SHARE = 0.3
"""Runs of at least this share of the highest power are under load."""
ENOUGH, MAX_STEPS = 1e-4, 40
"""A fit is over when a step wins no more than this share, or after so many."""
MIN_READINGS = 60
"""A run with fewer readings tells nothing of a warming."""


class Warming(msgspec.Struct, frozen=True):
    """One run as it warmed or cooled, from ``begins_s`` on: readings every ``spacing_s``, of the rise over the room in K and of
    package power in W, both ``(n,)``; speeds ``(g,)`` in rpm and other sources ``(k,)`` in W, which stand still in a run, and
    its load."""

    begins_s: float
    spacing_s: float
    rise_k: Vector
    power_w: Vector
    rpm: tuple[float, ...]
    sources_w: tuple[float, ...]
    load: str


class HeatResponse(msgspec.Struct, frozen=True):
    """The capacities behind a heat path's parts, ``p = 3 + g`` of them: before and behind the body, what all fans work on, and
    each group's own.

    ``logs`` are the logarithms of the capacities in J/K, and last the log odds of what lies behind the body, with their
    ``covariance``; resistances are taken at ``reference_w``. ``residual_sd_k`` is what is left of the readings, ``runs`` how
    many taught it; ``taught`` says of each part whether runs told its capacity clearly better than it was known before.
    """

    logs: tuple[float, ...]
    covariance: tuple[tuple[float, ...], ...]
    reference_w: float
    residual_sd_k: float
    runs: int
    taught: tuple[bool, ...]

    @property
    def j_per_k(self) -> Vector:
        """The capacities in J/K ``(p,)``."""
        found: Vector = np.exp(np.asarray(self.logs[:-1]))
        return found

    @property
    def behind(self) -> float:
        """The share of what no fan changes that lies behind the body."""
        return _share(self.logs[-1])

    def parts(self, path: HeatPath, power_w: Array, rpm: Array, sources_w: Array | None = None, load: str = "") -> Array:
        """Return what each part would settle at in K ``(n, p)``; arguments as of ``HeatPath.rise``."""
        return _split(path.parts(power_w, rpm, sources_w, load), self.behind)

    def taus_s(self, path: HeatPath, rpm: Array, load: str = "") -> Array:
        """Return the time constants in s ``(n, p)`` of the parts of a rise at speeds ``(n, g)`` in rpm under a load."""
        return _time_constants(_split(_resistances(path, self.reference_w, rpm, load), self.behind), self.j_per_k)

    def taus_interval_s(self, path: HeatPath, rpm: Array, load: str = "") -> tuple[Array, Array]:
        """Return the 95 % intervals of the time constants of ``taus_s``."""
        middle = self.taus_s(path, rpm, load)
        factor = np.exp(Z95 * np.sqrt(np.diag(np.asarray(self.covariance))[:-1]))
        return middle / factor, middle * factor


def _share(odds: float) -> float:
    return 1.0 / (1.0 + math.exp(-odds))


def _split(parts: Array, behind: float) -> Array:
    """Return parts ``(n, 2 + g)`` with the first one split before and behind the body ``(n, 3 + g)``."""
    split: Array = np.concatenate([(1.0 - behind) * parts[:, :1], behind * parts[:, :1], parts[:, 1:]], axis=1)
    return split


def _resistances(path: HeatPath, reference_w: float, rpm: Array, load: str) -> Array:
    """Return the parts of a rise over the package's power in K/W ``(n, 2 + g)``, at a power that is usual under load."""
    speeds = np.atleast_2d(np.asarray(rpm, float))
    parts = path.parts(np.full(speeds.shape[0], reference_w), speeds, None, load)
    found: Array = np.maximum(parts, 0.0) / reference_w
    return found


def _time_constants(k_per_w: Array, j_per_k: Vector) -> Array:
    found: Array = np.clip(k_per_w * j_per_k, FASTEST_S, SLOWEST_S)
    return found


def parts_following(targets_k: Array, taus_s: Vector, spacing_s: float) -> Array:
    """Return how parts ``(n, p)`` follow their targets ``(n, p)`` from nothing, each with its own time constant ``(p,)``;
    targets are held from one reading to the next, so that the steps are exact."""
    from scipy.signal import lfilter

    kept = np.exp(-spacing_s / taus_s)
    columns = [lfilter([1.0 - k], [1.0, -k], targets_k[:, index]) for index, k in enumerate(kept.tolist())]
    found: Array = np.stack(columns, axis=-1)
    return found


def tells_response(run: Warming) -> bool:
    """Return whether a run has readings enough, and drew anything: a rig may say what it likes."""
    return int(np.count_nonzero(np.isfinite(run.rise_k))) >= MIN_READINGS and float(np.mean(run.power_w)) > 0.0


def fit_response(path: HeatPath, warmings: Sequence[Warming]) -> HeatResponse | None:
    """Fit the capacities behind a heat path to runs, oldest first; ``None`` where no run has readings enough."""
    from scipy.optimize import least_squares

    told = [one for one in warmings if tells_response(one)]
    if not told:
        return None
    ended = [-math.inf, *(one.begins_s + one.spacing_s * (one.rise_k.shape[0] - 1) for one in told)]
    powers = [float(np.mean(one.power_w)) for one in told]
    reference_w = float(np.median([power for power in powers if power >= LOADED_SHARE * max(powers)]))
    runs = [_Run(path, reference_w, one, one.begins_s - before) for one, before in zip(told, ended, strict=False)]
    means, sds = _prior(len(path.groups))

    def each(logs: Vector) -> list[Vector]:
        found: list[Vector] = []
        stand: Vector | None = None
        for run in runs:
            left, stand = run.follow(np.exp(logs[:-1]), _share(float(logs[-1])), stand)
            found.append(left)
        return found

    def left(logs: Vector) -> Vector:
        return np.concatenate([*each(logs), (logs - means) / sds])

    found = least_squares(left, means, x_scale=sds, ftol=ENOUGH, xtol=1e-3, max_nfev=MAX_STEPS)
    readings = found.fun[: -means.shape[0]]
    rho = float(np.mean([autocorrelation(left) for left in each(found.x)]))
    sd_k = READING_SD_K * math.sqrt(float(np.mean(readings**2)))
    inflated = (sd_k / READING_SD_K) ** 2 * (1.0 + rho) / (1.0 - rho)
    slopes = found.jac[: -means.shape[0]]
    covariance = np.linalg.inv(slopes.T @ slopes / max(inflated, 1e-6) + np.diag(1.0 / sds**2))
    taught = np.sqrt(np.diag(covariance))[:-1] < 0.5 * sds[:-1]
    return HeatResponse(
        tuple(found.x.tolist()),
        tuple(tuple(row) for row in covariance.tolist()),
        reference_w,
        sd_k,
        len(runs),
        tuple(bool(one) for one in taught),
    )


def parts_of_runs(path: HeatPath, response: HeatResponse, warmings: Sequence[Warming]) -> list[Array]:
    """Return the parts of the rise in each run that tells ``(n, p)`` in K, oldest first, as a fitted response has them: each
    from where the run before left it, with what the run's own readings say of its beginning."""
    found: list[Array] = []
    stand, ended_s = None, -math.inf
    for one in warmings:
        run = _Run(path, response.reference_w, one, one.begins_s - ended_s)
        parts, stand = run.parts(response.j_per_k, response.behind, stand)
        ended_s = one.begins_s + one.spacing_s * (one.rise_k.shape[0] - 1)
        found.append(parts)
    return found


def _prior(groups: int) -> tuple[Vector, Vector]:
    """Return means and standard deviations of the logarithms of all capacities and of the log odds ``(p + 1,)``."""
    pairs = [FAST_J_PER_K, BODY_J_PER_K, COMMON_J_PER_K, *[OWN_J_PER_K] * groups]
    means = [*(math.log(median) for median, _ in pairs), BODY_ODDS[0]]
    return np.array(means), np.array([*(sd for _, sd in pairs), BODY_ODDS[1]])


class _Run:
    """One run's targets, and what any capacities leave of its readings."""

    def __init__(self, path: HeatPath, reference_w: float, warming: Warming, gap_s: float) -> None:
        n = warming.power_w.shape[0]
        power = np.maximum(warming.power_w, 0.1)
        rpm, sources = np.tile(warming.rpm, (n, 1)), np.tile(warming.sources_w, (n, 1))
        self.targets_k = path.parts(power, rpm, sources, warming.load)
        self.k_per_w = _resistances(path, reference_w, np.array([warming.rpm]), warming.load)
        self.spacing_s, self.rise_k, self.gap_s = warming.spacing_s, warming.rise_k, gap_s
        self.read = np.isfinite(warming.rise_k)

    def follow(self, j_per_k: Vector, behind: float, before_k: Vector | None) -> tuple[Vector, Vector]:
        """Return what is left of the readings, in standard deviations, with the best beginning and factor of this run and what
        those take beside; and where the parts ``(p,)`` stand at its end. ``before_k`` is where they stood at the end of the run
        before (none: nobody knows)."""
        forced, fading, left, best = self._solved(j_per_k, behind, before_k)
        ends: Vector = best[0] * forced[-1] + best[1:] * fading[-1]
        return left, ends

    def parts(self, j_per_k: Vector, behind: float, before_k: Vector | None) -> tuple[Array, Vector]:
        """Return the parts of the rise ``(n, p)`` all through the run, and where they stand at its end."""
        forced, fading, _, best = self._solved(j_per_k, behind, before_k)
        every: Array = best[0] * forced + best[1:] * fading
        return every, every[-1]

    def _solved(self, j_per_k: Vector, behind: float, before_k: Vector | None) -> tuple[Array, Array, Vector, Vector]:
        """Return how the parts follow and fade ``(n, p)``, what is left of the readings, and the run's best factor and
        beginnings ``(1 + p,)``."""
        taus = _time_constants(_split(self.k_per_w, behind), j_per_k)[0]
        targets = _split(self.targets_k, behind)
        forced = parts_following(targets, taus, self.spacing_s)
        at_s = self.spacing_s * (1.0 + np.arange(forced.shape[0]))
        fading = np.exp(-at_s[:, None] / taus[None, :])
        columns = np.concatenate([forced.sum(axis=1, keepdims=True), fading], axis=1)
        begins, begins_sd = self._begins(taus, targets.mean(axis=0), before_k)
        expected, sds = np.concatenate([[1.0], begins]), np.concatenate([[FACTOR_SD], begins_sd])
        rows = np.concatenate([columns[self.read] / READING_SD_K, np.diag(1.0 / sds)])
        wanted = np.concatenate([self.rise_k[self.read] / READING_SD_K, expected / sds])
        best = np.linalg.solve(rows.T @ rows, rows.T @ wanted)  # the priors keep it well conditioned
        left: Vector = wanted - rows @ best
        return forced, fading, left, best

    def _begins(self, taus: Vector, steady_k: Vector, before_k: Vector | None) -> tuple[Vector, Vector]:
        """Return where the parts are thought to begin, and how surely: as the run before left them, less what they lost
        since."""
        if before_k is None or not 0.0 <= self.gap_s <= LONGEST_GAP_S:  # a clock that began anew says nothing of a gap
            first_k = float(np.mean(self.rise_k[self.read][:3]))
            return first_k * steady_k / max(float(steady_k.sum()), 1e-6), np.full(taus.shape[0], BEGINS_SD_K)
        cooled = before_k * np.exp(-self.gap_s / taus)
        return cooled, CARRIED_SD_K + CARRIED_SHARE * np.abs(before_k - cooled)
