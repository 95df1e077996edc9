"""A search by exposures, against what the book holds: which were made for it, which come next, and what it found."""

import math
from collections.abc import Collection, Sequence

from niente.core.analysis.evidence import Evidence, RunSummary
from niente.core.analysis.stability import FIXED_FROM_V, RunExposure, changed_since, depth_and_family, exposures_in
from niente.core.model.names import kind_of
from niente.core.model.plan import ONE_DEPTH, Exposure, Search, SearchMethod, Step
from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.planning.depth_search import (
    COARSE_MV,
    COARSE_S,
    SETTING_S,
    DepthRange,
    MadeExposure,
    answer_of,
    is_coarse,
    is_known,
    next_exposure,
)
from niente.core.planning.search_stand import SearchStand, made_for, seconds_left
from niente.core.planning.structured_parts import parts_stand, parts_take_long

TYPICAL_S = 200.0
"""How long the exposures that are still to come are expected to be, for lists and costs only."""


def finds_one_depth(entry: Search) -> bool:
    """Return whether a search looks for one depth of all cores, which the failure law is of."""
    return len(entry.controls) == 1 and kind_of(entry.controls[0]) in ONE_DEPTH


def stand_of(entry: Search, card: RigCard, evidence: Evidence | None, since_s: float = 0.0) -> SearchStand:
    """Return where a structured search stands, by all runs since a moment."""
    if not finds_one_depth(entry):
        return parts_stand(entry, card, evidence, since_s)
    made, exposures, told = _seen_for(entry, card, evidence, since_s)
    numbers = {run.run_id for run in made}
    left_s = seconds_left(entry, made)
    within = depth_range_of(entry)
    wanted = next_exposure(entry.goal, within, len(entry.loads), told, left_s)
    if wanted is not None:
        step = _step(entry, wanted.load, wanted.depth_mv, wanted.seconds)
        return SearchStand(made, (step, *_expected(entry, within, told, left_s - wanted.seconds)), None)
    return SearchStand(made, (), {entry.controls[0]: _found_value(entry, told, _told(entry, exposures, numbers))})


def takes_long(entry: Search, card: RigCard, evidence: Evidence | None, since_s: float = 0.0) -> bool:
    """Return whether it takes a while to say where a search stands: its exposures have to be gone through first."""
    if not finds_one_depth(entry):
        return entry.method == SearchMethod.STRUCTURED and parts_take_long(entry, card, evidence, since_s)
    within, loads = depth_range_of(entry), len(entry.loads)
    if entry.method == SearchMethod.STRUCTURED:
        made, exposures, told = _seen_for(entry, card, evidence, since_s)
        if is_coarse(within, loads, told):
            return False
        wanted = _decisive(told, _told(entry, exposures, {run.run_id for run in made}))
    else:
        told = _told(entry, _exposures(entry, card, evidence, since_s))
        wanted = [told] if any(one.seen.failed for one in told) else []
    return not all(is_known(entry.goal, within, loads, one) for one in wanted)


def _seen_for(
    entry: Search, card: RigCard, evidence: Evidence | None, since_s: float
) -> tuple[tuple[RunSummary, ...], tuple[RunExposure, ...], tuple[MadeExposure, ...]]:
    """Return the runs that were made for a search, all exposures that count, and those of them up to its latest run."""
    exposures = _exposures(entry, card, evidence, since_s)
    made = made_for(entry, card, evidence, since_s)
    numbers = {run.run_id for run in made}
    until = max((index + 1 for index, one in enumerate(exposures) if one.run_id in numbers), default=0)
    return made, exposures, _told(entry, exposures[:until], numbers)


def safe_value(entry: Search, card: RigCard, evidence: Evidence | None, since_s: float = 0.0) -> float | None:
    """Return the control's value that the posterior recommends, whatever the search's own way of looking; ``None`` where no
    failure has taught a law yet."""
    told = _told(entry, _exposures(entry, card, evidence, since_s))
    return _found_value(entry, told, told) if any(one.seen.failed for one in told) else None


def depth_range_of(entry: Search) -> DepthRange:
    """Return a search's span as depths."""
    start, deepest = _depth(entry, entry.start), _depth(entry, entry.deepest)
    hottest = math.nan if entry.hottest_c is None else entry.hottest_c
    return DepthRange(start, deepest, entry.fine * (1000.0 if _is_voltage(entry) else 1.0), hottest)


def _is_voltage(entry: Search) -> bool:
    return quantity_of(entry.controls[0]).unit == "V"


def _depth(entry: Search, value: float) -> float:
    return 1000.0 * (FIXED_FROM_V - value) if _is_voltage(entry) else -value


def _value(entry: Search, depth_mv: float) -> float:
    """Return the control's value at a depth."""
    return round(FIXED_FROM_V - depth_mv / 1000.0, 6) if _is_voltage(entry) else round(-depth_mv, 6) + 0.0


def _found_value(entry: Search, told: tuple[MadeExposure, ...], later: tuple[MadeExposure, ...]) -> float:
    """Return what is recommended: by the exposures to the search's end, and by those after it only where one has failed."""
    within = depth_range_of(entry)
    depths = [answer_of(entry.goal, within, len(entry.loads), one).depth_mv for one in _decisive(told, later)]
    return _value(entry, within.no_deeper(min(depths, default=within.start_mv)))


def _decisive(told: tuple[MadeExposure, ...], later: tuple[MadeExposure, ...]) -> list[tuple[MadeExposure, ...]]:
    """Return the exposures that what is found follows from: those to the search's end, and all up to the latest failure where
    that came after it."""
    failed = max((index + 1 for index, one in enumerate(later) if one.seen.failed), default=0)
    return [one for one in (told, later[:failed] if failed > len(told) else ()) if one]


def _exposures(entry: Search, card: RigCard, evidence: Evidence | None, since_s: float) -> tuple[RunExposure, ...]:
    """Return the exposures that count: of the searched loads and of the family, since the machine last changed."""
    runs = [run for run in (evidence.runs if evidence is not None else ()) if run.opened_at >= since_s]
    family = depth_and_family(_at(entry, entry.deepest).over(card.stock))[1]
    mine = [one for one in exposures_in(runs, card) if one.load in entry.loads and depth_and_family(one.setting)[1] == family]
    return tuple(mine[changed_since(mine) :])


def _told(entry: Search, exposures: Sequence[RunExposure], made: Collection[int] | None = None) -> tuple[MadeExposure, ...]:
    """Return exposures as a search takes them; ``made`` are the runs that were made for it, all where it is not given."""
    return tuple(
        MadeExposure(entry.loads.index(one.load), one.seen, one.crashed, made is None or one.run_id in made)
        for one in exposures
    )


def _at(entry: Search, value: float) -> Setting:
    return entry.setting.replaced(entry.controls[0], value)


def _step(entry: Search, load: int, depth_mv: float, seconds: float) -> Step:
    """Return the run that makes an exposure."""
    value, whole_s = _value(entry, depth_mv), float(round(seconds))
    words = f"{quantity_of(entry.controls[0]).with_unit(value)} for {whole_s:g} s: does it fail, and how soon?"
    return Step(_at(entry, value), entry.loads[load], Exposure(whole_s, whole_s), entry.stage, words)


def _expected(entry: Search, within: DepthRange, told: Sequence[MadeExposure], left_s: float) -> list[Step]:
    """Return the exposures that are expected after the next: coarse ones until half the way, then some to the time's end."""
    deepest = max((one.seen.depth_mv for one in told), default=within.start_mv)
    middle = within.on_step(max(deepest, 0.5 * (within.start_mv + within.deepest_mv)))
    steps: list[Step] = []
    if not any(one.seen.failed for one in told):
        depth = deepest
        while (depth := depth + max(COARSE_MV, within.step_mv)) <= middle and left_s > COARSE_S:
            steps += [_step(entry, load, within.on_step(depth), COARSE_S) for load in range(len(entry.loads))]
            left_s -= (COARSE_S + SETTING_S) * len(entry.loads)
    while left_s > TYPICAL_S and len(steps) < entry.max_runs:
        steps.append(_step(entry, 0, middle, TYPICAL_S))
        left_s -= TYPICAL_S + SETTING_S
    return steps
