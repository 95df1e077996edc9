"""What a package draws at a voltage, clock, temperature and load: the law and its fit.

    V = c0 + c1 x + c2 x^2 + g offset - R P / V      x = f / f_ref - 1
    P = a_load V^2 f + leak V e^(k_v (V - 1)) e^(k_t (T - 60)) + uncore

C V^2 f is the textbook's switching power; leakage grows about exponentially with voltage and temperature (textbook; k_t of
0.01 to 0.02 a kelvin, from memory). What the laws leave out (a curve of points, a firmware's steps) is a Gaussian process over
the clock: it is drawn into the answer, as clocks that were run lie close together.
"""

import math

import msgspec
import numpy as np

from niente.core.science.arrays import Array, Indices, Vector
from niente.core.science.power.work import Work, fit_work
from niente.core.science.statistics import frozen, inverse, quadratic

LEAK, LEAK_PER_K, LEAK_PER_V, UNCORE, LOAD_LINE, AT_FULL, STEEP, BENT, OFFSET = range(9)
SHARED = 9
"""Parameters before the loads' switched charges, which are logarithms as the first five are."""
VOLT_SD_V, POWER_SD = 0.003, 0.002
"""How well a run's mean voltage (V) and power (share) are known."""
CURVE_SD_V = 0.004
"""What a curve of points has over a bent line (V)."""
LEFT_OUT_SDS, REACH = (0.006, 0.012, 0.025), 0.04
"""Candidates for what the law of power leaves out, as a share, weighed by marginal likelihood; and over which part of a clock
it hangs together."""
ELSEWHERE = 0.8
"""How much of it loads have in common."""
GRID = np.linspace(math.log(0.05), math.log(1.3), 400)
"""Where the bends are kept, in ln of the clock over the highest one run."""
TYPICAL_V = 1.2
MAX_V, MIN_V = 2.5, 0.3
MIN_RUNS, SPARED, SUSPECTS = 3, 5, 5
"""The fewest runs; of so many one may be left out; and how many are tried where the law explains hardly any."""
IMPOSSIBLE, IMPOSSIBLE_TIMES, MOST_OTHERS = 0.12, 2.5, 0.8
"""A run whose power is this far off the law (a logarithm), and so many times further than most others, which it has drawn with
it, is not believed."""
ROUNDS = 4


class PowerReadings(msgspec.Struct, frozen=True):
    """What a law of power is fitted to, all arrays ``(n,)``: clock (MHz), voltage (V, NaN where it is not read), voltage
    offset (mV), a voltage that is fixed (V, 0: none), the temperature that counts (°C), package power (W), throughput (in each
    load's own unit, NaN where it is not to be used) with its standard error as a share, and the load by name."""

    clock_mhz: Vector
    voltage_v: Vector
    offset_mv: Vector
    fixed_v: Vector
    core_c: Vector
    power_w: Vector
    throughput_per_s: Vector
    load: tuple[str, ...]
    throughput_share: Vector

    def only(self, kept: Indices) -> "PowerReadings":
        """Return some of them."""
        arrays = {name: getattr(self, name)[kept] for name in self.__struct_fields__ if name != "load"}
        return PowerReadings(load=tuple(self.load[index] for index in kept.tolist()), **arrays)


class PowerLaw(msgspec.Struct, frozen=True):
    """A fitted law. ``values`` are its parameters (see the module), ``covariance`` theirs; ``work`` by load; ``seen_mhz`` the
    least and highest clock run under each load; ``bends`` what the process beside the law adds at ``GRID``, a row a load. The
    rest is what it knows that from; ``rejected`` are the indices of runs that cannot be true beside the others."""

    ref_mhz: float
    loads: tuple[str, ...]
    values: tuple[float, ...]
    covariance: tuple[tuple[float, ...], ...]
    work: dict[str, Work]
    seen_mhz: dict[str, tuple[float, float]]
    near: tuple[tuple[float, int], ...]
    left_out_sd: float
    bends: tuple[tuple[float, ...], ...]
    precision: tuple[tuple[float, ...], ...]
    slopes: tuple[tuple[float, ...], ...]
    rejected: tuple[int, ...] = ()

    def power_w(self, load: str, clock_mhz: Array, core_c: Array, offset_mv: Array, fixed_v: Array) -> Array:
        """Return the package power in W under a load; arrays ``(n,)``."""
        index = self.loads.index(load)
        plain, _ = law(np.asarray(self.values), index, self.ref_mhz, clock_mhz, core_c, offset_mv, fixed_v)
        power: Array = plain * np.exp(np.interp(np.log(clock_mhz / self.ref_mhz), GRID, self.bends[index]))
        return power

    def error(self, load: str, clock_mhz: Vector, core_c: Vector, offset_mv: Vector, fixed_v: Vector) -> Vector:
        """Return the standard error of that power as a share ``(n,)``."""
        index, values = self.loads.index(load), np.asarray(self.values)
        shared = self._likeness(clock_mhz, index)
        pulled = shared @ np.asarray(self.precision)
        own = slopes_of(values, index, self.ref_mhz, clock_mhz, core_c, offset_mv, fixed_v) - pulled @ np.asarray(self.slopes)
        left = self.left_out_sd**2 - np.einsum("ij,ij->i", pulled, shared)
        variance = quadratic(own, self.covariance) + np.maximum(left, 0.0)
        error: Vector = np.sqrt(variance)
        return error

    def _likeness(self, clock_mhz: Array, index: int) -> Array:
        near = np.asarray(self.near).reshape(-1, 2)
        return self.left_out_sd**2 * likeness(np.log(clock_mhz), np.full(clock_mhz.shape, index), near[:, 0], near[:, 1])


def likeness(one: Array, of_one: Array, other: Array, of_other: Array) -> Array:
    """Return the correlation ``(n, m)`` of what the law leaves out, between logarithms of clocks and their loads."""
    apart = (one[:, None] - other[None, :]) / REACH
    alike: Array = np.where(of_one[:, None] == of_other[None, :], 1.0, ELSEWHERE) * np.exp(-0.5 * apart**2)
    return alike


def law(
    values: Vector, index: Array | int, ref_mhz: float, clock_mhz: Array, core_c: Array, offset_mv: Array, fixed_v: Array
) -> tuple[Array, Array]:
    """Return power (W) and voltage (V) by the law alone, for the load at an index among the parameters' charges."""
    leak, per_k, per_v, uncore, ohm = np.exp(values[:AT_FULL])
    charge = np.exp(values[SHARED + np.asarray(index)])
    x = clock_mhz / ref_mhz - 1.0
    if values[BENT] > 0.0:  # a curve of voltage never falls with the clock: below its lowest point it is level
        x = np.maximum(x, -values[STEEP] / (2.0 * values[BENT]))
    set_v = values[AT_FULL] + values[STEEP] * x + values[BENT] * x**2 + values[OFFSET] * offset_mv / 1000.0
    set_v = np.clip(np.where(fixed_v > 0.0, fixed_v, set_v), MIN_V, MAX_V)
    volt = set_v
    power = set_v
    for _ in range(ROUNDS):  # the load line takes a few per cent, so that this closes in at once
        power = (
            charge * volt**2 * clock_mhz / 1000.0
            + leak * volt * np.exp(per_v * (volt - 1.0) + per_k * (core_c - 60.0))
            + uncore
        )
        volt = np.maximum(set_v - ohm * power / set_v, 0.5 * set_v)
    return power, volt


def slopes_of(
    values: Vector, index: Array | int, ref_mhz: float, clock_mhz: Vector, core_c: Vector, offset_mv: Vector, fixed_v: Vector
) -> Array:
    """Return how the logarithm of the power moves with each parameter, ``(n, p)``."""
    step = 1e-5

    def logs(at: Vector) -> Vector:
        return np.log(law(at, index, ref_mhz, clock_mhz, core_c, offset_mv, fixed_v)[0])

    centre = logs(values)
    return np.stack([(logs(values + step * one) - centre) / step for one in np.eye(values.shape[0])], axis=-1)


def fit_power(draws: PowerReadings) -> PowerLaw:
    """Fit the laws to all runs together. Maximum a posteriori; priors wide about what is typical for the most that was drawn.
    Runs whose power cannot be true beside the others are left out, the worst first.

    Raises ``ValueError`` for fewer than three runs.
    """
    kept = np.ones(draws.clock_mhz.shape[0], dtype=bool)
    if kept.shape[0] < MIN_RUNS:
        raise ValueError("a law of power needs at least three runs")
    found = _fit(draws)
    for _ in range(kept.shape[0] // SPARED):
        among = np.flatnonzero(kept)
        if among.shape[0] <= SPARED or (worst := _impossible(found, draws.only(among))) is None:
            break
        kept[among[worst]] = False
        found = _fit(draws.only(np.flatnonzero(kept)))
    return msgspec.structs.replace(found, rejected=tuple(np.flatnonzero(~kept).tolist()))


def _impossible(found: PowerLaw, draws: PowerReadings) -> int | None:
    """Return the index of the run that cannot be true beside the others; ``None`` where all can.

    It lies far off a law that most others lie near. Where it has drawn the law with it, so that hardly any run is explained,
    it is the one without which the others are: looked for among those whose watts over their clock stand out most.
    """
    off = np.abs(_left(found, draws))
    worst = int(np.argmax(off))
    if off[worst] < IMPOSSIBLE:
        return None
    most = float(np.quantile(np.delete(off, worst), MOST_OTHERS))
    if off[worst] >= IMPOSSIBLE_TIMES * most:
        return worst
    if most < IMPOSSIBLE:
        return None
    per_clock = np.log(draws.power_w / draws.clock_mhz)
    suspects = np.argsort(-np.abs(per_clock - np.median(per_clock)))[:SUSPECTS].tolist()
    kept = [np.delete(np.arange(off.shape[0]), suspect) for suspect in suspects]
    without = [float(np.quantile(np.abs(_left(_fit(some), some)), MOST_OTHERS)) for some in map(draws.only, kept)]
    best = int(np.argmin(without))
    return int(suspects[best]) if without[best] < 0.5 * most else None


def _left(found: PowerLaw, draws: PowerReadings) -> Vector:
    """Return what the plain law leaves of each run's power, as a logarithm ``(n,)``."""
    index = np.array([found.loads.index(load) for load in draws.load])
    at = draws.clock_mhz, draws.core_c, draws.offset_mv, draws.fixed_v
    left: Vector = np.log(draws.power_w) - np.log(law(np.asarray(found.values), index, found.ref_mhz, *at)[0])
    return left


def _fit(draws: PowerReadings) -> PowerLaw:
    """Fit the laws to runs that are all believed."""
    from scipy.optimize import least_squares

    n = draws.clock_mhz.shape[0]
    loads = tuple(sorted(set(draws.load)))
    index = np.array([loads.index(load) for load in draws.load])
    ref, most = float(np.max(draws.clock_mhz)), float(np.max(draws.power_w))
    read = np.isfinite(draws.voltage_v)
    highest = float(np.max(draws.voltage_v[read])) if read.any() else TYPICAL_V
    plain = [(0.12 * most, 0.7), (0.015, 0.3), (4.0, 0.15), (0.08 * most, 0.7), (0.05 / most, 1.0)]
    means = [math.log(median) for median, _ in plain] + [highest, 0.9, 0.4, 1.0]
    sds = [sd for _, sd in plain] + [0.05 if read.any() else 0.15, 0.5, 1.0, 0.1]
    means += [math.log(0.8 * most / (highest**2 * ref / 1000.0))] * len(loads)
    sds += [1.0] * len(loads)
    mean, sd = np.array(means), np.array(sds)
    alike = likeness(np.log(draws.clock_mhz), index, np.log(draws.clock_mhz), index)

    def at(values: Vector) -> tuple[Array, Array]:
        return law(values, index, ref, draws.clock_mhz, draws.core_c, draws.offset_mv, draws.fixed_v)

    def solve(left_out: float, start: Vector) -> tuple[float, Vector, Array, Array]:
        """Return likelihood, parameters, information and covariance of the readings, for a share that the law leaves out."""
        spread = POWER_SD**2 * np.eye(n) + left_out**2 * alike
        root = np.asarray(np.linalg.cholesky(spread), dtype=np.float64)
        back = inverse(root)

        def residuals(values: Vector) -> Vector:
            power, volt = at(values)
            of_volt = (volt[read] - draws.voltage_v[read]) / math.hypot(VOLT_SD_V, CURVE_SD_V)
            return np.concatenate([back @ (np.log(power) - np.log(draws.power_w)), of_volt, (values - mean) / sd])

        edges = mean - 4 * sd, mean + 4 * sd
        found = least_squares(residuals, start, bounds=edges, x_scale=sd, max_nfev=60, ftol=1e-7, xtol=1e-7)
        information = np.asarray(found.jac.T @ found.jac, dtype=np.float64)
        likelihood = -0.5 * float(found.fun @ found.fun) - float(np.sum(np.log(np.diag(root))))
        return likelihood - 0.5 * float(np.linalg.slogdet(information)[1]), np.asarray(found.x), information, spread

    best: tuple[float, Vector, Array, Array] | None = None
    chosen = LEFT_OUT_SDS[0]
    for left_out in LEFT_OUT_SDS:
        tried = solve(left_out, best[1] if best is not None else mean)
        if best is None or tried[0] > best[0]:
            best, chosen = tried, left_out
    assert best is not None
    _, values, information, spread = best
    left = np.log(draws.power_w) - np.log(at(values)[0])
    precision = inverse(spread)
    own = slopes_of(values, index, ref, draws.clock_mhz, draws.core_c, draws.offset_mv, draws.fixed_v)
    weights = precision @ left
    bends = [
        chosen**2 * likeness(np.log(ref) + GRID, np.full(GRID.shape, row), np.log(draws.clock_mhz), index) @ weights
        for row in range(len(loads))
    ]
    return PowerLaw(
        ref_mhz=ref,
        loads=loads,
        values=tuple(values.tolist()),
        covariance=frozen(inverse(information)),
        work=_works(draws, loads, ref),
        seen_mhz={
            load: (float(np.min(draws.clock_mhz[index == i])), float(np.max(draws.clock_mhz[index == i])))
            for i, load in enumerate(loads)
        },
        near=tuple(zip(np.log(draws.clock_mhz).tolist(), index.tolist(), strict=True)),
        left_out_sd=chosen,
        bends=frozen(np.array(bends)),
        precision=frozen(precision),
        slopes=frozen(own),
    )


def _works(draws: PowerReadings, loads: tuple[str, ...], ref_mhz: float) -> dict[str, Work]:
    """Fit each load's throughput, where any of its runs has one."""
    found = {}
    read = np.isfinite(draws.throughput_per_s) & (draws.throughput_per_s > 0.0)
    for load in loads:
        own = np.array([one == load for one in draws.load]) & read
        if own.any():
            found[load] = fit_work(
                draws.clock_mhz[own] / ref_mhz, draws.offset_mv[own], draws.throughput_per_s[own], draws.throughput_share[own]
            )
    return found
