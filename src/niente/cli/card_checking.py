"""The check of a hand-over card: whether a machine still behaves as it did when the card was made."""

from pathlib import Path

import click

from niente.cli.books import read_book
from niente.cli.cards import card_of
from niente.cli.values import FILE, NAME, SOME_MINUTES
from niente.core.answers.card_check import CheckedCard, checked_card, plan_of_check
from niente.core.model.hand_over_card import read_card
from niente.core.model.json_files import indented_json
from niente.core.model.small_files import read_small_file

CHECK_FORMAT = "niente-card-check/1"
MOVED = 7
"""The exit code where the machine does not behave as it did."""


@click.command(name="card-check")
@click.argument("card", type=FILE)
@click.argument("book", type=FILE, required=False)
@click.option("--plan", "as_plan", is_flag=True, help="Print the plan of the check instead: one run of ten minutes.")
@click.option("--minutes", default=10.0, type=SOME_MINUTES, help="How long it runs (default 10): longer tells the core closer.")
@click.option("--rig", default=None, type=NAME, help="The rig that the plan is for.")
@click.option("--json", "as_json", is_flag=True, help="Print it as JSON.")
def card_check_command(card: Path, book: Path | None, as_plan: bool, minutes: float, rig: str | None, as_json: bool) -> int:
    """Say whether a machine still behaves as when its hand-over card (JSON) was made, by the latest run of the card's check.

    Example: niente-cli card-check night.json --plan --rig larkspur > check.json; niente-cli run check.json --rig larkspur
    --book check.niente; niente-cli card-check night.json check.niente
    """
    told = read_card(read_small_file(card))
    if as_plan:
        if rig is None:
            raise click.UsageError("Name the rig that the plan is for, with --rig.")
        click.echo(plan_of_check(told, card_of(rig), minutes).to_json().decode(), nl=False)
        return 0
    if book is None:
        raise click.UsageError("Name the book with the run of the check, or ask for its plan with --plan.")
    evidence, _ = read_book(book)
    found = checked_card(book, evidence, told)
    click.echo(indented_json(_as_data(found)) if as_json else _as_text(found), nl=not as_json)
    return 0 if found.as_then else MOVED


def _as_text(found: CheckedCard) -> str:
    lines = [found.sentence, *((found.cause,) if found.cause else ()), "", *(f"  {one.text()}" for one in found.figures)]
    return "\n".join(lines)


def _as_data(found: CheckedCard) -> dict[str, object]:
    """Return a check as plain data; its keys stand in docs/reference."""
    return {
        "format": CHECK_FORMAT,
        "as_then": found.as_then,
        "run": found.run_id,
        "failed": found.failed,
        "sentence": found.sentence,
        "cause": found.cause,
        "figures": [
            {
                "name": one.then.name,
                "unit": one.then.unit,
                "then": one.then.value.value,
                "low": one.then.value.low,
                "high": one.then.value.high,
                "now": one.now,
                "moved": one.moved,
            }
            for one in found.figures
        ],
    }
