"""What people do without a tool, half an hour a setting, with readings free of noise in the design room: one thing at a time,
every point of a grid, at random, and as a general optimiser wants it."""

import itertools
from collections.abc import Callable

import numpy as np
from scipy.optimize import minimize

from benchmarks.study import DESIGN_ROOM_C
from benchmarks.true_pick import Sample, TruePick, Truth
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.planning.builders import limits_below
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.selection.pick import Standing

HALF_HOUR_H, SETTINGS = 0.5, 40
PERSONS_SHARES = (0.5, 0.6, 0.7, 0.8, 0.9)
PERSONS_DUTIES = (20.0, 30.0, 40.0, 60.0, 80.0)
FACTORIAL_DUTIES = (25.0, 45.0, 75.0)
"""What somebody tries: common practice, no source."""
LEAST_PERCENT, LEAST_K = 90.0, 8.0


class _Bench:
    """One machine, and what was tried on it."""

    def __init__(self, sample: Sample) -> None:
        self.rig = SimulatedRig(shipped_file(sample.name), seed=sample.seed)
        self.truth, self.tried = Truth(self.rig), 0
        self.card = self.truth.card
        self._stock = self._settled(self.card.stock)[0]

    def _settled(self, one: Setting) -> tuple[float, float, float]:
        there = [self.rig.true_settled(one, load, DESIGN_ROOM_C, HALF_HOUR_H) for load in self.truth.loads]
        headroom = self.card.temperature_ceiling_c(one) - there[0].hottest_c
        return there[-1].readings["throughput_per_s"], headroom, there[0].readings["noise_dba"]

    def reads(self, one: Setting) -> tuple[float, float, float]:
        """Return throughput in per cent of stock, headroom and level of a setting, as half an hour of each load tells them."""
        self.tried += 1
        work, headroom, level = self._settled(one)
        return 100.0 * work / self._stock, headroom, level

    def picked(self, setting: Setting) -> TruePick:
        """Return what is true of what was settled on, and the hours that it took."""
        hours = HALF_HOUR_H * self.tried * len(self.truth.loads)
        return TruePick(*self.truth.of(setting), Standing.CONFIRMED, hours, hours, 0, 0)


def one_at_a_time(sample: Sample) -> TruePick:
    """The power limit first, then each group of fans, at stock voltage; the quietest that kept the limits as they were read."""
    bench = _Bench(sample)
    setting = bench.card.stock
    for ways in _ways(bench.card):
        setting = _best(bench, [setting, *(setting.replaced(control, value) for control, value in ways)]) or setting
    return bench.picked(setting)


def full_factorial(sample: Sample) -> TruePick:
    """Every limit with every duty of every group."""
    bench = _Bench(sample)
    settings = []
    for some in itertools.product(*_ways(bench.card, FACTORIAL_DUTIES)):
        setting = bench.card.stock
        for control, value in some:
            setting = setting.replaced(control, value)
        settings.append(setting)
    return bench.picked(_best(bench, settings) or bench.card.stock)


def at_random(sample: Sample) -> TruePick:
    """As many settings as a general optimiser has, anywhere within the controls."""
    bench = _Bench(sample)
    rng = np.random.default_rng([sample.seed, 11])
    settings = [bench.card.stock]
    for shares in rng.random((SETTINGS, len(_moved(bench.card)))):
        settings.append(_at(bench.card, shares.tolist()))
    return bench.picked(_best(bench, settings) or bench.card.stock)


def by_optimiser(sample: Sample) -> TruePick:
    """SciPy's COBYLA, which keeps limits by itself, from the middle of the controls."""
    bench = _Bench(sample)
    seen: dict[tuple[float, ...], tuple[float, float, float]] = {}

    def read(shares: np.ndarray) -> tuple[float, float, float]:
        key = tuple(round(min(max(share, 0.0), 1.0), 4) for share in shares.tolist())
        if key not in seen:
            seen[key] = bench.reads(_at(bench.card, list(key)))
        return seen[key]

    def limit(index: int, least: float) -> Callable[[np.ndarray], float]:
        return lambda shares: read(shares)[index] - least

    bounds = [{"type": "ineq", "fun": limit(0, LEAST_PERCENT)}, {"type": "ineq", "fun": limit(1, LEAST_K)}]
    start = np.full(len(_moved(bench.card)), 0.5)
    minimize(
        lambda shares: read(shares)[2], start, method="COBYLA", constraints=bounds, options={"maxiter": SETTINGS, "rhobeg": 0.2}
    )
    kept = [key for key, (work, headroom, _) in seen.items() if work >= LEAST_PERCENT and headroom >= LEAST_K]
    best = min(kept, key=lambda key: seen[key][2], default=None)
    return bench.picked(_at(bench.card, list(best)) if best is not None else bench.card.stock)


WAYS = {
    "one thing at a time": one_at_a_time,
    "full factorial": full_factorial,
    "at random": at_random,
    "a general optimiser": by_optimiser,
}


def _best(bench: _Bench, settings: list[Setting]) -> Setting | None:
    """Return the quietest setting that keeps the limits as it is read; of those as quiet the coolest."""
    read = [(bench.reads(one), one) for one in settings]
    kept = [
        (round(level, 1), -headroom, index)
        for index, ((work, headroom, level), _) in enumerate(read)
        if work >= LEAST_PERCENT and headroom >= LEAST_K
    ]
    return read[min(kept)[2]][1] if kept else None


def _moved(card: RigCard) -> list[tuple[str, float, float]]:
    """Return the controls that are moved, and between which values: the power limit from half of stock, and fans."""
    found = [("sustained_power_w", 0.5 * (card.stock.sustained_power_w or 0.0), card.stock.sustained_power_w or 0.0)]
    found += [
        (control.name, max(control.low, PERSONS_DUTIES[0]), control.high)
        for control in card.controls
        if control.name.startswith("fan_duty.")
    ]
    return found


def _at(card: RigCard, shares: list[float]) -> Setting:
    setting = card.stock
    for (name, low, high), share in zip(_moved(card), shares, strict=True):
        setting = setting.replaced(name, float(round(low + share * (high - low))))
    return setting


def _ways(card: RigCard, duties: tuple[float, ...] = PERSONS_DUTIES) -> list[list[tuple[str, float]]]:
    power = [("sustained_power_w", limit) for limit in limits_below(card, PERSONS_SHARES)]
    fans = [[(f"fan_duty.{group}", duty) for duty in duties] for group in card.fan_groups()]
    known = {control.name: control for control in card.controls}
    return [power, *([(name, value) for name, value in ways if known[name].takes(value)] for ways in fans)]
