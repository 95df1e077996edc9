"""What to run next for a pick: the run that takes most doubt from it a minute.

The doubt about a pick is what it would be better by, were all that is not known as it likely is: its level against that of the
setting that is then picked. A run of the heaviest load there tells its heat, a short one of the load that counts its
throughput; each is worth what the pick is likely to win once that much is known.
"""

import msgspec
import numpy as np

from niente.core.analysis.judged import JudgedSettings
from niente.core.analysis.models import Models
from niente.core.analysis.prediction import stock_state
from niente.core.model.limits import Aim, Limits
from niente.core.model.names import kind_of
from niente.core.model.plan import NEAR_PICK, Exposure, PickRuns, Step
from niente.core.model.quantities import NO_BREAK_SPACE, number_text
from niente.core.model.setting import Setting
from niente.core.science.arrays import Mask, Vector
from niente.core.science.statistics import Z95
from niente.core.selection.aims import less_of
from niente.core.selection.explanation import short_candidate_text
from niente.core.selection.kept import Limit, at_even_odds, keeps
from niente.core.selection.pick import Choice

EXPECTED_RUNS = 2
"""How many such runs are expected before the first."""
NEAR = {"sustained_power_w": 0.08, "clock_cap_mhz": 0.03, "fixed_clock_mhz": 0.03}
"""As far from a run, as a share, its readings say all but what it read itself; of duties ``NEAR_DUTY``."""
NEAR_DUTY, NEAR_MV = 10.0, 40.0
SAME = 0.4
"""So much of that apart from a run nothing new is learnt."""
RUN_HW_K, RUN_HW_PERCENT = 0.7, 0.3
"""How well heat and throughput are known where a run was made, as 95 % half widths."""
WORK = Exposure(min_s=300.0, max_s=300.0)
"""Throughput is known long before a temperature is."""
SETTING_MINUTES = 1.0
ALONE_SHARE = 0.1
"""What a decibel of the machine alone counts beside one in the room."""
KNOWN_TO_K = (0.7, 3.0)
NO_PICK_DB = 20.0
"""What it is worth to have a pick at all."""
EQUALS_DB = {Aim.QUIETEST: 1.0, Aim.FASTEST: 0.67, Aim.LEAST_WATTS: 0.2, Aim.COOLEST: 0.5, Aim.WEIGHED: 1.0}
"""What a unit of each aim counts, in dB: 0.3 % and a watt matter as 0.2 dB do. A judgement, no source."""


class _Worth(msgspec.Struct, frozen=True):
    """A run that could be made: what it is likely to win in dB, how many minutes it takes, and what it is."""

    wins_db: float
    minutes: float
    step: Step

    @property
    def a_minute(self) -> float:
        return self.wins_db / self.minutes


def next_pick_run(
    entry: PickRuns, models: Models, limits: Limits, reached: JudgedSettings, choice: Choice | None
) -> Step | None:
    """Return the run that tells most of the pick a minute; ``None`` where none is worth as much as matters. While nothing
    surely keeps the limits (no ``choice``), it is the one where something most likely does."""
    view = _View(models, limits, reached)
    now = view.cost_then(0, ()) if choice is not None else NO_PICK_DB + float(np.min(view.costs))
    offers = []
    for tells in _WAYS if models.count_load != models.heavy_load else _WAYS[:1]:
        index = view.likely(tells)
        if index is None:
            continue
        then = view.cost_then(index, tells)
        wins = now - (then if choice is not None else min(then, float(view.costs[index])))
        tells = tuple(limit for limit in tells if not view.is_told(index, limit))
        exposures = [_heat_exposure(entry, limits, choice) if limit == Limit.HEADROOM else WORK for limit in tells]
        minutes = sum(SETTING_MINUTES + _minutes(models, exposure) for exposure in exposures)
        step = Step(
            reached.settings.at(index),
            models.heavy_load if tells[0] == Limit.HEADROOM else models.count_load,
            exposures[0],
            NEAR_PICK,
            _words(limits, choice, tells, wins),
        )
        offers.append(_Worth(wins, minutes, step))
    worth = [offer for offer in offers if offer.wins_db >= entry.matters_db]
    return max(worth, key=lambda offer: offer.a_minute).step if worth else None


_WAYS: tuple[tuple[Limit, ...], ...] = ((Limit.HEADROOM,), (Limit.THROUGHPUT,), (Limit.THROUGHPUT, Limit.HEADROOM))
"""What runs at one setting may tell: its heat, its throughput, or both, the short run first."""


class _View:
    """The settings that are reached, as the next run is looked for among them."""

    def __init__(self, models: Models, limits: Limits, reached: JudgedSettings) -> None:
        self.models, self.limits, self.reached = models, limits, reached
        self.costs = _costs(reached, limits)
        self._told = {limit: self._told_of(limit) for limit in (Limit.HEADROOM, Limit.THROUGHPUT)}
        self._likely = np.logical_and.reduce(list(keeps(reached, at_even_odds(limits)).values()))

    def is_told(self, index: int, limit: Limit) -> bool:
        """Return whether runs near a setting have told of a limit what they can."""
        return bool(self._told[limit][index])

    def likely(self, tells: tuple[Limit, ...]) -> int | None:
        """Return the best setting that is as likely as not to keep the limits, and of which runs have not told all of this yet;
        ``None`` where there is none."""
        told = np.logical_and.reduce([self._told[limit] for limit in tells])
        among = self._likely & ~told
        return int(np.argmin(np.where(among, self.costs, np.inf))) if among.any() else None

    def cost_then(self, index: int, tells: tuple[Limit, ...]) -> float:
        """Return what the pick would cost once runs have told of the settings near one, were they to read as is likely."""
        figures, inside, setting = self.reached.figures, self.reached.inside, self.reached.settings.at(index)
        if Limit.HEADROOM in tells:
            near = self._near(setting, 1.0)
            figures, inside = figures.with_heat_known(near, RUN_HW_K), inside | near
        if Limit.THROUGHPUT in tells:
            figures = figures.with_work_known(self._near(setting, 1.0, fans=False), np.hypot(RUN_HW_PERCENT, self._stock_hw()))
        kept = keeps(msgspec.structs.replace(self.reached, figures=figures), self.limits)
        every = np.logical_and.reduce(list(kept.values()))
        best = every & inside if (every & inside).any() else every
        return float(np.min(np.where(best, self.costs, np.inf)))

    def _stock_hw(self) -> Vector:
        """Return what is not known of stock, which no run near the pick tells: half widths in percent of stock ``(n,)``."""
        load, power = self.models.count_load, self.models.power
        stock = stock_state(self.models, load, self.limits.design_room_c)
        law = power.work.get(load)
        slope = float(law.slope(np.array(stock.clock_mhz / power.ref_mhz))) if law is not None else 1.0
        widths: Vector = Z95 * self.reached.predicted.throughput_percent * slope * stock.clock_share_sd
        return np.nan_to_num(widths)

    def _near(self, setting: Setting, share: float, *, fans: bool = True) -> Mask:
        """Return which settings lie near one in all controls, or in all but the fans' ``(n,)``; ``share`` says how near."""
        settings = self.reached.settings
        near = np.ones(settings.count, dtype=bool)
        for control in settings.values:
            kind, value = kind_of(control), setting.value(control)
            if kind == "fan_duty" and not fans:
                continue
            if value is None:
                return np.zeros(settings.count, dtype=bool)
            most = NEAR_DUTY if kind == "fan_duty" else NEAR_MV if kind.endswith("_mv") else NEAR.get(kind, 0.05) * abs(value)
            near &= np.abs(settings.of(control) - value) <= share * most + 1e-9
        return near

    def _told_of(self, limit: Limit) -> Mask:
        """Return which settings lie so near to a run that another one there tells nothing new of a limit ``(n,)``."""
        heat = limit == Limit.HEADROOM
        load = self.models.heavy_load if heat else self.models.count_load
        told = np.zeros(self.reached.settings.count, dtype=bool)
        for run in self.models.usable():
            if run.load == load and not run.failures and run.seconds >= WORK.min_s - 2.0:
                told |= self._near(run.setting, SAME, fans=heat)
        return told


def _costs(reached: JudgedSettings, limits: Limits) -> Vector:
    """Return what is wanted less of, as decibels ``(n,)``."""
    predicted = reached.predicted
    costs: Vector = EQUALS_DB[limits.aim] * less_of(predicted, limits) + ALONE_SHARE * predicted.alone_dba
    return np.where(np.isfinite(costs), costs, np.inf)


def _heat_exposure(entry: PickRuns, limits: Limits, choice: Choice | None) -> Exposure:
    """Return how long a run goes on: until its temperature is known so closely that the pick would not change by more than
    matters."""
    costs = choice.costs if choice is not None else ()
    a_kelvin = next((cost.unit_wins for cost in costs if cost.limit == Limit.HEADROOM), None) or 0.0
    a_kelvin *= EQUALS_DB[limits.aim]
    known = entry.matters_db / a_kelvin if a_kelvin > 0.0 else KNOWN_TO_K[1]
    return msgspec.structs.replace(entry.exposure, known_to_k=round(min(max(known, KNOWN_TO_K[0]), KNOWN_TO_K[1]), 1))


def _minutes(models: Models, exposure: Exposure) -> float:
    """Return how long a run is likely to take, by those that were made."""
    lengths = [run.seconds for run in models.usable() if run.settled.known and run.load == models.heavy_load]
    usual = float(np.median(lengths)) if lengths else exposure.max_s
    return (exposure.min_s if exposure.known_to_k is None else min(max(usual, exposure.min_s), exposure.max_s)) / 60.0


def _words(limits: Limits, choice: Choice | None, tells: tuple[Limit, ...], wins: float) -> str:
    """Say what a run tells: which limits its setting is to keep, in place of which pick, and what that wins."""
    wanted = {
        Limit.HEADROOM: f"{limits.min_headroom_k:g}{NO_BREAK_SPACE}K of headroom",
        Limit.THROUGHPUT: f"{limits.min_throughput_percent:g}{NO_BREAK_SPACE}% of throughput",
    }
    keeps_what = " and ".join(wanted[limit] for limit in tells)
    if choice is None:
        return f"Tells whether this keeps {keeps_what}: nothing surely does yet"
    against = f"{number_text(wins, 1)}{NO_BREAK_SPACE}dB under" if limits.aim == Aim.QUIETEST else "in place of"
    return f"Tells whether this keeps {keeps_what}, {against} {short_candidate_text(choice.pick)}"
