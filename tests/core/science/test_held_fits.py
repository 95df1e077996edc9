"""What the fits say of machines made by other laws, held to what it was when it was judged (see ``tests.held``)."""

from typing import Any

import numpy as np

from niente.core.science.clock_limiter import drop_outs, limiters_from_readings
from niente.core.science.exponentials import time_constants
from niente.core.science.fan_speed import FanSpeeds
from niente.core.science.heat.fit import Runs, fit_heat_path
from niente.core.science.heat.path import HeatPath, typical
from niente.core.science.heat.rungs import heat_rungs
from niente.core.science.noise_fit import fit_noise
from niente.core.science.power.law import PowerReadings, fit_power
from niente.core.science.power.work import fit_work
from niente.core.science.settling import learn, seconds_until_known, settle, slow_tau_s
from tests.held import hold

GROUPS = ("cooler", "case")
POWER = np.array([0.0, 60.0, 90.0, 120.0, 150.0, 180.0])
RPM = np.array([[0.0, 0.0], [400.0, 300.0], [1500.0, 300.0], [700.0, 900.0], [1500.0, 1150.0], [1700.0, 1300.0]])
GRAPHICS_W = np.array([[0.0], [40.0], [0.0], [120.0], [0.0], [60.0]])


# -- heat --------------------------------------------------------------------------------------------------------------------


def machine(seed: int, many: int, *, sd_k: float, uneven: float = 0.0) -> Runs:
    """Runs of a machine whose fans work by exponentials, under two loads, in two cases, with a graphics card; ``uneven`` is a
    wave over the watts that no sum follows. The last two are limited by heat."""
    rng = np.random.default_rng(seed)
    power, graphics = rng.uniform(50.0, 160.0, many), rng.choice([0.0, 90.0], many)
    rpm = np.column_stack([rng.uniform(350.0, 1500.0, many), rng.uniform(250.0, 1150.0, many)])
    load = tuple(("heavy", "heavy", "render")[index % 3] for index in range(many))
    case = tuple("open" if index % 4 == 1 else "closed" for index in range(many))
    air = np.where(np.array(case) == "open", 0.1, 0.16) * np.exp(-2.0 * rpm[:, 1] / 1150.0) + 0.02
    core = np.where(np.array(load) == "render", 0.2, 0.22) * (1.0 + uneven * np.sin(power / 9.0))
    rise = power * (core + 0.2 * np.exp(-2.2 * rpm[:, 0] / 1500.0) + air) + (50.0 + graphics) * air
    bound = np.arange(many) >= many - 2
    rise = np.where(bound, 0.9 * rise, rise + sd_k * rng.standard_normal(many))
    errors = rng.uniform(0.15, 0.6, many)
    return Runs(power, rpm, graphics[:, None], rise, errors, bound, load, case, tuple(range(1, many + 1)))


def heat_figures(path: HeatPath) -> dict[str, object]:
    found: dict[str, object] = {}
    for load, case in (("heavy", "closed"), ("render", "open"), ("game", "shut")):
        rise, half_width = path.rise(POWER, RPM, GRAPHICS_W, load, case)
        found[f"rise, {load}, {case}"], found[f"half width, {load}, {case}"] = rise, half_width
    rise, half_width = path.rise(POWER, RPM, None, air=0.85)
    slope = [path.resistance(watts, (800.0, 600.0), load) for watts in (3.0, 60.0, 150.0) for load in ("heavy", "render")]
    informed = path.informed_by(np.array([80.0, 140.0]), np.array([[900.0, 500.0], [500.0, 900.0]]), np.array([0.3, 0.2]))
    rungs = [
        heat_rungs(path, watts, rpm, load)
        for watts, rpm, load in ((100.0, (900.0, 600.0), "heavy"), (60.0, (300.0, 1150.0), "render"), (150.0, (0.0, 0.0), ""))
    ]
    return found | {
        "rise in thin air": rise,
        "half width in thin air": half_width,
        "rise alone": path.rise_alone(POWER, RPM, GRAPHICS_W, "render", "open"),
        "resistance": slope,
        "half width once informed": informed.rise(POWER, RPM, GRAPHICS_W)[1],
        "rungs": [[[one.group, one.kelvin, one.half_width_k, one.by_fans_k] for one in each] for each in rungs],
        "misfits": [[one.run_id, one.measured_k, one.modelled_k, one.half_width_k] for one in path.misfits],
        "rest": [path.share_sd, path.residual_sd_k, path.runs, path.bounds, path.quantile, path.follows_runs],
    }


def test_heat_paths() -> None:
    found = {}
    for name, runs in {
        "many good runs": machine(1, 26, sd_k=0.1),
        "few runs": machine(2, 8, sd_k=0.3),
        "scattered runs": machine(3, 18, sd_k=1.0),
        "a machine that no sum follows": machine(4, 22, sd_k=0.15, uneven=0.12),
        "a machine that a sum hardly follows": machine(6, 22, sd_k=0.15, uneven=0.05),
    }.items():
        found[name] = heat_figures(fit_heat_path(GROUPS, ("graphics",), ("heavy", "closed"), runs))
    wrong = machine(5, 18, sd_k=0.2)
    wrong.rise_k[3] += 9.0
    wrong.rise_k[7] -= 25.0
    found["two runs that are wrong"] = heat_figures(fit_heat_path(GROUPS, ("graphics",), ("heavy", "closed"), wrong))
    hold("heat-paths", found)


def test_a_passive_machines_heat_path() -> None:
    power = np.linspace(10.0, 40.0, 7)
    rise = 8.0 + 0.9 * power + 0.3 * power**0.8
    runs = Runs(
        power,
        np.zeros((7, 0)),
        np.zeros((7, 0)),
        rise,
        np.full(7, 0.3),
        np.zeros(7, dtype=bool),
        ("heavy",) * 7,
        ("",) * 7,
        tuple(range(7)),
    )
    path = fit_heat_path((), (), ("heavy", ""), runs)
    rise, half_width = path.rise(np.array([5.0, 25.0, 60.0]), np.zeros((3, 0)))
    rungs = [[one.group, one.kelvin, one.half_width_k] for one in heat_rungs(path, 25.0, ())]
    hold("heat-path-passive", {"rise": rise, "half width": half_width, "rungs": rungs, "slope": path.resistance(25.0, ())})


def test_two_other_sources_of_heat() -> None:
    runs = machine(7, 20, sd_k=0.15)
    board = np.random.default_rng(7).uniform(5.0, 40.0, 20)
    two = Runs(
        runs.power_w,
        runs.rpm,
        np.column_stack([runs.sources_w[:, 0], board]),
        runs.rise_k + 0.12 * board,
        runs.rise_se_k,
        runs.bound,
        runs.load,
        runs.variant,
        runs.number,
    )
    path = fit_heat_path(GROUPS, ("graphics", "board"), ("heavy", "closed"), two)
    sources = np.column_stack([GRAPHICS_W[:, 0], np.array([0.0, 10.0, 60.0, 5.0, 30.0, 0.0])])
    rise, half_width = path.rise(POWER, RPM, sources, "render", "open")
    hold("heat-path-two-sources", {"rise": rise, "half width": half_width, "quantile": path.quantile})


def test_a_typical_heat_path() -> None:
    path = typical(GROUPS, (1500.0, 1150.0))
    rise, half_width = path.rise(POWER, RPM)
    rungs = [[one.group, one.kelvin, one.half_width_k, one.by_fans_k] for one in heat_rungs(path, 100.0, (900.0, 600.0))]
    hold("heat-path-typical", {"rise": rise, "half width": half_width, "rungs": rungs})


# -- power and work ----------------------------------------------------------------------------------------------------------


def draws(seed: int, *, volts: bool, sd: float = 0.002, fixed: bool = False, steps: float = 0.0) -> PowerReadings:
    """Readings of a chip whose voltage has a knee, under two loads, the second of which waits for memory."""
    rng = np.random.default_rng(seed)
    clock = np.concatenate([np.linspace(2400.0, 4700.0, 12), np.linspace(2600.0, 4600.0, 8)])
    load = ("heavy",) * 12 + ("render",) * 8
    heavy = np.arange(20) < 12
    offset = np.tile([0.0, -20.0, -40.0, -60.0], 5)
    set_v = 0.82 + 0.1 * (clock / 4700.0) + 0.35 * np.maximum(clock / 4700.0 - 0.7, 0.0) + offset / 1000.0
    fixed_v = np.where(fixed & (np.arange(20) % 5 == 2), 1.05, 0.0)
    set_v = np.where(fixed_v > 0.0, fixed_v, set_v)
    core = rng.uniform(45.0, 88.0, 20)
    volt = set_v * 0.985
    leaking = 9.0 * volt * np.exp(3.0 * (volt - 1.0) + 0.014 * (core - 60.0))
    watts = np.where(heavy, 0.02, 0.014) * volt**2 * clock + leaking + 8.0
    watts = watts * (1.0 + steps * np.sin(clock / 130.0)) * np.exp(sd * rng.standard_normal(20))
    work = 1.0 / (1.0 / clock + np.where(heavy, 0.0, 1.2e-4)) * np.exp(0.001 * rng.standard_normal(20))
    return PowerReadings(
        clock,
        volt + 0.002 * rng.standard_normal(20) if volts else np.full(20, np.nan),
        offset,
        fixed_v,
        core,
        watts,
        np.where(np.arange(20) == 4, np.nan, work),
        load,
        np.full(20, 0.0015),
    )


def power_figures(readings: PowerReadings) -> dict[str, object]:
    found = fit_power(readings)
    clock = np.array([1800.0, 2500.0, 3300.0, 3815.0, 4500.0, 5000.0])
    at = clock, np.array([40.0, 60.0, 95.0, 70.0, 80.0, 66.0]), np.array([0.0, -30.0, -10.0, -55.0, 0.0, -80.0])
    volts = np.array([0.0, 0.0, 0.0, 1.1, 0.0, 0.0])
    figures: dict[str, object] = {"rejected": list(found.rejected), "left out": found.left_out_sd, "seen": found.seen_mhz}
    for load in found.loads:
        work = found.work[load]
        share = clock / found.ref_mhz
        figures[load] = {
            "power": found.power_w(load, *at, volts),
            "error": found.error(load, *at, volts),
            "work": work.throughput(share, at[2], np.full(6, 0.004)),
            "ratio": work.ratio(share, at[2], 0.9, -20.0),
            "slope": work.slope(share),
            "of the clock": [work.beta, work.bend],
        }
    return figures


def test_laws_of_power_and_work() -> None:
    wrong = draws(4, volts=True)
    wrong.power_w[5] *= 1.9
    wrong.throughput_per_s[9] *= 1.2
    drawn = draws(5, volts=False)
    drawn.power_w[0] *= 12.0
    low = draws(8, volts=True)
    low.power_w[16] *= 0.8
    hold(
        "power-laws",
        {
            "voltage read": power_figures(draws(1, volts=True)),
            "voltage not read": power_figures(draws(2, volts=False, sd=0.01)),
            "voltage set": power_figures(draws(3, volts=True, fixed=True)),
            "a run that is wrong": power_figures(wrong),
            "a run that draws the law with it": power_figures(drawn),
            "a run that is low": power_figures(low),
            "power in steps": power_figures(draws(6, volts=True, steps=0.03)),
            "three runs, voltage not read": power_figures(draws(9, volts=False).only(np.array([0, 6, 11]))),
            "three runs": power_figures(draws(7, volts=True).only(np.array([0, 5, 11]))),
        },
    )


def test_work_over_clock_and_offset() -> None:
    rng = np.random.default_rng(8)
    share, offset = np.tile([0.6, 0.75, 0.9, 1.0], 4), np.repeat([0.0, -25.0, -50.0, -75.0], 4)
    stretched = 0.03 * np.maximum(share - 0.85, 0.0) * np.maximum(-offset - 40.0, 0.0) / 10.0
    work = share**0.9 * (1.0 - stretched) * np.exp(0.002 * rng.standard_normal(16))
    work[6] *= 1.3
    here = np.array([0.5, 0.7, 0.95, 1.0, 1.1]), np.array([0.0, -10.0, -60.0, -75.0, -90.0])
    found = {}
    for name, error in {"known": np.full(16, 0.001), "not known": np.full(16, np.nan), "poor": np.full(16, 0.2)}.items():
        fitted = fit_work(share, offset, work, error)
        throughput = fitted.throughput(*here, np.full(5, 0.003))
        found[name] = {"throughput": throughput, "ratio": fitted.ratio(*here, 1.0, 0.0), "rejected": list(fitted.rejected)}
    hold("work", found)


# -- noise -------------------------------------------------------------------------------------------------------------------


def room(
    seed: int,
    *,
    wander_db: float = 0.05,
    step_db: float = 0.0,
    coils_db: float = 12.0,
    until_s: float = 1e9,
) -> dict[str, object]:
    """A night of readings of two fan groups, one with a resonance, and a supply that is heard; by day the room is louder."""
    rng = np.random.default_rng(seed)
    one = np.concatenate([[0.0, 0.0], np.geomspace(250.0, 1500.0, 10), np.full(10, 300.0), np.tile([600.0, 900.0], 5)])
    two = np.concatenate([[0.0, 0.0], np.full(10, 300.0), np.geomspace(250.0, 1150.0, 10), np.tile([400.0, 800.0], 5)])
    watts = np.concatenate([np.full(22, 6.0), np.linspace(40.0, 160.0, 10)])
    at_s = 400.0 * np.arange(32.0)
    background = (
        24.0
        + wander_db * rng.standard_normal(32)
        + np.where((at_s > (9800.0 if until_s > 1e6 else 4200.0)) & (at_s < until_s), step_db, 0.0)
    )
    hump = 3.0 / (1.0 + ((two - 520.0) / 50.0) ** 2)
    levels = [
        background,
        np.where(one > 30.0, 36.0 + 52.0 * np.log10(np.maximum(one, 1.0) / 1500.0), -90.0),
        np.where(two > 30.0, 41.0 + 55.0 * np.log10(np.maximum(two, 1.0) / 1150.0) + hump, -90.0),
        coils_db + 18.0 * np.log10(watts / 100.0),
    ]
    level = 10.0 * np.log10(sum(10.0 ** (each / 10.0) for each in levels)) + 0.04 * rng.standard_normal(32)
    if seed == 4:
        level[14] += 7.0
    model = fit_noise(GROUPS, np.column_stack([one, two]), level, rng.uniform(0.03, 0.1, 32), watts, at_s)
    here = np.array([[0, 0], [300, 200], [610, 520], [25, 700], [1500, 1150], [1900, 1400], [80, 60]], float)
    power = np.array([0.0, 6.0, 70.0, 110.0, 160.0, 200.0, 0.1])
    heard = model.hear(here, power, np.array([0.0, 10.0, 20.0])[np.array([0, 1, 1, 2, 2, 1, 1])][:, None] * np.ones(2))
    return {
        "in room": heard.in_room_dba,
        "in room, half width": heard.in_room_hw,
        "alone": heard.alone_dba,
        "alone, half width": heard.alone_hw,
        "at most": heard.at_most_dba,
        "bound": heard.bound.tolist(),
        "exactly": model.in_room(here, power)[1],
        "laws": [model.law_of(group) for group in GROUPS],
        "levels": [model.level_of(group) for group in GROUPS],
        "background": [model.background_dba, model.background_hw_db, model.wander_db],
        "rejected": list(model.rejected),
        "heard": [list(one) for one in model.heard],
    }


def test_noise_maps() -> None:
    found = {
        "a still room": room(1),
        "a room that wanders": room(2, wander_db=0.9),
        "a room that wakes up": room(3, step_db=7.0),
        "a reading that is wrong": room(4),
        "a loud supply": room(5, coils_db=28.0),
        "a room that wakes up and falls asleep": room(8, step_db=6.0, until_s=7800.0),
        "a room that wanders and wakes up": room(6, wander_db=0.5, step_db=5.0),
    }
    readings = np.array([[300.0], [900.0]]), np.array([27.0, 38.0]), np.array([0.1, 9.0])
    few = fit_noise(("case",), *readings)
    found["two readings"] = dict(zip(("in room", "half width"), few.in_room(np.array([[300.0], [600.0]])), strict=True))
    hold("noise-maps", found)


def test_what_limits_the_clock() -> None:
    """Over every combination of readings near their levels: a code a sample, the coldest first."""
    core = [80.0, 86.8, 87.2, 88.4, 88.6, 91.0, np.nan, -60.5, 160.5]
    power = [-0.5, 150.0, 153.4, 153.6, 159.0, 159.4, 162.0, 162.4, 170.6, 170.9, 186.1, 193.1, 198.0]
    clock = [-1.0, 4500.0, 4740.0, 4750.0, 4753.0, 4790.0]
    lattice = [axis.ravel() for axis in np.meshgrid(core, power, clock, indexing="ij")]
    found: dict[str, object] = {}
    configurations: dict[str, dict[str, Any]] = {
        "all limits": {"cap_c": 90.0, "limit_w": 165.0, "clock_cap_mhz": 4800.0, "burst_w": 200.0},
        "no burst": {"cap_c": 90.0, "limit_w": 165.0, "clock_cap_mhz": 4800.0},
        "no limit": {"cap_c": 90.0, "limit_w": None, "clock_cap_mhz": 4800.0, "burst_w": 200.0},
        "no clock cap": {"cap_c": 90.0, "limit_w": 165.0, "clock_cap_mhz": None},
        "power alone": {"cap_c": None, "limit_w": 165.0, "clock_cap_mhz": None},
    }
    for name, levels in configurations.items():
        for takes_all in (False, True):
            codes = limiters_from_readings(*lattice, takes_all=takes_all, **levels)
            rows = codes.reshape(len(core), -1)
            found[f"{name}, {takes_all}"] = [" ".join(str(code) for code in row) for row in rows.tolist()]
    per_clock = np.full(400, 1.0)
    per_clock[[5, 28, 29, 31, 32, 60, 61, 230, 350]] = [0.5, 0.7, 0.79, 0.79, 0.81, 0.3, 0.3, 0.6, 0.75]
    per_clock[240:330] = 0.78
    per_clock[100:110] = np.nan
    found["drop-outs"] = np.flatnonzero(drop_outs(4000.0 * per_clock, np.full(400, 4000.0))).tolist()
    hold("clock-limiters", found)


def test_speeds_at_duties() -> None:
    duty = np.array([0.0, 5.0, 12.0, 20.0, 27.0, 40.0, 55.0, 71.0, 90.0, 100.0])
    found = {}
    for name, pairs in {
        "none": (),
        "one": ((44.0, 700.0),),
        "two": ((30.0, 500.0), (80.0, 1100.0)),
        "starts": ((0.0, 0.0), (20.0, 0.0), (30.0, 420.0), (60.0, 900.0), (85.0, 1150.0)),
        "from nothing": ((0.0, 350.0), (50.0, 800.0), (100.0, 1400.0)),
    }.items():
        speeds = FanSpeeds(pairs)
        found[name] = [*speeds.at(duty), speeds.span]
    hold("fan-speeds", found)


# -- settling ----------------------------------------------------------------------------------------------------------------


def trace(
    seed: int, seconds: int, taus: tuple[float, float, float], *, drift_k: float = 0.0, sd_k: float = 0.3
) -> list[np.ndarray]:
    """Times, core and room of a run that heats by three exponentials in a room that drifts, read with some memory."""
    rng = np.random.default_rng(seed)
    time_s = np.arange(float(seconds))
    room_c = 22.0 + drift_k * time_s / 3600.0
    noise = np.zeros(seconds)
    for index, fresh in enumerate(rng.standard_normal(seconds)):
        noise[index] = 0.6 * noise[index - 1] + sd_k * fresh
    parts = zip((14.0, 16.0, 3.0), taus, strict=True)
    return [time_s, room_c + 41.0 - sum(size * np.exp(-time_s / tau) for size, tau in parts) + noise, room_c]


def test_where_runs_settle() -> None:
    found: dict[str, object] = {}
    prior: tuple[float, ...] = ()
    for seed, (name, taus) in enumerate({"air": (35.0, 300.0, 2000.0), "liquid": (50.0, 1100.0, 4000.0)}.items()):
        prior = ()
        for minutes in (3, 5, 8, 12, 20, 40):
            time_s, core_c, room_c = trace(10 * seed + minutes, 60 * minutes, taus, drift_k=0.8)
            seen = settle(time_s, core_c, room_c, prior)
            prior = learn(prior, seen)
            constants = [[one.seconds, one.half_width_s] for one in time_constants(time_s, core_c, room_c)]
            found[f"{name}, {minutes} min"] = [seen.value_c, seen.half_width_k, seen.room_c, slow_tau_s(prior), constants]
    time_s, core_c, room_c = trace(5, 700, (30.0, 250.0, 1500.0))
    core_c[100:160] = np.nan
    room_c[300:330] = np.nan
    gaps = settle(time_s, core_c, room_c)
    found["with gaps"] = [gaps.value_c, gaps.half_width_k, gaps.room_c]
    time_s, core_c, room_c = (values[::7] for values in trace(6, 700, (30.0, 250.0, 1500.0)))
    sparse = settle(time_s, core_c, room_c)
    found["every seven seconds"] = [sparse.value_c, sparse.half_width_k]
    at = np.arange(0.0, 600.0, 20.0)
    found["seconds until known"] = [
        seconds_until_known(at, 6.0 * np.exp(-at / 300.0) + 0.2 * np.sin(at), 0.4),
        seconds_until_known(at, 6.0 * np.exp(-at / 3000.0), 0.4),
        seconds_until_known(at[:13], 6.0 * np.exp(-at[:13] / 2500.0), 1.0),
        seconds_until_known(at[:2], np.array([4.0, 3.0]), 1.0),
        seconds_until_known(at[:3], np.array([4.0, 3.0, 2.0]), 1.0),
    ]
    hold("settling", found, within=4e-3)  # constants fitted to a short run are known to no more digits on every processor
