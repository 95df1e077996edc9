"""Real-time loads: how many voices or streams still fit at a setting before the first one drops out."""

from niente.core.model.plan import Entry, Exposure, Search, SearchMethod
from niente.core.model.question import Axis, Question, Span, TemplateName
from niente.core.model.rig_card import LoadCard, LoadKind, RigCard
from niente.core.model.setting import Setting
from niente.core.planning.axis_values import snapped
from niente.core.planning.builders import (
    Spot,
    base_of,
    each_load,
    fixed_fans,
    limits_below,
    spots,
    step_at,
    until_known,
    usable_axes,
)
from niente.core.planning.questions.ladders import CAP, POWER

SIZE = "load_size"
STAGE, FREE_STAGE = "size", "all it gets"
TEN_MINUTES = Exposure(min_s=600.0, max_s=600.0)
"""A size fits that ran for ten minutes without a drop-out: tests of seconds overstate by a fifth (common practice)."""
LOWER_CAPS_C = (65.0, 70.0)
"""What was tried and what was chosen under a cap found at about 95 °C (common practice)."""
COARSE_SHARE = 0.08
"""Coarse steps, as a share of the largest size."""
OF_SIZES = (SearchMethod.FROM_ABOVE, SearchMethod.LADDER, SearchMethod.BISECTION)
"""The ways to look for the largest size that fits: one that is too large drops out soon and does no harm."""


def sized_load(card: RigCard) -> LoadCard | None:
    """Return the first load with deadlines that runs at a size; ``None`` where there is none."""
    return next((load for load in card.loads if load.kind == LoadKind.REAL_TIME and card.size_of(load.name) is not None), None)


def lacks_size(card: RigCard) -> str:
    """Return what a rig lacks for the question, in words; empty where nothing."""
    return "" if sized_load(card) is not None else "this rig has no load with deadlines whose size can be set"


def first_real_time(card: RigCard) -> Question:
    """Return the largest size at the temperature cap as found and at lower ones; without a cap over power limits."""
    load = sized_load(card)
    cap, stock_c = card.control(CAP), card.stock.temperature_cap_c
    axes: tuple[Axis, ...] = ()
    if cap is not None and stock_c is not None:
        caps = sorted({*(value for value in LOWER_CAPS_C if value < stock_c and cap.takes(value)), stock_c})
        axes = (Axis(CAP, tuple(caps)),)
    elif card.control(POWER) is not None:
        axes = (Axis(POWER, limits_below(card, (0.6, 0.8, 1.0))),)
    return Question(
        TemplateName.REAL_TIME,
        (*axes, size_axis(card, load.name)) if load is not None else axes,
        fixed_fans(card),
        (),
        (load.name,) if load is not None else (),
        TEN_MINUTES,
        method=SearchMethod.FROM_ABOVE,
    )


def size_axis(card: RigCard, load: str) -> Axis:
    """Return the sizes that a load can have, in coarse steps. Raises ``ValueError`` for a load that has no size."""
    own = card.size_of(load)
    if own is None:
        raise ValueError(load)
    step = max(round(COARSE_SHARE * own.high / own.step), 1) * own.step
    return Axis(own.name, span=Span(own.low, own.high, step))


def real_time_entries(card: RigCard, question: Question) -> list[Entry]:
    """Return for every point of the axes, the gentlest first: what the load comes to where it takes all that it gets, until the
    machine is warm, and the search for the largest size that then fits."""
    axes = [axis for axis in usable_axes(card, question) if not axis.control.startswith(f"{SIZE}.")]
    entries: list[Entry] = []
    for spot in spots(card, base_of(card, question), axes):
        for load, _ in each_load(question):
            own = card.size_of(load)
            if own is None or own.rest is not None:
                free = _at_size(spot, load, own.rest) if own is not None and own.rest is not None else spot
                reason = "What it comes to at most, until the machine is warm"
                entries.append(step_at(card, free, load, until_known(card), FREE_STAGE, reason))
            if own is not None:
                entries += _searched(card, question, spot, load, tuple(axis.control for axis in axes))
    return entries


def _at_size(spot: Spot, load: str, size: float) -> Spot:
    return Spot(spot.setting.replaced(f"{SIZE}.{load}", size), spot.speed_rpm, spot.level_dba)


def _searched(card: RigCard, question: Question, spot: Spot, load: str, varied: tuple[str, ...]) -> list[Search]:
    """Return the search for the largest size at one point; nothing where no sizes are given."""
    own = card.size_of(load)
    assert own is not None
    points = snapped(question.axis(own.name) or size_axis(card, load), card)
    if len(points) < 2:
        return []
    low, high = min(points), max(points)
    fine = max(question.fine or own.step, own.step)
    return [
        Search(
            name=search_name(load, spot.setting, varied),
            controls=(own.name,),
            start=low,
            deepest=high,
            coarse=max(float(f"{(high - low) / (len(points) - 1) // own.step * own.step:.6g}"), fine),
            fine=fine,
            margin=question.margin or 0.0,
            setting=spot.setting,
            loads=(load,),
            exposure=question.exposure,
            method=question.method if question.method in OF_SIZES else SearchMethod.FROM_ABOVE,
            passes=question.passes,
            stage=STAGE,
        )
    ]


def search_name(load: str, setting: Setting, varied: tuple[str, ...]) -> str:
    """Return the name of the search over a load's size at one point of the axes."""
    words = setting.text(only=varied) if varied else ""
    return f"{load} at {words or 'the setting as found'}"
