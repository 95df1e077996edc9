"""The plan commands: every question with its options, kept questions, a plan validated against a rig, and the schemas."""

import contextlib
import math
from pathlib import Path
from typing import TYPE_CHECKING

import click
import msgspec

from niente.cli.cards import card_of
from niente.cli.question_options import QuestionOptions, question_options
from niente.cli.values import FILE, NAME
from niente.core.model.errors import PlanError
from niente.core.model.json_files import indented_json
from niente.core.model.plan import Plan
from niente.core.model.question import Question
from niente.core.model.rig_card import RigCard
from niente.core.model.small_files import read_small_file

if TYPE_CHECKING:  # planning is imported where it is used: a command that only prints does without
    from niente.core.planning.dry_run import NearGuard


@click.group()
def plan() -> None:
    """Make a plan and print it as JSON, or validate one against a rig."""


def _question_command(name: str, title: str, asks: str) -> None:
    @plan.command(name, help=f"{title}. {asks}")
    @question_options
    def command(rig: str, anew: bool, **given: object) -> None:
        card = card_of(rig)
        options = msgspec.convert(given, QuestionOptions)
        _print(card, options.put_into(card, _first(card, name)), anew)


def _first(card: RigCard, name: str) -> Question:
    from niente.core.planning.templates import first_question, template

    kind = template(name)
    lacks = kind.lacks(card) if kind is not None else ""
    if lacks:
        raise PlanError(f"{card.title} cannot be asked that: {lacks}.", remedy="Ask another question.")
    return first_question(card, name)


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
@click.argument("file", type=FILE)
@click.option("--rig", required=True, type=NAME, help="The rig's name, or module:factory.")
@click.option("--anew", is_flag=True, help="Let only runs from now on count as answers.")
def from_question(file: Path, rig: str, anew: bool) -> None:
    """Make the plan of a question that was kept as a file."""
    from niente.core.planning.own_templates import for_rig, read_own

    card = card_of(rig)
    kept = read_own(read_small_file(file), file.name)
    question, left = for_rig(kept.question, card)
    if left:
        click.echo(f"{card.title} does not have: {', '.join(left)}. These are left out.", err=True)
    _print(card, question, anew)


@plan.command("check")
@click.argument("plan_file", type=FILE)
@click.option("--rig", required=True, type=NAME, help="The rig's name, or module:factory.")
@click.option("--book", default=None, type=FILE, help="Say what of it a book answers already.")
@click.option("--json", "as_json", is_flag=True, help="Print the dry run as JSON.")
def check(plan_file: Path, rig: str, book: Path | None, as_json: bool) -> None:
    """Run a plan dry: check it against limits, guards, hands and the clock. Nothing is touched."""
    from niente.core.model.plan import read_plan
    from niente.core.planning.validation import check_plan

    card = card_of(rig)
    made = read_plan(read_small_file(plan_file), str(plan_file))
    dry = summarise_dry_run(card, made, book)
    click.echo(indented_json(dry) if as_json else f"{dry_run_text(dry)}\n", nl=False)
    check_plan(made, card)


class HottestRun(msgspec.Struct, frozen=True):
    """The run that is foreseen to be the hottest, by its number in the list."""

    run: int
    core_c: float
    core_hw_k: float


class GuardGap(msgspec.Struct, frozen=True):
    """How near a plan is foreseen to come to a guard, and in which run; ``None`` where nothing is foreseen."""

    quantity: str
    trip: float
    left: float | None
    run: int | None


class DryRunSummary(msgspec.Struct, frozen=True, rename={"max_s": "most_s"}):
    """A dry run under public names; they stand in docs/reference/command-line.md."""

    rig: str
    question: str
    wrong: tuple[str, ...]
    warnings: tuple[str, ...]
    runs: int
    runs_closed: int
    typical_s: float
    left_s: float
    max_s: float
    hands: tuple[int, ...]
    must_trip: tuple[int, ...]
    hottest: HottestRun | None
    guards: tuple[GuardGap, ...]


def summarise_dry_run(card: RigCard, made: Plan, book: Path | None) -> DryRunSummary:
    """Run a plan dry, against what a book answers already where one is given."""
    from niente.core.analysis.evidence import evidence_in
    from niente.core.analysis.models import fit_models
    from niente.core.model.errors import NotEnoughError
    from niente.core.planning.cost import pace_of
    from niente.core.planning.dry_run import dry_run
    from niente.core.planning.forecast import foresee
    from niente.core.planning.progress import plan_rows

    evidence = evidence_in(book) if book is not None else None
    models = None
    if evidence is not None:
        with contextlib.suppress(NotEnoughError):  # then nothing is foreseen
            models = fit_models(evidence)
    card = evidence.card if evidence is not None and evidence.card.name == card.name else card
    rows = plan_rows(made, card, evidence)
    seen = foresee(models, [row.step for row in rows])
    run = dry_run(made, card, rows, seen, pace=pace_of(card, evidence))
    at = run.hottest
    return DryRunSummary(
        rig=made.rig,
        question=made.question,
        wrong=run.wrong,
        warnings=run.warnings,
        runs=run.cost.runs,
        runs_closed=sum(row.status.closed for row in rows),
        typical_s=run.cost.typical_s,
        left_s=run.cost.left_s,
        max_s=run.cost.max_s,
        hands=tuple(index + 1 for index in run.hands),
        must_trip=tuple(index + 1 for index in run.trips),
        hottest=HottestRun(at + 1, seen[at].core_c, seen[at].core_hw) if at is not None else None,
        guards=tuple(map(_guard_gap, run.near)),
    )


def _guard_gap(near: "NearGuard") -> GuardGap:
    left = near.gap if math.isfinite(near.gap) else None
    return GuardGap(near.guard.quantity, near.guard.trip, left, near.index + 1 if near.index is not None else None)


def dry_run_text(dry: DryRunSummary) -> str:
    """Return a dry run in words."""
    from niente.core.model.quantities import duration_text

    ahead = f"{duration_text(dry.left_s)} of it ahead; {duration_text(dry.max_s)} at the most."
    lines = [
        f"{dry.question} on {dry.rig}: {dry.runs} runs, {dry.runs_closed} of them closed.",
        f"Typically {duration_text(dry.typical_s)}, {ahead}",
    ]
    if dry.hands:
        lines.append(f"Hands are needed {len(dry.hands)} times, first before run {dry.hands[0]}.")
    if dry.hottest is not None:
        lines.append(f"Hottest: run {dry.hottest.run}, {dry.hottest.core_c:.1f} ± {dry.hottest.core_hw_k:.1f} °C foreseen.")
    return "\n".join([*lines, *dry.wrong, *dry.warnings])


@plan.command("schema")
@click.argument("of", type=click.Choice(["plan", "question", "answer", "card"]), default="plan")
def schema(of: str) -> None:
    """Print the JSON Schema of plans, of kept questions, of answers, or of hand-over cards."""
    from niente.core.model.answer_document import answer_schema
    from niente.core.model.hand_over_card import hand_over_schema
    from niente.core.model.plan import plan_schema
    from niente.core.model.question import question_schema

    schemas = {"plan": plan_schema, "question": question_schema, "answer": answer_schema, "card": hand_over_schema}
    click.echo(schemas[of](), nl=False)


def _register() -> None:
    from niente.core.planning.templates import TEMPLATES

    for kind in TEMPLATES:
        _question_command(kind.name, kind.title, kind.asks)


_register()
