"""A map as rows and columns, for files that other programs read and for people who do not see the picture."""

import csv
import io

import numpy as np

from niente.core.analysis.maps import SettingMap
from niente.core.analysis.prediction import MAX_W
from niente.core.model.quantities import quantity_of

COLUMNS = (
    *("core_c", "core_hw_k", "rise_k", "headroom_k", "in_room_dba", "in_room_hw_db", "alone_dba"),
    *("throughput_percent", "throughput_hw_percent", "effective_clock_mhz", "effective_clock_hw_mhz"),
    *("package_power_w", "package_power_hw_w", "stable_24h", "failures_against", "heat_holds", "inside", "measured", "clean_s"),
)
"""The columns behind the two axes, with their units in their names; they stand in docs/reference."""


def map_as_csv(mapped: SettingMap) -> str:
    """Return a field as comma-separated values (RFC 4180): a head with names and units, then a row a setting."""
    field, said = mapped.field, mapped.field.predicted
    columns = (
        *(said.core_c, said.core_hw, said.rise_k, said.headroom_k, said.in_room_dba, said.in_room_hw, said.alone_dba),
        *(said.throughput_percent, said.throughput_hw, said.clock_mhz, said.clock_hw, said.power_w, said.power_hw),
        *(field.stable, field.against, said.heat_limited, field.inside, field.measured, field.clean_s),
    )
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\r\n")
    others = [control for control in field.settings.values if control not in (field.across, field.up)]
    writer.writerow([field.across, field.up, *others, "room_c", *COLUMNS])
    for place in range(field.settings.count):
        x, y = field.place(place)
        held = [_figure(control, float(field.settings.values[control][place])) for control in others]
        figures = [_value(column[place]) for column in columns]
        writer.writerow([_figure(field.across, x), _figure(field.up, y), *held, f"{mapped.room_c:g}", *figures])
    return text.getvalue()


def _figure(control: str, value: float) -> str:
    return f"{value:.{quantity_of(control).digits + 1}f}".rstrip("0").rstrip(".")


def _value(value: float | np.bool_ | np.int64) -> str:
    """Return a figure for a file: yes and no as 1 and 0, what is not known or runs away as nothing."""
    if isinstance(value, np.bool_ | np.integer):
        return str(int(value))
    if not np.isfinite(value) or value >= MAX_W:
        return ""
    return f"{float(value):.4g}" if abs(value) < 1 else f"{float(value):.3f}"
