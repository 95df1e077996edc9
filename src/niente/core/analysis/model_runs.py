"""The runs that each model is fitted to, and what they read, as fits take it."""

import math

import msgspec
import numpy as np

from niente.core.analysis.evidence import TAIL_S, Evidence, RunSummary
from niente.core.model.errors import NotEnoughError
from niente.core.model.rig_card import LoadCard, LoadKind
from niente.core.model.setting import Setting
from niente.core.science.arrays import Array
from niente.core.science.heat.fit import Runs
from niente.core.science.power.law import PowerReadings
from niente.core.science.statistics import Z95

NOT_STEADY = frozenset({LoadKind.IDLE, LoadKind.BURST})
"""Loads that come to no settled heat."""
MIN_RUNS = 3
SLOW_S = 900.0
"""While the temperature cap holds a run, its power and clock move with what warms last: a time constant of 15 minutes. Common
practice, no source."""
HELD_SD_K, GOES_ON_DOUBT = 0.25, 0.5
"""How well such a run's rise is known (K, standard deviation), and how far off the rest of its power's way is, as a share."""
MOST_GOING_ON, MOST_DOUBT_K = 0.12, 6.0
"""Where the power has further to go than this share, or the doubt comes to more, the run is only a bound."""
RPM_A_PERCENT = 15.0
"""What a per cent of duty stands for where no speed is read; only shares of the highest count."""


class ModelRuns(msgspec.Struct, frozen=True):
    """The runs that each model is fitted to."""

    working: list[RunSummary]
    """Under a load, without a failure."""
    settled: list[RunSummary]
    """Of those, the settled ones that heat did not limit."""
    drawn: list[RunSummary]
    """Those with power, clock and temperature read."""
    heard: list[RunSummary]
    """All runs with a noise reading."""


def model_runs(evidence: Evidence, heavy: LoadCard) -> ModelRuns:
    """Return the runs for each model; raise ``NotEnoughError`` where one has too few."""
    runs = evidence.usable()
    working = [run for run in runs if run.load_kind not in NOT_STEADY and run.failures == 0]
    settled = [run for run in _with_speeds(working) if shows_heat(run) and not run.heat_limited]
    _insist_on_heat(working, settled, heavy)
    drawn = _with_power(working)
    heard = [run for run in _with_speeds(runs) if np.isfinite(run.noise_dba) and np.isfinite(run.noise_se_db)]
    if len(heard) < 2:
        raise NotEnoughError(
            f"{evidence.card.title} has given no noise readings, and a quiet point is chosen by them.",
            safe="What was measured is kept.",
            remedy="Attach a sound meter as the channel 'noise_dba'.",
        )
    if len(drawn) < MIN_RUNS:
        raise NotEnoughError(
            "The law of power needs three runs with power, clock and temperature read.",
            safe="What was measured is kept.",
            remedy="Check these channels on the Rig page, and run more of the plan.",
        )
    return ModelRuns(working, settled, drawn, heard)


def _with_power(working: list[RunSummary]) -> list[RunSummary]:
    """Return the runs with power, clock and temperature read; without those at an offset by points where there are enough: it
    bends the curve that the law of power is of."""
    drawn = [run for run in working if np.isfinite([run.clock_mhz, run.power_w, run.core_c]).all() and run.clock_mhz > 0.0]
    plain = [run for run in drawn if not any(run.setting.point_offset_mv.values())]
    return plain if len(plain) >= MIN_RUNS else drawn


def _insist_on_heat(working: list[RunSummary], settled: list[RunSummary], heavy: LoadCard) -> None:
    """Raise ``NotEnoughError`` where too few runs tell of the heat path, with what is missing."""
    of_heavy = [run for run in working if run.load == heavy.name]
    if len(settled) >= MIN_RUNS and of_heavy:
        return
    kept = "What was measured is kept."
    limited = sum(1 for run in of_heavy if run.heat_limited)
    missing = "" if of_heavy else f", one of them of {heavy.title.lower()}"
    needs = f"The heat path needs three settled runs that heat did not limit{missing}, and there are {len(settled)}"
    if limited:
        raise NotEnoughError(
            f"{needs}; in {limited} the temperature cap limited the clock, and such a run only says what is not enough.",
            safe=kept,
            remedy="Plan lower sustained power limits, or faster fans.",
        )
    raise NotEnoughError(f"{needs}.", safe=kept, remedy="Run more of the plan.")


def heat_runs(evidence: Evidence, groups: tuple[str, ...]) -> list[tuple[RunSummary, str]]:
    """Return the runs that tell of the heat path, each with its variant."""
    return [
        (run, other.card.variant)
        for other in (evidence, *evidence.elsewhere.values())
        if other.card.fan_groups() == groups
        for run in _with_speeds(other.usable())
        if shows_heat(run)
    ]


def shows_heat(run: RunSummary) -> bool:
    """Return whether a run tells of the heat path: a steady load that came to a temperature without a failure."""
    steady = run.load_kind not in (*NOT_STEADY, LoadKind.LIGHT) and run.failures == 0 and run.settled.known
    return steady and math.isfinite(run.power_w + run.rise_k)


def goes_on(run: RunSummary) -> float:
    """Return how far what the cap leaves moving still has to go, over what it moved between the halves of the run's last
    minutes: an exponential's tail is its slope times its time constant."""
    apart_s = 0.5 * min(TAIL_S, 0.5 * run.seconds)
    return SLOW_S / max(apart_s, 1.0)


class HeldByCap(msgspec.Struct, frozen=True):
    """Where a run that the temperature cap holds comes to stand: the power in W that it still moves to, the rise in K that its
    cores are held at, and that rise's standard error."""

    power_w: float
    rise_k: float
    rise_se_k: float


def held_by_cap(run: RunSummary) -> HeldByCap | None:
    """Return where a heat-limited run comes to stand; ``None`` for one that still has far to go, which is only a bound.

    The cap holds the cores, and the clock gives way while air and panels warm: in the end power and cap are a steady state like
    any other.
    """
    read = run.channels.get("package_power_w")
    if not run.heat_limited or read is None or not run.power_w > 0.0:
        return None
    if not math.isfinite(run.core_c + run.settled.room_c + read.error):
        return None
    ahead_w = read.moved * goes_on(run)
    rise_k = run.core_c - run.settled.room_c
    doubt_w = max(abs(ahead_w) * GOES_ON_DOUBT, math.sqrt(2.0) * read.error * goes_on(run))
    doubt_k = doubt_w / run.power_w * rise_k
    if abs(ahead_w) > MOST_GOING_ON * run.power_w or doubt_k > MOST_DOUBT_K:
        return None
    return HeldByCap(run.power_w + ahead_w, rise_k, math.hypot(HELD_SD_K, doubt_k))


def _bound(run: RunSummary) -> float:
    """Return the least rise of a run that heat limited, at its power: what it read, or where it would have settled."""
    read = run.core_c if math.isfinite(run.core_c) else run.settled.value_c
    return min(read, run.settled.value_c) - run.settled.room_c


def _with_speeds(runs: list[RunSummary]) -> list[RunSummary]:
    """Return the runs whose fan speeds are read, as far as they are in any run: a lost sensor is no fan that stands."""
    read = {group for run in runs for group, rpm in run.fan_rpm.items() if math.isfinite(rpm)}
    return [run for run in runs if all(math.isfinite(run.fan_rpm.get(group, math.nan)) for group in read)]


def turning(run: RunSummary, group: str) -> float:
    """Return a fan group's speed in a run, in rpm; where no speed is read the duty stands for it."""
    speed = run.fan_rpm.get(group, math.nan)
    return speed if math.isfinite(speed) else RPM_A_PERCENT * run.setting.fan_duty.get(group, 0.0)


def speeds_of(runs: list[RunSummary], groups: tuple[str, ...]) -> Array:
    """Return the fan groups' speeds in runs ``(n, g)``, in rpm."""
    return np.array([[turning(run, group) for group in groups] for run in runs]).reshape(len(runs), len(groups))


def drawn_w(run: RunSummary) -> float:
    """Return what package and metered sources draw together in a run, in W; 0 where that is not read."""
    power = run.power_w if math.isfinite(run.power_w) else 0.0
    return power + sum(watts for watts in run.sources_w.values() if math.isfinite(watts))


def source_of_load(runs: list[RunSummary], load: str, source: str) -> float:
    """Return what a metered source gives under a load, in W: the mean of the runs that read it, 0 where none does."""
    read = [run.sources_w.get(source, math.nan) for run in runs if run.load == load]
    known = [watts for watts in read if math.isfinite(watts)]
    return float(np.mean(known)) if known else 0.0


def source_watts(runs: list[RunSummary], sources: tuple[str, ...]) -> Array:
    """Return what the metered sources give in runs ``(n, k)``, in W; a run that did not read one has what its load gives."""
    loads = {run.load for run in runs}
    usual = {(load, source): source_of_load(runs, load, source) for load in loads for source in sources}
    read = np.array([[run.sources_w.get(source, math.nan) for source in sources] for run in runs]).reshape(
        len(runs), len(sources)
    )
    instead = np.array([[usual[run.load, source] for source in sources] for run in runs]).reshape(len(runs), len(sources))
    return np.where(np.isfinite(read), read, instead)


def heat_readings(found: list[tuple[RunSummary, str]], groups: tuple[str, ...], sources: tuple[str, ...]) -> Runs:
    """Return what runs, each with its variant, read of the heat path; those that heat limited are bounds until they stand."""
    runs = [run for run, _ in found]
    held = [held_by_cap(run) for run in runs]
    return Runs(
        power_w=np.array([run.power_w if at is None else at.power_w for run, at in zip(runs, held, strict=True)]),
        rpm=speeds_of(runs, groups),
        sources_w=source_watts(runs, sources),
        rise_k=np.array([_rise(run, at) for run, at in zip(runs, held, strict=True)]),
        rise_se_k=np.array(
            [run.settled.half_width_k / Z95 if at is None else at.rise_se_k for run, at in zip(runs, held, strict=True)]
        ),
        bound=np.array([run.heat_limited and at is None for run, at in zip(runs, held, strict=True)], dtype=bool),
        load=tuple(run.load for run in runs),
        variant=tuple(variant for _, variant in found),
        number=tuple(run.run_id for run in runs),
    )


def _rise(run: RunSummary, held: HeldByCap | None) -> float:
    """Return a run's rise as the heat path takes it, in K."""
    if held is not None:
        return held.rise_k
    return _bound(run) if run.heat_limited else run.rise_k


def beside_readings(
    found: list[tuple[RunSummary, str]], groups: tuple[str, ...], sources: tuple[str, ...], channel: str
) -> Runs | None:
    """Return what runs, each with its variant, read of a temperature beside the cores' (air, coolant, board, graphics), by its
    channel; ``None`` where too few know where it settles. A cap on the cores' temperature bounds nothing here: the watts that
    warm it are read."""
    told = [(run, variant) for run, variant in found if channel in run.beside]
    if len(told) < MIN_RUNS:
        return None
    there = [run.beside[channel] for run, _ in told]
    return msgspec.structs.replace(
        heat_readings(told, groups, sources),
        rise_k=np.array([settled.value_c - settled.room_c for settled in there]),
        rise_se_k=np.array([settled.half_width_k / Z95 for settled in there]),
        bound=np.zeros(len(told), dtype=bool),
    )


def power_readings(runs: list[RunSummary], unread: frozenset[str] = frozenset()) -> PowerReadings:
    """Return what runs read of the law of power; of the loads in ``unread`` the clock stands for the throughput."""
    return PowerReadings(
        clock_mhz=np.array([run.clock_mhz for run in runs]),
        voltage_v=np.array([run.voltage_v for run in runs]),
        offset_mv=np.array([offset_of(run.setting) for run in runs]),
        fixed_v=np.array([run.setting.fixed_voltage_v or 0.0 for run in runs]),
        core_c=np.array([run.core_c for run in runs]),
        power_w=np.array([run.power_w for run in runs]),
        throughput_per_s=np.array([run.clock_mhz if run.load in unread else run.throughput_per_s for run in runs]),
        load=tuple(run.load for run in runs),
        throughput_share=np.array([run.throughput_se / run.throughput_per_s if run.throughput_per_s else 0.0 for run in runs]),
    )


def offset_of(setting: Setting) -> float:
    """Return the offset that all cores see on average, in mV; offsets of single points of the curve are left out."""
    cores = list(setting.core_offset_mv.values())
    return (setting.voltage_offset_mv or 0.0) + (float(np.mean(cores)) if cores else 0.0)
