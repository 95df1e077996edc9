"""How surely settings stand: every exposure of a book, clean or failed, and what all of them together say.

An exposure is a run under a load that checks what it works out. Runs of one family count together: those whose voltages
differ only in how deep they go. The failure law and its posterior are in ``science.stability``.
"""

import math
from collections.abc import Sequence
from typing import NamedTuple

import msgspec
import numpy as np

from niente.core.analysis.evidence import RunSummary
from niente.core.model.failure_goal import FailureGoal
from niente.core.model.rig_card import LoadCard, LoadKind, RigCard
from niente.core.model.runs import CONCLUSIVE, RunOutcome
from niente.core.model.setting import Setting
from niente.core.science.arrays import Indices, Mask, Vector
from niente.core.science.failure_rate import rate_upper_bound_per_s
from niente.core.science.remembered import Remembered
from niente.core.science.stability.drawn_laws import DrawnLaws, PartLaws
from niente.core.science.stability.parts import PartExposure, known_parts, part_laws
from niente.core.science.stability.posterior import SeenExposure, laws_from
from niente.core.science.stability.shapes import beforehand

FIXED_FROM_V = 1.2
"""Depths at a fixed voltage count down from here."""
SHORTEST_S = 2.0
COUNTED = CONCLUSIVE | {RunOutcome.GUARD, RunOutcome.SKIPPED, RunOutcome.STOPPED}
SAME_CLOCK, SAME_MV, SAME_K = 0.005, 0.5, 3.0
CLEARLY_MV = 3.0
CHANGED_CHANCE = 0.002
"""A machine that fails gentler than it passed, by a chance less than this, is taken to be another one now."""
RESTARTED_S = 1e9
TELLS_WORK_S, ABOUT_SAME_CLOCK, SHORT_SHARE = 120.0, 0.03, 0.03
"""Work is told by runs this long; at clocks no further apart than this share it goes with the clock, and falls short where it
lies by more than this share under it."""
BY_DEADLINES = frozenset({LoadKind.IDLE, LoadKind.REAL_TIME, LoadKind.BURST})
"""Loads whose work does not go with the clock."""

Family = tuple[object, ...]
"""What settings share whose voltages differ only in how deep they go."""


class RunExposure(msgspec.Struct, frozen=True):
    """One run as an exposure: the setting and load it was made at, what was seen, and whether its failure took the machine
    down. ``cores`` are those that its errors named."""

    run_id: int
    setting: Setting
    load: str
    seen: SeenExposure
    crashed: bool = False
    opened_at: float = 0.0
    cores: tuple[str, ...] = ()


class Stability(NamedTuple):
    """What a book says of how surely one family of settings stands.

    ``exposures`` are those that count, oldest first, ``forgotten`` those from before the machine changed. ``laws`` are the
    posteriors by load that was searched; there are none while nothing has failed: a law is learnt from failures.
    """

    family: Family
    exposures: tuple[RunExposure, ...]
    forgotten: tuple[RunExposure, ...]
    laws: dict[str, DrawnLaws]

    @property
    def loads(self) -> tuple[str, ...]:
        """The loads that were run, in the order in which they first were, and those whose law is known."""
        return tuple(dict.fromkeys((*(one.load for one in self.exposures), *self.laws)))

    def of_load(self, load: str) -> tuple[RunExposure, ...]:
        """Return the exposures of one load."""
        return tuple(one for one in self.exposures if one.load == load)


def depth_and_family(setting: Setting) -> tuple[float, Family]:
    """Return how deep a whole setting goes in mV, and the family it belongs to.

    The depth is the offset of all cores below the maker's voltage; at a fixed voltage, how far it lies below 1.2 V. Offsets of
    single cores and of points of the curve make a family of their own, and so does each fixed clock; what is known core by core
    counts for all families of single cores.
    """
    if setting.fixed_voltage_v:
        return 1000.0 * (FIXED_FROM_V - setting.fixed_voltage_v), ("fixed", setting.fixed_clock_mhz or 0.0)
    cores = tuple(sorted((core, value) for core, value in setting.core_offset_mv.items() if value))
    points = tuple(sorted((point, value) for point, value in setting.point_offset_mv.items() if value))
    return -(setting.voltage_offset_mv or 0.0), ("offset", cores, points)


def shows_failures(load: LoadCard | None) -> bool:
    """Return whether a wrong result or a drop-out shows in a load; in one that checks nothing only a crash does."""
    return load is not None and load.kind != LoadKind.IDLE and (load.checks_results or load.kind == LoadKind.REAL_TIME)


def exposures_in(runs: Sequence[RunSummary], card: RigCard) -> tuple[RunExposure, ...]:
    """Return the runs that are exposures, oldest first.

    A run that a guard or a person ended is a clean one as far as it went; one that was voided or found open is none, since
    nobody knows what the machine did in it. A clean run of a load that checks nothing is none.
    One that did clearly less work than its clock promises failed: a core that stretches its clock stands at its threshold.
    """
    found: list[RunExposure] = []
    ended: dict[str, float] = {}
    promised = _promised(runs)
    for run in runs:
        if run.size and not run.crashed:
            continue  # a drop-out may as well come from the clock
        failed = run.failures > 0 or _falls_short(run, promised.get(run.load))
        if run.outcome not in COUNTED or run.load_kind == LoadKind.IDLE or not (failed or run.seconds >= SHORTEST_S):
            continue
        if not failed and not shows_failures(card.load(run.load)):
            continue
        gap = run.at_s - run.seconds - ended.get(run.load, -math.inf)
        ended[run.load] = run.at_s
        found.append(
            RunExposure(
                run.run_id,
                run.setting,
                run.load,
                SeenExposure(
                    depth_mv=depth_and_family(run.setting)[0],
                    seconds=max(run.seconds, 1.0),
                    failed=failed,
                    clock_mhz=run.clock_mhz,
                    core_c=run.core_c,
                    gap_s=gap if math.isfinite(gap) and gap >= 0.0 else RESTARTED_S,
                ),
                run.crashed,
                run.opened_at,
                run.failed_cores,
            )
        )
    return tuple(found)


def _promised(runs: Sequence[RunSummary]) -> dict[str, RunSummary]:
    """Return for each load the run that tells what a clock promises: the gentlest clean one that was long enough."""
    found: dict[str, RunSummary] = {}
    for run in runs:
        if run.failures or run.load_kind in BY_DEADLINES or not _tells_work(run):
            continue
        gentlest = found.get(run.load)
        if gentlest is None or depth_and_family(run.setting)[0] < depth_and_family(gentlest.setting)[0]:
            found[run.load] = run
    return found


def _tells_work(run: RunSummary) -> bool:
    return run.seconds >= TELLS_WORK_S and run.throughput_per_s > 0.0 and run.clock_mhz > 0.0


def _falls_short(run: RunSummary, promised: RunSummary | None) -> bool:
    """Return whether a run did clearly less work than its clock promises, beside a gentler run at about the same clock."""
    if promised is None or not _tells_work(run) or abs(run.clock_mhz / promised.clock_mhz - 1.0) > ABOUT_SAME_CLOCK:
        return False
    if depth_and_family(run.setting)[0] < depth_and_family(promised.setting)[0] + CLEARLY_MV:
        return False
    share = run.throughput_per_s / promised.throughput_per_s * promised.clock_mhz / run.clock_mhz
    errors = [one.throughput_se / one.throughput_per_s for one in (run, promised) if math.isfinite(one.throughput_se)]
    return share < 1.0 - max(SHORT_SHARE, 5.0 * math.hypot(*errors))


def stability_of(every: Sequence[RunExposure], family_of: Setting) -> Stability:
    """Return what exposures say of the family that a whole setting belongs to. It takes a moment for each of them, once."""
    family = depth_and_family(family_of)[1]
    key = (family, tuple((one.run_id, one.load, one.seen) for one in every))
    return _STABILITIES.get(key) or _STABILITIES.put(key, _worked_out(family, every, family_of))


_STABILITIES: Remembered[tuple[Family, tuple[tuple[int, str, SeenExposure], ...]], Stability] = Remembered(8)


def _worked_out(family: Family, every: Sequence[RunExposure], family_of: Setting) -> Stability:
    mine = tuple(one for one in every if depth_and_family(one.setting)[1] == family)
    since = changed_since(mine)
    exposures, forgotten = mine[since:], mine[:since]
    loads = searched_loads(exposures)
    if any(family_of.core_offset_mv.values()) and (by_core := laws_by_core(every, family_of)).laws:
        return Stability(family, _beside(_with_offsets(every, family_of), family_of), (), {**by_core.laws})
    if not any(one.seen.failed for one in exposures):
        return Stability(family, exposures, forgotten, {})
    seen = [[one.seen for one in exposures if one.load == load] for load in loads]
    return Stability(family, exposures, forgotten, dict(zip(loads, laws_from(seen), strict=True)))


def clean_depth_mv(stability: Stability, goal: FailureGoal, core_c: float) -> float:
    """Return how deep settings may go where nothing has failed: as deep as the clean exposures of the loads that were run
    clearly deeper than the rest leave no likelier failure than the goal wants, by what is known of laws beforehand; 0 without
    such exposures. It is where a search would end, and no proof."""
    loads = searched_loads(stability.exposures)
    seen = tuple(tuple(one.seen for one in stability.of_load(load)) for load in loads)
    key = (seen, goal, core_c)
    known = _CLEAN.get(key)
    return known if known is not None else _CLEAN.put(key, _clean_depth(seen, goal, core_c))


_CLEAN: Remembered[tuple[object, ...], float] = Remembered(8)


def _clean_depth(seen: tuple[tuple[SeenExposure, ...], ...], goal: FailureGoal, core_c: float) -> float:
    if not seen:
        return 0.0
    clocks = [one.clock_mhz for each in seen for one in each if math.isfinite(one.clock_mhz)]
    clock = max(clocks, default=math.nan)
    return max(min(laws.deepest_mv(goal.chance, goal.sure, goal.horizon_s, clock, core_c) for laws in laws_from(seen)), 0.0)


def searched_loads(exposures: Sequence[RunExposure]) -> tuple[str, ...]:
    """Return the loads that were run clearly deeper than the gentlest setting, or that failed: of others a search says nothing,
    and what is known of them is their own time alone."""
    gentlest = min((one.seen.depth_mv for one in exposures), default=0.0)
    return tuple(dict.fromkeys(one.load for one in exposures if one.seen.failed or one.seen.depth_mv > gentlest + CLEARLY_MV))


def _beside(every: Sequence[RunExposure], whole: Setting) -> tuple[RunExposure, ...]:
    """Return all exposures with offsets, as deep as they stand beside a setting with offsets of single cores: all cores stood
    at least so much deeper than there, and the core that failed just so much."""
    found = []
    for one in every:
        cores = sorted({*whole.core_offset_mv, *one.setting.core_offset_mv})
        deeper = {core: whole.core_offset_mv.get(core, 0.0) - one.setting.core_offset_mv.get(core, 0.0) for core in cores}
        named = [deeper[core] for core in one.cores if core in deeper]
        least = named[0] if one.seen.failed and named else max(deeper.values()) if one.seen.failed else min(deeper.values())
        depth = depth_and_family(one.setting)[0] + least
        found.append(msgspec.structs.replace(one, seen=msgspec.structs.replace(one.seen, depth_mv=depth)))
    return tuple(found)


def changed_since(exposures: Sequence[RunExposure]) -> int:
    """Return the index of the first exposure after the machine changed: 0 where it did not.

    It did where it fails clearly gentler than it passed before. Were the gentle setting no safer than the deep ones, its
    failures would fall into its own seconds with the chance of their share of all the seconds, each.
    """
    changed = 0
    for index, one in enumerate(exposures):
        if not one.seen.failed:
            continue
        deeper_s = sum(
            before.seen.seconds
            for before in exposures[changed:index]
            if before.load == one.load
            and not before.seen.failed
            and before.seen.depth_mv >= one.seen.depth_mv + CLEARLY_MV
            and _no_easier(before.seen, one.seen)
        )
        if deeper_s <= 0.0:
            continue
        gentle = [
            later.seen
            for later in exposures[index:]
            if later.load == one.load and later.seen.depth_mv <= one.seen.depth_mv + SAME_MV
        ]
        gentle_s, failures = sum(seen.seconds for seen in gentle), sum(seen.failed for seen in gentle)
        if (gentle_s / (gentle_s + deeper_s)) ** failures < CHANGED_CHANCE:
            changed = index
    return changed


def _no_easier(seen: SeenExposure, than: SeenExposure) -> bool:
    """Return whether an exposure asked at least as much of clock and temperature as another; what was not read counts as
    equal."""
    clock = not seen.clock_mhz < than.clock_mhz * (1.0 - SAME_CLOCK)
    return clock and not seen.core_c < than.core_c - SAME_K


class CoreLaws(NamedTuple):
    """What a book says of each core by itself: the cores, "1" the first, and the laws of all of them by load, at the offsets of
    one setting."""

    cores: tuple[str, ...]
    laws: dict[str, PartLaws]


def laws_by_core(every: Sequence[RunExposure], whole: Setting) -> CoreLaws:
    """Return what all exposures with offsets say of each core; nothing where no failure was seen, or none named a core.

    Settings count together whose offsets differ in any way, of all cores or of single ones. It takes a moment for each
    exposure, once.
    """
    mine = _with_offsets(every, whole)
    named = {core for one in mine for core in (*one.setting.core_offset_mv, *one.cores)}
    if whole.fixed_voltage_v or not any(one.seen.failed and one.cores for one in mine):
        return CoreLaws((), {})
    cores = tuple(sorted(named, key=lambda core: (len(core), core)))
    offsets = tuple(whole.core_offset_mv.get(core, 0.0) for core in cores)
    key = (cores, offsets, tuple((one.run_id, one.load, one.seen) for one in mine))
    return _BY_CORE.get(key) or _BY_CORE.put(key, _by_core(mine, cores, offsets))


_BY_CORE: Remembered[tuple[object, ...], CoreLaws] = Remembered(4)


def _with_offsets(every: Sequence[RunExposure], whole: Setting) -> tuple[RunExposure, ...]:
    """Return the exposures at offsets of all cores or of single ones, with the same offsets at the curve's points."""
    points = depth_and_family(whole)[1][2:]
    families = (depth_and_family(one.setting)[1] for one in every)
    return tuple(one for one, family in zip(every, families, strict=True) if family[0] == "offset" and family[2:] == points)


def _by_core(mine: Sequence[RunExposure], cores: tuple[str, ...], offsets_mv: tuple[float, ...]) -> CoreLaws:
    loads = searched_loads(mine)
    shapes = beforehand(core_c=next(one.seen.core_c for one in mine if one.seen.failed))
    each = [[one for one in mine if one.load == load] for load in loads]
    known = [known_parts([part_exposure(one, cores) for one in own], len(cores), shapes) for own in each]
    laws = part_laws(known, -np.array(offsets_mv), shapes, [_clock_of_failures(own) for own in each])
    return CoreLaws(cores, dict(zip(loads, laws, strict=True)))


def _clock_of_failures(own: Sequence[RunExposure]) -> float:
    """Return the clock in MHz that thresholds are known at: where a load failed, or else where it ran deepest."""
    deepest = max(one.seen.depth_mv for one in own)
    told = [one.seen.clock_mhz for one in own if one.seen.failed or one.seen.depth_mv == deepest]
    known = [clock for clock in told if math.isfinite(clock)]
    return float(np.median(known)) if known else math.nan


def part_exposure(one: RunExposure, cores: Sequence[str]) -> PartExposure:
    """Return an exposure by core: how deep each stood; a failure is that of the first core that its errors named."""
    all_mv = depth_and_family(one.setting)[0]
    depths = tuple(all_mv - one.setting.core_offset_mv.get(core, 0.0) for core in cores)
    named = next((cores.index(core) for core in one.cores if core in cores), None)
    return PartExposure(depths, one.seen.seconds, one.seen.failed, named, one.seen.core_c, one.seen.gap_s)


class FailureRisk(NamedTuple):
    """The chance of a failure within the horizon at settings ``(n,)``: as it is expected, at most, as surely as the goal asks,
    and how surely it is no more than the goal allows; NaN where no law is known. The load that decides it at each."""

    expected: Vector
    at_most: Vector
    lasts: Vector
    load: tuple[str, ...]


def risk_at(
    laws: dict[str, DrawnLaws], goal: FailureGoal, depth_mv: Vector, clock_mhz: dict[str, Vector], core_c: dict[str, Vector]
) -> FailureRisk:
    """Return the chance of a failure within the goal's horizon for settings ``(n,)``, under the worst of the loads.

    ``clock_mhz`` and ``core_c`` are what each load comes to there, ``(n,)`` by load; loads without are passed over.
    """
    count = depth_mv.shape[0]
    expected, at_most, lasts = (np.full(count, np.nan) for _ in range(3))
    deciding = np.full(count, -1)
    names = [load for load in laws if load in clock_mhz]
    for index, load in enumerate(names):
        mean, most, sure = _risk_of(laws[load], goal, depth_mv, clock_mhz[load], core_c[load])
        worse = ~(most <= at_most)
        at_most = np.where(worse, most, at_most)
        expected = np.where(worse, mean, expected)
        lasts = np.fmin(sure, lasts)
        deciding = np.where(worse, index, deciding)
    return FailureRisk(expected, at_most, lasts, tuple(names[index] if index >= 0 else "" for index in deciding.tolist()))


def _risk_of(
    laws: DrawnLaws, goal: FailureGoal, depth_mv: Vector, clock_mhz: Vector, core_c: Vector
) -> tuple[Vector, Vector, Vector]:
    """Return the expected chance, the one it surely does not exceed, and how surely it is no more than the goal allows,
    ``(n,)``; settings that agree within 20 MHz and a kelvin are worked out once."""
    places = np.stack([np.round(depth_mv, 2), 20.0 * np.round(clock_mhz / 20.0), np.ceil(core_c)], axis=1)
    unique, back = np.unique(places, axis=0, return_inverse=True)
    mean, most, lasts = (np.full(unique.shape[0], np.nan) for _ in range(3))
    for row, (depth, clock, core) in enumerate(unique.tolist()):
        if not math.isfinite(clock):
            continue
        chances = laws.chances(depth, goal.horizon_s, clock, core)
        mean[row], most[row] = float(np.sum(laws.weight * chances)), laws.at_most(chances, goal.sure)
        lasts[row] = laws.sure_of(chances, goal.chance)
    back = back.reshape(-1)
    return mean[back], most[back], lasts[back]


def risk_by_exposure(stability: Stability, goal: FailureGoal, depth_mv: Vector, clock_mhz: Vector) -> FailureRisk:
    """Return the chance of a failure within the goal's horizon at settings ``(n,)`` by exposure alone, without any law.

    Only that more clock and a deeper offset are riskier is assumed. Of k failures in T seconds at settings that ask no less the
    rate has a gamma posterior with half a failure beforehand, and the chance of none in a horizon H is (T / (T + H))^(k + 1/2)
    (Jeffreys; textbook); at most, it is by the exact bound (rule of three).
    """
    clean_s, against = clean_seconds(stability, depth_mv, clock_mhz), failures_against(stability, depth_mv, clock_mhz)
    lasts = (clean_s / (clean_s + goal.horizon_s)) ** (against + 0.5)
    bounds = {
        pair: rate_upper_bound_per_s(int(pair[1]), pair[0], goal.sure) for pair in set(zip(clean_s, against, strict=True))
    }
    bound = np.array([bounds[pair] for pair in zip(clean_s, against, strict=True)])
    nothing = np.full(depth_mv.shape, np.nan)
    return FailureRisk(1.0 - lasts, -np.expm1(-bound * goal.horizon_s), nothing, ("",) * depth_mv.shape[0])


def clean_seconds(stability: Stability, depth_mv: Vector, clock_mhz: Vector) -> Vector:
    """Return the seconds of runs without a failure at settings that ask no less than each ``(n,)``, under any load."""
    seen = [one.seen for one in stability.exposures if not one.seen.failed]
    seconds = np.array([one.seconds for one in seen])
    depths, clocks = np.array([one.depth_mv for one in seen]), np.array([one.clock_mhz for one in seen])
    there: Mask = (depths[None, :] >= depth_mv[:, None] - SAME_MV) & ~(
        clocks[None, :] < clock_mhz[:, None] * (1.0 - SAME_CLOCK)
    )
    total: Vector = np.where(there, seconds[None, :], 0.0).sum(axis=1)
    return total


def failures_against(stability: Stability, depth_mv: Vector, clock_mhz: Vector) -> Indices:
    """Return how many failures were seen at settings that ask no more than each ``(n,)``."""
    failed = [one.seen for one in stability.exposures if one.seen.failed]
    depths, clocks = np.array([one.depth_mv for one in failed]), np.array([one.clock_mhz for one in failed])
    top = clock_mhz[:, None] * (1.0 + SAME_CLOCK)
    gentler: Mask = (depths[None, :] <= depth_mv[:, None] + SAME_MV) & ~(clocks[None, :] > top)
    against: Indices = gentler.sum(axis=1)
    return against
