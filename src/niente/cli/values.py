"""Values on the command line: what is no number, not finite, out of range, or no name is refused at the option it came by."""

import math
from pathlib import Path
from typing import Any

import click


class Number(click.FloatRange):
    """A finite number within a range."""

    name = "number"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> float:
        """Return the number. Raises ``click.BadParameter``."""
        found = click.FLOAT.convert(value, param, ctx)
        if not math.isfinite(found):
            self.fail(f"{value} is not a finite number.", param, ctx)
        number: float = super().convert(found, param, ctx)
        return number


class Name(click.ParamType[str]):
    """A name, which is not empty."""

    name = "text"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> str:
        """Return the name. Raises ``click.BadParameter``."""
        if not str(value).strip():
            self.fail("a name is wanted, and this is empty.", param, ctx)
        return str(value)


class FileName(click.ParamType[Path]):
    """The path of a file, which is not empty."""

    name = "path"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Path:
        """Return the path. Raises ``click.BadParameter``."""
        if not str(value).strip() or "\0" in str(value):
            self.fail(f"{str(value)!r} is no name of a file.", param, ctx)
        return Path(value)


NAME, FILE = Name(), FileName()
PERCENT = Number(0.0, 200.0)
CHANCE_PERCENT = Number(0.0, 100.0, min_open=True, max_open=True)
HORIZON_H = Number(0.0, 2.5e5, min_open=True)
KELVIN = Number(0.0, 200.0)
ROOM_C = Number(-40.0, 60.0)
LEVEL_DBA = Number(-20.0, 140.0)
OVER_DB = Number(-20.0, 60.0)
METRES = Number(-500.0, 9000.0)
MINUTES = Number(0.0, 7.0 * 24.0 * 60.0)
SOME_MINUTES = Number(0.0, 7.0 * 24.0 * 60.0, min_open=True)
HOURS = Number(0.0, 31.0 * 24.0, min_open=True)
STEP = Number(0.0, 1e6, min_open=True)
BACK = Number(0.0, 1e6)
PACE = Number(0.1, 1e6)
SEED = click.IntRange(0, 2**63 - 1)
TIMES = click.IntRange(1, 1000)


def curve_points(text: str) -> tuple[tuple[float, float], ...]:
    """Return the points of a fan curve in ``40:25,65:50,85:100``, °C and %. Raises ``ValueError`` in words."""
    pairs = [point.split(":") for point in text.split(",")]
    try:
        points = tuple((float(celsius.strip().rstrip("°C ")), float(duty.strip().rstrip("% "))) for celsius, duty in pairs)
    except ValueError:
        raise ValueError("wanted points as in 40:25,65:50,85:100") from None
    if not all(math.isfinite(value) for point in points for value in point):
        raise ValueError("wanted points of finite numbers, as in 40:25,65:50,85:100")
    return points
