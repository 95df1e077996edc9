"""Searching the depth of every core on made silicon: how safe all offsets together truly are, how much each gives away, hours,
failures and crashes.

The baseline is the customary way core by core: ladders in steps of 10 mV with ten minutes at each, the weakest told apart by
halves, then 20 mV back.
"""

import math
from statistics import median

import msgspec
import numpy as np

from benchmarks.made_silicon import SHAPES, MadeBench, MadeSilicon, made_silicon
from benchmarks.result import Result
from benchmarks.size import draws
from niente.core.model.failure_goal import A_DAY
from niente.core.model.plan import Exposure, Search, SearchMethod
from niente.core.model.setting import Setting
from niente.core.planning.depth_search import SETTING_S, DepthRange
from niente.core.planning.part_search import MadePartExposure, PartGoal, next_part_exposure, part_answer
from niente.core.planning.search import follow
from niente.core.science.arrays import Vector
from niente.core.science.stability.drawn_laws import rate_for
from niente.core.science.stability.parts import PartExposure
from niente.core.science.statistics import share_interval

HOURS, DEEPEST_MV, RUNG_S = 2.5, 380.0, 600.0
STEPS_MV = (1.0, 5.0, 6.25, 10.0)
DAY_PER_S = rate_for(A_DAY.chance, A_DAY.horizon_s)


class SearchedCores(msgspec.Struct, frozen=True):
    """What one search came to: whether all offsets together fail too often, the scales that the median core gives away, and
    what it took."""

    shape: str
    cores: int
    too_deep: bool
    away: float
    failures: int
    crashes: int
    bench_h: float


def search_cores(sample: MadeSilicon, seed: int, step_mv: float) -> SearchedCores:
    """Search every core of one sample until 2.5 h."""
    cores = sample.threshold_mv.shape[0]
    of = PartGoal(A_DAY, DepthRange(0.0, DEEPEST_MV, step_mv), cores, 1)
    bench = MadeBench(sample, seed)
    made: list[MadePartExposure] = []
    ended_s = -math.inf
    while (wanted := next_part_exposure(of, tuple(made), 3600.0 * HOURS - bench.now_s)) is not None:
        bench.wait(SETTING_S)
        gap = bench.now_s - ended_s
        lasted, failed, core, _ = bench.expose_cores(np.array(wanted.depths_mv), wanted.seconds)
        ended_s = bench.now_s
        made.append(MadePartExposure(0, PartExposure(wanted.depths_mv, lasted, failed, core, gap_s=gap)))
    return _judged(sample, np.array(part_answer(of, tuple(made)).depths_mv), bench)


def ladders(sample: MadeSilicon, seed: int) -> SearchedCores:
    """Search every core of one sample by ladders, the weakest first."""
    bench = MadeBench(sample, seed)
    controls = tuple(f"core_offset_mv.{core + 1}" for core in range(sample.threshold_mv.shape[0]))
    rung = Exposure(RUNG_S, RUNG_S)
    entry = Search(
        "cores", controls, 0.0, -DEEPEST_MV, 10.0, 10.0, 20.0, Setting(), ("load",), rung, SearchMethod.WEAKEST_FIRST
    )
    known: dict[tuple[float, ...], bool] = {}

    def passes(setting: Setting) -> bool:
        depths = tuple(-(setting.value(control) or 0.0) for control in controls)
        if depths not in known:
            known[depths] = not bench.expose_cores(np.array(depths), RUNG_S)[1]
        return known[depths]

    found = follow(entry, Setting(), passes).found or {}
    return _judged(sample, np.array([-found[control] for control in controls]), bench)


def _judged(sample: MadeSilicon, depths_mv: Vector, bench: MadeBench) -> SearchedCores:
    cores = depths_mv.shape[0]
    return SearchedCores(
        sample.shape,
        cores,
        float(sample.rates_per_s(depths_mv).sum()) > DAY_PER_S,
        float(np.median((_deepest_mv(sample, DAY_PER_S / cores) - depths_mv) / sample.scale_mv)),
        bench.failures,
        bench.crashes,
        bench.now_s / 3600.0,
    )


def _deepest_mv(sample: MadeSilicon, rate_per_s: float) -> Vector:
    """Return the depth at which each core has a rate, by halving."""
    low, high = np.full(sample.threshold_mv.shape, -400.0), np.full(sample.threshold_mv.shape, 800.0)
    for _ in range(60):
        middle = 0.5 * (low + high)
        under = sample.rates_per_s(middle) < rate_per_s
        low, high = np.where(under, middle, low), np.where(under, high, middle)
    return low


def results() -> list[Result]:
    """Return shares that are too deep, distances in the cores' own scales, hours, failures and crashes."""
    count = draws(least=1, small=2, full=34)
    found: list[SearchedCores] = []
    old: list[SearchedCores] = []
    for shape in SHAPES:
        for seed in range(count):
            sample = made_silicon(shape, seed)
            found.append(search_cores(sample, seed, STEPS_MV[seed % len(STEPS_MV)]))
            old.append(ladders(sample, seed))
    lines = _lines("ladders core by core", old, None)
    return [*lines, *_lines("every core at once", found, old)]


def _lines(name: str, found: list[SearchedCores], old: list[SearchedCores] | None) -> list[Result]:
    many, bad = len(found), sum(one.too_deep for one in found)
    baseline = "ladders core by core" if old is not None else ""

    hours = median(one.bench_h for one in found)
    ratio = hours / median(one.bench_h for one in old) if old is not None else None
    failures = float(median(one.failures for one in found))
    lines = [
        Result(f"{name}: too deep, of {many}", float(bad), "", "", None),
        Result(f"{name}: too deep, at most (95 %)", 100.0 * share_interval(bad, many)[1], "%", "", None),
        Result(f"{name}: bench time", hours, "h", baseline, ratio),
        Result(f"{name}: failures", failures, "", "", None),
        Result(f"{name}: crashes", median(one.crashes for one in found), "", "", None),
    ]
    for shape in SHAPES:
        away = [one.away for one in found if one.shape == shape]
        lines.append(Result(f"{name}: away, {shape}", median(away), "scales", "", None))
    return lines
