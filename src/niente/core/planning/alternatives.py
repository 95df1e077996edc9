"""What another step, another target or another budget would cost, before the change is made."""

import math
from collections.abc import Sequence

import msgspec
import numpy as np

from niente.core.analysis.models import Models
from niente.core.model.plan import Step
from niente.core.model.question import Axis, Question, Span, TemplateName
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.planning.axis_values import axis_problem, range_of
from niente.core.planning.cost import AIR, Pace, cost_of
from niente.core.planning.progress import Row, plan_rows
from niente.core.planning.questions.undervolting import SEARCHED
from niente.core.planning.templates import TEMPLATES, plan_for
from niente.core.science.arrays import Array
from niente.core.science.heat.path import typical
from niente.core.science.statistics import Z95

TARGETS_K = (2.0, 1.5, 1.0, 0.7, 0.5)
FACTORS = (2.0, 1.5, 1.0, 0.5)
BUDGETS_H = (1.0, 2.0, 4.0, 6.0, 9.0, 12.0, 24.0, 48.0)
MIDDLE_OF_POWER, MIDDLE_DUTY = 0.6, 50.0
"""Where the closeness of plans is compared: a share of the highest power limit, and a duty in %."""
MAX_RUNS = 20_000
"""Where another step comes to more runs than this, it is not laid out any more."""


class Alternative(msgspec.Struct, frozen=True):
    """One way of asking: what is changed, in words; the question then; its runs, time and expected interval.

    ``core_hw`` is the 95 % half width of a core temperature in the middle of the axes once all runs are made, in K; NaN
    where the question does not ask for heat.
    """

    words: str
    question: Question
    runs: int
    typical_s: float
    core_hw: float
    is_now: bool = False


def of_step(
    card: RigCard, question: Question, control: str, pace: Pace = AIR, models: Models | None = None
) -> list[Alternative]:
    """Return the axis over a control in wider and closer steps, the present one among them, widest first."""
    axis = question.axis(control)
    if axis is None or len(axis.points()) < 2:
        return []
    span = axis.span or _span_through(axis, card)
    own, found = range_of(axis, card)[2], []
    for factor in FACTORS:
        step = span.step**factor if span.by_ratio else max(round(span.step * factor / own) * own, own)
        other = msgspec.structs.replace(axis, span=msgspec.structs.replace(span, step=float(f"{step:.3g}")), values=())
        if factor == 1.0:
            other = axis
        if axis_problem(other, card):
            continue
        words = f"× {step:.2f}" if span.by_ratio else f"{step:g}"
        if axis.span is None and factor == 1.0:
            words = "as listed"
        found.append(_cost(card, question.with_axis(other), words, pace, models, is_now=factor == 1.0))
    return found


def of_target(card: RigCard, question: Question, pace: Pace = AIR, models: Models | None = None) -> list[Alternative]:
    """Return the question with each settled temperature known more loosely or more closely."""
    now = question.exposure.known_to_k
    if now is None:
        return []
    found = []
    for target in sorted({*TARGETS_K, now}, reverse=True):
        exposure = msgspec.structs.replace(question.exposure, known_to_k=target)
        other = msgspec.structs.replace(question, exposure=exposure)
        found.append(_cost(card, other, f"± {target:g} K", pace, models, is_now=target == now))
    return found


def _within_hours(open_yet: Sequence[tuple[Row, float]], hours: float) -> tuple[list[Row], float]:
    """Return the runs that fit into so many hours, in the plan's order, and the seconds they take."""
    fitting: list[Row] = []
    used = 0.0
    for row, length in open_yet:
        if used + length > hours * 3600.0:
            break
        used += length
        fitting.append(row)
    return fitting, used


def of_budget(
    card: RigCard,
    question: Question,
    rows: Sequence[Row],
    seconds: Sequence[float],
    models: Models | None = None,
) -> list[Alternative]:
    """Return the question with shorter and longer time budgets: the runs that each has room for in the plan's order, and the
    interval that these come to. The whole plan is the last."""
    open_yet = [(row, length) for row, length in zip(rows, seconds, strict=True) if not row.status.closed]
    closed = [row for row in rows if row.run is not None]
    whole_h = sum(length for _, length in open_yet) / 3600.0
    now = question.budget_h if question.budget_h is not None and question.budget_h < whole_h else None
    hours = {h for h in (*BUDGETS_H, now) if h is not None and h < whole_h}
    found = []
    for limit in (*sorted(hours), None):
        ahead, used = _within_hours(open_yet, math.inf if limit is None else limit)
        fitting = [*closed, *ahead]
        words = f"{limit:g} h" if limit is not None else "all of it"
        other = msgspec.structs.replace(question, budget_h=limit)
        known_hw = expected_hw(card, fitting, models)
        found.append(Alternative(words, other, len(fitting) - len(closed), used, known_hw, limit == now))
    return found


def within(card: RigCard, question: Question, budget_s: float, pace: Pace = AIR) -> list[Alternative]:
    """Return what fits into a time budget in place of a question that does not: the same with fewer points, then other
    questions that this machine can be asked; the fullest first."""
    fitting = []
    for words, other in _thinner(card, question):
        one = _cost(card, other, words, pace, None)
        if one.typical_s <= budget_s:
            fitting.append(one)
    fitting = sorted(fitting, key=lambda one: -one.typical_s)[:2]
    for kind in TEMPLATES:
        if kind.name in (question.template, TemplateName.FREE) or kind.lacks(card):
            continue
        first = kind.first(card)
        ways = [(kind.title, first)]
        if first.stall:
            ways.append((f"{kind.title}, only how loud", msgspec.structs.replace(first, stall=False)))
        costs = (_cost(card, other, words, pace, None) for words, other in ways)
        fitting += [one for one in costs if one.typical_s <= budget_s][:1]
    return fitting[:4]


def _thinner(card: RigCard, question: Question) -> list[tuple[str, Question]]:
    """Return the question with places taken out of its axes, repeats and loads left out, in words."""
    found = []
    for keep in (3, 2):
        axes = tuple(_fewer(axis, keep, card) for axis in question.axes)
        if axes != question.axes:
            found.append((f"at most {keep} points an axis", msgspec.structs.replace(question, axes=axes)))
    if any(axis.control in SEARCHED and len(axis.points()) > 1 for axis in question.axes):
        axes = tuple(_as_found(axis, card) if axis.control in SEARCHED else axis for axis in question.axes)
        found.append(("without a search", msgspec.structs.replace(question, axes=axes)))
        axes = tuple(_fewer(axis, 3, card) for axis in axes)
        found.append(("without a search, 3 points an axis", msgspec.structs.replace(question, axes=axes)))
    if question.repeats > 1:
        found.append(("without repeats", msgspec.structs.replace(question, repeats=1)))
    if question.survive and question.quiet_under:
        found.append(("only what it has to be stable under", msgspec.structs.replace(question, quiet_under=())))
        axes = tuple(_fewer(axis, 2, card) for axis in question.axes)
        both = msgspec.structs.replace(question, axes=axes, quiet_under=(), repeats=1)
        found.append(("two points an axis, only what it has to be stable under", both))
    return found


def _as_found(axis: Axis, card: RigCard) -> Axis:
    """Return an axis at the one value that stands on the machine as found."""
    value = card.stock.value(axis.control)
    return msgspec.structs.replace(axis, span=None, values=(value if value is not None else max(axis.points()),))


def _fewer(axis: Axis, keep: int, card: RigCard) -> Axis:
    """Return an axis with at most ``keep`` of its points, both ends among them."""
    points = axis.points()
    if len(points) <= keep:
        return axis
    chosen = {points[round(n * (len(points) - 1) / (keep - 1))] for n in range(keep)}
    return msgspec.structs.replace(axis, span=None, values=tuple(point for point in points if point in chosen))


def _span_through(axis: Axis, card: RigCard) -> Span:
    """Return a span from the first to the last of listed points, as many as there are, no finer than the rig's step."""
    points = sorted(axis.points())
    step = max((points[-1] - points[0]) / (len(points) - 1), range_of(axis, card)[2])
    return Span(points[0], points[-1], float(f"{step:.3g}"))


def _cost(
    card: RigCard, question: Question, words: str, pace: Pace, models: Models | None, *, is_now: bool = False
) -> Alternative:
    entries = plan_for(card, question)
    if len(entries.entries) > MAX_RUNS:
        return Alternative(words, question, len(entries.entries), math.nan, math.nan, is_now)
    rows = plan_rows(entries, card)
    cost = cost_of(rows, card, question, pace)
    return Alternative(words, question, cost.runs, cost.typical_s, expected_hw(card, rows, models), is_now)


def _runs_that_tell(card: RigCard, rows: Sequence[Row]) -> list[Step]:
    """Return the steps that are run until their temperature is known, under the heaviest load."""
    heavy = card.load_of(LoadKind.HEAVY)
    if heavy is None:
        return []
    return [row.step for row in rows if row.step.load == heavy.name and row.step.exposure.known_to_k is not None]


def expected_hw(card: RigCard, rows: Sequence[Row], models: Models | None) -> float:
    """Return the expected 95 % half width, in K, of a core temperature in the middle of what can be set, once it is run.

    From the models where there are some, otherwise from the heat path as it is before anything was measured; NaN where
    fewer than three runs tell of the heat path.
    """
    groups = card.fan_groups()
    runs = _runs_that_tell(card, rows)
    if len(runs) < 3 or not groups:
        return math.nan
    heat = models.heat if models is not None else typical(groups, (100.0,) * len(groups))
    wholes = [step.setting.over(card.stock) for step in runs]
    power = np.array([whole.sustained_power_w or 0.0 for whole in wholes])
    speeds = np.stack([_turn(models, group, [whole.fan_duty.get(group, 0.0) for whole in wholes]) for group in groups], axis=1)
    error = np.array([(step.exposure.known_to_k or 1.0) / Z95 for step in runs])
    limit = card.control("sustained_power_w")
    middle = np.array([MIDDLE_OF_POWER * limit.high if limit is not None else np.median(power)])
    at = np.array([[_turn(models, group, [MIDDLE_DUTY])[0] for group in groups]])
    _, half_width = heat.informed_by(power, speeds, error).rise(middle, at)
    return float(half_width[0])


def _turn(models: Models | None, group: str, duties: list[float]) -> Array:
    """Return a group's speeds at duties: in rpm where it was run, otherwise the duties themselves."""
    return models.rpm(group, np.array(duties)) if models is not None else np.array(duties)
