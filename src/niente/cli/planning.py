"""The plan commands: every question with its options, kept questions, a plan validated against a rig, and the schemas."""

import math
import re
from collections.abc import Callable, Sequence
from pathlib import Path

import click
import msgspec

from niente.cli.cards import card_of
from niente.core.model.errors import DocumentError, PlanError
from niente.core.model.json_files import indented_json
from niente.core.model.plan import Exposure, Plan, QuietHours, SearchMethod
from niente.core.model.question import Axis, FanSchool, Order, Question, Span
from niente.core.model.rig_card import RigCard
from niente.core.planning.axis_values import axis_problem, axis_title, is_fan_axis
from niente.core.planning.builders import default_fans, until_known
from niente.core.planning.questions.undervolting import SEARCHED

SPAN = re.compile(r"^\s*([-+0-9.eE]+)\s*\.\.\s*([-+0-9.eE]+)\s*(?:/\s*(x?)\s*([0-9.]+))?\s*$")


@click.group()
def plan() -> None:
    """Make a plan and print it as JSON, or validate one against a rig."""


def _question_command(name: str, title: str, asks: str) -> None:
    @plan.command(name, help=f"{title}. {asks}")
    @_options
    def command(rig: str, **given: object) -> None:
        card = card_of(rig)
        question = _first(card, name)
        _print(card, _with(card, question, given), bool(given["anew"]))


def _options(command: Callable[..., None]) -> Callable[..., None]:
    for option in reversed(
        (
            click.option("--rig", required=True, help="The rig's name, or module:factory."),
            click.option(
                "--axis", "axes", multiple=True, metavar="CONTROL=POINTS",
                help="Vary a control: a list (80,100,125), a span with a step (60..180/12), or by ratio (20..100/x1.38).",
            ),
            click.option(
                "--fixed", "--hold", "fixed", multiple=True, metavar="CONTROL=VALUE", help="Fix a control throughout."
            ),
            click.option("--power", default=None, metavar="POINTS", help="Short for --axis sustained_power_w=…"),
            click.option("--fans", default=None, metavar="POINTS", help="Short for the axis over the fans that are swept."),
            click.option("--offset", default=None, metavar="POINTS", help="Short for --axis voltage_offset_mv=…"),
            click.option("--loads", default=None, metavar="NAME,…", help="Loads to survive (one list for both uses)."),
            click.option("--survive", default=None, metavar="NAME,…", help="Loads that a setting has to survive."),
            click.option("--quiet-under", default=None, metavar="NAME,…", help="Loads that it has to be quiet under."),
            click.option("--known-to", default=None, type=float, metavar="K", help="End a run when it is known to ± this."),
            click.option("--minutes", default=None, type=float, metavar="MIN", help="Let every run last this long instead."),
            click.option("--order", default=None, type=click.Choice([one.name.lower() for one in Order]), help="Their order."),
            click.option("--rest", default=None, type=float, metavar="MIN", help="Minutes of rest before a cold start."),
            click.option("--fan-school", default=None, type=click.Choice([one.name.lower() for one in FanSchool]),
                         help="How fans are set while measuring."),
            click.option("--repeats", default=None, type=click.IntRange(1), help="How often each run is made."),
            click.option("--search", default=None, type=click.Choice([one.name.lower() for one in SearchMethod]),
                         help="How a limit is searched."),
            click.option("--fine", default=None, type=float, help="The fine step of a search, in the control's unit."),
            click.option("--margin", default=None, type=float, help="Back from the last pass, in the control's unit."),
            click.option("--passes", default=None, type=click.IntRange(1), help="Clean exposures that make a pass."),
            click.option("--until-cold", is_flag=True, help="Let the rest go on until nothing moves any more."),
            click.option("--variants", default=None, metavar="A,B", help="The two states of the machine that are compared."),
            click.option("--budget", default=None, type=float, metavar="H", help="Hours after which nothing new is begun."),
            click.option("--quiet-hours", default=None, metavar="FROM-TO", help="Hours in which nothing loud is run: 22-7."),
            click.option("--quiet-dba", default=30.0, type=float, metavar="dBA", help="What counts as loud then (default 30)."),
            click.option("--anew", is_flag=True, help="Let only runs from now on count as answers."),
        )
    ):  # fmt: skip
        command = option(command)
    return command


def _first(card: RigCard, name: str) -> Question:
    from niente.core.planning.templates import first_question, template

    kind = template(name)
    lacks = kind.lacks(card) if kind is not None else ""
    if lacks:
        raise PlanError(f"{card.title} cannot be asked that: {lacks}.", remedy="Ask another question.")
    return first_question(card, name)


def _with(card: RigCard, question: Question, given: dict[str, object]) -> Question:
    """Return a question with what was given on the command line."""
    school = given["fan_school"]
    if school is not None:
        fans = FanSchool[str(school).upper()]
        others = tuple(axis for axis in question.axes if not is_fan_axis(axis))
        question = msgspec.structs.replace(question, fans=fans, axes=others + default_fans(card, fans))
    named = list(given["axes"])  # type: ignore[call-overload]
    lead = next((axis.control for axis in question.axes if is_fan_axis(axis)), f"fan_duty.{card.lead_group()}")
    short = (("power", "sustained_power_w"), ("fans", lead), ("offset", "voltage_offset_mv"))
    named += [f"{control}={given[option]}" for option, control in short if given[option] is not None]
    for text in named:
        axis = read_axis(text)
        problem = axis_problem(_by_part(axis, card), card)
        if problem:
            raise PlanError(
                f"{axis_title(axis, card)}: {problem}.",
                safe="No plan was made.",
                remedy="Give other points, or another control.",
            )
        question = _instead(question, axis).with_axis(axis)
    for text in given["fixed"]:  # type: ignore[attr-defined]
        control, value = _pair(str(text), "--fixed")
        question = _parse_fixed(card, question, control, value)
    changed: dict[str, object] = {}
    for option in ("survive", "quiet_under", "variants"):
        if given[option] is not None:
            changed[option] = _names(str(given[option]))
    if given["loads"] is not None:
        loads = _names(str(given["loads"]))
        changed |= {"survive": loads[:1], "quiet_under": loads[1:]}
    for option in ("repeats", "fine", "margin", "passes"):
        if given[option] is not None:
            changed[option] = given[option]
    if given["order"] is not None:
        changed["order"] = Order[str(given["order"]).upper()]
    if given["search"] is not None:
        changed["method"] = SearchMethod[str(given["search"]).upper()]
    if given["rest"] is not None:
        changed["idle_minutes"] = given["rest"]
    if given["until_cold"]:
        changed["from_cold"] = True
    if given["budget"] is not None:
        changed["budget_h"] = given["budget"]
    if given["quiet_hours"] is not None:
        changed["quiet"] = _quiet(str(given["quiet_hours"]), float(given["quiet_dba"]))  # type: ignore[arg-type]
    if given["minutes"] is not None:
        seconds = float(given["minutes"]) * 60.0  # type: ignore[arg-type]
        changed["exposure"] = Exposure(min_s=seconds, max_s=seconds)
    elif given["known_to"] is not None:
        changed["exposure"] = until_known(card, float(given["known_to"]))  # type: ignore[arg-type]
    return msgspec.structs.replace(question, **changed)


def _instead(question: Question, axis: Axis) -> Question:
    """Return the question without the axis that another takes the place of: a search has one control."""
    if axis.control not in SEARCHED:
        return question
    axes = tuple(one for one in question.axes if one.control not in SEARCHED or one.control == axis.control)
    return msgspec.structs.replace(question, axes=axes)


def _parse_fixed(card: RigCard, question: Question, control: str, value: float) -> Question:
    if card.control(control) is None:
        known = ", ".join(one.name for one in card.controls)
        raise PlanError(
            f"This rig has no control {control!r}; it has {known}.", safe="No plan was made.", remedy="Hold one of these."
        )
    axes = tuple(axis for axis in question.axes if axis.control != control)
    return msgspec.structs.replace(question, axes=axes, base=question.base.replaced(control, value))


def _by_part(axis: Axis, card: RigCard) -> Axis:
    from niente.core.planning.builders import control_parts

    parts = control_parts(card, axis.control)
    known = card.control(axis.control) is not None or not parts
    return axis if known else msgspec.structs.replace(axis, control=parts[0])


def read_axis(text: str) -> Axis:
    """Return the axis in ``CONTROL=POINTS``. Raises ``click.BadParameter``."""
    control, _, points = text.partition("=")
    span = SPAN.match(points)
    try:
        if span is None:
            return Axis(control.strip(), tuple(float(part) for part in points.split(",") if part.strip()))
        first, last = float(span[1]), float(span[2])
        step = float(span[4]) if span[4] else (last - first) / 3 or 1.0
        return Axis(control.strip(), span=Span(first, last, step, by_ratio=bool(span[3])))
    except ValueError:
        raise click.BadParameter(
            f"wanted CONTROL=80,100,125 or CONTROL=60..180/12 or CONTROL=20..100/x1.38, not {text!r}", param_hint="--axis"
        ) from None


def _pair(text: str, option: str) -> tuple[str, float]:
    control, _, value = text.partition("=")
    try:
        return control.strip(), float(value)
    except ValueError:
        raise click.BadParameter(f"wanted CONTROL=VALUE, not {text!r}", param_hint=option) from None


def _names(text: str) -> tuple[str, ...]:
    return tuple(part.strip() for part in text.split(",") if part.strip())


def _quiet(text: str, max_dba: float) -> QuietHours:
    match = re.fullmatch(r"\s*([0-9.]+)\s*-\s*([0-9.]+)\s*", text)
    if match is None or not all(0 <= float(part) <= 24 for part in match.groups()):
        raise click.BadParameter(f"wanted hours of the day, such as 22-7, not {text!r}", param_hint="--quiet-hours")
    return QuietHours(float(match[1]), float(match[2]) % 24.0, max_dba)


def _print(card: RigCard, question: Question, fresh: bool) -> None:
    """Print the plan of a question, once it fits the rig; what should be known of it goes to the other stream."""
    from niente.core.planning.templates import anew, plan_for
    from niente.core.planning.validation import check_plan

    made = plan_for(card, anew(question) if fresh else question)
    check_plan(made, card)
    _say_what_to_know(card, made, question)
    click.echo(made.to_json(), nl=False)


def _say_what_to_know(card: RigCard, made: Plan, question: Question | None) -> None:
    from niente.core.model.quantities import duration_text
    from niente.core.planning.alternatives import within
    from niente.core.planning.cost import pace_of
    from niente.core.planning.dry_run import dry_run
    from niente.core.planning.forecast import foresee
    from niente.core.planning.progress import plan_rows

    rows = plan_rows(made, card)
    pace = pace_of(card, None)
    run = dry_run(made, card, rows, foresee(None, [row.step for row in rows]), question=question, pace=pace)
    for text in (*run.wrong, *run.warnings):
        click.echo(text, err=True)
    if question is not None and made.budget_s is not None and run.cost.left_s > made.budget_s:
        for way in within(card, question, made.budget_s, pace):
            click.echo(f"  instead: {way.words}: {way.runs} runs, {duration_text(way.typical_s)}", err=True)


@plan.command("from")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--rig", required=True, help="The rig's name, or module:factory.")
@click.option("--anew", is_flag=True, help="Let only runs from now on count as answers.")
def from_question(file: Path, rig: str, anew: bool) -> None:
    """Make the plan of a question that was kept as a file."""
    from niente.core.planning.own_templates import for_rig, read_own

    card = card_of(rig)
    kept = read_own(_bytes(file), file.name)
    question, left = for_rig(kept.question, card)
    if left:
        click.echo(f"{card.title} does not have: {', '.join(left)}. These are left out.", err=True)
    _print(card, question, anew)


@plan.command("check")
@click.argument("plan_file", type=click.Path(path_type=Path))
@click.option("--rig", required=True, help="The rig's name, or module:factory.")
@click.option("--book", default=None, type=click.Path(path_type=Path), help="Say what of it a book answers already.")
@click.option("--json", "as_json", is_flag=True, help="Print the dry run as JSON.")
def check(plan_file: Path, rig: str, book: Path | None, as_json: bool) -> None:
    """Run a plan dry: check it against limits, guards, hands and the clock. Nothing is touched."""
    from niente.core.model.plan import read_plan
    from niente.core.planning.validation import check_plan

    card = card_of(rig)
    made = read_plan(_bytes(plan_file), str(plan_file))
    data = dry_run_as_data(card, made, book)
    if as_json:
        click.echo(indented_json(data), nl=False)
    else:
        click.echo(dry_run_as_text(data))
    check_plan(made, card)


def dry_run_as_data(card: RigCard, made: Plan, book: Path | None) -> dict[str, object]:
    """Return a dry run under public names; they stand in docs/reference/command-line.md."""
    from niente.core.analysis.evidence import evidence_in
    from niente.core.analysis.models import fit_models
    from niente.core.model.errors import NotEnoughError
    from niente.core.planning.cost import pace_of
    from niente.core.planning.dry_run import dry_run
    from niente.core.planning.forecast import foresee
    from niente.core.planning.progress import plan_rows

    evidence = models = None
    if book is not None:
        evidence = evidence_in(book)
        try:
            models = fit_models(evidence) if evidence is not None else None
        except NotEnoughError:
            models = None
    card = evidence.card if evidence is not None and evidence.card.name == card.name else card
    rows = plan_rows(made, card, evidence)
    seen = foresee(models, [row.step for row in rows])
    run = dry_run(made, card, rows, seen, pace=pace_of(card, evidence))
    return {
        "rig": made.rig,
        "question": made.question,
        "wrong": run.wrong,
        "warnings": run.warnings,
        "runs": run.cost.runs,
        "runs_closed": sum(row.status.closed for row in rows),
        "typical_s": run.cost.typical_s,
        "left_s": run.cost.left_s,
        "most_s": run.cost.max_s,
        "hands": [index + 1 for index in run.hands],
        "must_trip": [index + 1 for index in run.trips],
        "hottest": None
        if run.hottest is None
        else {"run": run.hottest + 1, "core_c": seen[run.hottest].core_c, "core_hw_k": seen[run.hottest].core_hw},
        "guards": [
            {
                "quantity": near.guard.quantity,
                "trip": near.guard.trip,
                "left": near.gap if math.isfinite(near.gap) else None,
                "run": near.index + 1 if near.index is not None else None,
            }
            for near in run.near
        ],
    }


def dry_run_as_text(data: dict[str, object]) -> str:
    """Return a dry run in words."""
    from niente.core.model.quantities import duration_text

    typical, left, most = (float(data[key]) for key in ("typical_s", "left_s", "most_s"))  # type: ignore[arg-type]
    lines = [
        f"{data['question']} on {data['rig']}: {data['runs']} runs, {data['runs_closed']} of them closed.",
        f"Typically {duration_text(typical)}, {duration_text(left)} of it ahead; {duration_text(most)} at the most.",
    ]
    hands = data["hands"]
    if isinstance(hands, Sequence) and hands:
        lines.append(f"Hands are needed {len(hands)} times, first before run {hands[0]}.")
    hottest = data["hottest"]
    if isinstance(hottest, dict):
        lines.append(f"Hottest: run {hottest['run']}, {hottest['core_c']:.1f} ± {hottest['core_hw_k']:.1f} °C foreseen.")
    for key in ("wrong", "warnings"):
        found = data[key]
        lines += list(found) if isinstance(found, Sequence) else []
    return "\n".join(lines)


@plan.command("schema")
@click.argument("of", type=click.Choice(["plan", "question"]), default="plan")
def schema(of: str) -> None:
    """Print the JSON Schema of plans, or of kept questions."""
    from niente.core.model.plan import plan_schema
    from niente.core.model.question import question_schema

    click.echo(plan_schema() if of == "plan" else question_schema(), nl=False)


def _bytes(file: Path) -> bytes:
    try:
        return file.read_bytes()
    except OSError as error:
        raise DocumentError(f"{file} cannot be read: {error.strerror}.", remedy="Check its name.") from None


def _register() -> None:
    from niente.core.planning.templates import TEMPLATES

    for kind in TEMPLATES:
        _question_command(kind.name, kind.title, kind.asks)


_register()
