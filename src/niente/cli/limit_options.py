"""The limits of a choice as options."""

from collections.abc import Callable
from typing import Any

import click
import msgspec

from niente.cli.goal import aim_options, aimed, goal_of, goal_options
from niente.cli.values import KELVIN, LEVEL_DBA, OVER_DB, PERCENT, ROOM_C
from niente.core.model.errors import DocumentError
from niente.core.model.limits import CEILINGS, Limits, LoadLimits, Weights
from niente.core.model.quantities import quantity_of, value_typed
from niente.core.model.rig_card import RigCard

OPTIONS = (
    click.option("--throughput", default=None, type=PERCENT, metavar="%", help="Least throughput in % of stock (default 90)."),
    click.option("--headroom", default=None, type=KELVIN, metavar="K", help="Least headroom in K (default 8)."),
    click.option("--room", default=None, type=ROOM_C, metavar="°C", help="Design room in °C (default 28)."),
    click.option("--noise", default=None, type=LEVEL_DBA, metavar="dBA", help="Most noise in dBA (default: no limit)."),
    click.option("--over-background", default=None, type=OVER_DB, metavar="dB", help="Most noise over the background, in dB."),
    click.option("--most", multiple=True, metavar="QUANTITY=VALUE", help=f"Most of a further reading: {', '.join(CEILINGS)}."),
    click.option(
        "--of-load", multiple=True, metavar="LOAD:throughput=%,headroom=K", help="What one load must keep by itself; often."
    ),
    click.option("--fans-turn", is_flag=True, help="No fan group may stand."),
    click.option("--weights", default=None, metavar="dB,%,W,K", help="What each is worth, for the aim best-as-weighed."),
)


def limit_options(command: Callable[..., None]) -> Callable[..., None]:
    """Give a command the options of everything that a pick must keep, and of what it is for."""
    command = aim_options(goal_options(command))
    for option in reversed(OPTIONS):
        command = option(command)
    return command


def limits_given(before: Limits, card: RigCard, given: dict[str, Any]) -> Limits:
    """Return limits with what was given on the command line in place of what they were. Raises ``DocumentError`` for a text
    that names no limit or no load of the rig."""
    changed = {
        "min_throughput_percent": given["throughput"],
        "min_headroom_k": given["headroom"],
        "design_room_c": given["room"],
        "max_noise_dba": given["noise"],
        "max_over_background_db": given["over_background"],
        "fans_turn": given["fans_turn"] or None,
        "weights": None if given["weights"] is None else _weights(given["weights"]),
    }
    limits = msgspec.structs.replace(before, **{name: value for name, value in changed.items() if value is not None})
    for text in given["most"]:
        limits = limits.with_ceiling(*_ceiling(text))
    for text in given["of_load"]:
        limits = limits.with_load(*_of_load(text, card))
    goal = goal_of(limits.failure, given["failure"], given["horizon"], given["sure"])
    return aimed(msgspec.structs.replace(limits, failure=goal), given["aim"], given["noise_at"])


def _ceiling(text: str) -> tuple[str, float]:
    name, _, value = text.partition("=")
    if name not in CEILINGS:
        raise _refused(f"--most {text}: there is no limit of that name", f"Limits are {', '.join(CEILINGS)}.")
    return name, _number(f"--most {text}", value, quantity_of(name).unit)


def _of_load(text: str, card: RigCard) -> tuple[str, LoadLimits]:
    name, _, wanted = text.partition(":")
    names = {"throughput": ("min_throughput_percent", "%"), "headroom": ("min_headroom_k", "K")}
    if card.load(name) is None:
        raise _refused(
            f"--of-load {text}: this rig has no load {name!r}", f"Its loads are {', '.join(load.name for load in card.loads)}."
        )
    found = {}
    for part in wanted.split(","):
        key, _, value = part.partition("=")
        if key.strip() not in names:
            raise _refused(
                f"--of-load {text}: {key.strip()!r} is no limit of a load", "Write throughput=90, headroom=10 or both."
            )
        field, unit = names[key.strip()]
        found[field] = _number(f"--of-load {text}", value, unit)
    return name, LoadLimits(**found)


def _weights(text: str) -> Weights:
    parts = text.split(",")
    if len(parts) != 4:
        raise _refused(
            f"--weights {text}: four figures are wanted", "Write what a dB, a %, a W and a K are worth: 1,0.3,0.05,0."
        )
    return Weights(*(_number(f"--weights {text}", part, "") for part in parts))


def _number(option: str, text: str, unit: str) -> float:
    try:
        return value_typed(text, unit)
    except ValueError as error:
        raise _refused(f"{option}: {error}", "Write a number.") from None


def _refused(happened: str, remedy: str) -> DocumentError:
    return DocumentError(f"{happened}.", safe="Nothing was changed.", remedy=remedy)
