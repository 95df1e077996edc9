"""The reach of the models: settings over all controls that they can tell of, looked for where a choice is made.

A lattice over every control lies beneath. On it, for the throughput that is wanted and for others, the quietest settings that
keep the limits are looked for in ever smaller steps, one control at a time and several together: they are the front.
"""

import functools
import math
from collections.abc import Sequence
from itertools import combinations, product
from types import ModuleType
from typing import NamedTuple

import msgspec
import numpy as np

from niente.core.analysis.coverage import inside
from niente.core.analysis.judged import OFFSET, JudgedSettings, depths_mv, failure_risk, judge, makers_own
from niente.core.analysis.limit_figures import LimitFigures, limit_figures
from niente.core.analysis.models import Models
from niente.core.analysis.prediction import LoadPrediction, SettingPredictions, predict, predict_under_load
from niente.core.analysis.setting_batch import POWER, SettingBatch
from niente.core.analysis.stability import failures_against
from niente.core.model.limits import Aim, Limits
from niente.core.model.rig_card import LoadKind
from niente.core.science.arrays import Array, Indices, Mask, Vector
from niente.core.science.stability.drawn_laws import DrawnLaws
from niente.core.science.statistics import Z95
from niente.core.selection.aims import less_of
from niente.core.selection.free_controls import CLOCK, FIXED, FreeControl, free_controls
from niente.core.selection.kept import Bound, Limit, at_even_odds, bounds, doubt, loosened, missed_by_figures

HOLDING, ALIKE, SPREAD_POWER = 10, 9, 4
"""Values of each control that holds the clock to begin with; ways of setting all fans alike beside each, and the power of two
of ways of setting them apart."""
STARTS = 4
"""From how many parts of the lattice the best for the limits is looked for."""
BELOW, ABOVE = 4, 9
"""Throughputs for which the front is looked for, below the one that is wanted and above it, where more is worth a thought."""
ROUNDS, FIRST, NEAR, LAST = 16, 0.16, 0.04, 0.008
"""How many steps are made at most; how wide the first is as a share of a control's span, where good settings are known already,
and the last. It is halved where none gains."""
CROSSINGS, ANYWHERE = 3, 24
"""How often, and from how many values of a control, another way to hold the clock is tried at the end."""
MOST_AT_ONCE = 7
"""With more controls than these three at once would be thousands of ways to move; there it is two."""
MOST_TRIES = 20000
"""A machine with many groups of fans has many ways to move: no more settings than these are looked at."""
GAINS = 0.003
"""What a step gains at least, in dB: less is not looked for."""
ALONE_SHARE = 0.02
"""What a decibel of the machine alone counts beside one in the room: it breaks ties."""
SHORT, OUTSIDE = 1000.0, 300.0
SURE_SD = 2.3
"""So many standard deviations from a limit a setting is looked for, where none keeps it: about what being 99 % sure takes."""
PLACES_MHZ, PLACES_K = 40.0, 2.0
"""While looking, how surely a setting lasts is worked out once for clocks and temperatures that agree within this."""
THINNED = 300


def reachable(models: Models, limits: Limits) -> JudgedSettings:
    """Return the settings that a choice is made from: the lattice, the front, and everything that was run."""
    controls = free_controls(models, limits)
    if not controls:
        return judge(models, limits, SettingBatch(models.base, {}, 1))
    search = _Search(models, limits, controls)
    points = np.concatenate([search.lattice, search.front(), _measured(models, controls)])
    return judge(models, limits, search.batch(np.unique(points, axis=0)))


def nearby(models: Models, limits: Limits, known: SettingBatch) -> SettingBatch:
    """Return the settings that a choice for these limits is made from, looked for from ``known`` ones: less far and sooner than
    ``reachable``."""
    controls = free_controls(models, limits)
    if not controls:
        return known
    search = _Search(models, limits, controls)
    points = np.column_stack([np.clip(known.of(one.name, one.high), one.low, one.high) for one in controls])
    return search.batch(np.unique(search.nearest(points), axis=0))


def _measured(models: Models, controls: tuple[FreeControl, ...]) -> Array:
    """Return what was run on the base, apart from the controls that may move ``(m, d)``."""
    base = models.base
    found = []
    for run in models.usable():
        values = [run.setting.value(control.name) for control in controls]
        same = base
        for control, value in zip(controls, values, strict=True):
            if value is not None:
                same = same.replaced(control.name, value)
        if run.load_kind != LoadKind.IDLE and None not in values and same == run.setting:
            found.append(values)
    return np.array(found, dtype=float).reshape(len(found), len(controls))


class _Target(NamedTuple):
    """What is looked for: what keeps the limits, and, where ``inside``, rather among what was measured; in steps down to the
    ``finest``, as a share of a control's span."""

    limits: Limits
    inside: bool = True
    finest: float = LAST


class _Scores(msgspec.Struct, frozen=True):
    """What decides between settings while they are looked for, every array ``(n,)``: ``lost`` is the probability that something
    fails, or has failed, ``inside`` whether a setting lies inside of what was measured, ``better`` what the aims want less
    of, ``clock_mhz`` that of the load that counts."""

    figures: LimitFigures
    lost: Vector
    inside: Mask
    better: dict[Aim, Vector]
    clock_mhz: Vector

    def cost(self, target: _Target) -> Vector:
        """Return what settings cost: what is wanted less of, more where nothing was measured around them, and far more where
        the limits are not surely kept."""
        limits = target.limits
        allowed = doubt(limits)
        each = missed_by_figures(self.figures, limits)
        missed = self.lost + np.sum(list(each.values()), axis=0)
        short = 10.0 * self.lost + 10.0 * each.get(Limit.FANS, 0.0)
        short = short + np.sum([_short(bound) for some in bounds(self.figures, limits).values() for bound in some], axis=0)
        cost: Vector = np.where(missed <= allowed, self.better[limits.aim], SHORT + short)
        if target.inside:
            cost = cost + np.where(self.inside, 0.0, OUTSIDE)
        return np.nan_to_num(cost, nan=2.0 * SHORT)

    def of_rows(self, rows: Indices) -> "_Scores":
        """Return those of some settings."""
        better = {aim: values[rows] for aim, values in self.better.items()}
        return _Scores(self.figures.rows(rows), self.lost[rows], self.inside[rows], better, self.clock_mhz[rows])


def _unseen(points: Array, seen: set[bytes]) -> Array:
    """Return the points ``(n, d)`` that were not seen yet, and take note of them."""
    fresh = [index for index, point in enumerate(points) if point.tobytes() not in seen]
    seen.update(points[index].tobytes() for index in fresh)
    return points[fresh]


def _short(bound: Bound) -> Vector:
    """Return by how much figures with their intervals fall short of their limit ``(n,)``."""
    short: Vector = np.maximum(bound.least + SURE_SD / Z95 * bound.half_width - bound.value, 0.0)
    return short


class _Search:
    """One search for the front over controls ``(d,)``."""

    def __init__(self, models: Models, limits: Limits, controls: tuple[FreeControl, ...]) -> None:
        self._models, self._limits, self._controls = models, limits, controls
        self._low = np.array([control.low for control in controls])
        self._high = np.array([control.high for control in controls])
        self._step = np.array([control.step for control in controls])
        self._lasting: dict[tuple[str, float, float, float], float] = {}
        self._laws = {load: law.thinned(THINNED) for load, law in models.stability.laws.items()}

    @functools.cached_property
    def lattice(self) -> Array:
        """The lattice ``(n, d)``, on the steps of the controls."""
        return self._on_steps(self._laid_out())

    def batch(self, points: Array) -> SettingBatch:
        """Return points ``(n, d)`` as settings."""
        values = {control.name: points[:, index] for index, control in enumerate(self._controls)}
        return SettingBatch(self._models.base, values, points.shape[0])

    def front(self) -> Array:
        """Return the best settings for the limits, for each of them a unit looser, and for other throughputs ``(m, d)``, with
        those a step beside the first."""
        lattice = self.lattice
        found = self._scores(lattice)
        return self._descended(lattice, found, self._targets(found.figures.throughput_percent.value), FIRST)

    def nearest(self, points: Array) -> Array:
        """Return the best settings for the limits alone, looked for from points ``(n, d)`` ``(m, d)``."""
        return self._descended(points, self._scores(points), [_Target(self._limits)], NEAR)

    def _descended(self, points: Array, found: _Scores, wanted: list[_Target], first: float) -> Array:
        """Return the best settings for targets, the first of them looked for from several parts of the points ``(n, d)``, by a
        ``first`` step as a share of each span, with those a step beside it ``(m, d)``."""
        costs = [found.cost(target) for target in wanted]
        starts = [int(np.argmin(one)) for one in costs]
        parts = [part for part in np.array_split(np.arange(points.shape[0]), STARTS) if part.shape[0]]
        starts += [int(part[np.argmin(costs[0][part])]) for part in parts]  # other ways to hold the clock, another offset
        every = [*wanted, *(wanted[0] for _ in parts)]
        known = np.array([cost[at] for cost, at in zip([*costs, *(costs[0] for _ in parts)], starts, strict=True)])
        best, least = self._lowered(points[starts], known, every, first)
        alike = [index for index, target in enumerate(every) if target == wanted[0]]
        top = alike[int(np.argmin(least[alike]))]
        for _ in range(CROSSINGS):
            crossed, cost = self._across(best[top], wanted[0])
            if not cost < least[top] - GAINS:
                break
            (best[top],), (least[top],) = self._lowered(crossed[None, :], np.array([cost]), wanted[:1], NEAR)
        if self._laws:  # to the last step, with what a failure is judged by at the end
            own = self._scores(best[top][None, :], closely=True).cost(wanted[0])
            (best[top],), _ = self._lowered(best[top][None, :], own, wanted[:1], NEAR, closely=True)
        beside = self._on_steps(best[top] + self._moves(2) * self._step)
        return np.concatenate([best, beside, *(self._as_found(points) for points in (best, beside))])

    def _lowered(
        self, best: Array, least: Vector, wanted: Sequence[_Target], first: float, *, closely: bool = False
    ) -> tuple[Array, Vector]:
        """Return points ``(n, d)`` that cost so much ``(n,)`` moved to where each costs least for its target, in ever smaller
        steps, and what they cost there; ``closely`` with failures as they are judged at the end."""
        best, least = best.copy(), least.copy()
        # three controls at once where it counts: along the edge that two limits make
        two, three = self._moves(2), self._moves(3 if len(self._controls) <= MOST_AT_ONCE else 2)
        moves = [three if target == wanted[0] else two for target in wanted]
        share, finest, tries = np.full(len(wanted), first), np.array([target.finest for target in wanted]), 0
        looked_at: list[set[bytes]] = [set() for _ in wanted]
        for _ in range(ROUNDS):
            open_to = np.flatnonzero(share >= finest)
            if not open_to.shape[0] or tries > MOST_TRIES:
                break
            width = np.maximum(share[:, None] * (self._high - self._low), self._step)
            tried = [_unseen(self._on_steps(best[index] + moves[index] * width[index]), looked_at[index]) for index in open_to]
            every = np.concatenate(tried)
            if not every.shape[0]:
                share[open_to] /= 2.0
                continue
            points, where = np.unique(every, axis=0, return_inverse=True)  # many look at the same ones
            tries += points.shape[0]
            scores = self._scores(points, closely=closely)
            ends = np.cumsum([one.shape[0] for one in tried])[:-1]
            for index, own in zip(open_to.tolist(), np.split(where, ends), strict=True):
                cost = np.append(scores.of_rows(own).cost(wanted[index]), math.inf)  # there may be none
                at = int(np.argmin(cost))
                if cost[at] < least[index] - GAINS:
                    best[index], least[index] = points[own[at]], cost[at]
                else:
                    share[index] /= 2.0
        return best, least

    def _across(self, best: Array, target: _Target) -> tuple[Array, float]:
        """Return the best of the points ``(d,)`` that hold the clock another way, and what it costs: one such control anywhere
        on its span, or a cap at the clock that is reached, and one or two others beside it by a step: where steps of one width
        for all would not lead."""
        one, two = ([np.zeros(best.shape[0]), *self._moves(count) * self._step] for count in (1, 2))
        reached_mhz = float(self._scores(best[None, :]).clock_mhz[0])
        found = []
        for index, control in enumerate(self._controls):
            if control.name.startswith("fan_duty."):
                continue
            ways = [(np.linspace(control.low, control.high, ANYWHERE), one)]
            if control.name in (CLOCK, FIXED) and math.isfinite(reached_mhz):
                ways.append((reached_mhz + control.step * np.array([-0.5, 0.5]), two))
            for values, beside in ways:
                line = np.tile(best, (values.shape[0], 1))
                line[:, index] = values
                found += [line + move for move in beside if move[index] == 0.0]
        if not found:
            return best, math.inf
        points = np.unique(self._on_steps(np.concatenate(found)), axis=0)
        cost = self._scores(points).cost(target)
        return points[int(np.argmin(cost))], float(np.min(cost))

    def _as_found(self, points: Array) -> Array:
        """Return points with one control after the other left as it was found, and with all of them: what does nothing there
        need not be set ``(m, d)``. Fans apart, which are what is heard."""
        stock = self._models.card.stock
        found, every = [], points.copy()
        for index, control in enumerate(self._controls):
            value = stock.value(control.name)
            if value is None or control.name.startswith("fan_duty.") or not control.low <= value <= control.high:
                continue
            one = points.copy()
            one[:, index] = value
            found.append(one)
            if control.name != POWER:
                every[:, index] = value
        return np.concatenate([*found, every])

    def _targets(self, throughput: Vector) -> list[_Target]:
        """Return the limits, each of them a unit looser, kept at even odds and wherever that lies, and the quietest at other
        throughputs."""
        limits = self._limits
        plain = msgspec.structs.replace(limits, aim=Aim.QUIETEST, max_noise_dba=None, max_over_background_db=None)
        known = throughput[np.isfinite(throughput)]
        levels = np.empty(0)
        if known.shape[0]:
            least, most = float(np.min(known)), float(np.max(known))
            wanted = min(max(limits.min_throughput_percent, least), most)
            levels = np.append(np.linspace(least, wanted, BELOW, endpoint=False), np.linspace(wanted, most, ABOVE))
        return [
            _Target(limits),
            *(_Target(looser) for looser in loosened(limits).values()),
            _Target(limits, inside=False),
            _Target(at_even_odds(limits), inside=False),
            *(_Target(msgspec.structs.replace(plain, min_throughput_percent=float(level)), finest=NEAR) for level in levels),
        ]

    def _laid_out(self) -> Array:
        """Return the lattice ``(n, d)``: what holds the clock by itself, each with many ways of setting the fans."""
        from scipy.stats import qmc

        fans = [index for index, control in enumerate(self._controls) if control.name.startswith("fan_duty.")]
        ways = np.concatenate([np.linspace(0.0, 1.0, ALIKE)[:, None] * np.ones(len(fans)), self._spread(qmc, len(fans))])
        beside = []
        for index, control in enumerate(self._controls):
            if index in fans or control.name == OFFSET:
                continue
            holding = np.tile(self._high, (HOLDING, 1))
            holding[:, index] = np.linspace(control.low, control.high, HOLDING)
            beside.append(holding)
        held = np.concatenate(beside) if beside else self._high[None, :]
        offset = next((index for index, control in enumerate(self._controls) if control.name == OFFSET), None)
        if offset is not None:
            deep = held.copy()
            deep[:, offset] = self._models.base.voltage_offset_mv or 0.5 * self._low[offset]
            held = np.concatenate([held, deep])
        laid = np.repeat(held, ways.shape[0], axis=0)
        span = self._high[fans] - self._low[fans]
        laid[:, fans] = np.tile(self._low[fans] + ways * span, (held.shape[0], 1))
        return laid

    @staticmethod
    def _spread(qmc: ModuleType, count: int) -> Array:
        """Return ways of setting several groups of fans, as shares of their spans, evenly spread (Sobol; scipy)."""
        if count < 2:
            return np.empty((0, count))
        spread: Array = qmc.Sobol(count, scramble=False).random_base2(SPREAD_POWER)
        return spread

    def _on_steps(self, points: Array) -> Array:
        return np.stack([control.on_step(points[:, index]) for index, control in enumerate(self._controls)], axis=1)

    def _moves(self, at_once: int) -> Array:
        """Return the ways to move ``(k, d)``: one control at a time and up to ``at_once``, along or against each other."""
        unit = np.eye(len(self._controls))
        return np.array(
            [
                np.array(signs) @ unit[list(some)]
                for count in range(1, min(at_once, len(self._controls)) + 1)
                for some in combinations(range(len(self._controls)), count)
                for signs in product((1.0, -1.0), repeat=count)
            ]
        )

    def _scores(self, points: Array, *, closely: bool = False) -> _Scores:
        """Return what decides between points ``(n, d)``."""
        models, limits, settings = self._models, self._limits, self.batch(points)
        room = limits.design_room_c
        heavy = predict_under_load(models, settings, models.heavy_load, room)
        predicted = predict(models, settings, room, steady=heavy)
        return _Scores(
            figures=limit_figures(models, limits, settings, heavy, predicted),
            lost=self._lost(settings, heavy, predicted, closely=closely),
            inside=inside(models, settings, heavy),
            better={
                limits.aim: less_of(predicted, limits),
                Aim.QUIETEST: predicted.in_room_dba + ALONE_SHARE * predicted.alone_dba,
            },
            clock_mhz=predicted.clock_mhz,
        )

    def _lost(self, settings: SettingBatch, heavy: LoadPrediction, predicted: SettingPredictions, *, closely: bool) -> Vector:
        """Return the probability that a failure within the horizon is likelier than wanted ``(n,)``; 1 where one was seen at
        what asks no more."""
        models, depth = self._models, depths_mv(settings)
        against = failures_against(models.stability, depth, heavy.clock_mhz) > 0
        if closely:
            lasts = failure_risk(models, self._limits, settings, heavy).lasts
        else:
            lasts = self._about_lasts(depth, heavy, predicted)
        lost: Vector = np.where(against, 1.0, np.where(makers_own(settings, models.card.stock), 0.0, 1.0 - lasts))
        return lost

    def _about_lasts(self, depth: Vector, heavy: LoadPrediction, predicted: SettingPredictions) -> Vector:
        """Return about how surely settings last, rather less than more ``(n,)``."""
        lasts = np.ones(depth.shape[0])
        clocks = {self._models.heavy_load: heavy.clock_mhz, self._models.count_load: predicted.clock_mhz}
        for load, law in self._laws.items():
            if load not in clocks:
                continue
            places = (depth, PLACES_MHZ * np.ceil(clocks[load] / PLACES_MHZ), PLACES_K * np.ceil(heavy.core_c / PLACES_K))
            lasts = np.minimum(lasts, [self._lasts(load, law, *place) for place in zip(*places, strict=True)])
        return lasts

    def _lasts(self, load: str, law: DrawnLaws, depth_mv: float, clock_mhz: float, core_c: float) -> float:
        key = (load, depth_mv, clock_mhz, core_c)
        if key not in self._lasting:
            goal = self._limits.failure
            known = math.isfinite(clock_mhz) and math.isfinite(core_c)
            chances = law.chances(depth_mv, goal.horizon_s, clock_mhz, core_c) if known else np.ones(1)
            self._lasting[key] = law.sure_of(chances, goal.chance) if known else 0.0
        return self._lasting[key]
