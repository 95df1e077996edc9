"""How much a benchmark draws: SIZE=least (so that it cannot rot), small (the default) or full (for claimed figures)."""

import os
from enum import StrEnum


class Size(StrEnum):
    """The sizes of a benchmark."""

    LEAST = "least"
    SMALL = "small"
    FULL = "full"


SIZE = Size(os.environ.get("SIZE", Size.SMALL))


def draws(*, least: int, small: int, full: int) -> int:
    """Return how many draws the size in force wants."""
    return {Size.LEAST: least, Size.SMALL: small, Size.FULL: full}[SIZE]


def some_of(machines: tuple[str, ...]) -> tuple[str, ...]:
    """Return the machines that the size in force takes: two at the least size, else all."""
    return machines[:2] if SIZE == Size.LEAST else machines
