"""The map as a table on the screen: the same data as the picture, a row a setting."""

from niente.core.analysis.maps import SettingMap
from niente.core.model.quantities import number_text, quantity_of
from niente.desktop.services.translation import tr
from niente.desktop.widgets.table import Cell

WORDS = {2, 8, 14}
"""The columns that hold words or marks and not figures: whether measured, the dynamic mark, what it breaks."""
FIGURES = set(range(15)) - WORDS


def table_heads(mapped: SettingMap | None) -> list[str]:
    """Return the heads of the columns, the axes' first."""
    axes = [tr("Across"), tr("Up")]
    if mapped is not None:
        known = {control.name: control.title for control in mapped.models.card.controls}
        axes = [f"{known[name]}, {quantity_of(name).unit}" for name in (mapped.field.across, mapped.field.up)]
    return [
        *axes,
        *(tr(head) for head in ("", "Core, °C", "±", "Headroom, K", "Noise, dBA", "±", "", "Throughput, %", "±")),
        *(tr(head) for head in ("Clock, MHz", "Package, W", "Stable day", "Breaks")),
    ]


def table_rows(mapped: SettingMap) -> list[list[Cell | str]]:
    """Return the field as rows: every point, the first axis fastest."""
    field, predicted, scale = mapped.field, mapped.field.predicted, mapped.models.scale
    least = mapped.limits.min_headroom_k
    rows: list[list[Cell | str]] = []
    for index in range(field.measured.shape[0]):
        x, y = field.point(index)
        known, inside = bool(field.measured[index]), bool(field.inside[index])
        sure = predicted.headroom_k[index] - predicted.core_hw[index] >= least
        breaks = [] if sure else [tr("headroom not certain")]
        breaks += [tr("failures")] if field.against[index] else []
        state = tr("measured") if known else tr("inferred") if inside else tr("extrapolated")
        rows.append(
            [
                f"{x:g}",
                f"{y:g}",
                Cell(state, bold=known, soft=not known),
                number_text(float(predicted.core_c[index]), 1),
                Cell(number_text(float(predicted.core_hw[index]), 1), soft=True),
                Cell(number_text(float(predicted.headroom_k[index]), 1), under="" if sure else "guard"),
                number_text(float(predicted.in_room_dba[index]), 1),
                Cell(number_text(float(predicted.in_room_hw[index]), 1), soft=True),
                Cell(scale.mark(float(predicted.in_room_dba[index])), mark=True),
                number_text(float(predicted.throughput_percent[index]), 1),
                Cell(number_text(float(predicted.throughput_hw[index]), 1), soft=True),
                number_text(float(predicted.clock_mhz[index]), 0),
                number_text(float(predicted.power_w[index]), 1),
                number_text(float(field.stable[index]), 2),
                ", ".join(breaks),
            ]
        )
    return rows
