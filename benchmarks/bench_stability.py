"""Searching a depth on made silicon: how safe what is recommended truly is, how much is given away, hours and crashes.

The baseline is the customary ladder: half hours in steps of 10 mV down to the first failure, then 20 mV back.
"""

import math
from statistics import median

import msgspec
import numpy as np

from benchmarks.made_silicon import SHAPES, MadeBench, MadeSilicon, made_silicon
from benchmarks.result import Result
from benchmarks.size import draws
from niente.core.model.failure_goal import A_DAY
from niente.core.planning.depth_search import SETTING_S, DepthRange, MadeExposure, answer_of, next_exposure
from niente.core.science.stability.drawn_laws import rate_for
from niente.core.science.stability.posterior import SeenExposure
from niente.core.science.statistics import share_interval

STEPS_MV = (1.0, 5.0, 6.25, 10.0)
HOURS = (1.5, 2.5)
DEEPEST_MV = 380.0
DAY_PER_S = rate_for(A_DAY.chance, A_DAY.horizon_s)


class Searched(msgspec.Struct, frozen=True):
    """What one search came to at one of the moments: depths in mV, the sample's own scale, and whether it would last."""

    shape: str
    hours: float
    depth_mv: float
    true_mv: float
    scale_mv: float
    crashes: int
    failures: int
    bench_h: float

    @property
    def too_deep(self) -> bool:
        """Whether what is recommended fails more often than it may."""
        return self.depth_mv > self.true_mv

    @property
    def away(self) -> float:
        """The scales that are given away."""
        return (self.true_mv - self.depth_mv) / self.scale_mv


def search(sample: MadeSilicon, seed: int, step_mv: float) -> list[Searched]:
    """Search one sample until 2.5 h; return what would be recommended at each moment, by the posterior's own quantile."""
    within = DepthRange(0.0, DEEPEST_MV, step_mv)
    bench = MadeBench(sample, seed)
    made: list[MadeExposure] = []
    found: list[Searched] = []
    ended_s = -math.inf
    for hours in HOURS:
        while (wanted := next_exposure(A_DAY, within, 1, tuple(made), 3600.0 * hours - bench.now_s, 0.0)) is not None:
            bench.wait(SETTING_S)
            gap = bench.now_s - ended_s
            lasted, failed, crashed = bench.expose(wanted.depth_mv, wanted.seconds)
            ended_s = bench.now_s
            made.append(MadeExposure(0, SeenExposure(wanted.depth_mv, lasted, failed, gap_s=gap), crashed))
        answer = answer_of(A_DAY, within, 1, tuple(made))
        true = sample.deepest_mv(DAY_PER_S)
        scale = sample.own_scale_mv()
        found.append(
            Searched(sample.shape, hours, answer.depth_mv, true, scale, bench.crashes, bench.failures, bench.now_s / 3600.0)
        )
    return found


def ladder(sample: MadeSilicon, seed: int) -> Searched:
    """Search one sample by the customary ladder."""
    bench = MadeBench(sample, seed)
    depth = 10.0
    while depth < DEEPEST_MV and not bench.expose(depth, 1800.0)[1]:
        depth += 10.0
    true = sample.deepest_mv(DAY_PER_S)
    scale = sample.own_scale_mv()
    found = max(depth - 10.0 - 20.0, 0.0)
    return Searched(sample.shape, 0.0, found, true, scale, bench.crashes, bench.failures, bench.now_s / 3600.0)


def results() -> list[Result]:
    """Return shares that are too deep, distances in the samples' own scales, hours and crashes."""
    count = draws(least=1, small=8, full=100)
    found: list[Searched] = []
    old: list[Searched] = []
    for shape in SHAPES:
        for seed in range(count):
            sample = made_silicon(shape, seed)
            found += search(sample, seed, STEPS_MV[seed % len(STEPS_MV)])
            old.append(ladder(sample, seed))
    lines = [
        Result("ladder of half hours: too deep", 100.0 * float(np.mean([one.too_deep for one in old])), "%", "", None),
        Result("ladder of half hours: bench time", median(one.bench_h for one in old), "h", "", None),
        Result("ladder of half hours: away", median(one.away for one in old), "scales", "", None),
        Result("ladder of half hours: crashes", median(one.crashes for one in old), "", "", None),
    ]
    return [*lines, *(line for hours in HOURS for line in _lines(hours, [one for one in found if one.hours == hours], old))]


def _lines(hours: float, found: list[Searched], old: list[Searched]) -> list[Result]:
    bad, many = sum(one.too_deep for one in found), len(found)
    top = share_interval(bad, many)[1]
    was = float(np.mean([one.too_deep for one in old]))
    name = f"structured search after {hours:g} h"
    lines = [
        Result(f"{name}: too deep, of {many}", float(bad), "", "", None),
        Result(f"{name}: too deep", 100.0 * bad / many, "%", "ladder of half hours", bad / many / was if was else None),
        Result(f"{name}: too deep, at most (95 %)", 100.0 * top, "%", "", None),
        Result(f"{name}: crashes (median)", median(one.crashes for one in found), "", "", None),
        Result(f"{name}: failures (median)", median(one.failures for one in found), "", "", None),
    ]
    for shape in SHAPES:
        away = [one.away for one in found if one.shape == shape]
        lines.append(Result(f"{name}: away, {shape}", median(away), "scales", "", None))
    return lines
