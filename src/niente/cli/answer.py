"""The answer to the question of a book, for people and for scripts."""

from pathlib import Path

import click
import msgspec

from niente.cli.books import project_in
from niente.cli.goal import aim_options, aimed
from niente.cli.values import FILE
from niente.core.answers.answer_text import answer_as_text
from niente.core.answers.answering import answers_of
from niente.core.model.errors import NotEnoughError
from niente.core.planning.templates import TEMPLATES
from niente.core.selection.answer import work_out

QUESTIONS = click.Choice([kind.name.value for kind in TEMPLATES])


@click.command(name="answer")
@click.argument("book", type=FILE)
@click.option("--question", default=None, type=QUESTIONS, help="One of the book's questions (default: all, the latest first).")
@aim_options
@click.option("--json", "as_json", is_flag=True, help="Print it as JSON: one answer, or a list of all.")
def answer_command(book: Path, question: str | None, aim: str | None, noise_at: str | None, as_json: bool) -> None:
    """Print what a book says to the questions that were asked of it."""
    project = project_in(book)
    project = msgspec.structs.replace(project, limits=aimed(project.limits, aim, noise_at))
    found = answers_of(book, work_out(book, project.limits), project, question or "")
    if not found:
        asked = f"no {question} question" if question else "no question yet"
        raise NotEnoughError(f"The book {book} holds {asked}.", remedy="Run a plan into it first.")
    if as_json:
        whole = found[0] if question else found
        click.echo(msgspec.json.format(msgspec.json.encode(whole), indent=1))
        return
    click.echo("\n\n\n".join(answer_as_text(one) for one in found))
