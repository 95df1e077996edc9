"""The map: how far off temperature, work and clock are at settings that nobody ran, after 4, 6, 8 and 12 runs.

The runs end when they are known to ±1 K, as the bench ends them, and all fan groups but pumps are varied. Beside the models,
on the same settings: what is read off between half-hour runs, and a Gaussian process of a general-purpose library on the same
runs.
"""

import time
import warnings

import msgspec
import numpy as np
from scipy.interpolate import LinearNDInterpolator, NearestNDInterpolator
from scipy.stats import qmc

from benchmarks.bench_settling import HALF_HOUR_S, Record, stopped
from benchmarks.result import Result
from benchmarks.size import draws, some_of
from niente.core.analysis.coverage import inside
from niente.core.analysis.evidence import Evidence, RunSummary, column, counted, summarise
from niente.core.analysis.models import Models, fit_models
from niente.core.analysis.prediction import predict_under_load
from niente.core.analysis.setting_batch import one_setting
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.model.runs import RunKind, RunOutcome
from niente.core.model.setting import Setting
from niente.core.planning.builders import until_known
from niente.core.rigs.simulated.machine_files import shipped_file, shipped_machines
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.science.arrays import Vector
from niente.core.science.heat.fit import Runs, fit_heat_path
from niente.core.science.power.operating_point import SettingLimiter
from niente.core.science.settling import learn
from niente.core.science.statistics import Z95
from niente.core.storage.reader import RunRecord

COUNTS = (4, 6, 8, 12)
SEEDS, UNSEEN, TRIED = draws(least=1, small=3, full=10), 14, 20
GOAL_MEDIAN_K, GOAL_MOST_K, GOAL_WORK = 0.3, 0.8, 0.005
ROOM_C = 23.0
TAIL_S = 300


class Made(msgspec.Struct):
    """One run, summed up as the bench does, and the mean of half an hour's last five minutes over the room."""

    run: RunSummary
    half_hour_k: float


class Place(msgspec.Struct):
    """One setting that was not run, with the truth about it in a room of 23 °C."""

    setting: Setting
    core_c: float
    clock_mhz: float
    throughput_per_s: float
    power_w: float
    rpm: tuple[float, ...]
    held: bool


class Off(msgspec.Struct):
    """How far off one prediction was: temperature with its half width, by hand, by the general process with its half width (K),
    and work and its half width (shares)."""

    off_k: float
    half_width_k: float
    by_hand_k: float
    process_k: float
    process_hw_k: float
    work: float
    work_hw: float


def spread_settings(card: RigCard, seed: int, many: int) -> list[Setting]:
    """Return settings spread evenly over watts and duties; pumps stay as found."""
    power = next(control for control in card.controls if control.name == "sustained_power_w")
    groups = [group for group in card.fan_groups() if group != "pump"]
    low, high = max(power.low, 0.4 * power.high), 0.85 * power.high
    spread = qmc.Sobol(1 + len(groups), seed=seed).random(32)[:many]
    return [
        Setting(
            sustained_power_w=float(round(low + row[0] * (high - low))),
            fan_duty={group: float(round(25.0 + 70.0 * share)) for group, share in zip(groups, row[1:], strict=True)},
        )
        for row in spread
    ]


def run_summary(
    rig: SimulatedRig, number: int, setting: Setting, load: str, prior: tuple[float, ...]
) -> tuple[RunSummary, float]:
    """Make a run that ends when it is known well enough, and sum it up as the bench does; return it and the mean of half an
    hour's last five minutes over the room (K)."""
    card = rig.describe()
    whole = setting.over(card.stock)
    rig.apply(whole)
    rig.start(load)
    time_s, values, _ = rig.record(int(until_known(card).max_s))
    _, seconds = stopped(Record(card, whole, False, time_s, values, lambda room_c: room_c), prior)
    many = int(seconds)
    half_hour = values[HALF_HOUR_S - TAIL_S : HALF_HOUR_S]
    core, room = counted(card, half_hour), column(card, half_hour, "room_temperature_c")
    assert core is not None
    channels = tuple(channel.name for channel in card.channels)
    record = RunRecord(number, 1, number, RunKind.STEP, 0.0, 0.0, whole, load, channels, RunOutcome.DONE, "", seconds, 1)
    return summarise(card, record, time_s[:many], values[:many], 0, prior), float(np.mean(core - room))


def runs_of(rig: SimulatedRig, seed: int) -> list[Made]:
    """Make the runs, one after another; each ends when it is known well enough."""
    card = rig.describe()
    heavy = card.load_of(LoadKind.HEAVY)
    assert heavy is not None
    found: list[Made] = []
    prior: tuple[float, ...] = ()
    for number, setting in enumerate(spread_settings(card, seed, TRIED), 1):
        run, half_hour_k = run_summary(rig, number, setting, heavy.name, prior)
        if not run.heat_limited:
            prior = learn(prior, run.settled)
        found.append(Made(run, half_hour_k))
    return found


def places_of(rig: SimulatedRig, seed: int) -> list[Place]:
    """Return settings that were not run, with the truth about them."""
    card = rig.describe()
    heavy = card.load_of(LoadKind.HEAVY)
    assert heavy is not None
    found = []
    for setting in spread_settings(card, 1000 + seed, UNSEEN):
        whole = setting.over(card.stock)
        true = rig.true_settled(whole, heavy.name, ROOM_C)
        read = true.readings
        rpm = tuple(read.get(f"fan_speed_rpm.{group}", 0.0) for group in card.fan_groups())
        held = true.hottest_c >= card.temperature_ceiling_c(whole) - 1.5
        figures = read["effective_clock_mhz"], read["throughput_per_s"], read["package_power_w"]
        found.append(Place(whole, true.hottest_c, *figures, rpm, held))
    return found


def first(made: list[Made], count: int) -> list[Made]:
    """Return runs from the first on until so many of them were not held by heat; nothing where there are not so many."""
    free = 0
    for index, one in enumerate(made):
        free += not one.run.heat_limited
        if free == count:
            return made[: index + 1]
    return []


def judged(card: RigCard, made: list[Made], indices: list[Place]) -> list[Off]:
    """Hold predictions from runs against the truth at places inside their hull."""
    models = fit_models(Evidence(card, tuple(one.run for one in made)))
    found = []
    hand, process = _Beside(models, made, by_half_hour=True), _Beside(models, made, by_half_hour=False)
    for index in indices:
        rest = predict_under_load(models, one_setting(index.setting), models.heavy_load, ROOM_C)
        if index.held or rest.limiter[0] == SettingLimiter.HEAT or not inside(models, one_setting(index.setting), rest)[0]:
            continue
        here = np.array([index.power_w, *index.rpm])
        by_process, process_hw = process.process(here)
        rise = index.core_c - ROOM_C
        found.append(
            Off(
                float(rest.core_c[0]) - index.core_c,
                float(rest.core_hw[0]),
                hand.between(here) - rise,
                by_process - rise,
                process_hw,
                float(rest.throughput[0]) / index.throughput_per_s - 1.0,
                float(rest.throughput_hw[0] / rest.throughput[0]),
            )
        )
    return found


class _Beside:
    """What there is beside the models: interpolation by hand, and a process that knows nothing of heat."""

    def __init__(self, models: Models, made: list[Made], *, by_half_hour: bool) -> None:
        free = [one for one in made if not one.run.heat_limited]
        points = np.array([[one.run.power_w, *(one.run.fan_rpm[group] for group in models.noise.groups)] for one in free])
        self._varied = np.ptp(points, axis=0) > 25.0 * (np.arange(points.shape[1]) > 0)
        self._low, self._span = points[:, self._varied].min(axis=0), np.ptp(points[:, self._varied], axis=0)
        self._points = (points[:, self._varied] - self._low) / self._span
        self._values = np.array([one.half_hour_k if by_half_hour else one.run.rise_k for one in free])
        self._errors = np.array([one.run.settled.half_width_k / Z95 for one in free])

    def between(self, here: Vector) -> float:
        """Return what is read off between the runs: straight lines, or the nearest run outside of them."""
        at = (here[self._varied] - self._low) / self._span
        near = NearestNDInterpolator(self._points, self._values)
        many, dims = self._points.shape
        if dims == 1:
            order = np.argsort(self._points[:, 0])
            return float(np.interp(at[0], self._points[order, 0], self._values[order]))
        read = float(np.squeeze(LinearNDInterpolator(self._points, self._values)(at))) if many > dims + 1 else float("nan")
        return float(np.squeeze(near(at))) if read != read else read

    def process(self, here: Vector) -> tuple[float, float]:
        """Return mean and 95 % half width of a Gaussian process over watts and speeds, its lengths fitted by likelihood."""
        from sklearn.gaussian_process import GaussianProcessRegressor
        from sklearn.gaussian_process.kernels import RBF, ConstantKernel

        kernel = ConstantKernel(400.0, (10.0, 1e5)) * RBF(np.ones(self._points.shape[1]), (0.2, 30.0))
        process = GaussianProcessRegressor(kernel, alpha=self._errors**2, normalize_y=False, random_state=0)
        mean = float(np.mean(self._values))
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # lengths at their edges are told as a warning
            process.fit(self._points, self._values - mean)
        at = (here[self._varied] - self._low) / self._span
        found, sd = process.predict(at[None, :], return_std=True)
        return float(found[0]) + mean, Z95 * float(sd[0])


def _words(offs: list[Off], count: int) -> list[Result]:
    """Return the figures after so many runs."""
    off = np.abs([one.off_k for one in offs])
    by_hand, process = np.abs([one.by_hand_k for one in offs]), np.abs([one.process_k for one in offs])
    work = np.abs([one.work for one in offs])
    words = f"core where nobody ran, {count} runs, {len(offs)} places"
    middle, most = float(np.median(off)), float(np.percentile(off, 95))
    held = float(np.mean([abs(one.off_k) <= one.half_width_k for one in offs]))
    held_by_process = float(np.mean([abs(one.process_k) <= one.process_hw_k for one in offs]))
    held_work = float(np.mean([abs(one.work) <= one.work_hw for one in offs]))
    wide = float(np.median([one.half_width_k for one in offs]))
    return [
        Result(f"{words}: median", middle, "K", "goal of 0.3 K", middle / GOAL_MEDIAN_K),
        Result("the same", middle, "K", "read off between half hours", middle / float(np.median(by_hand))),
        Result("the same", middle, "K", "Gaussian process, same runs", middle / float(np.median(process))),
        Result("at 95 %", most, "K", "goal of 0.8 K", most / GOAL_MOST_K),
        Result("the same", most, "K", "read off between half hours", most / float(np.percentile(by_hand, 95))),
        Result("the same", most, "K", "Gaussian process, same runs", most / float(np.percentile(process, 95))),
        Result("95 % intervals that hold", 100 * held, "%", "95 %", held / 0.95),
        Result("the same of the Gaussian process", 100 * held_by_process, "%", "95 %", held_by_process / 0.95),
        Result("95 % half width, median", wide, "K", "", None),
        Result("work where nobody ran, at 95 %", 100 * float(np.percentile(work, 95)), "%", "goal of 0.5 %",
               float(np.percentile(work, 95)) / GOAL_WORK),
        Result("95 % intervals of work that hold", 100 * held_work, "%", "95 %", held_work / 0.95),
    ]  # fmt: skip


def _in_time() -> Result:
    """Time a fit over 200 runs of two variants and two loads, made up."""
    rng = np.random.default_rng(5)
    many = 200
    power, rpm = rng.uniform(60.0, 160.0, many), rng.uniform(200.0, 1200.0, (many, 3))
    rise = power * (0.2 + 0.1 / (0.2 + rpm[:, 0] / 1200.0) + 0.05 / (0.1 + rpm[:, 1] / 1200.0)) + rng.normal(0, 0.3, many)
    runs = Runs(
        power,
        rpm,
        np.zeros((many, 0)),
        rise,
        np.full(many, 0.4),
        np.zeros(many, dtype=bool),
        ("heavy", "work") * (many // 2),
        ("in",) * (many // 2) + ("out",) * (many // 2),
        tuple(range(many)),
    )
    fit_heat_path(("a", "b", "c"), (), ("heavy", "in"), runs)
    begun = time.perf_counter()
    fit_heat_path(("a", "b", "c"), (), ("heavy", "in"), runs)
    taken = time.perf_counter() - begun
    return Result("fit of the heat path over 200 runs", taken, "s", "goal of 1 s", taken)


def results() -> list[Result]:
    """Measure."""
    found: dict[int, list[Off]] = {count: [] for count in COUNTS}
    for name in some_of(shipped_machines()):
        for seed in range(1, SEEDS + 1):
            rig = SimulatedRig(shipped_file(name), seed=seed)
            made, indices = runs_of(rig, seed), places_of(rig, seed)
            for count in COUNTS:
                some = first(made, count)
                if some:
                    found[count] += judged(rig.describe(), some, indices)
    return [result for count, offs in found.items() for result in _words(offs, count)] + [_in_time()]
