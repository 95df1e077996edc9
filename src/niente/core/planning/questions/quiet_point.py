"""The quiet point, in stages that each use what the last one found: noise, stock, offset, heat over the axes, the pick."""

import msgspec

from niente.core.model.names import kind_of
from niente.core.model.plan import Entry, Exposure, PickRuns, SearchMethod, Step
from niente.core.model.question import Approach, Axis, FanSchool, Question, TemplateName
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.model.setting import Setting
from niente.core.planning.axis_values import is_fan_axis, snapped
from niente.core.planning.builders import (
    FIXED_DUTY,
    GIVES_THROUGHPUT,
    Spot,
    base_of,
    baseline_steps,
    confirmation,
    default_fans,
    is_liquid,
    limits_below,
    load_named,
    noise_steps,
    one_core_steps,
    spots,
    step_at,
    until_known,
    usable_axes,
)
from niente.core.planning.order import arranged
from niente.core.planning.questions.undervolting import OFFSET, RUNG, SEARCHED, offset_axis, search_over

SEARCH_S = {Approach.GRID: 2.5 * 3600.0, Approach.ADAPTIVE: 1.25 * 3600.0}
"""What the offset is given: of a night, and of a few hours. A little more depth would not be heard."""
SHARES = (0.66, 0.55, 0.55)
"""The power limits of the first runs, as shares of stock: about what keeps nine tenths of the throughput."""
FIRST_DUTIES = ((45.0, 45.0), (26.0, 60.0), (60.0, 26.0))
"""Duties of the leading group and of the others in the first runs: each group once slow and once fast."""
FIRST_S, FIRST_KNOWN_K = 300.0, 2.0
FIRST_MAX_S = {False: 900.0, True: 1500.0}
"""The first runs only show where to look: they end early, on air and on liquid."""
NEVER_OFF_DUTY = 65.0
"""Where a pump stands in the later ones of them."""
MOST_RUNS = 8
"""How many runs near the pick there are at most, before the offset is looked for and after it."""


def first_quiet(card: RigCard) -> Question:
    """Return a quiet point that is looked for as runs tell, under the heaviest and the realistic load, at the deepest offset
    that a search finds. Its axes are those of a grid, for who would rather have that: four limits and four duties."""
    axes = (Axis("sustained_power_w", limits_below(card, (0.48, 0.62, 0.76, 0.90))), *default_fans(card, FanSchool.DUTY))
    if card.control(OFFSET) is not None:
        axes = (*axes, offset_axis(card))
    second_group = card.fixed_group()
    base = Setting(fan_duty={second_group: FIXED_DUTY}) if second_group is not None else Setting()
    loads = load_named(card, LoadKind.HEAVY, LoadKind.REALISTIC)
    return Question(
        TemplateName.QUIET_POINT,
        axes,
        base,
        loads[:1],
        loads[1:],
        until_known(card),
        method=SearchMethod.STRUCTURED,
        approach=Approach.ADAPTIVE,
    )


def for_points_of(question: Question, control: str) -> Question:
    """Return a question as somebody wants it who gives points of a control: with runs as they tell only fans and offsets have
    some (what is heard, where the search goes), so that points of anything else want every point run."""
    as_told = question.approach == Approach.ADAPTIVE and kind_of(control) != "fan_duty" and kind_of(control) not in SEARCHED
    return msgspec.structs.replace(question, approach=Approach.GRID) if as_told else question


def _with_offset(card: RigCard, question: Question, base: Setting) -> Setting:
    """Return a setting at the one offset of the question, where that is not searched."""
    offset = next((axis for axis in question.axes if axis.control in SEARCHED), None)
    if offset is None or len(offset.points()) != 1 or card.control(offset.control) is None:
        return base
    return base.replaced(offset.control, offset.points()[0])


def quiet_entries(card: RigCard, question: Question) -> list[Entry]:
    """Return the stages. An offset axis with one point is what the whole sweep runs at; with several it is searched."""
    base = _with_offset(card, question, base_of(card, question))
    axes = [axis for axis in usable_axes(card, question) if axis.control not in SEARCHED]
    if question.approach == Approach.ADAPTIVE and question.fans == FanSchool.DUTY:
        return _adaptive_entries(card, question, base, axes)
    swept = [duty for axis in axes if axis.control == f"fan_duty.{card.lead_group()}" for duty in snapped(axis, card)]
    entries: list[Entry] = [*noise_steps(card, base, swept)]
    entries += _shows(card, question, base, axes)
    entries += baseline_steps(card, question.loads, question.exposure)
    entries += one_core_steps(card, question.loads)
    hottest = _hottest(card, base, axes)
    search = search_over(card, question, hottest, RUNG, SEARCH_S[Approach.GRID])
    if search is not None:
        entries.append(search)
    takes = search.name if search is not None else ""
    for index, load in enumerate(question.loads):
        steps = _heat(card, question, base, axes, load) if index == 0 else _rest(card, question, base, axes, load)
        entries += [msgspec.structs.replace(step, takes=takes) for step in arranged(steps, question, card)]
    return [*entries, *confirmation(card, question)]


def _adaptive_entries(card: RigCard, question: Question, base: Setting, axes: list[Axis]) -> list[Entry]:
    """Return noise first, which is cheap and without risk; a few runs that show where to look; what tells most of the pick; how
    deep the offset goes there, which is the risk; and the pick."""
    swept = [duty for axis in axes if is_fan_axis(axis) for duty in snapped(axis, card)]
    heavy, counted = question.loads[:1], question.loads[1:]
    longest = FIRST_MAX_S[is_liquid(card)]
    first = Exposure(FIRST_S, min(longest, max(question.exposure.max_s, FIRST_S)), FIRST_KNOWN_K)
    entries: list[Entry] = [*noise_steps(card, base, swept, every_group=True)]
    entries += baseline_steps(card, heavy, first)
    entries += baseline_steps(card, counted, GIVES_THROUGHPUT)
    entries += one_core_steps(card, question.loads)
    starts = _first_settings(card, base)
    for load in heavy:
        entries += [Step(setting, load, first, "capacity", "Where to look: heat here") for setting in starts]
    for load in counted:
        entries += [Step(starts[0], load, GIVES_THROUGHPUT, "capacity", "What this limit leaves")]
    follows = card.load_of(LoadKind.HEAVY) is not None
    if follows:
        entries.append(PickRuns(question.exposure, max_runs=MOST_RUNS))
    search = search_over(card, question, starts[0], RUNG, SEARCH_S[Approach.ADAPTIVE])
    if search is not None:
        entries.append(search)
    if follows:
        entries.append(PickRuns(question.exposure, confirm_s=question.confirm_minutes * 60.0, max_runs=MOST_RUNS))
    return entries


def _first_settings(card: RigCard, base: Setting) -> list[Setting]:
    """Return the settings of the first runs: limits about where the pick will lie, each group of fans once slow and once fast;
    what never stands (a pump) stays as it is at first, and is then slowed."""
    limits = limits_below(card, SHARES)
    lead = card.lead_group()
    moved = [group for group in card.fan_groups() if card.control(f"fan_duty.{group}") is not None]
    found = []
    for turn, (leads, others) in enumerate(FIRST_DUTIES):
        setting = base
        if card.control("sustained_power_w") is not None:
            setting = setting.replaced("sustained_power_w", limits[min(turn, len(limits) - 1)])
        for group in moved:
            own = card.control(f"fan_duty.{group}")
            if own is None or (own.low > 0.0 and not turn):
                continue
            duty = NEVER_OFF_DUTY if own.low > 0.0 else leads if group == lead else others
            setting = setting.replaced(own.name, min(max(duty, own.low), own.high))
        if setting not in found:
            found.append(setting)
    return found[: len(moved) + 1] if len(moved) < len(FIRST_DUTIES) else found


def _shows(card: RigCard, question: Question, base: Setting, axes: list[Axis]) -> list[Step]:
    """Return a few minutes of the first load at the lowest limit, before anything long: a limit that a rig takes and ignores
    shows there, and what the load does at it is measured."""
    limits = next((snapped(axis, card) for axis in axes if axis.control == "sustained_power_w"), ())
    if len(limits) < 2 or not question.loads:
        return []
    lowest = _hottest(card, base, axes).replaced("sustained_power_w", min(limits))
    return [Step(lowest, question.loads[0], GIVES_THROUGHPUT, "baseline", "The lowest limit: does it show?")]


def _hottest(card: RigCard, base: Setting, axes: list[Axis]) -> Setting:
    """Return the base at the highest point of every axis: what is stable there has the most clock to bear, and fans that
    keep it cool."""
    top = Spot(base)
    for axis in axes:
        if card.control(axis.control) is not None and snapped(axis, card):
            top = msgspec.structs.replace(top, setting=top.setting.replaced(axis.control, max(snapped(axis, card))))
    return top.setting


def _heat(card: RigCard, question: Question, base: Setting, axes: list[Axis], load: str) -> list[Step]:
    """Ascending power, kept warm, over every point of the axes."""
    return [
        step_at(card, spot, load, question.exposure, "capacity", "Heat path and throughput here")
        for spot in spots(card, base, axes)
    ]


def _rest(card: RigCard, question: Question, base: Setting, axes: list[Axis], load: str) -> list[Step]:
    """Throughput follows power and not the fans, as long as heat does not limit: once a limit, at the highest duty."""
    top = [
        msgspec.structs.replace(axis, span=None, values=(max(snapped(axis, card)),)) if is_fan_axis(axis) else axis
        for axis in axes
    ]
    return [
        step_at(card, spot, load, GIVES_THROUGHPUT, "capacity", "What this limit leaves") for spot in spots(card, base, top)
    ]
