"""The proof of a setting, for people and for scripts."""

import math
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import click
import msgspec

from niente.cli.books import read_book
from niente.cli.goal import goal_of, goal_options
from niente.cli.models import setting_of
from niente.cli.values import FILE
from niente.core.analysis.models import fit_models
from niente.core.model.errors import NotEnoughError
from niente.core.model.failure_goal import FailureGoal
from niente.core.model.json_files import indented_json
from niente.core.model.quantities import duration_text, number_text
from niente.core.selection.explanation import risk_text
from niente.core.selection.pick import choose
from niente.core.selection.proof import Fact, Proof, proof_of
from niente.core.selection.proof_words import CORRUPTS, headline, loads_sentence, more_sentence, rests_on

FORMAT = "niente-proof/1"


@click.command(name="proof")
@click.argument("book", type=FILE)
@click.option("--set", "settings", multiple=True, metavar="CONTROL=VALUE", help="A setting in place of the pick; often.")
@goal_options
@click.option("--json", "as_json", is_flag=True, help="Print it as JSON.")
def proof_command(
    book: Path,
    settings: tuple[str, ...],
    failure: float | None,
    horizon: float | None,
    sure: float | None,
    as_json: bool,
) -> None:
    """Print how surely the pick, or any setting, lasts: its exposure, the chance of a failure, and what to run next."""
    proof = proof_in(book, settings, lambda goal: goal_of(goal, failure, horizon, sure))
    if as_json:
        click.echo(indented_json(proof_as_data(proof)), nl=False)
        return
    click.echo(proof_as_text(proof))


def proof_in(book: Path, settings: tuple[str, ...], goal: Callable[[FailureGoal], FailureGoal]) -> Proof:
    """Return the proof of the pick of a book, or of a setting; ``goal`` changes what it has to last. Raises ``NotEnoughError``
    where there is no pick."""
    evidence, limits = read_book(book)
    limits = msgspec.structs.replace(limits, failure=goal(limits.failure))
    models = None
    try:
        models = fit_models(evidence)
        setting = setting_of(settings) if settings else choose(models, limits).pick.setting
    except NotEnoughError:
        if not settings:
            raise
        setting = setting_of(settings)
    return proof_of(evidence, limits, setting, models, time.time())


def proof_as_data(proof: Proof) -> dict[str, Any]:
    """Return a proof as plain data; its keys are public (docs/reference/command-line.md)."""
    return {
        "format": FORMAT,
        "setting": msgspec.to_builtins(proof.setting),
        "goal": {"chance": proof.goal.chance, "sure": proof.goal.sure, "horizon_s": proof.goal.horizon_s},
        "proven": proof.proven,
        "confirmed": proof.confirmed,
        "by_law": proof.by_law,
        "makers_voltage": proof.makers,
        "failure_chance": _known(proof.expected),
        "failure_chance_at_most": _known(proof.at_most),
        "decided_by": proof.load,
        "threshold_mv": _fact(proof.threshold_mv),
        "guard_band_mv": _fact(proof.guard_band_mv),
        "tenfold_mv": _fact(proof.tenfold_mv),
        "loads": [
            {name: _known(value) if isinstance(value, float) else value for name, value in msgspec.to_builtins(one).items()}
            for one in proof.loads
        ],
        "exposures": [
            {
                "run": one.run_id,
                "load": one.load,
                "depth_mv": one.seen.depth_mv,
                "seconds": one.seen.seconds,
                "failed": one.seen.failed,
                "crashed": one.crashed,
                "clock_mhz": _known(one.seen.clock_mhz),
                "core_c": _known(one.seen.core_c),
                "cores": list(one.cores),
            }
            for one in proof.exposures
        ],
        "forgotten": proof.forgotten,
        "cores": [
            {
                "core": one.core,
                "failures": one.failures,
                "gentlest_mv": _known(one.gentlest_mv),
                "threshold_mv": _fact(one.threshold_mv),
                "offset_mv": one.offset_mv,
            }
            for one in proof.cores
        ],
        "months": msgspec.to_builtins(proof.months),
        "aged": proof.aged,
        "run_next": [
            {
                "load": one.load,
                "depth_mv": one.depth_mv,
                "hours": one.hours,
                "failure_chance_at_most": one.at_most,
                "core_c": _known(one.core_c),
                "words": more_sentence(proof, one),
            }
            for one in proof.more
        ],
        "words": headline(proof),
        "rests_on": rests_on(proof),
        "caution": CORRUPTS,
    }


def _known(value: float) -> float | None:
    return value if math.isfinite(value) else None


def _fact(fact: Fact) -> dict[str, float | None]:
    return {"value": _known(fact.value), "low": _known(fact.low), "high": _known(fact.high)}


def proof_as_text(proof: Proof) -> str:
    """Return a proof for a terminal."""
    lines = [headline(proof), f"  {proof.setting.text()}", "", "Exposure"]
    for one in proof.loads:
        failures = f"{one.failures} failed" if one.failures else "none failed"
        crashes = f", {one.crashes} of them took the machine down" if one.crashes else ""
        lines.append(
            f"  {one.title:24} {duration_text(one.seconds):>12}, {failures}{crashes}; "
            + (f"at most {risk_text(one.at_most)} likely to fail" if math.isfinite(one.at_most) else "run no deeper")
        )
    lines += ["", "Where it comes from", f"  {rests_on(proof)}", f"  {loads_sentence(proof)}"]
    named = [one for one in proof.cores if one.failures]
    if named:
        worst = ", ".join(f"core {one.core} ({one.failures}, from {number_text(-one.gentlest_mv, 0)} mV)" for one in named[:6])
        lines.append(f"  Errors named {worst}.")
    if proof.aged:
        lines.append(f"  The evidence has aged: {proof.aged}.")
    lines += ["", "Run next, to be twice as sure"]
    lines += [f"  {more_sentence(proof, one)}" for one in proof.more] or ["  No run shorter than weeks would show it."]
    return "\n".join([*lines, "", f"Caution. {CORRUPTS}"])
