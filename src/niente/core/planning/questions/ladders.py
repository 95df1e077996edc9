"""Ladders and sweeps of one control: power up to the first throttling, temperature caps, and axes of one's own."""

import msgspec

from niente.core.model.plan import Entry, Exposure, Step, Until
from niente.core.model.question import Axis, FanSchool, Order, Question, TemplateName
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.planning.axis_values import is_fan_axis
from niente.core.planning.builders import (
    base_of,
    default_fans,
    each_load,
    fixed_fans,
    load_named,
    span_of,
    spots,
    step_at,
    until_known,
    usable_axes,
)
from niente.core.planning.order import arranged

POWER, CAP = "sustained_power_w", "temperature_cap_c"
POWER_STEP_W = 10.0
TWENTY_MINUTES = Exposure(min_s=1200.0, max_s=1200.0)
"""Where heat limits, the temperature is the cap and known at once; it is the clock that settles (common practice)."""
CAP_LOW_C, CAP_HIGH_C, CAP_STEP_C = 60.0, 85.0, 5.0


def first_capacity(card: RigCard) -> Question:
    """Return the sustained power limit in steps of 10 W, from two fifths of stock to the rig's highest."""
    power = card.control(POWER)
    assert power is not None
    stock = card.stock.sustained_power_w or power.high
    step = POWER_STEP_W if stock >= 90.0 else POWER_STEP_W / 2 if stock >= 30.0 else 1.0
    step *= max(1.0, round(stock / 165.0))
    axis = Axis(POWER, span=span_of(power, round(stock * 0.4 / step) * step, power.high, step))
    return Question(
        TemplateName.CAPACITY_LADDER, (axis,), fixed_fans(card), load_named(card, LoadKind.HEAVY), (), until_known(card)
    )


def capacity_entries(card: RigCard, question: Question) -> list[Entry]:
    """Return power up in steps at fixed fans; the rest of a ladder is left out once heat has limited the clock."""
    axes = usable_axes(card, question)
    ladder = [axis for axis in axes if not is_fan_axis(axis)]
    fans = [axis for axis in axes if is_fan_axis(axis)]
    entries: list[Entry] = []
    for load, purpose in each_load(question):
        for spot in spots(card, base_of(card, question), fans):
            rungs = [
                msgspec.structs.replace(at, speed_rpm=spot.speed_rpm, level_dba=spot.level_dba)
                for at in spots(card, spot.setting, ladder)
            ]
            steps = [
                step_at(card, at, load, question.exposure, "ladder", f"Up to where heat limits; {purpose}") for at in rungs
            ]
            if question.order not in (Order.RANDOM, Order.MIRRORED):
                steps = [msgspec.structs.replace(step, until=Until.HEAT) for step in steps]
            entries += arranged(steps, question, card)
    return entries


def first_caps(card: RigCard) -> Question:
    """Return temperature caps from 60 to 85 °C; the firmware then chooses the clock."""
    cap = card.control(CAP)
    assert cap is not None
    axis = Axis(CAP, span=span_of(cap, CAP_LOW_C, CAP_HIGH_C, CAP_STEP_C))
    realistic = load_named(card, LoadKind.REAL_TIME, LoadKind.REALISTIC)[:1]
    return Question(
        TemplateName.CAP_SWEEP, (axis,), fixed_fans(card), load_named(card, LoadKind.HEAVY), realistic, TWENTY_MINUTES
    )


def cap_entries(card: RigCard, question: Question) -> list[Entry]:
    """Return every cap under every load, the lowest and coolest first, and stock to compare with."""
    stock = [
        Step(base_of(card, question), load, question.exposure, "baseline", "The cap as found: what 100 % is")
        for load in question.loads
    ]
    return [*stock, *_product(card, question, "cap sweep", "What this cap leaves")]


def first_free(card: RigCard) -> Question:
    """Return the two axes of a map, free to be changed into any others."""
    axes = default_fans(card, FanSchool.DUTY)
    power = card.control(POWER)
    if power is not None:
        stock = card.stock.sustained_power_w or power.high
        axes = (Axis(POWER, span=span_of(power, stock * 0.5, stock, stock * 0.25)), *axes)
    return Question(TemplateName.FREE, axes, fixed_fans(card), load_named(card, LoadKind.HEAVY), (), until_known(card))


def free_entries(card: RigCard, question: Question) -> list[Entry]:
    """Return every point of the axes under every load."""
    return _product(card, question, "free", "One point of the axes")


def _product(card: RigCard, question: Question, stage: str, reason: str) -> list[Entry]:
    points = spots(card, base_of(card, question), usable_axes(card, question))
    steps = [
        step_at(card, spot, load, question.exposure, stage, f"{reason}; {purpose}")
        for load, purpose in each_load(question)
        for spot in points
    ]
    return list(arranged(steps, question, card))
