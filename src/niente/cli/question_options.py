"""The options of a question on the command line: what they are, and what each puts into the question."""

import math
import re
from collections.abc import Callable

import click
import msgspec

from niente.cli.goal import OPTIONS, goal_of
from niente.cli.values import BACK, HOURS, LEVEL_DBA, MINUTES, NAME, SOME_MINUTES, STEP, TIMES, curve_points
from niente.core.model.errors import PlanError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.plan import Exposure, QuietHours, SearchMethod
from niente.core.model.question import Approach, Axis, FanSchool, Order, Question, Span
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.planning.axis_values import axis_problem, axis_title, is_fan_axis
from niente.core.planning.builders import control_parts, default_fans, until_known
from niente.core.planning.questions.quiet_point import for_points_of
from niente.core.planning.questions.undervolting import SEARCHED

SPAN = re.compile(r"^\s*([-+0-9.eE]+)\s*\.\.\s*([-+0-9.eE]+)\s*(?:/\s*(x?)\s*([0-9.]+))?\s*$")


class QuestionOptions(msgspec.Struct, frozen=True):
    """What was given on the command line; ``None`` leaves a thing as the question starts on the rig."""

    axes: tuple[str, ...]
    fixed: tuple[str, ...]
    power: str | None
    fans: str | None
    offset: str | None
    loads: str | None
    survive: str | None
    quiet_under: str | None
    known_to: float | None
    minutes: float | None
    order: str | None
    rest: float | None
    fan_school: str | None
    repeats: int | None
    search: str | None
    fine: float | None
    margin: float | None
    passes: int | None
    until_cold: bool
    stall: bool | None
    variants: str | None
    budget: float | None
    quiet_hours: str | None
    quiet_dba: float
    approach: str | None = None
    failure: float | None = None
    horizon: float | None = None
    sure: float | None = None

    def put_into(self, card: RigCard, question: Question) -> Question:
        """Return a question with these options. Raises ``PlanError`` or ``click.BadParameter`` for what the rig cannot do."""
        question = self._with_fans(card, question)
        question = self._with_axes(card, question)
        for text in self.fixed:
            if text.strip().startswith("fan_curve."):
                question = _with_curve(card, question, text)
            else:
                question = _with_fixed(card, question, *_pair(text, "--fixed"))
        question = msgspec.structs.replace(question, goal=goal_of(question.goal, self.failure, self.horizon, self.sure))
        given = {**self._loads(), **self._numbers(), **self._rules(card)}
        return msgspec.structs.replace(question, **{name: value for name, value in given.items() if value is not None})

    def _with_fans(self, card: RigCard, question: Question) -> Question:
        if self.fan_school is None:
            return question
        school = FanSchool[self.fan_school.upper()]
        others = tuple(axis for axis in question.axes if not is_fan_axis(axis))
        return msgspec.structs.replace(question, fans=school, axes=others + default_fans(card, school))

    def _with_axes(self, card: RigCard, question: Question) -> Question:
        lead = next((axis.control for axis in question.axes if is_fan_axis(axis)), f"fan_duty.{card.lead_group()}")
        short = (("sustained_power_w", self.power), (lead, self.fans), ("voltage_offset_mv", self.offset))
        for text in (*self.axes, *(f"{control}={points}" for control, points in short if points is not None)):
            axis = read_axis(text)
            problem = axis_problem(_by_part(axis, card), card)
            if problem:
                raise PlanError(
                    f"{axis_title(axis, card)}: {problem}.",
                    safe="No plan was made.",
                    remedy="Give other points, or another control.",
                )
            question = for_points_of(_instead(question, axis), axis.control).with_axis(axis)
        return question

    def _loads(self) -> dict[str, object]:
        survive, quiet_under = _names(self.survive), _names(self.quiet_under)
        loads = _names(self.loads)
        if loads is not None:
            survive, quiet_under = loads[:1], loads[1:]
        return {"survive": survive, "quiet_under": quiet_under, "variants": _names(self.variants)}

    def _numbers(self) -> dict[str, object]:
        return {
            "repeats": self.repeats,
            "fine": self.fine,
            "margin": self.margin,
            "passes": self.passes,
            "idle_minutes": self.rest,
            "from_cold": self.until_cold or None,
            "stall": self.stall,
            "budget_h": self.budget,
        }

    def _rules(self, card: RigCard) -> dict[str, object]:
        return {
            "order": Order[self.order.upper()] if self.order is not None else None,
            "approach": Approach[self.approach.upper()] if self.approach is not None else None,
            "method": SearchMethod[self.search.upper()] if self.search is not None else None,
            "quiet": _quiet(self.quiet_hours, self.quiet_dba) if self.quiet_hours is not None else None,
            "exposure": self._exposure(card),
        }

    def _exposure(self, card: RigCard) -> Exposure | None:
        if self.minutes is not None:
            return Exposure(min_s=self.minutes * 60.0, max_s=self.minutes * 60.0)
        return until_known(card, self.known_to) if self.known_to is not None else None


def question_options(command: Callable[..., None]) -> Callable[..., None]:
    """Give a command the options of a question."""
    for option in reversed(
        (
            click.option("--rig", required=True, type=NAME, help="The rig's name, or module:factory."),
            click.option(
                "--axis", "axes", multiple=True, metavar="CONTROL=POINTS",
                help="Vary a control: a list (80,100,125), a span with a step (60..180/12), or by ratio (20..100/x1.38).",
            ),
            click.option(
                "--fixed", "--hold", "fixed", multiple=True, metavar="CONTROL=VALUE",
                help="Fix a control throughout, or a fan group's curve (fan_curve.case=40:25,65:50,85:100).",
            ),
            click.option("--power", default=None, metavar="POINTS", help="Short for --axis sustained_power_w=…"),
            click.option("--fans", default=None, metavar="POINTS", help="Short for the axis over the fans that are swept."),
            click.option("--offset", default=None, metavar="POINTS", help="Short for --axis voltage_offset_mv=…"),
            click.option("--loads", default=None, metavar="NAME,…", help="Loads to survive (one list for both uses)."),
            click.option("--survive", default=None, metavar="NAME,…", help="Loads that a setting has to survive."),
            click.option("--quiet-under", default=None, metavar="NAME,…", help="Loads that it has to be quiet under."),
            click.option("--known-to", default=None, type=STEP, metavar="K", help="End a run when it is known to ± this."),
            click.option("--minutes", default=None, type=SOME_MINUTES, metavar="MIN", help="Let every run last this long."),
            click.option("--order", default=None, type=click.Choice([one.name.lower() for one in Order]), help="Their order."),
            click.option("--rest", default=None, type=MINUTES, metavar="MIN", help="Minutes without load before a cold start."),
            click.option("--fan-school", default=None, type=click.Choice([one.name.lower() for one in FanSchool]),
                         help="How fans are set while measuring."),
            click.option("--approach", default=None, type=click.Choice([one.name.lower() for one in Approach]),
                         help="Each run by what the last ones told, or every point of the axes."),
            click.option("--repeats", default=None, type=TIMES, help="How often each run is made."),
            click.option("--search", default=None, type=click.Choice([one.name.lower() for one in SearchMethod]),
                         help="How a limit is searched."),
            click.option("--fine", default=None, type=STEP, help="The fine step of a search, in the control's unit."),
            click.option("--margin", default=None, type=BACK, help="Back from the last pass, in the control's unit."),
            click.option("--passes", default=None, type=TIMES, help="Clean exposures that make a pass."),
            *OPTIONS,
            click.option("--stall/--no-stall", default=None, help="Look for the duties at which fans start and stall."),
            click.option("--until-cold", is_flag=True, help="Stay idle until nothing moves any more."),
            click.option("--variants", default=None, metavar="A,B", help="The two states of the machine that are compared."),
            click.option("--budget", default=None, type=HOURS, metavar="H", help="Hours after which nothing new is begun."),
            click.option("--quiet-hours", default=None, metavar="FROM-TO", help="Hours in which nothing loud is run: 22-7."),
            click.option("--quiet-dba", default=30.0, type=LEVEL_DBA, metavar="dBA", help="What is loud then (default 30)."),
            click.option("--anew", is_flag=True, help="Let only runs from now on count as answers."),
        )
    ):  # fmt: skip
        command = option(command)
    return command


def _instead(question: Question, axis: Axis) -> Question:
    """Return the question without the axis that another takes the place of: a search has one control."""
    if axis.control not in SEARCHED:
        return question
    axes = tuple(one for one in question.axes if one.control not in SEARCHED or one.control == axis.control)
    return msgspec.structs.replace(question, axes=axes)


def _with_fixed(card: RigCard, question: Question, control: str, value: float) -> Question:
    if card.control(control) is None:
        known = ", ".join(one.name for one in card.controls)
        raise PlanError(
            f"This rig has no control {control!r}; it has {known}.", safe="No plan was made.", remedy="Fix one of these."
        )
    axes = tuple(axis for axis in question.axes if axis.control != control)
    return msgspec.structs.replace(question, axes=axes, base=question.base.replaced(control, value))


def _with_curve(card: RigCard, question: Question, text: str) -> Question:
    """Return the question with a fan group on a curve throughout, in place of any axis over its duty."""
    control, _, points = text.strip().partition("=")
    group = control.removeprefix("fan_curve.")
    try:
        curve = FanCurve(card.curve_sources[0] if card.curve_sources else "", curve_points(points))
    except ValueError as error:
        raise click.BadParameter(f"{error}, not {text!r}", param_hint="--fixed") from None
    base = question.base.on_curve(group, curve)
    if refusals := card.refusals(Setting(fan_curve={group: curve})):
        raise PlanError(
            f"The {group} fans cannot be put on that curve: {'; '.join(refusals)}.",
            safe="No plan was made.",
            remedy="Give points in rising order, as in fan_curve.case=40:25,65:50,85:100, or a duty.",
        )
    duties = {name: duty for name, duty in base.fan_duty.items() if name != group}
    axes = tuple(axis for axis in question.axes if not (is_fan_axis(axis) and axis.control.endswith(f".{group}")))
    return msgspec.structs.replace(question, axes=axes, base=msgspec.structs.replace(base, fan_duty=duties))


def _by_part(axis: Axis, card: RigCard) -> Axis:
    parts = control_parts(card, axis.control)
    known = card.control(axis.control) is not None or not parts
    return axis if known else msgspec.structs.replace(axis, control=parts[0])


def read_axis(text: str) -> Axis:
    """Return the axis in ``CONTROL=POINTS``. Raises ``click.BadParameter``."""
    control, _, points = text.partition("=")
    span = SPAN.match(points)
    try:
        if span is None:
            return Axis(control.strip(), tuple(_finite(part) for part in points.split(",") if part.strip()))
        first, last = _finite(span[1]), _finite(span[2])
        step = _finite(span[4]) if span[4] else (last - first) / 3 or 1.0
        return Axis(control.strip(), span=Span(first, last, step, by_ratio=bool(span[3])))
    except ValueError:
        raise click.BadParameter(
            f"wanted CONTROL=80,100,125 or CONTROL=60..180/12 or CONTROL=20..100/x1.38, not {text!r}", param_hint="--axis"
        ) from None


def _pair(text: str, option: str) -> tuple[str, float]:
    control, _, value = text.partition("=")
    try:
        return control.strip(), _finite(value)
    except ValueError:
        raise click.BadParameter(f"wanted CONTROL=VALUE, not {text!r}", param_hint=option) from None


def _finite(text: str) -> float:
    """Return a number. Raises ``ValueError`` for what is none, and for one that is not finite."""
    value = float(text)
    if not math.isfinite(value):
        raise ValueError(text)
    return value


def _names(text: str | None) -> tuple[str, ...] | None:
    return tuple(part.strip() for part in text.split(",") if part.strip()) if text is not None else None


def _quiet(text: str, max_dba: float) -> QuietHours:
    match = re.fullmatch(r"\s*([0-9.]+)\s*-\s*([0-9.]+)\s*", text)
    if match is None or not all(0 <= float(part) <= 24 for part in match.groups()):
        raise click.BadParameter(f"wanted hours of the day, such as 22-7, not {text!r}", param_hint="--quiet-hours")
    return QuietHours(float(match[1]), float(match[2]) % 24.0, max_dba)
