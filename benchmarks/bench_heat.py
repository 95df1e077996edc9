"""The heat path: how far off the settled temperature is at settings that nobody ran, after 4, 6, 8 and 12 runs.

The runs end when they are known to ±1 K, as the bench ends them; beside the model, what is read off between half-hour runs.
"""

import msgspec
import numpy as np
from numpy.typing import NDArray
from scipy.interpolate import LinearNDInterpolator, NearestNDInterpolator
from scipy.stats import qmc

from benchmarks.bench_settling import HALF_HOUR_S, Record, stopped, throttled
from benchmarks.result import Result
from niente.core.choosing.predicting import in_hull
from niente.core.evidence import column, counted
from niente.core.planning.parts import until_known
from niente.core.rigcard import LoadKind, RigCard
from niente.core.rigs.simulated.files import shipped_file, shipped_machines
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.science.settling import learn
from niente.core.science.statistics import Z95
from niente.core.science.thermal import fit_rise
from niente.core.setting import Setting

Vector = NDArray[np.float64]
Array = NDArray[np.float64]

COUNTS = (4, 6, 8, 12)
SEEDS, UNSEEN = 10, 12
GOAL_MEDIAN_K, GOAL_MOST_K = 0.3, 0.8
TAIL_S = 300


class Run(msgspec.Struct):
    """One run summed up: package watts, speeds of held and swept fans in rpm, rise over the room in K with its error, and the
    mean of half an hour's last five minutes over the room."""

    power_w: float
    cooler_rpm: float
    case_rpm: float
    rise_k: float
    error_k: float
    half_hour_k: float


class Place(msgspec.Struct):
    """One setting that was not run: watts, speeds, and how far it truly rises."""

    power_w: float
    cooler_rpm: float
    case_rpm: float
    rise_k: float


def _settings(card: RigCard, seed: int, many: int) -> list[Setting]:
    """Settings spread evenly over watts and duties; pumps and further groups stay as found."""
    power = next(control for control in card.controls if control.name == "sustained_power_w")
    groups = [group for group in (card.held_group(), card.lead_group()) if group is not None and group != "pump"]
    low, high = max(power.low, 0.4 * power.high), 0.8 * power.high
    spread = qmc.Sobol(1 + len(groups), seed=seed).random(16)[:many]
    return [
        Setting(
            sustained_power_w=float(round(low + row[0] * (high - low))),
            fan_duty={group: float(round(30.0 + 65.0 * share)) for group, share in zip(groups, row[1:], strict=True)},
        )
        for row in spread
    ]


def _speeds(card: RigCard, values: Array) -> tuple[float, float]:
    def of(group: str | None) -> float:
        return float(np.mean(column(card, values, f"fan_speed_rpm.{group}"))) if group is not None else 0.0

    return of(card.held_group()), of(card.lead_group())


def runs_of(rig: SimulatedRig, seed: int) -> list[Run]:
    """Make the runs, one after another; those that heat held are left out."""
    card = rig.describe()
    heavy = card.load_of(LoadKind.HEAVY)
    assert heavy is not None
    found: list[Run] = []
    prior: tuple[float, ...] = ()
    for setting in _settings(card, seed, max(COUNTS) + 4):
        whole = setting.over(card.stock)
        rig.apply(whole)
        rig.start(heavy.name)
        time_s, values, _ = rig.record(int(until_known(card).most_s))
        record = Record(card, whole, False, time_s, values, lambda room_c: room_c)
        if throttled(record):
            continue
        settled, seconds = stopped(record, prior)
        prior = learn(prior, settled)
        tail = values[int(seconds) - TAIL_S : int(seconds)]
        half_hour = values[HALF_HOUR_S - TAIL_S : HALF_HOUR_S]
        core, room = counted(card, half_hour), column(card, half_hour, "room_temperature_c")
        assert core is not None
        power = float(np.mean(column(card, tail, "package_power_w")))
        rise = settled.value_c - settled.room_c
        error = settled.half_width_k / Z95
        found.append(Run(power, *_speeds(card, tail), rise, error, float(np.mean(core - room))))
    return found[: max(COUNTS)]


def places_of(rig: SimulatedRig, seed: int) -> list[Place]:
    """Return settings that were not run, with the truth about them in a room of 23 °C; those that heat would hold are left
    out."""
    card = rig.describe()
    heavy = card.load_of(LoadKind.HEAVY)
    assert heavy is not None
    found = []
    for setting in _settings(card, 1000 + seed, UNSEEN):
        whole = setting.over(card.stock)
        true = rig.true_settled(whole, heavy.name, 23.0)
        if true.hottest_c < card.temperature_ceiling_c(whole) - 2.0:
            speeds = [true.readings.get(f"fan_speed_rpm.{group}", 0.0) for group in (card.held_group(), card.lead_group())]
            found.append(Place(true.readings["package_power_w"], *speeds, true.hottest_c - 23.0))
    return found


class Off(msgspec.Struct):
    """How far off one prediction was, its half width, and what reading off between runs would have given."""

    off_k: float
    half_width_k: float
    by_hand_k: float


def judged(runs: list[Run], places: list[Place]) -> list[Off]:
    """Hold predictions from runs against the truth at places inside their hull."""
    points = np.array([[run.power_w, run.cooler_rpm, run.case_rpm] for run in runs])
    model = fit_rise(
        points[:, 0],
        np.array([run.rise_k for run in runs]),
        np.array([run.error_k for run in runs]),
        points[:, 1],
        points[:, 2],
    )
    varied = np.ptp(points, axis=0) > 1.0
    scaled = points[:, varied] / np.ptp(points[:, varied], axis=0)
    means = np.array([run.half_hour_k for run in runs])
    near = NearestNDInterpolator(scaled, means)
    between = LinearNDInterpolator(scaled, means) if points.shape[0] > np.count_nonzero(varied) + 1 else near
    found = []
    for place in places:
        here = np.array([place.power_w, place.cooler_rpm, place.case_rpm])
        if not in_hull(points, here, np.array([4.0, 25.0, 25.0])):
            continue
        rise, half_width = model.rise(here[0], here[1], here[2])
        at = here[varied] / np.ptp(points[:, varied], axis=0)
        by_hand = float(np.squeeze(between(at)))
        by_hand = float(np.squeeze(near(at))) if by_hand != by_hand else by_hand
        found.append(Off(float(rise) - place.rise_k, float(half_width), by_hand - place.rise_k))
    return found


def results() -> list[Result]:
    """Measure."""
    found: dict[int, list[Off]] = {count: [] for count in COUNTS}
    for name in shipped_machines():
        for seed in range(1, SEEDS + 1):
            rig = SimulatedRig(shipped_file(name), seed=seed)
            runs, places = runs_of(rig, seed), places_of(rig, seed)
            for count in COUNTS:
                if len(runs) >= count:
                    found[count] += judged(runs[:count], places)
    told = []
    for count, ones in found.items():
        off = np.abs([one.off_k for one in ones])
        by_hand = np.abs([one.by_hand_k for one in ones])
        words = f"rise where nobody ran, {count} runs, {len(ones)} places"
        middle, most = float(np.median(off)), float(np.percentile(off, 95))
        told.append(Result(f"{words}, median", middle, "K", "goal of 0.3 K", middle / GOAL_MEDIAN_K))
        told.append(Result("the same", middle, "K", "read off between half hours", middle / float(np.median(by_hand))))
        told.append(Result("95 % of them", most, "K", "goal of 0.8 K", most / GOAL_MOST_K))
        held = float(np.mean([abs(one.off_k) <= one.half_width_k for one in ones]))
        told.append(Result("95 % intervals that hold", 100 * held, "%", "95 %", held / 0.95))
    return told
