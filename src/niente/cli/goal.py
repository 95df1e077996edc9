"""What a setting has to last, as options: the chance of a failure, the horizon, and how sure."""

from collections.abc import Callable

import click
import msgspec

from niente.cli.values import CHANCE_PERCENT, HORIZON_H
from niente.core.model.failure_goal import FailureGoal
from niente.core.model.limits import Aim, Limits, NoisePlace

OPTIONS = (
    click.option("--failure", default=None, type=CHANCE_PERCENT, metavar="%", help="Most chance of a failure (default 1)."),
    click.option("--horizon", default=None, type=HORIZON_H, metavar="H", help="Hours that it has to last (default 24)."),
    click.option("--sure", default=None, type=CHANCE_PERCENT, metavar="%", help="How sure that has to be (default 99)."),
)


AIMS = {aim.value.replace(" ", "-"): aim for aim in Aim}
PLACES = {place.value.replace(" ", "-"): place for place in NoisePlace}


def aim_options(command: Callable[..., None]) -> Callable[..., None]:
    """Give a command the options of what a choice is for, and where its noise is judged."""
    places, aims = click.Choice(list(PLACES)), click.Choice(list(AIMS))
    command = click.option("--noise-at", default=None, type=places, help="Where the most noise is judged.")(command)
    return click.option("--aim", default=None, type=aims, help="What the choice is for (default quietest).")(command)


def aimed(limits: Limits, aim: str | None, noise_at: str | None) -> Limits:
    """Return limits with what a choice is for, where that was given."""
    return msgspec.structs.replace(
        limits,
        aim=AIMS[aim] if aim is not None else limits.aim,
        noise_at=PLACES[noise_at] if noise_at is not None else limits.noise_at,
    )


def goal_options(command: Callable[..., None]) -> Callable[..., None]:
    """Give a command the options of what a setting has to last."""
    for option in reversed(OPTIONS):
        command = option(command)
    return command


def goal_of(before: FailureGoal, failure: float | None, horizon: float | None, sure: float | None) -> FailureGoal:
    """Return what a setting has to last, with what was given in place of what it was before."""
    changed = {
        "chance": None if failure is None else failure / 100.0,
        "horizon_s": None if horizon is None else horizon * 3600.0,
        "sure": None if sure is None else sure / 100.0,
    }
    return msgspec.structs.replace(before, **{name: value for name, value in changed.items() if value is not None})
