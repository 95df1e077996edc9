"""The pick: the quietest setting that keeps every limit, its runners-up, and what each limit costs."""

import math
from enum import StrEnum

import msgspec
import numpy as np

from niente.core.analysis.judged import JudgedSettings
from niente.core.analysis.models import Models
from niente.core.analysis.setting_batch import POWER
from niente.core.model.errors import NotEnoughError
from niente.core.model.limits import Aim, Limits
from niente.core.model.names import kind_of
from niente.core.model.setting import Setting
from niente.core.science.arrays import Mask, Vector
from niente.core.selection.aims import EQUAL, less_of
from niente.core.selection.kept import Limit, in_force, keeps, keeps_without, loosened
from niente.core.selection.opening import none_fits
from niente.core.selection.reach import reachable
from niente.core.selection.setting_words import differing

HEARD_DB = 0.1
"""Levels closer than this count as equal in the room; the modelled machine alone then decides."""
MATTERS_DB, MATTERS_ALONE_DB = 0.25, 1.3
"""A confirmed pick is not left for less, in the room and alone."""
TELLING_DB = 0.3
"""Modelled levels closer than this are no reason by themselves."""
CLEARLY_APART = {
    "sustained_power_w": 5.0,
    "clock_cap_mhz": 100.0,
    "fixed_clock_mhz": 100.0,
    "fan_duty": 8.0,
    "voltage_offset_mv": 20.0,
}
"""Two settings are worth telling apart where one of these controls differs by so much."""
APART_DB, APART_PERCENT, APART_K = 0.5, 0.8, 1.0
"""And where one of noise, throughput and headroom does: another setting that comes to the same is none."""
UNRUN_DB = 4.0
"""What a setting that was run may be louder by, to stand beside the pick in place of one that was not."""


class Standing(StrEnum):
    """How far a pick is from a guess."""

    PROPOSED = "proposed"
    CONFIRMED = "confirmed"
    """It ran the heaviest load long enough without a failure, and that is all."""
    MAKERS = "confirmed, maker's voltage"
    """It did at the voltage and the clocks that the maker gives: nothing was taken from what the maker proved."""
    PROVEN = "proven"
    """It is confirmed, and a failure within the horizon is as unlikely as wanted, as surely as wanted."""


class Candidate(msgspec.Struct, frozen=True, rename={"heat_limited": "heat_holds"}):
    """One setting and what is known of it: ``*_hw`` are 95 % half widths, temperatures are for the design room.

    ``clock_mhz`` belongs to the load that counts, ``power_w`` to the one that heats; ``stable`` is the expected chance of a
    horizon without a failure, ``risk`` the chance of one that is surely not exceeded, ``by_law`` whether both follow from a law
    that failures taught, ``makers`` whether voltage and clock are the maker's; ``inside`` whether it lies inside of what was
    measured, ``heat_limited`` whether the temperature cap limits it; ``alone_hw`` is none and ``alone_at_most_dba`` a bound
    where the machine cannot be told from the room; temperature, work, clock and power are NaN where nothing holds it and it
    does not settle; ``others`` are the controls that differ from stock beside the two axes.
    """

    setting: Setting
    limit_w: float
    duty: float
    throughput_percent: float
    throughput_hw: float
    core_c: float
    core_hw: float
    headroom_k: float
    in_room_dba: float
    in_room_hw: float
    alone_dba: float
    power_w: float
    measured: bool
    clean_s: float
    failures: int
    breaks: tuple[Limit, ...]
    group: str = "case"
    power_hw: float = math.nan
    clock_mhz: float = math.nan
    clock_hw: float = math.nan
    stable: float = math.nan
    risk: float = math.nan
    by_law: bool = False
    makers: bool = False
    inside: bool = True
    heat_limited: bool = False
    others: tuple[tuple[str, float], ...] = ()
    alone_hw: float | None = None
    alone_at_most_dba: float | None = None


class LimitCost(msgspec.Struct, frozen=True):
    """What one limit costs: without it, ``instead`` would be the pick, ``wins_db`` quieter in the room, and so much better in
    what the choice is for: dB, per cent, W or K. ``unit_wins`` is the same for a limit that is a unit looser (1 %, 1 K, 1 dB);
    ``None`` where it has no unit."""

    limit: Limit
    wins_db: float
    instead: Candidate | None
    wins: float = 0.0
    unit_wins: float | None = None


class Choice(msgspec.Struct, frozen=True):
    """The pick with its reasons. ``confirmed`` says that it ran the heaviest load long enough without a wrong result,
    ``standing`` how far it is from a guess."""

    pick: Candidate
    confirmed: bool
    runners_up: tuple[Candidate, ...]
    costs: tuple[LimitCost, ...]
    eligible: int
    settings: int
    limits: Limits
    standing: Standing = Standing.PROPOSED


def choose(models: Models, limits: Limits, field: JudgedSettings | None = None) -> Choice:
    """Return the pick over all settings of the field (none: all that the models reach). Raises ``NotEnoughError`` where none
    keeps the limits."""
    at = field or reachable(models, limits)
    kept = keeps(at, limits)
    eligible = np.logical_and.reduce(list(kept.values()))
    best = best_of(at, eligible, limits)
    if best is None:
        happened, remedy = none_fits(at, limits)
        raise NotEnoughError(happened, safe="Every run is kept.", remedy=remedy)
    pick = _candidate(models, at, kept, best)
    moved = best_of(at, eligible, limits, stays=False)
    free = pick if moved is None else _candidate(models, at, kept, moved)
    return Choice(
        pick=pick,
        confirmed=is_confirmed(pick, limits),
        standing=standing_of(pick, limits),
        runners_up=_runners_up(models, at, kept, eligible, pick),
        costs=tuple(_cost(models, at, kept, limit, free, limits) for limit in in_force(limits)),
        eligible=int(np.count_nonzero(eligible)),
        settings=int(eligible.shape[0]),
        limits=limits,
    )


def is_confirmed(candidate: Candidate, limits: Limits) -> bool:
    """Return whether a setting ran the heaviest load long enough without a failure."""
    return candidate.clean_s >= limits.clean_minutes * 60.0 and candidate.failures == 0


def standing_of(candidate: Candidate, limits: Limits) -> Standing:
    """Return how far a setting is from a guess."""
    if not is_confirmed(candidate, limits):
        return Standing.PROPOSED
    if candidate.by_law and candidate.risk <= limits.failure.chance:
        return Standing.PROVEN
    return Standing.MAKERS if candidate.makers else Standing.CONFIRMED


def _known_first(field: JudgedSettings, among: Mask) -> Mask:
    """Return those settings that lie inside of what was measured; all where none does: from beyond it nothing is picked while
    there is anything within."""
    known: Mask = among & field.inside
    return known if known.any() else among


def best_of(field: JudgedSettings, among: Mask, limits: Limits, *, stays: bool = True) -> int | None:
    """Return the setting that is best in what the choice is for, by its index, or ``None``: rather among what was measured; of
    those as good as it the quietest, or the one that is confirmed already, where that ``stays``."""
    among = _known_first(field, among)
    if limits.aim == Aim.QUIETEST or not among.any():
        return _quietest(field, among, limits, stays=stays)
    values = less_of(field.predicted, limits)
    values = np.where(among & np.isfinite(values), values, np.inf)
    return _quietest(field, among & (values <= np.min(values) + EQUAL[limits.aim]), limits, stays=stays)


def _quietest(field: JudgedSettings, among: Mask, limits: Limits, *, stays: bool) -> int | None:
    """Return the quietest setting in the room; within ``HEARD_DB`` one whose machine alone is quietest, within ``TELLING_DB``
    the one that ran longest (up to what confirms it) without a failure, then the one that leaves most controls as they were,
    and then the one with the most throughput. One that is confirmed already ``stays`` while it would not change by more than
    matters: running it moves nothing."""
    indices = np.flatnonzero(among)
    if indices.shape[0] == 0:
        return None
    predicted = field.predicted
    level, alone = predicted.in_room_dba[indices], predicted.alone_dba[indices]
    near = level <= np.min(level) + HEARD_DB
    near &= alone <= np.min(alone[near]) + TELLING_DB
    ran = np.minimum(np.where(field.failures[indices] > 0, 0.0, field.clean_s[indices]), 60.0 * limits.clean_minutes)
    confirmed = (ran >= 60.0 * limits.clean_minutes) & (level <= np.min(level) + MATTERS_DB)
    confirmed &= alone <= np.min(alone[near]) + MATTERS_ALONE_DB
    if stays and confirmed.any():
        near = confirmed
    order = np.lexsort((-predicted.throughput_percent[indices], field.changed[indices], -ran))
    return int(indices[order[near[order]][0]])


def _candidate(models: Models, field: JudgedSettings, kept: dict[Limit, Mask], index: int) -> Candidate:
    predicted, setting = field.predicted, field.settings.at(index)
    return Candidate(
        setting=setting,
        limit_w=setting.sustained_power_w or 0.0,
        duty=setting.fan_duty.get(models.lead, 0.0),
        throughput_percent=float(predicted.throughput_percent[index]),
        throughput_hw=float(predicted.throughput_hw[index]),
        core_c=float(predicted.core_c[index]),
        core_hw=float(predicted.core_hw[index]),
        headroom_k=float(predicted.headroom_k[index]),
        in_room_dba=float(predicted.in_room_dba[index]),
        in_room_hw=float(predicted.in_room_hw[index]),
        alone_dba=float(predicted.alone_dba[index]),
        alone_hw=_known(predicted.alone_hw[index]),
        alone_at_most_dba=_known(predicted.alone_at_most_dba[index]),
        power_w=float(predicted.power_w[index]),
        power_hw=float(predicted.power_hw[index]),
        clock_mhz=float(predicted.clock_mhz[index]),
        clock_hw=float(predicted.clock_hw[index]),
        stable=float(field.stable[index]),
        risk=float(field.risk[index]),
        by_law=field.by_law,
        makers=bool(field.makers[index]),
        inside=bool(field.inside[index]),
        heat_limited=bool(predicted.heat_limited[index]),
        measured=bool(field.measured[index]),
        clean_s=float(field.clean_s[index]),
        failures=int(field.failures[index]),
        breaks=tuple(limit for limit, mask in kept.items() if not mask[index]),
        group=models.lead,
        others=tuple(one for one in differing(setting, models.card.stock) if one[0] not in (POWER, models.fans)),
    )


def _known(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None


def candidate_at(models: Models, field: JudgedSettings, limits: Limits, index: int) -> Candidate:
    """Return one setting of the field, by its index in the field's arrays."""
    return _candidate(models, field, keeps(field, limits), index)


def front(noise_dba: Vector, throughput: Vector) -> tuple[Vector, Vector]:
    """Return, of settings ``(n,)``, those that no other beats in both noise and throughput, quietest first."""
    order = np.lexsort((-throughput, noise_dba))
    best = np.maximum.accumulate(throughput[order])
    better = np.ones(order.shape[0], dtype=bool)
    better[1:] = best[1:] > best[:-1]
    return noise_dba[order][better], throughput[order][better]


def sound_settings(field: JudgedSettings, limits: Limits) -> tuple[Vector, Vector]:
    """Return noise and throughput of the settings that keep headroom and had no failure, ``(m,)`` each."""
    sound = are_sound(field, limits)
    return field.predicted.in_room_dba[sound], field.predicted.throughput_percent[sound]


def are_sound(field: JudgedSettings, limits: Limits) -> Mask:
    """Return which settings keep the limits that belong to the machine: headroom, and no failure ``(n,)``."""
    kept = keeps(field, limits)
    sound: Mask = kept[Limit.HEADROOM] & kept[Limit.RESULTS] & kept[Limit.FAILURES]
    return sound & np.isfinite(field.predicted.throughput_percent)


def _runners_up(
    models: Models, field: JudgedSettings, kept: dict[Limit, Mask], eligible: Mask, pick: Candidate
) -> tuple[Candidate, ...]:
    """Return three other settings worth a thought: more throughput for little noise, a cooler one, and the measured
    setting nearest to the pick; each clearly apart from the others in some control, and in what it comes to."""
    predicted = field.predicted
    open_to = eligible.copy()
    found: list[Candidate] = []

    def close(at: Candidate) -> None:
        near = np.ones_like(open_to)
        for control in field.settings.values:
            apart = np.abs(field.settings.of(control) - (at.setting.value(control) or 0.0))
            near &= apart < CLEARLY_APART.get(kind_of(control), math.inf)
        alike = np.abs(predicted.in_room_dba - at.in_room_dba) < APART_DB
        alike &= np.abs(predicted.throughput_percent - at.throughput_percent) < APART_PERCENT
        open_to[near | (alike & (np.abs(predicted.headroom_k - at.headroom_k) < APART_K))] = False

    close(pick)
    dearer = np.maximum(predicted.in_room_dba - pick.in_room_dba, 0.0)
    wishes = (
        predicted.throughput_percent - pick.throughput_percent - 4.0 * dearer,
        predicted.headroom_k - pick.headroom_k - 4.0 * dearer,
        np.where(field.measured, 0.0, -UNRUN_DB) - dearer,
    )
    for wish in wishes:
        if not open_to.any():
            break
        index = int(np.argmax(np.where(open_to, wish, -np.inf)))
        found.append(_candidate(models, field, kept, index))
        close(found[-1])
    return tuple(sorted(found, key=lambda one: one.in_room_dba))


def _cost(
    models: Models, field: JudgedSettings, kept: dict[Limit, Mask], limit: Limit, pick: Candidate, limits: Limits
) -> LimitCost:
    """Return what would be picked without one limit, against what would be with all of them, were nothing confirmed yet."""
    others = keeps_without(field, limits, limit)
    index = best_of(field, others, limits, stays=False)
    unit = _unit_wins(models, field, limit, pick, limits)
    instead = _candidate(models, field, kept, index) if index is not None else pick
    if index is None or instead.setting == pick.setting:
        return LimitCost(limit, 0.0, None, unit_wins=unit)
    return LimitCost(limit, pick.in_room_dba - instead.in_room_dba, instead, _wins(pick, instead, limits), unit)


def _unit_wins(models: Models, field: JudgedSettings, limit: Limit, pick: Candidate, limits: Limits) -> float | None:
    """Return what a limit that is a unit looser would win in what the choice is for; ``None`` where it has no unit."""
    looser = loosened(limits).get(limit)
    if looser is None:
        return None
    kept = keeps(field, looser)
    index = best_of(field, np.logical_and.reduce(list(kept.values())), looser, stays=False)
    return None if index is None else _wins(pick, _candidate(models, field, kept, index), limits)


def _wins(pick: Candidate, instead: Candidate, limits: Limits) -> float:
    """Return by how much another setting is better than the pick in what the choice is for: dB, %, W, K, or what is weighed."""
    weights, quieter = limits.weights, pick.in_room_dba - instead.in_room_dba
    faster, fewer = instead.throughput_percent - pick.throughput_percent, pick.power_w - instead.power_w
    cooler = pick.core_c - instead.core_c
    weighed = weights.noise_db * quieter + weights.throughput_percent * faster
    return {
        Aim.QUIETEST: quieter,
        Aim.FASTEST: faster,
        Aim.LEAST_WATTS: fewer,
        Aim.COOLEST: cooler,
        Aim.WEIGHED: weighed + weights.power_w * fewer + weights.core_k * cooler,
    }[limits.aim]
