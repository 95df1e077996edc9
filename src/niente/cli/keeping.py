"""A setting that the machine keeps: the pick, or a kept point, put in force without a load and left so."""

import sys
from pathlib import Path

import click

from niente.cli.books import project_in, read_book
from niente.cli.progress import ProgressPrinter
from niente.cli.running import put_in_force_in_terminal
from niente.cli.values import FILE
from niente.core.acquisition.client import Hearer
from niente.core.model.errors import RigError
from niente.core.model.kept_point import point_named
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.planning.risk import raised_in
from niente.core.serving.remote_bench import RemoteBench
from niente.core.serving.starting import reach_bench


@click.command(name="keep")
@click.argument("book", type=FILE)
@click.option("--point", default="", help="A setting that the book keeps under this name (default: the pick).")
@click.option("--cautions-read", is_flag=True, help="Say, once a book, that you have read the cautions for a real machine.")
@click.option("--raise-voltage", is_flag=True, help="Let this setting put voltages above stock, this once.")
def keep_command(book: Path, point: str, cautions_read: bool, raise_voltage: bool) -> None:
    """Set the machine to the pick, or to a kept point, without a load, and leave it so: until a plan begins, or the machine is
    started anew. A simulated machine ends with the command.

    Example: niente-cli keep larkspur.niente --point Night"""
    card = read_book(book)[0].card
    setting = _setting(book, point, card)
    if not raise_voltage and (raised := raised_in(setting, card)):
        raise RigError(
            f"That puts voltages above stock: {raised}.",
            safe="Nothing was set.",
            remedy="Keep within the maker's limit, be there, and say --raise-voltage, each time.",
        )

    def reach(told: Hearer) -> RemoteBench:
        bench = reach_bench(book, told, progress=ProgressPrinter())
        if cautions_read and bench.unread_cautions():
            bench.read_cautions()
        return bench

    sys.exit(put_in_force_in_terminal(reach, setting))


def _setting(book: Path, point: str, card: RigCard) -> Setting:
    """Return the setting of a point of a book, or of its pick. Raises ``NienteError`` where there is none, or the machine is
    another variant by now."""
    from niente.core.analysis.models import fit_models
    from niente.core.selection.pick import choose

    if not point:
        evidence, limits = read_book(book)
        return choose(fit_models(evidence), limits).pick.setting
    kept = point_named(project_in(book).points, point)
    kept.insist_on(card.variant)
    return kept.setting
