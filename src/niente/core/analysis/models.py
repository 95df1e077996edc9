"""The fitted models of a rig: heat path, noise, power and work, each from all runs that tell of it."""

import math
from collections.abc import Sequence

import msgspec
import numpy as np

from niente.core.analysis.evidence import Evidence, RunSummary
from niente.core.analysis.limits_learnt import CapReading, ClockCeiling, PowerGain, cap_reading, clock_ceilings, power_gains
from niente.core.analysis.screening import LeftOut, measuring, screened
from niente.core.analysis.setting_batch import POWER
from niente.core.analysis.stability import RunExposure, Stability, exposures_in, stability_of
from niente.core.model.errors import NotEnoughError
from niente.core.model.rig_card import LoadCard, LoadKind, RigCard
from niente.core.model.setting import Setting
from niente.core.science.arrays import Array, Vector
from niente.core.science.dynamics import Scale
from niente.core.science.fan_speed import FanSpeeds
from niente.core.science.heat.fit import Runs, fit_heat_path
from niente.core.science.heat.path import HeatPath
from niente.core.science.noise import NoiseModel
from niente.core.science.noise_fit import fit_noise
from niente.core.science.power.law import PowerLaw, PowerReadings, fit_power
from niente.core.science.statistics import Z95

SILICON = (
    "voltage_offset_mv",
    "core_offset_mv",
    "point_offset_mv",
    "clock_cap_mhz",
    "active_clock_mhz",
    "fixed_clock_mhz",
    "fixed_voltage_v",
)
CARRIES_MV = 40.0
"""Heat and noise that were measured at another voltage offset, no further away than this, still say what they said."""
SESSIONS_APART_S = 86400.0
"""How far apart runs count as being where the rig's clock began again between them; longer than a room stays as it was."""
NOT_STEADY = frozenset({LoadKind.IDLE, LoadKind.BURST})
"""Loads that come to no settled heat."""
MIN_RUNS = 3
RPM_A_PERCENT = 15.0
"""What a per cent of duty stands for where no speed is read; only shares of the highest count."""


class StockState(msgspec.Struct, frozen=True):
    """Where stock stands under a load in a room: its clock (MHz) with the standard error as a share, its throughput in the
    load's own unit, and in words what that is where it is not as measured."""

    clock_mhz: float
    clock_share_sd: float
    throughput_per_s: float
    reason: str


class Models(msgspec.Struct, frozen=True):
    """What the runs of a rig come to.

    ``count_load`` is the load whose throughput counts (the realistic one where it was measured), ``heavy_load`` the one to
    survive. ``gains`` are metered watts a watt of limit, by load; ``ceilings`` the clock that each load comes to when neither
    power nor heat limits it; ``cap`` what a temperature cap reads; ``sources_w`` what is metered beside the package, by load.
    ``left_out`` are figures of runs that cannot be true, and are in no model. ``stock_states`` keeps where stock stands by load
    and room, which every prediction in a room asks for. ``stock`` is each load's run at the stock setting; ``by_clock`` are
    loads whose throughput is not read, so that the clock stands for it. ``speeds`` are the speeds seen for each group's
    duties; ``lead`` is the fan group that is swept. ``base`` is what most runs share beneath the power limit and that group's
    duty, ``exposures`` are all runs that say of failures what they do.
    """

    evidence: Evidence
    heat: HeatPath
    noise: NoiseModel
    power: PowerLaw
    gains: dict[str, PowerGain]
    ceilings: dict[str, ClockCeiling]
    cap: CapReading
    sources_w: dict[str, tuple[float, ...]]
    count_load: str
    heavy_load: str
    stock: dict[str, RunSummary]
    by_clock: frozenset[str]
    speeds: dict[str, FanSpeeds]
    base: Setting
    room_c: float
    lead: str
    exposures: tuple[RunExposure, ...]
    left_out: tuple[LeftOut, ...] = ()
    stock_states: dict[tuple[str, float], StockState] = msgspec.field(default_factory=dict)

    @property
    def stability(self) -> Stability:
        """What all exposures say of the family of settings of ``base``; worked out when it is first asked for."""
        return stability_of(self.exposures, self.base)

    @property
    def card(self) -> RigCard:
        """The card of the variant that the models are of."""
        return self.evidence.card

    @property
    def scale(self) -> Scale:
        """The dynamic scale of the room, over its background as it was measured."""
        return Scale(self.noise.background_dba, self.evidence.card.marks_over_db)

    @property
    def fans(self) -> str:
        """The control that stands up the map."""
        return f"fan_duty.{self.lead}"

    def rpm(self, group: str, duty: Array) -> Array:
        """Return a group's speed in rpm at duties in %; see ``FanSpeeds`` for what is known of it."""
        return self.speeds[group].at(duty)[0]

    def stock_work(self, load: str) -> float | None:
        """Return a load's throughput as it was measured at the stock setting, in its own unit; ``None`` where it was not."""
        run = self.stock.get(load)
        return run.throughput_per_s if run is not None else None

    def steady(self) -> tuple[LoadCard, ...]:
        """Return the loads that were run and come to settled heat, in the card's order."""
        return tuple(load for load in self.card.loads if load.name in self.power.loads and load.kind not in NOT_STEADY)

    def usable(self) -> list[RunSummary]:
        """Return the runs that the models stand on: those that came to their end without a failure, idle ones apart."""
        return [run for run in self.evidence.usable() if run.load_kind not in NOT_STEADY and run.failures == 0]


def _screened(evidence: Evidence) -> tuple[Evidence, tuple[LeftOut, ...]]:
    """Return the evidence of all variants without figures that cannot be true, and those of this one."""
    runs, left_out = screened(evidence.runs)
    elsewhere = {
        name: msgspec.structs.replace(other, runs=screened(other.runs)[0]) for name, other in evidence.elsewhere.items()
    }
    return msgspec.structs.replace(evidence, runs=runs, elsewhere=elsewhere), left_out


class _ModelRuns(msgspec.Struct, frozen=True):
    """The runs that each model is fitted to."""

    working: list[RunSummary]
    """Under a load, without a failure."""
    settled: list[RunSummary]
    """Of those, the settled ones that heat did not limit."""
    drawn: list[RunSummary]
    """Those with power, clock and temperature read."""
    heard: list[RunSummary]
    """All runs with a noise reading."""


def fit_models(evidence: Evidence) -> Models:
    """Fit everything but what cannot be true. Raises ``NotEnoughError`` that says which runs are still missing."""
    exposures = exposures_in(evidence.runs, evidence.card)
    evidence, left_out = _screened(measuring(evidence))
    card = evidence.card
    heavy, lead = _heaviest(card), _lead_group(card)
    runs = _model_runs(evidence, heavy)
    groups = card.fan_groups()
    sources = tuple(sorted({name for run in runs.working for name in run.sources_w}))
    unread = _without_work(runs.drawn)
    power = fit_power(_power_readings(runs.drawn, unread))
    gains, noise = power_gains(runs.drawn, power.loads), noise_of(groups, runs.heard)
    return Models(
        evidence=evidence,
        left_out=(*left_out, *_rejected(runs, noise, power)),
        heat=_heat(evidence, groups, sources, heavy.name),
        noise=noise,
        power=power,
        gains=gains,
        ceilings=clock_ceilings(runs.drawn, gains),
        cap=cap_reading(runs.drawn),
        sources_w={load: _sources_of(runs.drawn, load, sources) for load in power.loads},
        count_load=_counts(card, power.loads, heavy.name),
        heavy_load=heavy.name,
        by_clock=unread,
        stock={run.load: run for run in runs.drawn if run.setting == card.stock and np.isfinite(run.throughput_per_s)},
        speeds={group: FanSpeeds(_speeds_of(evidence, group)) for group in groups},
        base=_base(
            _standing(evidence, [run for run in runs.settled if run.load == heavy.name] or runs.settled), f"fan_duty.{lead}"
        ),
        exposures=exposures,
        room_c=float(np.mean([run.settled.room_c for run in runs.settled])),
        lead=lead,
    )


def _rejected(runs: _ModelRuns, noise: NoiseModel, power: PowerLaw) -> list[LeftOut]:
    """Return what the fits could not believe beside the other runs."""
    found = [
        LeftOut(run.run_id, "noise_dba", run.noise_dba, "fits neither fans nor room, or the room was louder then")
        for run in (runs.heard[index] for index in noise.rejected)
    ]
    for run in (runs.drawn[index] for index in power.rejected):
        found.append(LeftOut(run.run_id, "package_power_w", run.power_w, "no clock and voltage of the other runs explain"))
    for load, work in power.work.items():
        own = [run for run in runs.drawn if run.load == load and run.throughput_per_s > 0.0]
        for run in (own[index] for index in work.rejected):
            found.append(LeftOut(run.run_id, "throughput_per_s", run.throughput_per_s, "no clock of the other runs explains"))
    return found


def _heaviest(card: RigCard) -> LoadCard:
    heavy = card.load_of(LoadKind.HEAVY)
    if heavy is None:
        raise NotEnoughError(f"{card.title} names no heaviest load.", remedy="Add one to the rig's loads.")
    return heavy


def _lead_group(card: RigCard) -> str:
    lead = card.lead_group()
    if lead is None:
        raise NotEnoughError(
            f"{card.title} has no fan group that can be set, and the map is drawn over one.",
            safe="What was measured is kept.",
            remedy="Add a control 'fan_duty.' with the group's name to the rig's card.",
        )
    return lead


def _model_runs(evidence: Evidence, heavy: LoadCard) -> _ModelRuns:
    """Return the runs for each model; raise ``NotEnoughError`` where one has too few."""
    runs = evidence.usable()
    working = [run for run in runs if run.load_kind not in NOT_STEADY and run.failures == 0]
    settled = [run for run in _with_speeds(working) if _shows_heat(run) and not run.heat_limited]
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
    return _ModelRuns(working, settled, drawn, heard)


def _with_power(working: list[RunSummary]) -> list[RunSummary]:
    """Return the runs with power, clock and temperature read; without those at an offset by points where there are enough: it
    bends the curve that the law of power is of."""
    drawn = [run for run in working if np.isfinite([run.clock_mhz, run.power_w, run.core_c]).all() and run.clock_mhz > 0.0]
    plain = [run for run in drawn if not any(run.setting.point_offset_mv.values())]
    return plain if len(plain) >= MIN_RUNS else drawn


def noise_of(groups: tuple[str, ...], heard: Sequence[RunSummary]) -> NoiseModel:
    """Fit the noise map to runs that were heard. Raises ``ValueError`` for fewer than two."""
    return fit_noise(
        groups,
        np.array([[turning(run, group) for group in groups] for run in heard]),
        np.array([run.noise_dba for run in heard]),
        np.array([run.noise_se_db for run in heard]),
        np.array([drawn_w(run) for run in heard]),
        _on_one_clock(np.array([run.at_s for run in heard])),
    )


def _on_one_clock(at_s: Vector) -> Vector:
    """Return times of runs ``(n,)`` in the order made, such that they never go back: a rig's clock begins again when it is
    restarted, and runs from before and after are not near each other."""
    restarts = np.cumsum(np.diff(at_s, prepend=at_s[:1]) < 0.0)
    most = float(np.nanmax(at_s, initial=0.0))
    later: Vector = at_s + restarts * (most + SESSIONS_APART_S)
    return later


def drawn_w(run: RunSummary) -> float:
    """Return what package and metered sources draw together in a run, in W; 0 where that is not read."""
    power = run.power_w if math.isfinite(run.power_w) else 0.0
    return power + sum(watts for watts in run.sources_w.values() if math.isfinite(watts))


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


def _counts(card: RigCard, loads: tuple[str, ...], heavy: str) -> str:
    realistic = card.load_of(LoadKind.REALISTIC)
    return realistic.name if realistic is not None and realistic.name in loads else heavy


def turning(run: RunSummary, group: str) -> float:
    """Return a fan group's speed in a run, in rpm; where no speed is read the duty stands for it."""
    speed = run.fan_rpm.get(group, math.nan)
    return speed if math.isfinite(speed) else RPM_A_PERCENT * run.setting.fan_duty.get(group, 0.0)


def _heat(evidence: Evidence, groups: tuple[str, ...], sources: tuple[str, ...], heavy: str) -> HeatPath:
    """Fit the heat path to the runs of every variant that has these fan groups; in this one heat-limited runs are bounds."""
    found = _heat_runs(evidence, groups)
    runs = [run for run, _ in found]
    return fit_heat_path(
        groups,
        sources,
        (heavy, evidence.card.variant),
        Runs(
            power_w=np.array([run.power_w for run in runs]),
            rpm=np.array([[turning(run, group) for group in groups] for run in runs]).reshape(len(runs), len(groups)),
            sources_w=np.array([[run.sources_w.get(name, 0.0) for name in sources] for run in runs]).reshape(len(runs), -1),
            rise_k=np.array([_bound(run) if run.heat_limited else run.rise_k for run in runs]),
            rise_se_k=np.array([run.settled.half_width_k / Z95 for run in runs]),
            bound=np.array([run.heat_limited for run in runs], dtype=bool),
            load=tuple(run.load for run in runs),
            variant=tuple(variant for _, variant in found),
            number=tuple(run.run_id for run in runs),
        ),
    )


def _heat_runs(evidence: Evidence, groups: tuple[str, ...]) -> list[tuple[RunSummary, str]]:
    """Return the runs that tell of the heat path, each with its variant."""
    return [
        (run, other.card.variant)
        for other in (evidence, *evidence.elsewhere.values())
        if other.card.fan_groups() == groups
        for run in _with_speeds(other.usable())
        if _shows_heat(run)
    ]


def _shows_heat(run: RunSummary) -> bool:
    steady = run.load_kind not in NOT_STEADY and run.load_kind != LoadKind.LIGHT and run.failures == 0
    return steady and run.settled.known and bool(np.isfinite([run.power_w, run.rise_k]).all())


def _bound(run: RunSummary) -> float:
    """Return the least rise of a run that heat limited, at its power: what it read, or where it would have settled."""
    read = run.core_c if math.isfinite(run.core_c) else run.settled.value_c
    return min(read, run.settled.value_c) - run.settled.room_c


def _with_speeds(runs: list[RunSummary]) -> list[RunSummary]:
    """Return the runs whose fan speeds are read, as far as they are in any run: a lost sensor is no fan that stands."""
    read = {group for run in runs for group, rpm in run.fan_rpm.items() if math.isfinite(rpm)}
    return [run for run in runs if all(math.isfinite(run.fan_rpm.get(group, math.nan)) for group in read)]


def _without_work(runs: list[RunSummary]) -> frozenset[str]:
    """Return the loads whose throughput is not read in any run."""
    read = {run.load for run in runs if math.isfinite(run.throughput_per_s)}
    return frozenset({run.load for run in runs} - read)


def _power_readings(runs: list[RunSummary], unread: frozenset[str]) -> PowerReadings:
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


def _sources_of(runs: list[RunSummary], load: str, sources: tuple[str, ...]) -> tuple[float, ...]:
    """Return what each metered source gives under a load, in W."""
    own = [run for run in runs if run.load == load]
    return tuple(float(np.nanmean([run.sources_w.get(name, 0.0) for run in own] or [0.0])) for name in sources)


def _base(runs: list[RunSummary], fans: str) -> Setting:
    """Return the setting that most runs share beneath the two axes; of equals the one used last."""
    shared = [run.setting.replaced(POWER, 0.0).replaced(fans, 0.0).key() for run in runs]
    most = max(shared.count(key) for key in shared)
    last = max(index for index, key in enumerate(shared) if shared.count(key) == most)
    return runs[last].setting


def _standing(evidence: Evidence, runs: list[RunSummary]) -> list[RunSummary]:
    """Return the runs at offsets that no failure speaks against; all of them where none is left."""
    failed = [offset_of(run.setting) for run in evidence.usable() if run.failures and offset_of(run.setting) < 0.0]
    stands = [run for run in runs if not failed or offset_of(run.setting) > max(failed)]
    return stands or runs


def same_silicon(one: Setting, other: Setting) -> bool:
    """Return whether two settings ask the same of voltage and clock, power limits and fans apart: only then does the same
    power come to the same throughput."""
    return all(getattr(one, name) == getattr(other, name) for name in SILICON)


def _speeds_of(evidence: Evidence, group: str) -> tuple[tuple[float, float], ...]:
    """Return the speeds seen for a group's duties in this variant, and for further duties in the others."""
    own = dict(speeds_seen(evidence.usable(), group))
    for other in evidence.elsewhere.values():
        for duty, rpm in speeds_seen(other.usable(), group):
            own.setdefault(duty, rpm)
    return tuple(sorted(own.items()))


def speeds_seen(runs: Sequence[RunSummary], group: str) -> tuple[tuple[float, float], ...]:
    """Return a fan group's duties in % that were run, rising, each with the mean speed in rpm it came to."""
    seen: dict[float, list[float]] = {}
    for run in runs:
        duty, rpm = run.setting.fan_duty.get(group), turning(run, group)
        if duty is not None and group not in run.setting.fan_curve:
            seen.setdefault(duty, []).append(rpm)
    return tuple((duty, float(np.mean(seen[duty]))) for duty in sorted(seen))
