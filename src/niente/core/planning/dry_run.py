"""The dry run: a plan checked against limits, guards, hands and the clock, before anything is touched."""

import math
from collections.abc import Sequence
from itertools import pairwise

import msgspec

from niente.core.model.plan import Guard, GuardAction, Plan
from niente.core.model.quantities import duration_text, quantity_of
from niente.core.model.question import FanSchool, Order, Question
from niente.core.model.rig_card import LoadKind, RigCard, SetBy
from niente.core.planning.cost import AIR, Pace, PlanCost, cost_of, row_seconds
from niente.core.planning.forecast import StepForecast
from niente.core.planning.progress import Row
from niente.core.planning.risk import depth_mv
from niente.core.planning.validation import Checked, findings

MANY_RUNS = 1000


class NearGuard(msgspec.Struct, frozen=True):
    """How near the plan comes to a guard: the smallest distance that is foreseen, in the guard's unit, and the index of the
    run. NaN where nothing can be foreseen of it."""

    guard: Guard
    gap: float = math.nan
    index: int | None = None


class DryRun(msgspec.Struct, frozen=True):
    """What is known of a plan before it is run. ``wrong`` keeps it from running; ``warnings`` do not.

    ``hottest`` is the index of the run foreseen hottest, ``hands`` the indices of those before which a person has to do
    something, ``trips`` of those that must trip a guard, ``loud`` of those louder than the quiet hours let them be while they
    would be run. ``near`` has the guards, nearest first.
    """

    wrong: tuple[str, ...]
    warnings: tuple[str, ...]
    cost: PlanCost
    hottest: int | None
    hands: tuple[int, ...]
    trips: tuple[int, ...]
    loud: tuple[int, ...]
    near: tuple[NearGuard, ...]


def dry_run(
    plan: Plan,
    card: RigCard,
    rows: Sequence[Row],
    seen: Sequence[StepForecast],
    *,
    question: Question | None = None,
    pace: Pace = AIR,
    hour: float = 0.0,
    cost: PlanCost | None = None,
    checked: Checked | None = None,
) -> DryRun:
    """Return what a plan comes to: ``rows`` are its runs, ``seen`` what is foreseen of each, ``hour`` the hour of the day at
    which it would begin. ``cost`` and ``checked`` are handed on where they are known."""
    cost = cost if cost is not None else cost_of(rows, card, question, pace)
    ahead = [index for index, row in enumerate(rows) if not row.status.closed]
    hot = [index for index in ahead if math.isfinite(seen[index].core_c)]
    hottest = max(hot, key=lambda index: seen[index].core_c, default=None)
    ending = [guard for guard in plan.guards if guard.action != GuardAction.WARN]
    trips = [index for index in ahead if any(_trips(guard, card, rows[index], seen[index]) for guard in ending)]
    hands = _hands(card, rows, ahead)
    loud = _loud(plan, rows, seen, ahead, pace, hour)
    near = sorted((_near(guard, card, rows, seen, ahead) for guard in ending), key=_distance)
    warnings = _warnings(plan, card, rows, question, cost, trips, loud)
    return DryRun(
        tuple(findings(plan, card, checked)),
        tuple(warnings),
        cost,
        hottest,
        tuple(hands),
        tuple(trips),
        tuple(loud),
        tuple(near),
    )


def _warnings(
    plan: Plan,
    card: RigCard,
    rows: Sequence[Row],
    question: Question | None,
    cost: PlanCost,
    trips: list[int],
    loud: list[int],
) -> list[str]:
    found = []
    if trips:
        found.append(f"{_runs(trips)} must trip a guard: the plan cannot measure there. Lower the setting, or leave them out.")
    if plan.budget_s is not None and cost.left_s > plan.budget_s:
        over = duration_text(cost.left_s - plan.budget_s)
        found.append(f"It takes {over} more than its budget of {duration_text(plan.budget_s)}.")
    if cost.runs >= MANY_RUNS:
        found.append(f"{cost.runs} runs take {duration_text(cost.typical_s)} of the machine's time.")
    if loud and plan.quiet is not None:
        found.append(f"{_runs(loud)} are louder than {plan.quiet.max_dba:g} dBA and wait for the quiet hours' end.")
    if question is not None and question.fans == FanSchool.AS_USED:
        found.append("Fans are on their curve: temperature no longer shifts one for one with the room, and hides in the noise.")
    if question is not None and question.order == Order.RANDOM and any(depth_mv(row.step.setting) > 0 for row in rows):
        found.append("In random order deep offsets come before shallow ones: a failure may come where it says least.")
    return found


def _runs(indices: Sequence[int]) -> str:
    """Say which runs: ``Run 4``, ``Runs 4 to 9``, ``Runs 4, 7 and 3 more``."""
    if len(indices) == 1:
        return f"Run {indices[0] + 1}"
    if all(b == a + 1 for a, b in pairwise(indices)):
        return f"Runs {indices[0] + 1} to {indices[-1] + 1}"
    shown = ", ".join(f"{index + 1}" for index in indices[:3])
    return f"Runs {shown}" + (f" and {len(indices) - 3} more" if len(indices) > 3 else "")


def _trips(guard: Guard, card: RigCard, row: Row, seen: StepForecast) -> bool:
    """Return whether a run must trip a guard, as far as is foreseen."""
    if guard.quantity == "core_temperature_c":
        return math.isfinite(seen.core_c) and seen.core_c - seen.core_hw > guard.trip
    if guard.quantity == "package_power_w":
        return _full_power_w(card, row) >= guard.trip
    if guard.quantity == "noise_dba":
        return seen.noise_dba >= guard.trip
    return False


def _full_power_w(card: RigCard, row: Row) -> float:
    """Return the watts that a run is sure to draw: its power limit, under a heaviest load that stock drives into it.

    0 where that cannot be said: at a lower voltage, or a lower clock, the limit may never be reached.
    """
    load = card.load(row.step.load)
    whole = row.step.setting.over(card.stock)
    if load is None or load.kind != LoadKind.HEAVY or whole.sustained_power_w is None or depth_mv(whole) > 0:
        return 0.0
    stock_w = card.stock.sustained_power_w
    below_stock = stock_w is not None and whole.sustained_power_w <= stock_w
    same = whole.clock_cap_mhz == card.stock.clock_cap_mhz and not whole.fixed_clock_mhz
    return whole.sustained_power_w if below_stock and same else 0.0


def _near(guard: Guard, card: RigCard, rows: Sequence[Row], seen: Sequence[StepForecast], ahead: Sequence[int]) -> NearGuard:
    """Return how near the runs ahead come to a guard."""
    best = NearGuard(guard)
    for index in ahead:
        if guard.quantity == "core_temperature_c":
            reach = seen[index].core_c
        elif guard.quantity == "package_power_w":
            reach = rows[index].step.setting.over(card.stock).sustained_power_w or math.nan
        elif guard.quantity == "noise_dba":
            reach = seen[index].noise_dba
        else:
            break
        gap = guard.trip - reach
        if math.isfinite(gap) and not gap >= best.gap:
            best = NearGuard(guard, gap, index)
    return best


def _distance(near: NearGuard) -> float:
    """Return what guards are sorted by: the share of the trip level that is left; unknown ones last."""
    return near.gap / max(abs(near.guard.trip), 1.0) if math.isfinite(near.gap) else math.inf


def _hands(card: RigCard, rows: Sequence[Row], ahead: Sequence[int]) -> list[int]:
    """Return the runs before which hands have to change something: the machine's state, or what software cannot set."""
    by_software = all(control.set_by == SetBy.SOFTWARE for control in card.controls)
    now, variant, found = card.stock, card.variant, []
    for index in ahead:
        step = rows[index].step
        wanted = step.variant or variant
        whole = now if by_software else step.setting.over(card.stock)
        if wanted != variant or card.set_by_hands(whole, now):
            found.append(index)
        variant, now = wanted, whole
    return found


def hand_words(card: RigCard, rows: Sequence[Row], index: int) -> str:
    """Say what hands do before a run."""
    step = rows[index].step
    before = [row.step for row in rows[:index] if not row.status.closed]
    was = before[-1].setting.over(card.stock) if before else card.stock
    parts = []
    if step.variant and step.variant != (before[-1].variant if before else card.variant):
        parts.append(f"the machine becomes {step.variant!r}")
    whole = step.setting.over(card.stock)
    for control in card.set_by_hands(whole, was):
        parts.append(f"{control.title.lower()} {quantity_of(control.name).with_unit(whole.value(control.name) or 0.0)}")
    return ", ".join(parts)


def _loud(
    plan: Plan, rows: Sequence[Row], seen: Sequence[StepForecast], ahead: Sequence[int], pace: Pace, hour: float
) -> list[int]:
    """Return the runs that would fall into quiet hours and are foreseen louder than these allow."""
    if plan.quiet is None:
        return []
    at, found = hour, []
    for index in ahead:
        if plan.quiet.covers(at) and seen[index].noise_dba > plan.quiet.max_dba:
            found.append(index)
        else:
            at += row_seconds(rows[index], pace) / 3600.0
    return found
