"""The choice of a setting: the pick, why not another, and what becomes of it in circumstances that were not measured."""

from pathlib import Path
from typing import Any

import click
import msgspec

from niente.cli.books import project_in, read_book
from niente.cli.limit_options import limit_options, limits_given
from niente.cli.models import setting_of
from niente.cli.values import FILE
from niente.core.model.json_files import indented_json


@click.command(name="choose")
@click.argument("book", type=FILE)
@limit_options
@click.option("--what-if", is_flag=True, help="Say what becomes of the pick in the book's circumstances (a hotter room …).")
@click.option("--why-not", multiple=True, metavar="CONTROL=VALUE", help="Say why a setting is not the pick; often.")
@click.option("--json", "as_json", is_flag=True, help="Print the choice as JSON.")
def choose_command(book: Path, what_if: bool, why_not: tuple[str, ...], as_json: bool, **given: Any) -> None:
    """Pick the setting that is best in what the choice is for, among those that keep the limits."""
    from niente.cli.choice import beside_as_data, beside_as_text, choice_as_data, choice_as_text
    from niente.core.answers.beside_choice import beside_choice
    from niente.core.selection.answer import choice_in
    from niente.core.selection.points import candidate_of
    from niente.core.selection.why_not import why_not as reasons

    evidence, _ = read_book(book)
    project = project_in(book)
    limits = limits_given(project.limits, evidence.card, given)
    found = choice_in(evidence, limits)
    models, choice = found.models, found.choice
    assert models is not None
    assert choice is not None
    data, lines = choice_as_data(choice), [choice_as_text(choice)]
    if why_not:
        wanted = setting_of(why_not)
        models.card.insist(wanted)
        words = reasons(choice, candidate_of(models, limits, wanted))
        data["why_not"] = words
        lines += ["", f"Why not {wanted.text()}", f"  {words}"]
    if what_if:
        beside = beside_choice(found, msgspec.structs.replace(project, limits=limits))
        data["what_ifs"] = beside_as_data(beside)
        lines += ["", beside_as_text(beside)]
    click.echo(indented_json(data) if as_json else "\n".join(lines), nl=not as_json)
