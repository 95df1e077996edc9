"""What the margin is made of: pages say it in these, and never touch a widget of the margin."""

import msgspec

from niente.core.acquisition.guard_distance import Distance


class Title(msgspec.Struct, frozen=True):
    """What is selected: a soft line over a name in large type."""

    lead: str
    text: str


class Words(msgspec.Struct, frozen=True):
    """A heading and a few short sentences."""

    heading: str
    text: str


class Reading(msgspec.Struct, frozen=True):
    """One line of figures: what, how much, ±, unit. ``mark`` is a dynamic mark behind the unit; ``dot`` marks a
    line that binds."""

    name: str
    value: str
    interval: str = ""
    unit: str = ""
    mark: str = ""
    dot: bool = False


class Readings(msgspec.Struct, frozen=True):
    """A heading, with a soft word at its right, over lines of figures."""

    heading: str
    lines: tuple[Reading, ...]
    aside: str = ""


class Columns(msgspec.Struct, frozen=True):
    """A small table: a heading with the columns' heads beside it, and rows that begin with their name."""

    heading: str
    heads: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]


class Far(msgspec.Struct, frozen=True):
    """How far the guards are, each drawn as the gap that is left."""

    heading: str
    aside: str
    guards: tuple[Distance, ...]


class LimiterLegend(msgspec.Struct, frozen=True):
    """What the textures of the limiter band mean."""

    heading: str


class Buttons(msgspec.Struct, frozen=True):
    """Buttons, side by side, by the names of their actions."""

    actions: tuple[str, ...]


Block = Title | Words | Readings | Columns | Far | LimiterLegend | Buttons


def spoken(blocks: list[Block]) -> str:
    """Return blocks as plain text, for screen readers and tests."""
    parts: list[str] = []
    for block in blocks:
        match block:
            case Title(lead, text) | Words(lead, text):
                parts += [lead, text]
            case Readings(heading, lines, aside):
                parts.append(f"{heading} {aside}".strip())
                parts += [" ".join(part for part in (r.name, r.value, r.interval, r.unit, r.mark) if part) for r in lines]
            case Columns(heading, heads, rows):
                parts += [" ".join((heading, *heads)), *(" ".join(row) for row in rows)]
            case Far(heading, _, guards):
                parts.append(heading)
                parts += [f"{guard.title}: {guard.left:.1f}" for guard in guards]
            case LimiterLegend(heading):
                parts.append(heading)
            case Buttons():
                pass
    return "\n".join(part for part in parts if part)
