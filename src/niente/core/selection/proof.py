"""The proof of a setting: what was run, what it says of a failure within the horizon, and what would make it surer."""

import datetime
import math
from collections.abc import Sequence

import msgspec
import numpy as np

from niente.core.analysis.evidence import Evidence, RunSummary
from niente.core.analysis.judged import failure_conditions, makers_own
from niente.core.analysis.models import Models
from niente.core.analysis.setting_batch import one_setting
from niente.core.analysis.stability import (
    FailureRisk,
    RunExposure,
    Stability,
    clean_seconds,
    depth_and_family,
    exposures_in,
    laws_by_core,
    part_exposure,
    risk_at,
    risk_by_exposure,
    shows_failures,
    stability_of,
)
from niente.core.model.failure_goal import FailureGoal
from niente.core.model.limits import Limits
from niente.core.model.plan import Exposure, Step
from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.model.setting import Setting
from niente.core.science.arrays import Array, Vector
from niente.core.science.stability.clusters import CALM_SHARE, told_of
from niente.core.science.stability.drawn_laws import DrawnLaws

CONTOURS = (("1 failure in a minute", 60.0), ("in an hour", 3600.0), ("in a day", 86400.0), ("in 100 days", 8.64e6))
"""The rates whose depths are drawn over the clock: in words, and seconds to a failure."""
CURVE_POINTS, CLOCK_POINTS = 61, 25
BEYOND_MV, BEFORE_MV = 12.0, 20.0
AGES_AFTER_S = 183.0 * 86400.0
"""Evidence older than half a year has seen another season, and often another firmware. Common practice, no source."""
LONGEST_H = 1000.0
SAME_MV = 0.5
HALF = 0.5
NEARER = (0.0, 0.5, 0.8)
"""Where more could be run: at the setting, and so much of the way from it to where a failure comes every hour."""


class Fact(msgspec.Struct, frozen=True):
    """A figure with its interval at the goal's sureness; NaN where it is not known."""

    value: float
    low: float
    high: float


class LoadProof(msgspec.Struct, frozen=True):
    """One load: seconds and failures of all its exposures and of those at settings that ask no less than the proved one, the
    chance of a failure within the horizon there (NaN for a load that no search went deeper with, where others have a law), and
    whether a wrong result would have shown in it."""

    load: str
    title: str
    checked: bool
    seconds: float
    failures: int
    crashes: int
    there_s: float
    expected: float
    at_most: float
    clock_mhz: float
    core_c: float


class CoreProof(msgspec.Struct, frozen=True):
    """One core: how often errors named it, the gentlest depth in mV at which it failed (NaN: it did not), and the depth at
    which it alone would fail once an hour under the load that decides; its own offset at the setting, in mV."""

    core: str
    failures: int
    gentlest_mv: float
    threshold_mv: Fact
    offset_mv: float


class MoreEvidence(msgspec.Struct, frozen=True):
    """What could be run to be surer: so many hours of a load at a depth without a failure, and the chance of one within the
    horizon at the proved setting that is then surely not exceeded."""

    load: str
    depth_mv: float
    hours: float
    at_most: float
    core_c: float
    step: Step


class MonthOfEvidence(msgspec.Struct, frozen=True):
    """The exposures of one month: how many, how many failed, and their seconds."""

    month: str
    runs: int
    failures: int
    seconds: float


class DepthCurves(msgspec.Struct, frozen=True):
    """Over depths ``(n,)`` in mV, at the clock and temperature of the deciding load: the chance of a failure within the horizon
    by the likely law, and the bounds of it ``(n,)``; over clocks ``(m,)`` the depths of each contour ``(k, m)``."""

    depth_mv: Vector
    even: Vector
    at_most: Vector
    at_least: Vector
    clock_mhz: Vector
    contours_mv: Array


class Proof(msgspec.Struct, frozen=True):
    """How surely a setting lasts. Chances are for the horizon of ``goal``.

    ``confirmed`` says that the heaviest load ran clean at it for as long as wanted, ``by_law`` whether failures have taught a
    law; without one the bound is that of exposure alone. ``load`` decides it. ``threshold_mv`` is the depth of a failure an
    hour there, ``guard_band_mv`` how far the setting lies before it, ``tenfold_mv`` the millivolts to a tenth of the failures.
    ``aged`` says in words why the evidence is not what it was.
    """

    setting: Setting
    goal: FailureGoal
    depth_mv: float
    makers: bool
    confirmed: bool
    by_law: bool
    load: str
    expected: float
    at_most: float
    loads: tuple[LoadProof, ...]
    exposures: tuple[RunExposure, ...]
    forgotten: int
    threshold_mv: Fact
    guard_band_mv: Fact
    tenfold_mv: Fact
    curves: DepthCurves | None
    cores: tuple[CoreProof, ...]
    more: tuple[MoreEvidence, ...]
    months: tuple[MonthOfEvidence, ...]
    aged: str

    @property
    def proven(self) -> bool:
        """Whether the setting is confirmed, and a failure as unlikely as wanted, as surely as wanted, by evidence that still
        holds."""
        return self.confirmed and self.by_law and self.at_most <= self.goal.chance and not self.aged

    @property
    def clean_s(self) -> float:
        """The seconds without a failure at settings that ask no less, under the deciding load."""
        return next((one.there_s for one in self.loads if one.load == self.load), 0.0)


class _Conditions(msgspec.Struct, frozen=True):
    """The clock in MHz and the core temperature in °C that each load comes to at a setting."""

    clock_mhz: dict[str, float]
    core_c: dict[str, float]


def proof_of(evidence: Evidence, limits: Limits, setting: Setting, models: Models | None = None, now_s: float = 0.0) -> Proof:
    """Return the proof of a setting, put over stock. ``models`` say which clock and temperature each load comes to; without
    them those of the nearest runs stand for it. ``now_s`` is the time in seconds of the epoch that evidence ages by."""
    whole, goal = setting.over(evidence.card.stock), limits.failure
    exposures = exposures_in(evidence.runs, evidence.card)
    stability = stability_of(exposures, whole)
    depth = depth_and_family(whole)[0]
    there = _conditions(evidence, stability, limits, whole, models)
    loads = tuple(_load_proof(evidence.card, stability, goal, depth, there, load) for load in stability.loads)
    judged = [one for one in loads if math.isfinite(one.at_most)]
    deciding = max(judged, key=lambda one: (one.at_most, one.there_s), default=None)
    laws = stability.laws.get(deciding.load) if deciding is not None else None
    at = (deciding.clock_mhz, deciding.core_c) if deciding is not None else (math.nan, math.nan)
    return Proof(
        setting=whole,
        goal=goal,
        depth_mv=depth,
        makers=bool(makers_own(one_setting(whole), evidence.card.stock)[0]),
        confirmed=_is_confirmed(evidence, limits, whole),
        by_law=bool(stability.laws),
        load=deciding.load if deciding is not None else "",
        expected=deciding.expected if deciding is not None else math.nan,
        at_most=deciding.at_most if deciding is not None else 1.0,
        loads=loads,
        exposures=stability.exposures,
        forgotten=len(stability.forgotten),
        threshold_mv=_threshold(laws, goal, at),
        guard_band_mv=_guard_band(_threshold(laws, goal, at), depth),
        tenfold_mv=_fact(laws, laws.shapes.scale_mv * math.log(10.0), goal) if laws is not None else _UNKNOWN,
        curves=_curves(laws, goal, depth, at, stability) if laws is not None else None,
        cores=_cores(exposures, whole, goal, at, deciding.load if deciding is not None else ""),
        more=_more(evidence.card, stability, goal, whole, loads, deciding),
        months=_months(stability.exposures),
        aged=_aged(stability, evidence, now_s),
    )


_UNKNOWN = Fact(math.nan, math.nan, math.nan)


def _is_confirmed(evidence: Evidence, limits: Limits, whole: Setting) -> bool:
    """Return whether the heaviest load ran at a setting for as long as wanted, and nothing failed there."""
    there = [run for run in evidence.usable() if run.setting == whole]
    heavy = evidence.card.load_of(LoadKind.HEAVY)
    seconds = sum(run.seconds for run in there if heavy is not None and run.load == heavy.name)
    return seconds >= 60.0 * limits.clean_minutes and not any(run.failures for run in there)


def _conditions(evidence: Evidence, stability: Stability, limits: Limits, whole: Setting, models: Models | None) -> _Conditions:
    """Return what each load comes to: by the models where they know the load, else as in its nearest run."""
    clocks, cores = {}, {}
    known = failure_conditions(models, limits, one_setting(whole), stability.loads) if models is not None else {}
    for load in stability.loads:
        if load in known:
            clocks[load], cores[load] = float(known[load].clock_mhz[0]), float(known[load].core_c[0])
            continue
        run = _nearest([run for run in evidence.runs if run.load == load and math.isfinite(run.clock_mhz)], whole)
        clocks[load], cores[load] = (run.clock_mhz, run.core_c) if run is not None else (math.nan, math.nan)
    return _Conditions(clocks, cores)


def _nearest(runs: Sequence[RunSummary], whole: Setting) -> RunSummary | None:
    """Return the run whose power limit lies nearest, the longest of those."""
    limit = whole.sustained_power_w or 0.0
    return min(runs, key=lambda run: (abs((run.setting.sustained_power_w or 0.0) - limit), -run.seconds), default=None)


def _load_proof(
    card: RigCard, stability: Stability, goal: FailureGoal, depth_mv: float, there: _Conditions, load: str
) -> LoadProof:
    own = Stability(stability.family, stability.of_load(load), (), {})
    depth, clock = np.array([depth_mv]), np.array([there.clock_mhz[load]])
    laws = {load: stability.laws[load]} if load in stability.laws else {}
    if laws and math.isfinite(clock[0]):
        risk = risk_at(laws, goal, depth, {load: clock}, {load: np.array([there.core_c[load]])})
    elif stability.laws and load not in stability.laws:  # it was not searched: its few hours are no bound beside a law
        risk = FailureRisk(np.full(1, math.nan), np.full(1, math.nan), np.full(1, math.nan), ("",))
    else:
        risk = risk_by_exposure(own, goal, depth, clock)
    known = card.load(load)
    return LoadProof(
        load=load,
        title=known.title if known is not None else load,
        checked=shows_failures(known),
        seconds=sum(one.seen.seconds for one in own.exposures),
        failures=sum(one.seen.failed for one in own.exposures),
        crashes=sum(one.crashed for one in own.exposures),
        there_s=float(clean_seconds(own, depth, clock)[0]),
        expected=float(risk.expected[0]),
        at_most=float(risk.at_most[0]),
        clock_mhz=there.clock_mhz[load],
        core_c=there.core_c[load],
    )


def _fact(laws: DrawnLaws, values: Vector, goal: FailureGoal) -> Fact:
    both = 0.5 * (1.0 + goal.sure)
    return Fact(laws.quantile(values, 0.5), laws.at_least(values, both), laws.at_most(values, both))


def _threshold(laws: DrawnLaws | None, goal: FailureGoal, at: tuple[float, float]) -> Fact:
    return _fact(laws, laws.depths_mv(1.0 / 3600.0, *at), goal) if laws is not None else _UNKNOWN


def _guard_band(threshold: Fact, depth_mv: float) -> Fact:
    return Fact(threshold.value - depth_mv, threshold.low - depth_mv, threshold.high - depth_mv)


def _curves(laws: DrawnLaws, goal: FailureGoal, depth_mv: float, at: tuple[float, float], stability: Stability) -> DepthCurves:
    """Return what is drawn: the chance over depths, and the depths of some rates over clocks."""
    few = laws.thinned()
    seen = [one.seen.depth_mv for one in stability.exposures]
    hourly = few.quantile(few.depths_mv(1.0 / 3600.0, *at), 0.5)
    low, high = min([0.0, depth_mv, *seen]), max([depth_mv + BEFORE_MV, hourly, *seen]) + BEYOND_MV
    depths = np.linspace(low, high, CURVE_POINTS)
    chances = [few.chances(float(depth), goal.horizon_s, *at) for depth in depths]
    clocks = np.array([one.seen.clock_mhz for one in stability.exposures if math.isfinite(one.seen.clock_mhz)] or [1000.0])
    span = np.linspace(0.99 * float(clocks.min()), 1.01 * float(clocks.max()), CLOCK_POINTS)
    contours = [
        [few.quantile(few.depths_mv(1.0 / seconds, float(clock), at[1]), 0.5) for clock in span] for _, seconds in CONTOURS
    ]
    return DepthCurves(
        depth_mv=depths,
        even=np.array([few.quantile(one, 0.5) for one in chances]),
        at_most=np.array([few.at_most(one, goal.sure) for one in chances]),
        at_least=np.array([few.at_least(one, goal.sure) for one in chances]),
        clock_mhz=span,
        contours_mv=np.array(contours),
    )


def _cores(
    exposures: Sequence[RunExposure], whole: Setting, goal: FailureGoal, at: tuple[float, float], load: str
) -> tuple[CoreProof, ...]:
    """Return what is known of each core, the weakest first; nothing where errors named none."""
    known = laws_by_core(exposures, whole)
    laws = known.laws.get(load)
    found = []
    for part, core in enumerate(known.cores):
        own = [part_exposure(one, known.cores).depths_mv[part] for one in exposures if core in one.cores]
        one = laws.of_part(part) if laws is not None else None
        found.append(
            CoreProof(
                core,
                len(own),
                min(own, default=math.nan),
                _threshold(one, goal, at),
                whole.core_offset_mv.get(core, 0.0) + (whole.voltage_offset_mv or 0.0),
            )
        )
    return tuple(sorted(found, key=lambda one: (one.threshold_mv.value, -one.failures)))


def _months(exposures: Sequence[RunExposure]) -> tuple[MonthOfEvidence, ...]:
    """Return the exposures by the month in which they were made, the newest first."""
    by_month: dict[str, list[RunExposure]] = {}
    for one in exposures:
        month = datetime.datetime.fromtimestamp(one.opened_at, datetime.UTC).strftime("%Y-%m")
        by_month.setdefault(month, []).append(one)
    return tuple(
        MonthOfEvidence(month, len(own), sum(one.seen.failed for one in own), sum(one.seen.seconds for one in own))
        for month, own in sorted(by_month.items(), reverse=True)
    )


def _aged(stability: Stability, evidence: Evidence, now_s: float) -> str:
    """Return why the evidence is not what it was: its months, or another state of the machine; empty where it is."""
    newest = max((one.opened_at for one in stability.exposures), default=0.0)
    if stability.exposures and now_s - newest > AGES_AFTER_S:
        months = round((now_s - newest) / (30.4 * 86400.0))
        return f"it is {months} months old: run some of it again, and after every new firmware"
    others = [run.opened_at for other in evidence.elsewhere.values() for run in other.runs]
    if not stability.exposures and others:
        return f"all of it was measured in another variant than {evidence.card.variant!r}"
    return ""


# -- what to run next ------------------------------------------------------------------------------------------------


def _more(
    card: RigCard,
    stability: Stability,
    goal: FailureGoal,
    whole: Setting,
    loads: Sequence[LoadProof],
    deciding: LoadProof | None,
) -> tuple[MoreEvidence, ...]:
    """Return what would halve the bound, the shortest first: clean hours at the setting, or nearer to where it fails."""
    if deciding is None or not deciding.checked:
        return ()
    depth, laws = depth_and_family(whole)[0], stability.laws.get(deciding.load)
    if laws is None:
        hours = _hours_by_exposure(goal, deciding)
        return (_evidence_at(card, whole, deciding, depth, hours, deciding.at_most * HALF),) if hours < LONGEST_H else ()
    at = (deciding.clock_mhz, deciding.core_c)
    threshold = laws.quantile(laws.depths_mv(1.0 / 3600.0, *at), 0.5)
    found: list[MoreEvidence] = []
    for share in NEARER:
        deeper = _on_step(card, depth + share * max(threshold - depth, 0.0))
        told = _clean_hours(laws, goal, depth, deeper, at, deciding.at_most)
        if told is not None and not any(abs(one.depth_mv - deeper) < SAME_MV for one in found):
            found.append(_evidence_at(card, whole, deciding, deeper, *told))
    return tuple(sorted(found, key=lambda one: one.hours))


def _hours_by_exposure(goal: FailureGoal, deciding: LoadProof) -> float:
    """Return the further clean hours that halve the bound of exposure alone (rule of three)."""
    wanted = -math.log1p(-deciding.at_most * HALF) / goal.horizon_s if deciding.at_most < 1.0 else 1.0 / goal.horizon_s
    return max(-math.log(1.0 - goal.sure) / wanted - deciding.there_s, 0.0) / 3600.0


def _clean_hours(
    laws: DrawnLaws, goal: FailureGoal, depth_mv: float, deeper_mv: float, at: tuple[float, float], now: float
) -> tuple[float, float] | None:
    """Return the clean hours at a depth that halve the bound at the setting, and the bound then; ``None`` where they are more
    than anybody runs."""
    chances, rate = laws.chances(depth_mv, goal.horizon_s, *at), np.exp(laws.unbent().log_rate(deeper_mv, *at))
    low, high = 1.0 / 60.0, LONGEST_H

    def bound(hours: float) -> float:
        told = told_of(rate, laws.shapes.swing, np.full(rate.shape, CALM_SHARE), 3600.0 * hours, False)
        lasts = laws.weight * np.maximum(np.exp(told.log_likelihood), 1e-300)
        return laws.reweighted(lasts / lasts.sum()).at_most(chances, goal.sure)

    if bound(high) > HALF * now:
        return None
    for _ in range(24):
        middle = math.sqrt(low * high)
        low, high = (low, middle) if bound(middle) <= HALF * now else (middle, high)
    return high, bound(high)


def _evidence_at(
    card: RigCard, whole: Setting, deciding: LoadProof, depth_mv: float, hours: float, at_most: float
) -> MoreEvidence:
    setting = whole
    if depth_and_family(whole)[0] != depth_mv:
        setting = whole.replaced("voltage_offset_mv", -depth_mv)
    seconds = max(math.ceil(hours * 60.0), 1) * 60.0
    words = f"To be twice as sure: {deciding.title.lower()} at {quantity_of('voltage_offset_mv').with_unit(-depth_mv)}"
    step = Step(setting, deciding.load, Exposure(seconds, seconds), "soak", words)
    return MoreEvidence(deciding.load, depth_mv, seconds / 3600.0, at_most, deciding.core_c, step)


def _on_step(card: RigCard, depth_mv: float) -> float:
    """Return the nearest depth that the all-core offset can be set to, no deeper."""
    control = card.control("voltage_offset_mv")
    if control is None:
        return depth_mv
    deepest = min(depth_mv, -control.low)
    return math.floor(deepest / control.step + 1e-9) * control.step
