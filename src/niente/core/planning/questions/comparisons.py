"""Comparisons: two states of the machine in the order A B B A, and the four ways of limiting a machine."""

import msgspec

from niente.core.model.names import kind_of
from niente.core.model.plan import Entry, SearchMethod, Step
from niente.core.model.question import Axis, FanSchool, Order, Question, Span, TemplateName
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.model.setting import Setting
from niente.core.planning.axis_values import LEVEL, SPEED, is_fan_axis, snapped
from niente.core.planning.builders import (
    GIVES_THROUGHPUT,
    NOISE_DUTIES,
    Spot,
    at_point,
    base_of,
    baseline_steps,
    confirmation,
    default_fans,
    each_load,
    fixed_fans,
    limits_below,
    load_named,
    noise_steps,
    span_of,
    spots,
    step_at,
    swept_groups,
    until_known,
    usable_axes,
)
from niente.core.planning.order import arranged
from niente.core.planning.questions.ladders import CAP, CAP_HIGH_C, CAP_STEP_C, POWER
from niente.core.planning.questions.undervolting import (
    CLOCK_CAP,
    FIXED_CLOCK,
    FIXED_VOLTAGE,
    OF_ONE,
    OFFSET,
    RUNG,
    checked_loads,
    has_fixed,
    hottest_allowed,
    offset_axis,
    search_of,
)

OFFSET_BUDGET_S = 5400.0
"""What the search for an offset is given where it is one way of several."""
UNDERVOLT, LIMIT, CAPPED, FIXED = "undervolt", "power limit", "temperature cap", "fixed clock"


def first_variants(card: RigCard) -> Question:
    """Return the machine as it is now against the next state it is known in."""
    names = [variant.name for variant in card.variants]
    other = next((name for name in names if name != card.variant), card.variant)
    loads = load_named(card, LoadKind.HEAVY)
    variants = tuple(dict.fromkeys((card.variant, other)))
    return Question(
        TemplateName.VARIANTS, (), fixed_fans(card), loads, (), until_known(card), Order.MIRRORED, variants=variants
    )


def variant_entries(card: RigCard, question: Question) -> list[Entry]:
    """Return the blocks A, B, B, A (or in another order's turn), each with the same runs; hands work between the blocks."""
    names = question.variants[:2]
    if len(names) < 2:
        return []
    turns = [*names, *reversed(names)] if question.order == Order.MIRRORED else list(names)
    axes = usable_axes(card, question)
    wants_map = any(kind_of(axis.control) in (SPEED, LEVEL) for axis in axes)
    entries: list[Entry] = []
    heard: set[str] = set()
    for name in turns * question.repeats:
        stage = "AB"[names.index(name)]
        if wants_map and name not in heard:
            heard.add(name)
            entries += _noise_of(card, question, name)
        block = [
            msgspec.structs.replace(
                step_at(card, spot, load, question.exposure, stage, f"{stage} is {name}; {why}"), variant=name
            )
            for load, why in each_load(question)
            for spot in spots(card, base_of(card, question), axes)
        ]
        plain = msgspec.structs.replace(question, repeats=1, order=_within(question.order))
        entries += arranged(block, plain, card)
    return entries


def _within(order: Order) -> Order:
    return Order.WARM if order == Order.MIRRORED else order


def _noise_of(card: RigCard, question: Question, variant: str) -> list[Step]:
    """Return what equal speed and equal noise are worked out from: all swept groups together, over their duties."""
    base = base_of(card, question)
    lead = card.lead_group() or ""
    duties = snapped(Axis(f"fan_duty.{lead}", span=NOISE_DUTIES), card)
    steps = noise_steps(card, base, (), variant)
    idle = card.load_of(LoadKind.IDLE)
    if idle is None or not steps:
        return steps
    for duty in duties:
        setting = base
        for group in swept_groups(card):
            setting = setting.replaced(f"fan_duty.{group}", duty)
        words = "All fans together: what equal noise is worked out from"
        steps.append(Step(setting, idle.name, steps[-1].exposure, "noise", words, variant))
    return steps


def first_ways(card: RigCard) -> Question:
    """Return a few rungs of every way that the rig has: offset, power limit, temperature cap, clock and voltage."""
    loads = load_named(card, LoadKind.HEAVY, LoadKind.REALISTIC)
    axes: tuple[Axis, ...] = (Axis(POWER, limits_below(card, (0.5, 0.65, 0.8))), *default_fans(card, FanSchool.DUTY)[:1])
    if card.control(OFFSET) is not None:
        axes = (offset_axis(card), *axes)
    cap = card.control(CAP)
    if cap is not None:
        axes = (*axes, Axis(CAP, span=span_of(cap, 65.0, CAP_HIGH_C, 2 * CAP_STEP_C)))
    top = card.stock.clock_cap_mhz or 4000.0
    clocks = tuple(round(top * share / 25.0) * 25.0 for share in (0.75, 0.88))
    if has_fixed(card):
        axes = (*axes, Axis(FIXED_CLOCK, clocks), Axis(FIXED_VOLTAGE, span=Span(0.85, 1.15, 0.05)))
    elif card.control(CLOCK_CAP) is not None:
        axes = (*axes, Axis(CLOCK_CAP, clocks))
    base = fixed_fans(card)
    return Question(TemplateName.HOLD_BACK, axes, base, loads[:1], loads[1:], until_known(card), method=SearchMethod.STRUCTURED)


def way_entries(card: RigCard, question: Question) -> list[Entry]:
    """Return the four ways one after another, gentle before risky, over the same fans and loads; the pick is confirmed."""
    base = base_of(card, question)
    axes = {axis.control: axis for axis in usable_axes(card, question)}
    fans = [axis for axis in axes.values() if is_fan_axis(axis)]
    swept = [duty for axis in fans if axis.control == f"fan_duty.{card.lead_group()}" for duty in snapped(axis, card)]
    entries: list[Entry] = [*noise_steps(card, base, swept), *baseline_steps(card, question.loads, question.exposure)]
    coolest = base.replaced(f"fan_duty.{card.lead_group()}", max(swept)) if swept else base
    if POWER in axes:
        entries += _rungs(card, question, LIMIT, spots(card, base, [axes[POWER], *fans]), first_only=True)
    if CAP in axes:
        quiet = base.replaced(f"fan_duty.{card.lead_group()}", sorted(swept)[len(swept) // 2]) if swept else base
        entries += _rungs(card, question, CAPPED, spots(card, quiet, [axes[CAP]]))
    if OFFSET in axes and len(axes[OFFSET].points()) > 1:
        entries += _undervolted(card, question, coolest, axes[OFFSET], axes.get(POWER))
    entries += _fixed(card, question, coolest, axes)
    return [*entries, *confirmation(card, question)]


def _rungs(
    card: RigCard, question: Question, way: str, points: list[Spot], *, takes: str = "", first_only: bool = False
) -> list[Step]:
    """Return the rungs of one way: until known under the first load, for the throughput under the others."""
    steps: list[Step] = []
    seen: set[float] = set()
    for spot in points:
        for index, load in enumerate(question.loads):
            power = spot.setting.sustained_power_w or 0.0
            if index and first_only and power in seen:
                continue
            if index:
                seen.add(power)
            exposure = question.exposure if index == 0 else GIVES_THROUGHPUT
            reason = f"Held back by {way}"
            steps.append(msgspec.structs.replace(step_at(card, spot, load, exposure, way, reason), takes=takes))
    return arranged(steps, question, card)


def _undervolted(card: RigCard, question: Question, base: Setting, axis: Axis, limits: Axis | None) -> list[Entry]:
    """Return the search at stock limits, and its result there and at the question's power limits."""
    control = card.control(axis.control)
    search = search_of(
        UNDERVOLT,
        (axis.control,),
        snapped(axis, card),
        question,
        control.step if control is not None else 5.0,
        setting=base,
        loads=checked_loads(card) or question.loads,
        method=question.method if question.method in OF_ONE else OF_ONE[0],
        stage=UNDERVOLT,
        exposure=RUNG,
        budget_s=OFFSET_BUDGET_S,
        hottest_c=hottest_allowed(card),
    )
    points = [Spot(base), *(spots(card, base, [limits]) if limits is not None else [])]
    return [search, *_rungs(card, question, UNDERVOLT, points, takes=UNDERVOLT)]


def _fixed(card: RigCard, question: Question, base: Setting, axes: dict[str, Axis]) -> list[Entry]:
    """Return for each clock its least voltage, or where the rig fixes none, the clock capped at the offset that was found."""
    clock = axes.get(FIXED_CLOCK) or axes.get(CLOCK_CAP)
    if clock is None:
        return []
    entries: list[Entry] = []
    voltage, control = axes.get(FIXED_VOLTAGE), card.control(FIXED_VOLTAGE)
    for mhz in sorted(snapped(clock, card)):
        at = at_point(card, Spot(base), clock.control, mhz)
        takes = UNDERVOLT if OFFSET in axes else ""
        if voltage is not None and control is not None and clock.control == FIXED_CLOCK:
            takes = f"voltage at {mhz:g} MHz"
            entries.append(
                search_of(
                    takes,
                    (FIXED_VOLTAGE,),
                    snapped(voltage, card),
                    question,
                    control.step,
                    setting=at.setting,
                    loads=question.loads,
                    method=SearchMethod.BISECTION,
                    stage=FIXED,
                    exposure=RUNG,
                )
            )
        entries += _rungs(card, question, FIXED, [at], takes=takes)
    return entries
