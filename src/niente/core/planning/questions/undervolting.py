"""Undervolting: how deep offsets go, together, per core or per curve point; and a fixed clock with the voltage down.

Lowering a voltage makes a machine err before it makes it fail: work on data that can be lost, within the maker's limits.
"""

import msgspec

from niente.core.model.plan import Entry, Exposure, Search, SearchMethod, Step
from niente.core.model.question import Axis, Question, Span, TemplateName
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.model.setting import Setting
from niente.core.planning.axis_values import snapped
from niente.core.planning.builders import (
    base_of,
    baseline_steps,
    control_parts,
    each_load,
    fixed_fans,
    one_core_steps,
    until_known,
)
from niente.core.planning.order import arranged
from niente.core.planning.questions.real_time import OF_SIZES

OFFSET, PER_CORE, PER_POINT = "voltage_offset_mv", "core_offset_mv", "point_offset_mv"
SEARCHED = (OFFSET, PER_CORE, PER_POINT)
FIXED_CLOCK, FIXED_VOLTAGE, CLOCK_CAP = "fixed_clock_mhz", "fixed_voltage_v", "clock_cap_mhz"
RUNG = Exposure(min_s=600.0, max_s=600.0)
"""What passes 15 s may fail in ten minutes (common practice); an hour is a question of its own."""
COARSE_STEPS = 4
FOUND = "undervolt"
OF_ONE = (SearchMethod.STRUCTURED, SearchMethod.LADDER, SearchMethod.BISECTION)
"""The ways to look for one depth of all cores."""
OF_CORES = (SearchMethod.STRUCTURED, SearchMethod.WEAKEST_FIRST, SearchMethod.IN_TURN)
"""The ways to look for a depth of each core."""
OF_POINTS = (SearchMethod.IN_TURN,)
"""The way to look for a depth of each point of the curve: a failure does not say which point it came from."""
BUDGET_S = 2.5 * 3600.0
"""What a search is given where the depth is the question itself."""
HEADROOM_K = 8.0
"""How far under its limit the hottest core is let come, as limits of a choice usually have it."""


def checked_loads(card: RigCard) -> tuple[str, ...]:
    """Return the loads in which a failure shows: the heaviest, the realistic, and the one whose clock is highest."""
    wanted = (LoadKind.HEAVY, LoadKind.REALISTIC, LoadKind.LIGHT)
    found = (next((load for load in card.loads if load.kind == kind and load.checks_results), None) for kind in wanted)
    return tuple(load.name for load in found if load is not None)


def offset_axis(card: RigCard, control: str = OFFSET) -> Axis:
    """Return an axis over offsets: from the deepest that the rig takes, down to -150 mV, to none, in four of its steps."""
    own = card.control(control_parts(card, control)[0])
    assert own is not None
    return Axis(control, span=Span(max(own.low, -150.0), 0.0, COARSE_STEPS * own.step))


def first_undervolt(card: RigCard) -> Question:
    """Return the all-core offset, by exposures at the depths that tell most."""
    loads = checked_loads(card)
    return Question(
        TemplateName.UNDERVOLT_LADDER,
        (offset_axis(card),),
        fixed_fans(card),
        loads[:1],
        loads[1:],
        RUNG,
        method=SearchMethod.STRUCTURED,
    )


def undervolt_entries(card: RigCard, question: Question) -> list[Entry]:
    """Return stock as the yardstick, the search, and what was found, run until its temperature is known."""
    entries: list[Entry] = [*baseline_steps(card, question.loads[:2], until_known(card))]
    search = search_over(card, question, base_of(card, question))
    if search is None:
        return entries
    entries.append(search)
    for load, purpose in each_load(question):
        reason = f"What was found, with its margin; {purpose}"
        entries.append(Step(search.setting, load, until_known(card), "undervolt", reason, takes=search.name))
    return entries


def search_methods(question: Question) -> tuple[SearchMethod, ...]:
    """Return the ways to search what a question searches, the one that is taken where another would not fit first."""
    if question.template == TemplateName.REAL_TIME:
        return OF_SIZES
    controls = {axis.control for axis in question.axes}
    return OF_CORES if PER_CORE in controls else OF_POINTS if PER_POINT in controls else OF_ONE


def _method_for(control: str, parts: int, wanted: SearchMethod) -> SearchMethod:
    """Return the method of a search over a control with so many parts: the one wanted, as far as it fits."""
    ways = (OF_POINTS if control == PER_POINT else OF_CORES) if parts > 1 else OF_ONE
    return wanted if wanted in ways else ways[0]


def search_over(
    card: RigCard, question: Question, base: Setting, exposure: Exposure | None = None, budget_s: float = BUDGET_S
) -> Search | None:
    """Return the search over the question's offset axis, in so much time where it is a structured one; ``None`` where it varies
    none."""
    axis = next((one for one in question.axes if one.control in SEARCHED and len(one.points()) > 1), None)
    loads = tuple(load for load in question.loads if (known := card.load(load)) is not None and known.kind != LoadKind.IDLE)
    if axis is None or not loads:
        return None
    controls = control_parts(card, axis.control)
    method = _method_for(axis.control, len(controls), question.method)
    own = card.control(controls[0])
    step = own.step if own is not None else 5.0
    return search_of(
        FOUND,
        controls[::-1] if method == SearchMethod.IN_TURN else controls,
        snapped(msgspec.structs.replace(axis, control=controls[0]), card),
        question,
        step,
        setting=base,
        loads=loads,
        method=method,
        stage="undervolt",
        exposure=exposure or question.exposure,
        budget_s=budget_s,
        hottest_c=hottest_allowed(card),
    )


def search_of(
    name: str,
    controls: tuple[str, ...],
    points: tuple[float, ...],
    question: Question,
    step: float,
    *,
    setting: Setting,
    loads: tuple[str, ...],
    method: SearchMethod,
    stage: str,
    exposure: Exposure,
    budget_s: float = BUDGET_S,
    hottest_c: float | None = None,
) -> Search:
    """Return a search from the gentlest of some values, which is the highest, to the deepest; ``step`` is the rig's own."""
    high, low = max(points), min(points)
    coarse = max((high - low) / (len(points) - 1), step)
    fine = min(question.fine if question.fine is not None else step, coarse)
    return Search(
        name=name,
        controls=controls,
        start=high,
        deepest=low,
        coarse=float(f"{round(coarse / step) * step:.6g}"),
        fine=fine,
        margin=question.margin if question.margin is not None else 2 * step,
        setting=setting,
        loads=loads,
        exposure=exposure,
        method=method,
        passes=question.passes,
        max_runs=60 * max(1, len(loads)),
        stage=stage,
        goal=question.goal,
        budget_s=budget_s,
        hottest_c=hottest_c,
    )


def hottest_allowed(card: RigCard) -> float:
    """Return the hottest that a core may come to where the usual headroom is kept, in °C."""
    return card.limits.core_temperature_c - card.limits.margin_k - HEADROOM_K


def has_fixed(card: RigCard) -> bool:
    """Return whether a rig takes a fixed clock and a fixed voltage."""
    return card.control(FIXED_CLOCK) is not None and card.control(FIXED_VOLTAGE) is not None


def first_clock(card: RigCard) -> Question:
    """Return three clocks below the stock one, and how far the voltage goes down at each."""
    loads = checked_loads(card)
    top = card.stock.clock_cap_mhz or 4000.0
    clocks = tuple(round(top * share / 25.0) * 25.0 for share in (0.75, 0.85, 0.92))
    if has_fixed(card):
        axes: tuple[Axis, ...] = (Axis(FIXED_CLOCK, clocks), Axis(FIXED_VOLTAGE, span=Span(0.85, 1.15, 0.05)))
    else:
        axes = (Axis(CLOCK_CAP, clocks), offset_axis(card))
    return Question(
        TemplateName.CLOCK_VOLTAGE, axes, fixed_fans(card), loads[:1], loads[1:2], RUNG, method=SearchMethod.BISECTION
    )


def clock_entries(card: RigCard, question: Question) -> list[Entry]:
    """Return for every clock, the lowest first, how far the voltage goes down, and what was found there."""
    clock = next((one for one in question.axes if one.control in (FIXED_CLOCK, CLOCK_CAP)), None)
    depth = next((one for one in question.axes if one.control in (FIXED_VOLTAGE, OFFSET) and len(one.points()) > 1), None)
    entries: list[Entry] = [*baseline_steps(card, question.loads[:2], until_known(card))]
    one_core = one_core_steps(card, question.loads)
    entries += one_core
    if clock is None or depth is None or not question.loads:
        return entries
    control = card.control(depth.control)
    step = control.step if control is not None else 5.0
    for mhz in sorted(snapped(clock, card)):
        base = base_of(card, question).replaced(clock.control, mhz)
        name = f"voltage at {mhz:g} MHz"
        method = question.method if question.method in (SearchMethod.LADDER, SearchMethod.BISECTION) else SearchMethod.LADDER
        search = search_of(
            name,
            (depth.control,),
            snapped(depth, card),
            question,
            step,
            setting=base,
            loads=question.loads,
            method=method,
            stage="voltage",
            exposure=question.exposure,
        )
        entries.append(search)
        found = [
            Step(base, load, until_known(card), "voltage", f"The least voltage for this clock; {purpose}", takes=name)
            for load, purpose in each_load(question)
        ]
        found += [
            Step(base, step.load, step.exposure, "voltage", "What one core keeps at this clock", takes=name)
            for step in one_core
        ]
        entries += arranged(found, msgspec.structs.replace(question, repeats=1), card)
    return entries
