"""The hand-over card of a book's pick: for a terminal, for scripts, and to print."""

import datetime
from pathlib import Path

import click

from niente import __version__
from niente.cli.books import project_in
from niente.cli.values import FILE
from niente.core.model.errors import NienteError


@click.command(name="card")
@click.argument("book", type=FILE)
@click.option(
    "--format",
    "of",
    default="text",
    type=click.Choice(("text", "json", "html", "pdf", "script")),
    help="What it is made as (default: text).",
)
@click.option("--out", default=None, type=click.Path(path_type=Path, dir_okay=False), help="A new file to write it to.")
@click.option("--point", default="", help="A setting that the book keeps under this name (default: the pick).")
def hand_over_command(book: Path, of: str, out: Path | None, point: str) -> None:
    """Make the hand-over card of the pick, or of a kept point: its entries in order, what to expect, the check of ten minutes,
    and the way back. Where the kernel's own files set the controls it can be a script, which shows what it would write until
    it is armed.

    Example: niente-cli card larkspur.niente --point Night --format pdf --out night.pdf"""
    from niente.core.answers.answering import Answering
    from niente.core.exchange.card_files import card_file

    now = datetime.datetime.now(datetime.UTC).replace(microsecond=0).isoformat()
    made = card_file(Answering(), book, project_in(book), (now, __version__), of, point)
    if out is None:
        if of == "pdf":
            raise click.UsageError("A PDF goes into a file: give its name with --out.")
        click.echo(made.decode(), nl=False)
        return
    try:
        with out.open("xb") as file:
            file.write(made)
    except FileExistsError:
        raise NienteError(
            f"The file {out} is there already.", safe="It was not touched.", remedy="Give another name, or remove it first."
        ) from None
    except OSError as error:
        raise NienteError(
            f"The card could not be written to {out}: {error.strerror}.",
            safe="The book was not touched.",
            remedy="Give a name in a folder that you may write to.",
        ) from None
    click.echo(f"{out}: {len(made)} bytes")
