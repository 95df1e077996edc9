"""The commands. Exit codes and JSON keys stand in docs/reference/command-line.md and are kept."""

import logging
import os
import sys
from pathlib import Path

import click

from niente import __version__
from niente.cli.answer import answer_command
from niente.cli.books import card_and_project
from niente.cli.card_checking import card_check_command
from niente.cli.cards import card_of
from niente.cli.choosing import choose_command
from niente.cli.fans import fans_command
from niente.cli.hand_over import hand_over_command
from niente.cli.keeping import keep_command
from niente.cli.models import fit_command, predict_command
from niente.cli.planning import plan
from niente.cli.progress import ProgressPrinter
from niente.cli.proof import proof_command
from niente.cli.running import BUG, ENDED_EARLY, STOPPED, run_in_terminal
from niente.cli.status import status
from niente.cli.values import FILE, NAME, PACE, SEED
from niente.core.model.commands import WhenLost
from niente.core.model.errors import NienteError, NotEnoughError, PlanError, RigError
from niente.core.model.json_files import indented_json
from niente.core.model.plan import read_plan
from niente.core.model.small_files import read_small_file
from niente.core.rigs.checked_rig import checked
from niente.core.storage.log_files import log_file, start_log

LOG = logging.getLogger(__name__)
REFUSED = 3
"""Exit code: something given cannot be used; nothing was run or changed."""
NOT_ENOUGH = 6
"""Exit code: the readings so far do not answer the question."""


@click.group()
@click.version_option(__version__, prog_name="niente-cli")
def commands() -> None:
    """Find a computer's quiet, stable operating point."""


@commands.group(invoke_without_command=True)
@click.option("--json", "as_json", is_flag=True, help="Print the rig cards as JSON.")
@click.pass_context
def rigs(context: click.Context, as_json: bool) -> None:
    """List the rigs that can be opened, or check one against the contract."""
    from niente.core.rigs.registry import installed, shipped

    if context.invoked_subcommand is not None:
        return
    cards = [card_of(name) for name in (*shipped(), *installed())]
    if as_json:
        click.echo(indented_json(cards), nl=False)
        return
    for card in cards:
        click.echo(f"{card.name:12} {'simulated' if card.simulated else 'machine':10} {card.summary}")


@rigs.command("check")
@click.argument("rig", type=NAME)
@click.option("--with-load", is_flag=True, help="Also start the heaviest load of a real machine, for some samples.")
def check_rig(rig: str, with_load: bool) -> None:
    """Hold a rig against the contract, and name what breaks it. The machine is set, made safe, and let go of."""
    from niente.core.model.cautions import cautions_for
    from niente.core.rigs.contract_check import ContractCheck
    from niente.core.rigs.registry import open_rig

    opened = checked(open_rig(rig, progress=ProgressPrinter()))
    try:
        card = opened.describe()
    except RigError:
        opened.close()
        raise
    if with_load and not card.simulated:
        for caution in cautions_for(card):
            click.echo(caution, err=True)
    found = ContractCheck(opened, lambda text: click.echo(text, err=True), with_load=with_load or card.simulated).run()
    for problem in found:
        click.echo(problem)
    if found:
        raise RigError(
            f"{card.title} breaks the contract in {len(found)} points.",
            safe="It was told to end its load and take its safe setting.",
            remedy="docs/reference/rig-contract.md says what each call has to do.",
        )
    unloaded = "" if with_load or card.simulated else " Its load was not started: --with-load does that too."
    click.echo(f"{card.title} keeps the contract.{unloaded}")


@commands.command("rig-sheet")
@click.option("--rig", default=None, type=NAME, help="The rig's name, or module:factory.")
@click.option("--book", default=None, type=FILE, help="Take the sheet from a book in place of the rig's own.")
@click.option("--check", default=None, type=FILE, metavar="FILE", help="Validate a sheet against the rig.")
def rig_sheet(rig: str | None, book: Path | None, check: Path | None) -> None:
    """Print what is said of a machine (parts, room, limits, guards, trust) as JSON, or check such a file."""
    from niente.core.model.rig_sheet import read_sheet, sheet_of, sheet_text

    if book is not None:
        card, project = card_and_project(book)
        sheet = (project.sheet if project is not None else None) or sheet_of(card)
        click.echo(sheet_text(sheet, project.sheet_kept if project is not None else {}), nl=False)
        return
    if rig is None:
        raise click.UsageError("name a rig or a book")
    card = card_of(rig)
    if check is None:
        click.echo(sheet_text(sheet_of(card)), nl=False)
        return
    sheet, _ = read_sheet(read_small_file(check), check.name, card)
    click.echo(
        f"{sheet.title}: {len(sheet.parts)} parts, {len(sheet.variants)} variants, {len(sheet.guards)} guards. It fits the rig."
    )


ELSEWHERE = (
    *(plan, status, fit_command, predict_command, proof_command),
    *(answer_command, choose_command, hand_over_command, card_check_command, keep_command, fans_command),
)
for command in ELSEWHERE:
    commands.add_command(command)


@commands.command()
@click.argument("plan_file", type=FILE)
@click.option("--rig", required=True, type=NAME, help="The rig's name, or module:factory.")
@click.option("--book", required=True, type=FILE, help="The book to write; made where there is none.")
@click.option("--seed", default=None, type=SEED, help="Which sample of a simulated machine (default: the book's, or 1).")
@click.option("--pace", default=None, type=PACE, help="Rig seconds a second (default: as fast as it goes).")
@click.option(
    "--variant", default=None, type=NAME, metavar="NAME", help="The state that the machine is in (default: the book's)."
)
@click.option("--cautions-read", is_flag=True, help="Say, once a book, that you have read the cautions for a real machine.")
@click.option("--raise-voltage", is_flag=True, help="Let this plan put voltages above stock, this once.")
@click.option(
    "--last-run",
    type=click.Choice(["failed", "repeat"]),
    default=None,
    help="What the run was that an earlier end left open: the machine failed in it, or something else ended it.",
)
@click.option(
    "--if-lost",
    type=click.Choice(["go-on", "stop"]),
    default="go-on",
    help="What the bench does if this command is killed: go on under its guards, or stop and restore.",
)
@click.option("--json", "as_json", is_flag=True, help="Print what happens as JSON, an object a line.")
def run(
    plan_file: Path,
    rig: str,
    book: Path,
    seed: int | None,
    pace: float | None,
    variant: str | None,
    cautions_read: bool,
    raise_voltage: bool,
    last_run: str | None,
    if_lost: str,
    as_json: bool,
) -> None:
    """Run a plan, or go on with it where its book stopped. Ctrl+C stops and restores.

    At a terminal, words are taken while it runs: pause, pause after, go on, skip, repeat, note TEXT, hand over, leave, stop.
    The plan runs in a process of its own; where this one is killed, the plan goes on, or stops with --if-lost stop.
    """
    from niente.core.acquisition.client import Hearer
    from niente.core.acquisition.hand_cards import hand_work
    from niente.core.planning.risk import raised_voltages
    from niente.core.serving.remote_bench import RemoteBench
    from niente.core.serving.starting import BenchOptions, reach_bench

    wanted = read_plan(read_small_file(plan_file), str(plan_file))

    options = BenchOptions(rig, seed, pace, variant)
    lost = WhenLost(if_lost.replace("-", " "))

    def reach(told: Hearer) -> RemoteBench:
        bench = reach_bench(book, told, options, when_lost=lost, progress=ProgressPrinter())
        work = hand_work(wanted, bench.card)
        if work and not bench.card.simulated and not sys.stdin.isatty():
            bench.close()
            raise PlanError(
                f"The plan needs hands ({'; '.join(work)}), and nobody is there.",
                safe="Nothing was started.",
                remedy="Start it from a terminal or the window, or leave these runs out.",
            )
        if not raise_voltage and (raised := raised_voltages(wanted, bench.card)):
            bench.close()
            raise PlanError(
                f"The plan puts voltages above stock: {'; '.join(raised)}.",
                safe="Nothing was started.",
                remedy="Keep within the maker's limit, be there, and say --raise-voltage, each time.",
            )
        if cautions_read and bench.unread_cautions():
            bench.read_cautions()
        if pace is not None and bench.pace != pace:
            bench.set_pace(pace)
        return bench

    judged = None if last_run is None else last_run == "failed"
    sys.exit(run_in_terminal(reach, wanted, book, as_json=as_json, machine_went_down=judged, when_lost=lost))


def main() -> None:
    """Run the command line; an error that a person can act on is three sentences and an exit code, never a traceback."""
    try:
        code = commands.main(standalone_mode=False)
    except click.ClickException as error:
        error.show()
        code = error.exit_code
    except click.Abort:
        code = STOPPED
    except NotEnoughError as error:
        click.echo(str(error), err=True)
        code = NOT_ENOUGH
    except NienteError as error:
        click.echo(str(error), err=True)
        code = REFUSED
    except BrokenPipeError:
        code = _output_closed()
    except Exception:
        code = _tell_bug()
    sys.exit(code if isinstance(code, int) else 0)


def _output_closed() -> int:
    """Whoever read the output has gone, which is no error; what is still to be written goes nowhere."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    return 0


def _tell_bug() -> int:
    """Say in words that this was a bug of Niente's, and where its traceback is."""
    start_log("command")
    LOG.exception("a command ended by a bug")
    words = f"This is a bug of Niente's: nothing that was written is lost. What happened stands in {log_file('command')}."
    click.echo(words, err=True)
    return BUG


__all__ = ["ENDED_EARLY", "NOT_ENOUGH", "REFUSED", "STOPPED", "main"]
