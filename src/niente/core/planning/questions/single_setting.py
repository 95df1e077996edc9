"""Baseline, soak and burst: no axis has to be varied; how long, and after what, is the question."""

from niente.core.model.plan import Entry, Exposure, Step
from niente.core.model.question import Axis, Order, Question, TemplateName
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.model.setting import Setting
from niente.core.planning.builders import (
    base_of,
    each_load,
    fixed_fans,
    limits_below,
    load_named,
    spots,
    step_at,
    until_known,
    usable_axes,
)
from niente.core.planning.order import arranged, with_idle

IDLE_BEFORE_S = 1200.0
"""Idle is read after 20 minutes' rest (common practice)."""
SOAK = Exposure(min_s=3600.0, max_s=3600.0)
BURST_S = 15.0
WINDOW_S = 60.0
"""How long a burst window is taken to be on a machine that does not say."""


def first_baseline(card: RigCard) -> Question:
    """Return idle after a pause without load, then stock under each load."""
    survive = load_named(card, LoadKind.HEAVY)
    quiet = load_named(card, LoadKind.REALISTIC, LoadKind.MIXED, LoadKind.REAL_TIME, LoadKind.LIGHT)
    return Question(TemplateName.BASELINE, (), Setting(), survive, quiet, until_known(card))


def baseline_entries(card: RigCard, question: Question) -> list[Entry]:
    """Return the runs of a baseline."""
    steps: list[Step] = []
    idle = card.load_of(LoadKind.IDLE)
    base = base_of(card, question)
    if idle is not None:
        rest = Exposure(min_s=IDLE_BEFORE_S, max_s=IDLE_BEFORE_S)
        steps.append(Step(base, idle.name, rest, "baseline", "Idle, after 20 min of rest: its last minutes count"))
    working = [
        Step(base, load, question.exposure, "baseline", f"Stock, as found; {purpose}") for load, purpose in each_load(question)
    ]
    return [*steps, *arranged(working, question, card)]


def first_soak(card: RigCard) -> Question:
    """Return an hour of every load whose results are checked, at the setting as found."""
    checked = tuple(load.name for load in card.loads if load.checks_results and load.kind != LoadKind.BURST)
    heavy = load_named(card, LoadKind.HEAVY)
    return Question(
        TemplateName.SOAK, (), Setting(), heavy, tuple(load for load in checked if load not in heavy), SOAK, repeats=2
    )


def soak_entries(card: RigCard, question: Question) -> list[Entry]:
    """Return long runs of more than one kind of load."""
    steps = [
        step_at(card, spot, load, question.exposure, "soak", f"Long enough to fail in; {purpose}")
        for spot in spots(card, base_of(card, question), usable_axes(card, question))
        for load, purpose in each_load(question)
    ]
    once = arranged(steps, question, card)
    if question.repeats > 1 and question.order in (Order.WARM, Order.COLD, Order.RISK_LAST):
        half = once[:: question.repeats]  # load after load and round again: what fails in a change of load shows too
        return [*half * question.repeats]
    return list(once)


def first_burst(card: RigCard) -> Question:
    """Return short work from rest, and work that outlasts the firmware's window, over burst limits and times where the rig has
    them, or else over limits up to the stock one."""
    stock = card.stock
    if card.control("burst_power_w") is not None and stock.burst_power_w is not None and stock.sustained_power_w is not None:
        axes: tuple[Axis, ...] = (Axis("burst_power_w", (stock.sustained_power_w, stock.burst_power_w)),)
        if card.control("burst_time_s") is not None and stock.burst_time_s:
            axes = (*axes, Axis("burst_time_s", (round(stock.burst_time_s / 2.0), stock.burst_time_s)))
    else:
        axes = (Axis("sustained_power_w", limits_below(card, (0.6, 0.8, 1.0))),)
    exposure = Exposure(min_s=BURST_S, max_s=BURST_S)
    heavy, burst = load_named(card, LoadKind.HEAVY), load_named(card, LoadKind.BURST)
    return Question(TemplateName.BURST, axes, fixed_fans(card), heavy, burst, exposure, Order.COLD, idle_minutes=10.0)


def outlasting_s(window_s: float) -> float:
    """Return how long work has to go on to outlast a firmware's window.

    The firmware lets the burst through until a moving average of the power, which has this time constant, comes up to the
    sustained limit. From rest that takes ln(burst / (burst - sustained)) of them: three where the burst is a twentieth over it.
    """
    return 3.0 * window_s + WINDOW_S


def burst_entries(card: RigCard, question: Question) -> list[Entry]:
    """Return for every point, from rest: the load that is short by itself, and others for long enough to outlast the window."""
    steps: list[Step] = []
    for spot in spots(card, base_of(card, question), usable_axes(card, question)):
        window = spot.setting.over(card.stock).burst_time_s or WINDOW_S
        whole = Exposure(min_s=outlasting_s(window), max_s=outlasting_s(window))
        for load, _ in each_load(question):
            known = card.load(load)
            if known is not None and known.kind == LoadKind.BURST:
                steps.append(step_at(card, spot, load, question.exposure, "burst", "Short work, from rest"))
            else:
                words = f"Past the burst window of {window:g} s, from rest"
                steps.append(step_at(card, spot, load, whole, "burst", words))
    if question.order == Order.COLD:
        return list(arranged(steps, question, card))
    return list(
        arranged([with_idle(step, question.idle_minutes, from_cold=question.from_cold) for step in steps], question, card)
    )
