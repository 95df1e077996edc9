"""Names of channels and controls: a quantity, and behind a point the part of the machine where there are several."""

from functools import lru_cache
from typing import NamedTuple


class ControlName(NamedTuple):
    """The name of a control or channel, taken apart: ``fan_duty.case`` is the quantity ``fan_duty`` of the part ``case``.

    ``part`` is empty where the name has none.
    """

    quantity: str
    part: str

    def __str__(self) -> str:
        return f"{self.quantity}.{self.part}" if self.part else self.quantity


@lru_cache(maxsize=4096)
def control_name(name: str) -> ControlName:
    """Return a name taken apart."""
    quantity, _, part = name.partition(".")
    return ControlName(quantity, part)


def kind_of(name: str) -> str:
    """Return the quantity in a name: ``"fan_duty"`` for ``fan_duty.case``."""
    return control_name(name).quantity


def part_of(name: str) -> str:
    """Return the part in a name: ``"case"`` for ``fan_duty.case``, ``""`` where it has none."""
    return control_name(name).part
