"""Air with places: how far off core temperatures are at settings and mixed loads that nobody ran, on networks drawn at random.

Every machine has places, ways, leaks and eddies of its own (``made_air``). A person runs eight settings of the heaviest load
and, where the machine has one, four of its mixed load at other settings; the models then say the core temperature at settings
between them, under either load. Beside them: the nearest run under the same load, its rise carried over in proportion to the
watts.
Machines that were measured are kept in ``build/places``, so that a long draw goes on where it stopped.
"""

import math
from pathlib import Path

import msgspec
import numpy as np

from benchmarks.bench_coverage import WANTED, WIDEST, bootstrapped
from benchmarks.bench_heat import Place, run_summary, spread_settings
from benchmarks.made_machines import made_machine
from benchmarks.result import Result
from benchmarks.size import draws
from niente.core.analysis.coverage import inside
from niente.core.analysis.evidence import Evidence, RunSummary
from niente.core.analysis.models import Models, fit_models
from niente.core.analysis.prediction import predict_under_load
from niente.core.analysis.setting_batch import one_setting
from niente.core.model.errors import NotEnoughError
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.science.settling import learn

MACHINES = draws(least=2, small=12, full=240)
HEAVY_RUNS, MIXED_RUNS, UNSEEN, ROOM_C = 8, 4, 8, 23.0
GOAL_MEDIAN_K, GOAL_MOST_K, GOAL_MIXED_K = 0.3, 0.8, 1.0
FOLDER = Path("build") / "places"


class Judged(msgspec.Struct, frozen=True):
    """One prediction: the machine, whether of the mixed load, by how much it and the nearest run were off, and its half width
    (K)."""

    machine: int
    mixed: bool
    off_k: float
    half_width_k: float
    nearest_off_k: float


class Measured(msgspec.Struct, frozen=True):
    """A machine's runs, and the truth about settings that it did not run, by load."""

    runs: tuple[RunSummary, ...]
    places: dict[str, list[Place]]


def measured(rig: SimulatedRig, seed: int) -> Measured:
    """Make the runs of a machine, and look up the truth about other settings."""
    card = rig.describe()
    heavy, mixed = card.load_of(LoadKind.HEAVY), card.load_of(LoadKind.MIXED)
    assert heavy is not None
    many = HEAVY_RUNS + (MIXED_RUNS if mixed is not None else 0)
    runs: list[RunSummary] = []
    prior: tuple[float, ...] = ()
    for number, setting in enumerate(spread_settings(card, seed, many), 1):
        load = mixed if mixed is not None and number % 3 == 0 else heavy
        run, _ = run_summary(rig, number, setting, load.name, prior)
        if not run.heat_limited:
            prior = learn(prior, run.settled)
        runs.append(run)
    loads = [heavy.name] + ([mixed.name] if mixed is not None else [])
    return Measured(tuple(runs), {load: _truths(rig, seed, load) for load in loads})


def _truths(rig: SimulatedRig, seed: int, load: str) -> list[Place]:
    card, found = rig.describe(), []
    for setting in spread_settings(card, 1000 + seed, UNSEEN):
        whole = setting.over(card.stock)
        true = rig.true_settled(whole, load, ROOM_C, 3.0)
        read = true.readings
        rise = true.hottest_c - read["room_temperature_c"]  # over the room as its sensor reads it, which is all a person has
        rpm = tuple(read.get(f"fan_speed_rpm.{group}", 0.0) for group in card.fan_groups())
        limited = true.hottest_c >= card.temperature_ceiling_c(whole) - 1.5
        figures = read["effective_clock_mhz"], read["throughput_per_s"], read["package_power_w"]
        found.append(Place(whole, ROOM_C + rise, *figures, rpm, limited))
    return found


def judge(number: int, card: RigCard, made: Measured) -> list[Judged]:
    """Hold predictions against the truth at settings inside what was run."""
    try:
        models = fit_models(Evidence(card, made.runs))
    except NotEnoughError:
        return []
    mixed = card.load_of(LoadKind.MIXED)
    found = []
    for load, places in made.places.items():
        if load not in models.power.loads:
            continue
        for place in places:
            batch = one_setting(place.setting)
            said = predict_under_load(models, batch, load, ROOM_C)
            if place.held or not inside(models, batch, said)[0] or not math.isfinite(float(said.core_c[0])):
                continue
            off, wide = float(said.core_c[0]) - place.core_c, float(said.core_hw[0])
            near = _nearest(models, place, load)
            found.append(Judged(number, mixed is not None and load == mixed.name, off, wide, near))
    return found


def _nearest(models: Models, place: Place, load: str) -> float:
    """Return by how much the nearest run under a load is off, its rise carried over in proportion to the watts."""
    runs = [run for run in models.usable() if run.load == load and run.settled.known and not run.heat_limited]
    if not runs:
        return math.nan

    def apart(run: RunSummary) -> float:
        full = max(*place.rpm, 1.0)
        speeds = [run.fan_rpm[group] - rpm for group, rpm in zip(models.noise.groups, place.rpm, strict=True)]
        return math.hypot(math.log(run.power_w / place.power_w), *(rpm / full for rpm in speeds))

    run = min(runs, key=apart)
    return ROOM_C + run.rise_k * place.power_w / run.power_w - place.core_c


def _kept(number: int) -> tuple[RigCard, Measured]:
    """Return what was measured of a machine, from the folder where it is there."""
    rig = SimulatedRig(made_machine(number), seed=number)
    path = FOLDER / f"{number}.json"
    if path.exists():
        return rig.describe(), msgspec.json.decode(path.read_bytes(), type=Measured)
    made = measured(rig, number)
    path.write_bytes(msgspec.json.encode(made))
    return rig.describe(), made


def _words(judged: list[Judged], words: str, goal_most_k: float) -> list[Result]:
    if not judged:
        return []
    off = np.abs([one.off_k for one in judged])
    near = np.abs([one.nearest_off_k for one in judged])
    middle, most = float(np.median(off)), float(np.percentile(off, 95))
    wide = float(np.median([one.half_width_k for one in judged]))
    held, low, high = bootstrapped([one.machine for one in judged], [abs(one.off_k) <= one.half_width_k for one in judged])
    met = "met" if low <= WANTED[1] and high >= WANTED[0] else "not met"
    goal = f"{100 * WANTED[0]:.0f} to {100 * WANTED[1]:.0f} %: {met} by {100 * low:.1f} to {100 * high:.1f}"
    machines = len({one.machine for one in judged})
    return [
        Result(f"{words}, {len(judged)} places of {machines} machines: median", middle, "K", f"goal of {GOAL_MEDIAN_K} K",
               middle / GOAL_MEDIAN_K),
        Result("the same", middle, "K", "the nearest run", middle / float(np.nanmedian(near))),
        Result("at 95 %", most, "K", f"goal of {goal_most_k} K", most / goal_most_k),
        Result("the same", most, "K", "the nearest run", most / float(np.nanpercentile(near, 95))),
        Result("95 % intervals that hold", 100 * held, "%", goal, held / 0.95),
        Result("95 % half width, median", wide, "K", "1.3 times what is off at 95 %", wide / most / WIDEST),
    ]  # fmt: skip


def results() -> list[Result]:
    """Measure."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    judged = [one for number in range(1, MACHINES + 1) for one in judge(number, *_kept(number))]
    return [
        *_words([one for one in judged if not one.mixed], "core, heaviest load", GOAL_MOST_K),
        *_words([one for one in judged if one.mixed], "core, mixed load", GOAL_MIXED_K),
    ]
