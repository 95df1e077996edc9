"""A structured search of parts, against what the book holds: how deep each core goes, all of them looked at together."""

import math

from niente.core.analysis.evidence import Evidence, RunSummary
from niente.core.analysis.stability import RunExposure, exposures_in, part_exposure
from niente.core.model.names import part_of
from niente.core.model.plan import Exposure, Search, Step
from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.planning.depth_search import COARSE_MV, COARSE_S, SETTING_S, DepthRange
from niente.core.planning.part_search import (
    MEAN_TIMES_S,
    MadePartExposure,
    PartGoal,
    WantedPartExposure,
    is_coarse_for_parts,
    next_part_exposure,
    part_answer,
    parts_are_known,
)
from niente.core.planning.search_stand import SearchStand, made_for, seconds_left

TYPICAL_SHARE = 0.75
"""How much of its mean time an exposure is expected to last, for lists and costs only: many fail before."""


def parts_stand(entry: Search, card: RigCard, evidence: Evidence | None, since_s: float = 0.0) -> SearchStand:
    """Return where a structured search of several parts stands, by all runs since a moment."""
    made, told, later = _seen_for(entry, card, evidence, since_s)
    left_s, goal = seconds_left(entry, made), _goal_of(entry, card)
    wanted = next_part_exposure(goal, told, left_s)
    if wanted is not None:
        step = _step(entry, card, wanted.load, wanted.depths_mv, wanted.seconds)
        more = _expected(entry, card, goal, told, wanted, left_s - wanted.seconds)
        return SearchStand(made, (step, *more[: max(entry.max_runs - len(made) - 1, 0)]), None)
    each = [part_answer(goal, one).depths_mv for one in (told, later) if one]
    if not each:
        return SearchStand(made, (), dict.fromkeys(entry.controls, entry.start))
    depths = tuple(goal.within.no_deeper(min(part)) for part in zip(*each, strict=True))
    return SearchStand(made, (), _values(entry, card, depths))


def parts_take_long(entry: Search, card: RigCard, evidence: Evidence | None, since_s: float = 0.0) -> bool:
    """Return whether it takes a while to say where a search of parts stands: its exposures have to be gone through first."""
    _, told, later = _seen_for(entry, card, evidence, since_s)
    goal = _goal_of(entry, card)
    return not is_coarse_for_parts(goal, told) and not all(parts_are_known(goal, one) for one in (told, later))


def _goal_of(entry: Search, card: RigCard) -> PartGoal:
    all_mv = _all_cores_mv(entry.setting.over(card.stock))
    hottest = math.nan if entry.hottest_c is None else entry.hottest_c
    within = DepthRange(all_mv - entry.start, all_mv - entry.deepest, entry.fine, hottest)
    return PartGoal(entry.goal, within, len(entry.controls), len(entry.loads))


def _all_cores_mv(whole: Setting) -> float:
    """Return how deep the offset of all cores goes."""
    return -(whole.voltage_offset_mv or 0.0)


def _seen_for(
    entry: Search, card: RigCard, evidence: Evidence | None, since_s: float
) -> tuple[tuple[RunSummary, ...], tuple[MadePartExposure, ...], tuple[MadePartExposure, ...]]:
    """Return the runs that were made for a search, the exposures that count up to the latest of them, and those up to the
    latest failure where that came after them: all at its setting, whatever their offsets."""
    made = made_for(entry, card, evidence, since_s)
    runs = [run for run in (evidence.runs if evidence is not None else ()) if run.opened_at >= since_s]
    base = _without_offsets(entry, entry.setting.over(card.stock))
    numbers = {run.run_id for run in made}
    exposures = [
        one for one in exposures_in(runs, card) if one.load in entry.loads and _without_offsets(entry, one.setting) == base
    ]
    last = max(numbers, default=0)
    until = sum(one.run_id <= last for one in exposures)
    failed = max((index + 1 for index, one in enumerate(exposures) if one.seen.failed), default=0)
    told = tuple(_told(entry, one, one.run_id in numbers) for one in exposures)
    return made, told[:until], told[:failed] if failed > until else ()


def _without_offsets(entry: Search, whole: Setting) -> Setting:
    whole = whole.replaced("voltage_offset_mv", 0.0)
    for control in entry.controls:
        whole = whole.replaced(control, 0.0)
    return whole


def _told(entry: Search, one: RunExposure, here: bool) -> MadePartExposure:
    """Return an exposure as a search of parts takes it."""
    seen = part_exposure(one, [part_of(control) for control in entry.controls])
    return MadePartExposure(entry.loads.index(one.load), seen, here)


def _values(entry: Search, card: RigCard, depths_mv: tuple[float, ...]) -> dict[str, float]:
    """Return the controls' values at depths of the parts."""
    all_mv = _all_cores_mv(entry.setting.over(card.stock))
    return {control: round(all_mv - depth, 6) + 0.0 for control, depth in zip(entry.controls, depths_mv, strict=True)}


def _expected(
    entry: Search, card: RigCard, goal: PartGoal, told: tuple[MadePartExposure, ...], wanted: WantedPartExposure, left_s: float
) -> list[Step]:
    """Return the exposures that are expected after the next: coarse ones until half the way, then some to the time's end."""
    within, parts = goal.within, goal.parts
    deepest = max((max(one.seen.depths_mv) for one in told), default=within.start_mv)
    middle = within.on_step(max(deepest, 0.5 * (within.start_mv + within.deepest_mv)))
    steps: list[Step] = []
    depth = max(wanted.depths_mv)
    coarse = not any(one.seen.failed for one in told)
    while coarse and left_s > COARSE_S and (depth := depth + max(COARSE_MV, within.step_mv)) <= middle:
        steps += [_step(entry, card, load, (within.on_step(depth),) * parts, COARSE_S) for load in range(goal.loads)]
        left_s -= (COARSE_S + SETTING_S) * goal.loads
    while left_s > 0.0 and len(steps) < entry.max_runs:
        seconds = TYPICAL_SHARE * MEAN_TIMES_S[len(steps) % len(MEAN_TIMES_S)]
        steps.append(_step(entry, card, 0, (middle,) * parts, seconds))
        left_s -= seconds + SETTING_S
    return steps


def _step(entry: Search, card: RigCard, load: int, depths_mv: tuple[float, ...], seconds: float) -> Step:
    """Return the run that makes an exposure."""
    values, setting = _values(entry, card, depths_mv), entry.setting
    for control, value in values.items():
        setting = setting.replaced(control, value)
    whole_s, unit = float(round(seconds)), quantity_of(entry.controls[0])
    low, high = min(values.values()), max(values.values())
    where = unit.with_unit(low) if low == high else f"{unit.with_unit(low)} to {unit.with_unit(high)}"
    words = f"{where} by core for {whole_s:g} s: which core fails, and how soon?"
    if seconds == COARSE_S and low == high:
        words = f"All cores at {where} for {whole_s:g} s: does any fail?"
    return Step(setting, entry.loads[load], Exposure(whole_s, whole_s), entry.stage, words)
