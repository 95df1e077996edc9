"""Fan curves as files: a table for a firmware's form, and JSON that the command line reads back."""

import csv
import io
from collections.abc import Mapping, Sequence

import msgspec

from niente.core.fans.told import GroupFacts
from niente.core.model.errors import DocumentError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.json_files import indented_json

FORMAT = "niente-curves/1"
HEADS = ("group", "source", "temperature_c", "duty_percent", "speed_rpm", "level_alone_dba")


class CurveFile(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """The curves of a point by group, with the machine and the point that they are for."""

    format: str = FORMAT
    machine: str
    variant: str
    point: str
    curves: dict[str, FanCurve]


def curves_csv(groups: Sequence[GroupFacts], curves: Mapping[str, FanCurve]) -> bytes:
    """Return curves as a table: a row a point, with speed and level where they are known."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow(HEADS)
    for group in groups:
        curve = curves.get(group.name)
        for celsius, duty in curve.points if curve is not None else ():
            whole = round(duty)
            figures = f"{group.rpm[whole]:.0f}", f"{group.level_dba[whole]:.1f}"
            table.writerow((group.name, "+".join(curve.sources) if curve else "", f"{celsius:g}", f"{duty:g}", *figures))
    return out.getvalue().encode()


def curves_json(file: CurveFile) -> bytes:
    """Return curves as JSON, with all that a table has no column for."""
    return indented_json(msgspec.to_builtins(file))


def curves_read(data: bytes) -> dict[str, FanCurve]:
    """Return the curves of a JSON file. Raises ``DocumentError`` for one that holds none."""
    try:
        file = msgspec.json.decode(data, type=CurveFile)
    except msgspec.DecodeError as error:
        raise DocumentError(f"That is no file of curves: {error}.", remedy="Export one on the Fans page.") from None
    if file.format != FORMAT:
        raise DocumentError(f"Curves of the format {file.format!r} are not known.", remedy=f"Known is {FORMAT}.")
    return file.curves
