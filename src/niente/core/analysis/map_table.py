"""A map as rows and columns, for files that other programs read and for people who do not see the picture."""

import csv
import io

import numpy as np

from niente.core.analysis.maps import SettingMap
from niente.core.model.quantities import quantity_of

COLUMNS = (
    *("core_c", "core_hw_k", "rise_k", "headroom_k", "in_room_dba", "in_room_hw_db"),
    *("alone_dba", "alone_hw_db", "alone_at_most_dba"),
    *("throughput_percent", "throughput_hw_percent", "effective_clock_mhz", "effective_clock_hw_mhz"),
    *("package_power_w", "package_power_hw_w", "stable_24h", "failures_against", "heat_holds", "inside"),
    *("measured", "measured_at_another_offset", "clean_s"),
)
"""The columns behind the two axes, with their units in their names; they stand in docs/reference."""


def map_as_csv(mapped: SettingMap) -> str:
    """Return a field as comma-separated values (RFC 4180): a head with names and units, then a row a setting."""
    field, predicted = mapped.field, mapped.field.predicted
    columns = (
        *(predicted.core_c, predicted.core_hw, predicted.rise_k, predicted.headroom_k),
        *(predicted.in_room_dba, predicted.in_room_hw),
        *(predicted.alone_dba, predicted.alone_hw, predicted.alone_at_most_dba),
        *(predicted.throughput_percent, predicted.throughput_hw, predicted.clock_mhz, predicted.clock_hw),
        *(predicted.power_w, predicted.power_hw),
        *(field.stable, field.against, predicted.heat_limited, field.inside),
        *(field.measured, field.nearly & ~field.measured, field.clean_s),
    )
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\r\n")
    others = [control for control in field.settings.values if control not in (field.across, field.up)]
    writer.writerow([field.across, field.up, *others, "room_c", *COLUMNS])
    for index in range(field.settings.count):
        x, y = field.point(index)
        fixed = [_figure(control, float(field.settings.values[control][index])) for control in others]
        figures = [_value(column[index]) for column in columns]
        writer.writerow([_figure(field.across, x), _figure(field.up, y), *fixed, f"{mapped.room_c:g}", *figures])
    return text.getvalue()


def _figure(control: str, value: float) -> str:
    return f"{value:.{quantity_of(control).digits + 1}f}".rstrip("0").rstrip(".")


def _value(value: float | np.bool_ | np.int64) -> str:
    """Return a figure for a file: yes and no as 1 and 0, what is not known as nothing."""
    if isinstance(value, np.bool_ | np.integer):
        return str(int(value))
    if not np.isfinite(value):
        return ""
    return f"{float(value):.4g}" if abs(value) < 1 else f"{float(value):.3f}"
