"""Where a temperature will settle: how soon it is known to ±1 K and how often that is right, over every shipped machine.

Beside it, on the same runs, what is done by hand: half an hour and the mean of its last five minutes, and a slope rule.
"""

from collections.abc import Callable, Iterator

import msgspec
import numpy as np

from benchmarks.result import Result
from benchmarks.size import draws, some_of
from niente.core.acquisition.run_executor import FORECAST_EVERY
from niente.core.analysis.evidence import TEACHES_S, counted, limiters_of, settled_so_far
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.model.setting import Setting
from niente.core.planning.builders import is_liquid, until_known
from niente.core.rigs.simulated.machine_files import shipped_file, shipped_machines
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.science.arrays import Array, Vector
from niente.core.science.clock_limiter import ClockLimiter
from niente.core.science.settling import Settled, learn

SEEDS, RUNS = draws(least=1, small=2, full=4), draws(least=2, small=4, full=8)
"""So many samples of every machine in each of its variants, and so many runs of each: 27 variants, 864 runs in full."""
WANTED_K = 1.0
HALF_HOUR_S, FIVE_MINUTES_S = 1800, 300
STEADY_K = 0.2
"""The slope rule: less than this between the means of one five minutes and the next."""
GOALS_MIN = {"air": 12.0, "liquid": 22.0}
COLD_S = 2400
ROOM_GAIN = 1.05
"""Kelvin of core for a kelvin of room; rooms are a tenth of a kelvin apart where it is used."""


class Record(msgspec.Struct):
    """One run, whole: its samples, and the truth about it."""

    card: RigCard
    setting: Setting
    fresh: bool
    """Whether it is the first of its variant, of which nothing is known yet."""
    time_s: Vector
    values: Array
    true_c: Callable[[float], float]
    """Where its hottest core's sensor settles in a room of so many °C, free of noise."""


def _setting(card: RigCard, rng: np.random.Generator) -> Setting:
    """Any setting from the middle of what the machine takes; pumps stay as found."""
    power = next(control for control in card.controls if control.name == "sustained_power_w")
    low, high = max(power.low, 0.35 * power.high), 0.85 * power.high
    duties = {group: float(rng.uniform(30.0, 95.0)) for group in card.fan_groups() if group != "pump"}
    return Setting(sustained_power_w=float(round(rng.uniform(low, high))), fan_duty=duties)


def records(seeds: int) -> Iterator[Record]:
    """Yield runs of every machine and variant, so many samples of each, one run after another; every third starts cold."""
    sample = 0
    for name in some_of(shipped_machines()):
        file = shipped_file(name)
        for variant in (file.machine.variant, *(build.name for build in file.machine.variants)):
            for _ in range(seeds):
                sample += 1
                yield from _runs_of(SimulatedRig(file, seed=sample), variant, np.random.default_rng(1000 + sample))


def _runs_of(rig: SimulatedRig, variant: str, rng: np.random.Generator) -> Iterator[Record]:
    rig.become(variant)
    card = rig.describe()
    heavy, realistic = card.load_of(LoadKind.HEAVY), card.load_of(LoadKind.REALISTIC)
    for index in range(RUNS):
        load = (realistic if index % 3 == 2 else heavy) or card.loads[-1]
        setting = _setting(card, rng).over(card.stock)
        rig.apply(setting)
        if index % 3 == 0:
            rig.stop()
            rig.record(COLD_S)
        rig.start(load.name)
        time_s, values, _ = rig.record(int(until_known(card).max_s))

        def true_c(room_c: float, setting: Setting = setting, load: str = load.name) -> float:
            return rig.true_settled_core_c(setting, load, room_c)

        yield Record(card, setting, index == 0, time_s, values, true_c)


def throttled(record: Record) -> bool:
    """Return whether heat held the clock for some of the half hour: there is then no settled temperature to be known."""
    held = limiters_of(record.card, record.values[:HALF_HOUR_S], record.setting)
    return float(np.mean(held == ClockLimiter.TEMPERATURE_CAP)) > 0.02


def stopped(record: Record, prior: tuple[float, ...]) -> tuple[Settled, float]:
    """Return what the bench would have known when it ended the run, and after how many seconds."""
    rule = until_known(record.card, WANTED_K)
    n, settled = FORECAST_EVERY, None
    while n <= record.time_s.shape[0]:
        seconds = float(record.time_s[n - 1] - record.time_s[0])
        settled = settled_so_far(record.card, record.time_s[:n], record.values[:n], prior)
        if seconds >= rule.min_s and settled.known_to(WANTED_K):
            return settled, seconds
        n += FORECAST_EVERY
    assert settled is not None
    return settled, float(record.time_s[-1] - record.time_s[0])


class Told(msgspec.Struct):
    """What one way of telling came to on one run: minutes it took, how far off it was, and its half width, where it has one."""

    cooling: str
    minutes: float
    off_k: float
    half_width_k: float = float("nan")


def _half_hour(record: Record) -> tuple[float, float, float]:
    """Return the seconds, temperature and room of half an hour's last five minutes."""
    return HALF_HOUR_S, *_last_five(record, HALF_HOUR_S)


def _slope_rule(record: Record) -> tuple[float, float, float]:
    """Return the seconds, temperature and room at which the mean of five minutes lies close to that of the five before."""
    for end in range(2 * FIVE_MINUTES_S, record.time_s.shape[0], FORECAST_EVERY):
        now, room = _last_five(record, end)
        if abs(now - _last_five(record, end - FIVE_MINUTES_S)[0]) < STEADY_K:
            break
    return end, now, room


def _last_five(record: Record, end: int) -> tuple[float, float]:
    """Return the means of the temperature that counts and of the room over five minutes up to a sample."""
    span = record.values[end - FIVE_MINUTES_S : end]
    core = counted(record.card, span)
    index = record.card.index("room_temperature_c")
    return float(np.mean(core)) if core is not None else float("nan"), float(np.mean(span[:, index or 0]))


def study(seeds: int) -> dict[str, list[Told]]:
    """Return what Niente, the half hour and the slope rule told of every run in which heat did not hold the clock."""
    told: dict[str, list[Told]] = {"Niente": [], "half an hour": [], "slope rule": []}
    prior: tuple[float, ...] = ()
    for record in records(seeds):
        if record.fresh:
            prior = ()
        if throttled(record):
            continue
        settled, seconds = stopped(record, prior)
        if seconds >= TEACHES_S:
            prior = learn(prior, settled)
        cooling = "liquid" if is_liquid(record.card) else "air"
        truth = record.true_c(settled.room_c)
        told["Niente"].append(Told(cooling, seconds / 60.0, settled.value_c - truth, settled.half_width_k))
        for name, way in (("half an hour", _half_hour), ("slope rule", _slope_rule)):
            took, core_c, room_c = way(record)
            told[name].append(Told(cooling, took / 60.0, core_c - truth - ROOM_GAIN * (room_c - settled.room_c)))
    return told


def results() -> list[Result]:
    """Measure."""
    told = study(SEEDS)
    ours, runs = told["Niente"], len(told["Niente"])
    half_hour = told["half an hour"]
    found = []
    for cooling, goal in GOALS_MIN.items():
        minutes = float(np.median([one.minutes for one in ours if one.cooling == cooling]))
        found.append(Result(f"known to ±1 K, {cooling}, median", minutes, "min", f"goal of {goal:g} min", minutes / goal))
        found.append(Result("the same", minutes, "min", "half an hour", minutes / 30.0))
    for name, ones in told.items():
        right = float(np.mean([abs(one.off_k) <= WANTED_K for one in ones]))
        off = float(np.median([abs(one.off_k) for one in ones]))
        found.append(Result(f"within 1 K, {name}, {runs} runs", 100 * right, "%", "95 %", right / 0.95))
        baseline = float(np.median([abs(one.off_k) for one in half_hour]))
        found.append(Result(f"off by, {name}, median", off, "K", "half an hour", off / baseline))
    slope = float(np.median([one.minutes for one in told["slope rule"]]))
    found.append(Result("the slope rule ends after, median", slope, "min", "half an hour", slope / 30.0))
    for cooling in (*GOALS_MIN, ""):
        ones = [one for one in ours if cooling in one.cooling]
        held = float(np.mean([abs(one.off_k) <= one.half_width_k for one in ones]))
        words = f"95 % intervals that hold, {cooling or 'all'}, {len(ones)} runs"
        found.append(Result(words, 100 * held, "%", "95 %", held / 0.95))
    return found
