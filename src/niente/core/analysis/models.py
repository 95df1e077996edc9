"""The fitted models of a rig: heat path, noise, power and work, each from all runs that tell of it."""

import math
from collections.abc import Sequence

import msgspec
import numpy as np

from niente.core.analysis.evidence import Evidence, RunSummary
from niente.core.analysis.limits_learnt import CapReading, ClockCeiling, PowerGain, cap_reading, clock_ceilings, power_gains
from niente.core.analysis.model_runs import (
    NOT_STEADY,
    ModelRuns,
    beside_readings,
    drawn_w,
    heat_readings,
    heat_runs,
    model_runs,
    offset_of,
    power_readings,
    source_of_load,
    speeds_of,
    turning,
)
from niente.core.analysis.screening import LeftOut, measuring, screened
from niente.core.analysis.setting_batch import POWER
from niente.core.analysis.settled_readings import AIR
from niente.core.analysis.stability import RunExposure, Stability, exposures_in, stability_of
from niente.core.model.errors import NotEnoughError
from niente.core.model.names import kind_of
from niente.core.model.plan import Search
from niente.core.model.rig_card import LoadCard, LoadKind, RigCard
from niente.core.model.setting import Setting
from niente.core.science.arrays import Array, Vector
from niente.core.science.dynamics import Scale
from niente.core.science.fan_speed import FanSpeeds
from niente.core.science.heat.fit import fit_heat_path
from niente.core.science.heat.path import HeatPath
from niente.core.science.heat.sum import AIR_PRIOR
from niente.core.science.noise import NoiseModel
from niente.core.science.noise_fit import fit_noise
from niente.core.science.power.law import PowerLaw, fit_power

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
    ``left_out`` are figures of runs that cannot be true, and are in no model. ``air`` is the path from the air at each place
    that is read to the room, by channel. ``stock_states`` keeps where stock stands by load
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
    air: dict[str, HeatPath] = msgspec.field(default_factory=dict)
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


def fit_models(evidence: Evidence) -> Models:
    """Fit everything but what cannot be true. Raises ``NotEnoughError`` that says which runs are still missing."""
    exposures = exposures_in(evidence.runs, evidence.card)
    evidence, left_out = _screened(measuring(evidence))
    card = evidence.card
    heavy, lead = _heaviest(card), _lead_group(card)
    runs = model_runs(evidence, heavy)
    groups = card.fan_groups()
    sources = tuple(sorted({name for run in runs.working for name in run.sources_w}))
    unread = _without_work(runs.drawn)
    power = fit_power(power_readings(runs.drawn, unread))
    gains, noise = power_gains(runs.drawn, power.loads), noise_of(groups, runs.heard)
    return Models(
        evidence=evidence,
        left_out=(*left_out, *_rejected(runs, noise, power)),
        heat=_heat(evidence, groups, sources, heavy.name),
        air=_air(evidence, groups, sources, heavy.name),
        noise=noise,
        power=power,
        gains=gains,
        ceilings=clock_ceilings(runs.drawn, gains),
        cap=cap_reading(runs.drawn),
        sources_w={load: tuple(source_of_load(runs.drawn, load, name) for name in sources) for load in power.loads},
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


def _rejected(runs: ModelRuns, noise: NoiseModel, power: PowerLaw) -> list[LeftOut]:
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


def noise_of(groups: tuple[str, ...], heard: Sequence[RunSummary]) -> NoiseModel:
    """Fit the noise map to runs that were heard. Raises ``ValueError`` for fewer than two."""
    return fit_noise(
        groups,
        speeds_of(list(heard), groups),
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


def _counts(card: RigCard, loads: tuple[str, ...], heavy: str) -> str:
    realistic = card.load_of(LoadKind.REALISTIC)
    return realistic.name if realistic is not None and realistic.name in loads else heavy


def _heat(evidence: Evidence, groups: tuple[str, ...], sources: tuple[str, ...], heavy: str) -> HeatPath:
    """Fit the heat path to the runs of every variant that has these fan groups; in this one heat-limited runs are bounds."""
    readings = heat_readings(heat_runs(evidence, groups), groups, sources)
    return fit_heat_path(groups, sources, (heavy, evidence.card.variant), readings)


def _air(evidence: Evidence, groups: tuple[str, ...], sources: tuple[str, ...], heavy: str) -> dict[str, HeatPath]:
    """Fit the path from each place whose air is read to the room, to the same runs; one that too few runs tell is left out."""
    runs, found = heat_runs(evidence, groups), {}
    for channel in evidence.card.channels:
        readings = beside_readings(runs, groups, sources, channel.name) if kind_of(channel.name) == AIR else None
        if readings is not None:
            found[channel.name] = fit_heat_path(groups, sources, (heavy, evidence.card.variant), readings, AIR_PRIOR)
    return found


def _without_work(runs: list[RunSummary]) -> frozenset[str]:
    """Return the loads whose throughput is not read in any run."""
    read = {run.load for run in runs if math.isfinite(run.throughput_per_s)}
    return frozenset({run.load for run in runs} - read)


def _base(runs: list[RunSummary], fans: str) -> Setting:
    """Return the setting that most runs share beneath the two axes; of equals the one used last."""
    shared = [run.setting.replaced(POWER, 0.0).replaced(fans, 0.0).key() for run in runs]
    most = max(shared.count(key) for key in shared)
    last = max(index for index, key in enumerate(shared) if shared.count(key) == most)
    return runs[last].setting


def _standing(evidence: Evidence, runs: list[RunSummary]) -> list[RunSummary]:
    """Return the runs at offsets that no failure speaks against, those that a search tried apart; all where none is left."""
    failed = [offset_of(run.setting) for run in evidence.usable() if run.failures and offset_of(run.setting) < 0.0]
    stands = [run for run in runs if not failed or offset_of(run.setting) > max(failed)]
    return [run for run in stands if not isinstance(evidence.entry_of(run), Search)] or stands or runs


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
