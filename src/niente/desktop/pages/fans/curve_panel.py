"""The figures of one fan group's curve: its points as a table, what it follows, and how it moves."""

from collections.abc import Callable

import msgspec
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from niente.core.fans.told import GroupFacts, PointFacts
from niente.core.model.curve_edits import COLDEST_C, HOTTEST_C, STEP_C, moved_point
from niente.core.model.fan_curve import MAX_SMOOTHING_S, Combined, FanCurve
from niente.core.model.quantities import Quantity, number_text, quantity_of
from niente.core.science.dynamics import Scale
from niente.desktop.services.theme import Look
from niente.desktop.services.translation import tr
from niente.desktop.widgets import form
from niente.desktop.widgets.labels import label
from niente.desktop.widgets.quantity_field import QuantityField
from niente.desktop.widgets.sheet_table import Entry, SheetModel, sheet_view

WIDE_PX, FIELD_PX, ROW_PX, TABLE_ROWS = 308, 68, 22, 4
HEADS = ("°C", "% duty", "rpm", "dBA", "")
OFF_W = 20.0
"""Under this a processor idles. Common practice, no source."""
NOTHING = -1.0


def _unit(unit: str, digits: int = 0) -> Quantity:
    return msgspec.structs.replace(quantity_of("fan_duty"), unit=unit, digits=digits)


class CurvePanel(QWidget):
    """A table of points and fields; ``edited`` comes with the curve as it is wanted and what was done, ``chosen`` with the row
    that is selected."""

    edited = Signal(object, str)
    chosen = Signal(int)

    def __init__(self, look: Look) -> None:
        super().__init__()
        self._curve: FanCurve | None = None
        self._facts: PointFacts | None = None
        self._group: GroupFacts | None = None
        self._words: dict[str, QLabel] = {}
        self.setFixedWidth(WIDE_PX)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        self.model = SheetModel([tr(head) for head in HEADS], {0, 1, 2, 3})
        self.table = sheet_view(
            tr("Points of the curve"), self.model, look, stretch=4, widths={0: 38, 1: 44, 2: 44, 3: 40}
        )  # fmt: skip
        self.table.setFixedHeight((1 + TABLE_ROWS) * ROW_PX + 2)
        self.table.selectionModel().currentRowChanged.connect(lambda now, _: self.chosen.emit(now.row()))
        self.model.edited.connect(self._point_edited)
        column.addWidget(self.table)
        self.source = form.choice(tr("What the curve follows"), [], lambda _: self._sources_edited())
        self.more = form.choice(tr("A second sensor beside it"), [], lambda _: self._sources_edited())
        self.combined = form.choice(
            tr("What counts of the two"), [tr("largest"), tr("mean")], lambda _: self._sources_edited()
        )  # fmt: skip
        follows = QHBoxLayout()
        follows.setSpacing(6)
        follows.addWidget(label(tr("Follows"), "soft"))
        for box in (self.source, self.more, self.combined):
            follows.addWidget(box, 1)
        column.addLayout(follows)
        self.fields = self._make_fields()
        column.addLayout(self._grid())
        self.lost = label(tr("If a sensor is lost: 100 %, always"), "soft")
        column.addWidget(self.lost)
        column.addStretch(1)

    def _make_fields(self) -> dict[str, QuantityField]:
        """Return the fields by the field of the curve that each sets; the lowest value of some means that there is none."""
        per_s = _unit("%/s", 2)
        return {
            "smoothing_s": self._field(_unit("s"), tr("Mean of"), 0.0, MAX_SMOOTHING_S, 1.0),
            "hysteresis_k": self._field(_unit("K", 1), tr("Hysteresis"), 0.0, 30.0, 0.5),
            "ramp_up_percent_per_s": self._field(per_s, tr("Up"), 0.05, 100.0, 0.25),
            "ramp_down_percent_per_s": self._field(per_s, tr("Down"), 0.05, 100.0, 0.25),
            "floor_percent": self._field(_unit("%"), tr("Floor"), 0.0, 100.0, 1.0),
            "off_below_c": self._field(_unit("°C"), tr("Off below"), NOTHING, HOTTEST_C, 1.0, off=tr("never")),
            "off_below_w": self._field(_unit("W"), tr("and under"), 1.0, 500.0, 1.0),
            "on_again_c": self._field(_unit("°C"), tr("On again at"), NOTHING, HOTTEST_C, 1.0, off=tr("there")),
            "avoid_low": self._field(_unit("%"), tr("Not between"), NOTHING, 99.0, 1.0, off=tr("none")),
            "avoid_high": self._field(_unit("%"), tr("and"), 1.0, 100.0, 1.0),
        }

    def _field(self, quantity: Quantity, title: str, low: float, high: float, step: float, off: str = "") -> QuantityField:
        return QuantityField(quantity, low=low, high=high, step=step, title=title, off_words=off)

    def _grid(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(0)
        for index, (name, field) in enumerate(self.fields.items()):
            field.settled.connect(lambda value, name=name: self._field_edited(name, value))
            field.setFixedWidth(FIELD_PX)
            words = label(field.title, "soft")
            words.setBuddy(field)
            self._words[name] = words
            row, column = divmod(index, 2)
            grid.addWidget(words, row, 2 * column)
            grid.addWidget(field, row, 2 * column + 1)
        grid.setColumnStretch(0, 1)
        grid.setColumnStretch(2, 1)
        return grid

    # -- showing -------------------------------------------------------------------------------------------------

    def show_curve(self, curve: FanCurve | None, facts: PointFacts, group: GroupFacts, scale: Scale) -> None:
        """Show a group's curve; without one nothing can be set here."""
        self._curve, self._facts, self._group = curve, facts, group
        for widget in (self.table, self.source, self.more, self.combined, *self.fields.values()):
            widget.setEnabled(curve is not None)
        if curve is None:
            self.model.set_entries([])
            return
        self.model.set_entries([self._row(curve, index, group, scale) for index in range(len(curve.points))])
        self._show_sources(curve, facts)
        values = msgspec.structs.asdict(curve)
        low, high = curve.avoided[0] if curve.avoided else (NOTHING, 1.0)
        values |= {"avoid_low": low, "avoid_high": high}
        floor = self.fields["floor_percent"]
        floor.blockSignals(True)  # another range is no edit
        floor.setMinimum(min(group.floor, curve.floor_percent))
        floor.blockSignals(False)
        for name, field in self.fields.items():
            value = values[name]
            field.put(field.minimum() if value is None else value)
        stands, avoids = curve.off_below_c is not None, bool(curve.avoided)
        for name, shown in (("off_below_w", stands), ("on_again_c", stands), ("avoid_high", avoids)):
            self.fields[name].setVisible(shown)
            self._words[name].setVisible(shown)

    def _row(self, curve: FanCurve, index: int, group: GroupFacts, scale: Scale) -> list[Entry]:
        celsius, duty = curve.points[index]
        whole = round(min(max(duty, curve.floor_percent), 100.0))
        level = group.level_dba[whole]
        return [
            Entry(f"{celsius:g}", celsius, _unit("°C"), COLDEST_C, HOTTEST_C, STEP_C, title=tr("Temperature")),
            Entry(f"{duty:g}", duty, _unit("%"), curve.floor_percent, 100.0, 1.0, title=tr("Duty")),
            Entry(number_text(float(group.rpm[whole]), 0), title=tr("Speed, rpm"), soft=True),
            Entry(number_text(float(level), 1), title=tr("Level of these fans alone, dBA"), soft=True),
            Entry(scale.mark(float(group.in_room_dba[whole])), title=tr("In the room"), soft=True),
        ]

    def _show_sources(self, curve: FanCurve, facts: PointFacts) -> None:
        names = [name for name, _ in facts.sources]
        titles = [quantity_of(name).title for name in names]
        for box, items in (
            (self.source, titles),
            (self.more, [tr("alone"), *(tr("and {what}").format(what=one) for one in titles)]),
        ):
            if [box.itemText(at) for at in range(box.count())] != items:
                box.clear()
                box.addItems(items)
        self.source.setCurrentIndex(names.index(curve.source) if curve.source in names else -1)
        second = curve.more_sources[0] if curve.more_sources else ""
        self.more.setCurrentIndex(names.index(second) + 1 if second in names else 0)
        self.combined.setCurrentIndex(int(curve.combined == Combined.MEAN))
        self.more.setVisible(len(names) > 1)
        self.combined.setVisible(bool(curve.more_sources))

    def select(self, index: int) -> None:
        """Select a point's row."""
        if index != self.table.currentIndex().row():
            self.table.selectRow(index)

    # -- editing -------------------------------------------------------------------------------------------------

    def _point_edited(self, row: int, column: int, value: object) -> None:
        if self._curve is not None and isinstance(value, float | int):
            celsius, duty = self._curve.points[row]
            made = moved_point(self._curve, row, value, duty) if column == 0 else moved_point(self._curve, row, celsius, value)
            self.edited.emit(made, tr("point moved"))

    def _sources_edited(self) -> None:
        curve, facts = self._curve, self._facts
        if curve is None or facts is None:
            return
        names = [name for name, _ in facts.sources]
        source = names[max(self.source.currentIndex(), 0)]
        second = names[self.more.currentIndex() - 1] if self.more.currentIndex() > 0 else ""
        combined = Combined.MEAN if self.combined.currentIndex() else Combined.LARGEST
        more = (second,) if second and second != source else ()
        made = msgspec.structs.replace(curve, source=source, more_sources=more, combined=combined)
        self._tell(made, tr("what it follows"))

    def _field_edited(self, name: str, value: float) -> None:
        curve = self._curve
        if curve is None:
            return
        none = value == NOTHING
        changes: dict[str, Callable[[], FanCurve]] = {
            "off_below_c": lambda: _off_below(curve, None if none else value),
            "on_again_c": lambda: msgspec.structs.replace(curve, on_again_c=None if none else value),
            "avoid_low": lambda: _avoiding(curve, None if none else value),
            "avoid_high": lambda: msgspec.structs.replace(curve, avoided=((curve.avoided[0][0], value), *curve.avoided[1:])),
            "floor_percent": lambda: _on_floor(curve, value),
        }
        made = changes[name]() if name in changes else msgspec.structs.replace(curve, **{name: value})
        self._tell(made, self.fields[name].title.lower())

    def _tell(self, made: FanCurve, words: str) -> None:
        if made != self._curve:
            self.edited.emit(made, words)


def _off_below(curve: FanCurve, celsius: float | None) -> FanCurve:
    """Return a curve whose fans stand below a temperature, and only under a low power as well; or never."""
    if celsius is None:
        return msgspec.structs.replace(curve, off_below_c=None, off_below_w=None, on_again_c=None)
    again = curve.on_again_c if curve.on_again_c is not None and curve.on_again_c >= celsius else None
    at = min(celsius, curve.points[0][0])
    return msgspec.structs.replace(curve, off_below_c=at, off_below_w=curve.off_below_w or OFF_W, on_again_c=again)


def _avoiding(curve: FanCurve, low: float | None) -> FanCurve:
    """Return a curve whose first band begins elsewhere; or that has none."""
    if low is None:
        return msgspec.structs.replace(curve, avoided=())
    high = curve.avoided[0][1] if curve.avoided and curve.avoided[0][1] > low else min(low + 5.0, 100.0)
    return msgspec.structs.replace(curve, avoided=((low, high), *curve.avoided[1:]))


def _on_floor(curve: FanCurve, floor: float) -> FanCurve:
    """Return a curve with another floor; points under it come up to it."""
    points = tuple((celsius, max(duty, floor)) for celsius, duty in curve.points)
    return msgspec.structs.replace(curve, floor_percent=floor, points=points)
