"""One figure of a benchmark, and the table of them."""

from pathlib import Path

import msgspec
from rich.console import Console
from rich.table import Table

from benchmarks.size import SIZE


class Result(msgspec.Struct, frozen=True):
    """A figure with its unit; ``ratio`` is ``value`` over the ``baseline`` of that name, measured in the same run where
    it is a measurement."""

    name: str
    value: float
    unit: str
    baseline: str
    ratio: float | None


def publish(part: str, results: list[Result], all_yet: list[Result], path: Path) -> None:
    """Print the table of a part, and write everything measured so far as JSON."""
    table = Table("what", "value", "unit", "ratio", "against", title=f"{part}, size {SIZE}")
    for result in results:
        ratio = "" if result.ratio is None else f"{result.ratio:,.3g}"
        table.add_row(result.name, f"{result.value:,.4g}", result.unit, ratio, result.baseline)
    Console().print(table)
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(msgspec.json.format(msgspec.json.encode(all_yet), indent=1))
