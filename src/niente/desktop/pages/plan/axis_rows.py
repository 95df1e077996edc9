"""The axes as rows of fields: from, to, step, and how many points that makes. A row without an end is fixed at one value."""

import re
from collections.abc import Callable

import msgspec
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QFocusEvent
from PySide6.QtWidgets import QGridLayout, QLabel, QLineEdit, QVBoxLayout, QWidget

from niente.core.model.names import control_name, kind_of
from niente.core.model.quantities import quantity_of, value_typed
from niente.core.model.question import Axis, Question, Span
from niente.core.model.rig_card import RigCard
from niente.core.planning.axis_values import LEVEL, SPEED, axis_problem, axis_title, offered_controls, range_of, snapped
from niente.core.planning.builders import control_parts
from niente.desktop.services.decimal_sign import in_locale, list_parts, list_text
from niente.desktop.services.translation import tr
from niente.desktop.widgets.choice_box import ChoiceBox
from niente.desktop.widgets.labels import ShortLabel, label
from niente.desktop.widgets.undo_keys import UndoKeys

DEEPENS = ("voltage_offset_mv", "core_offset_mv", "point_offset_mv", "fixed_voltage_v")
"""What goes down from gentle to deep; its row runs that way too."""
RATIO = re.compile(r"^\s*[x×*]\s*", re.IGNORECASE)
FIELD_PX, NAME_PX = 48, 112
"""The least width of a field, and the most that a name keeps for itself: a longer one ends in an ellipsis."""


class NoFigureError(ValueError):
    """What was typed is no axis; the text says why."""


class AxisField(QLineEdit):
    """A field that tells when it takes the focus."""

    focused = Signal()
    points = ""
    """A list of points that there is no room for: it stands in the field while that has the focus."""

    def __init__(self) -> None:
        super().__init__()
        UndoKeys(self)

    def focusInEvent(self, event: QFocusEvent) -> None:
        """Select the figure, ready to be typed over, and tell."""
        super().focusInEvent(event)
        if self.points and not self.isModified():
            self.setText(self.points)
        self.selectAll()
        self.focused.emit()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        """Say that it is a list, where one stood there and nothing else was typed."""
        super().focusOutEvent(event)
        if self.points and not self.isModified():
            self.setText(tr("list"))

    def put(self, text: str, points: str = "") -> None:
        """Show a text, or in its place that there is a list."""
        self.points = points
        shown = text if not points else points if self.hasFocus() else tr("list")
        if self.text() != shown:
            self.setText(shown)
            self.setCursorPosition(0)
        self.setModified(False)


class AxisRow:
    """The fields of one control."""

    def __init__(self, control: str, title: str, settled: Callable[[str], object], focused: Callable[[str], object]) -> None:
        self.control = control
        self.unit = quantity_of(control).unit
        self.first, self.last, self.step = (self._field(title, which) for which in (tr("from"), tr("to"), tr("step")))
        self.step.setToolTip(
            tr("{title}, step: a figure, a ratio such as {ratio}, or a list of points such as {points}").format(
                title=title, ratio=in_locale("× 1.38"), points=list_text(("80", "100", "125"))
            )
        )
        self.name, self.points = ShortLabel(""), label("", "soft")
        self.name.setText(title)
        self.name.setMinimumWidth(min(self.name.fontMetrics().horizontalAdvance(title) + 2, NAME_PX))
        self.name.setBuddy(self.first)
        for field in self.fields:
            if kind_of(control) in DEEPENS:
                field.setProperty("help", "safety")
            field.editingFinished.connect(lambda: settled(control))
            field.focused.connect(lambda: focused(control))

    def _field(self, title: str, which: str) -> AxisField:
        field = AxisField()
        field.setAlignment(Qt.AlignmentFlag.AlignRight)
        field.setAccessibleName(f"{title}, {which}")
        field.setToolTip(tr("{title}, {which}, in {unit}").format(title=title, which=which, unit=self.unit or "1"))
        field.setMinimumWidth(FIELD_PX)
        return field

    @property
    def fields(self) -> tuple[AxisField, AxisField, AxisField]:
        """From, to and step."""
        return self.first, self.last, self.step

    def put(self, axis: Axis | None, fixed: float | None, points: int) -> None:
        """Show an axis, or the value that the control is fixed at."""
        deepens = kind_of(self.control) in DEEPENS
        texts, listed = ("", "", ""), ""
        if axis is None or len(axis.points()) == 1:
            value = fixed if axis is None else axis.points()[0]
            texts = ("" if value is None else _plain(value), "", "")
        elif axis.span is not None:
            ends = (axis.span.first, axis.span.last)
            step = _plain(axis.span.step)
            first, last = reversed(ends) if deepens else ends
            texts = (_plain(first), _plain(last), f"×{step}" if axis.span.by_ratio else step)
        elif axis.values:
            ordered = sorted(axis.values, reverse=deepens)
            texts, listed = (_plain(ordered[0]), _plain(ordered[-1]), ""), list_text(map(_plain, ordered))
        for field, text in zip(self.fields, texts, strict=True):
            field.put(text, listed if field is self.step else "")
        self.points.setText(f"{points}" if points > 1 else tr("fixed"))

    def read(self, step: float) -> Axis | float | None:
        """Return what was typed: an axis, one value, or nothing. Raises ``NoFigureError``.

        ``step`` is the rig's own step; where none is typed, four points are made between the ends.
        """
        first, last, stepped = (field.text().strip() for field in self.fields)
        if self.step.points and not self.step.isModified():
            stepped = ""  # other ends make another axis than the list that stood there
        if len(parts := list_parts(stepped)) > 1:
            return Axis(self.control, tuple(map(self._figure, parts)))
        if not first and (last or stepped):
            raise NoFigureError(tr("it has no first value"))
        if not last:
            return self._figure(first) if first else None
        return self._between(first, last, stepped, step)

    def _between(self, first: str, last: str, stepped: str, step: float) -> Axis | float:
        """Return the axis from one end to the other, or the one value where they are the same."""
        ends = self._figure(first), self._figure(last)
        if ends[0] == ends[1]:
            return ends[0]
        if kind_of(self.control) in DEEPENS:
            ends = min(ends), max(ends)
        ratio = RATIO.match(stepped)
        if ratio:
            return Axis(self.control, span=Span(*ends, self._figure(stepped[ratio.end() :]), by_ratio=True))
        apart = self._figure(stepped) if stepped else max(round((ends[1] - ends[0]) / 3 / step), 1) * step
        return Axis(self.control, span=Span(*ends, apart))

    def _figure(self, text: str) -> float:
        try:
            return value_typed(text, self.unit)
        except ValueError as error:
            raise NoFigureError(str(error)) from None


class AxisTable(QWidget):
    """All rows, and a list to add one from. ``edited`` comes with the control and the axis, value or ``None`` it is to be;
    ``refused`` with the reason why it cannot be; ``focused`` with the control whose field has the focus."""

    edited = Signal(str, object)
    refused = Signal(str)
    focused = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.rows: dict[str, AxisRow] = {}
        self._card: RigCard | None = None
        self._question: Question | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(4)
        self._grid.setVerticalSpacing(4)
        self._grid.setColumnStretch(0, 1)
        column.addLayout(self._grid)
        self.add = ChoiceBox()
        self.add.setAccessibleName(tr("Vary or fix another control"))
        self.add.setToolTip(tr("Vary or fix another control"))
        self.add.activated.connect(self._added)
        column.addWidget(self.add)

    def show_question(self, card: RigCard, question: Question) -> None:
        """Show a question's axes, and what it holds."""
        self._card, self._question = card, question
        fixed = dict(question.base.controls())
        wanted = [axis.control for axis in question.axes] + [name for name in fixed if question.axis(name) is None]
        if list(self.rows) != wanted:
            self._build(card, wanted)
        for control, row in self.rows.items():
            axis = _axis_over(question, control)
            row.put(axis, fixed.get(control), len(snapped(_whole(axis, card), card)) if axis is not None else 1)
        self._offer([name for name in offered_controls(card) if name not in wanted], card)

    def _offer(self, others: list[str], card: RigCard) -> None:
        """Offer the controls that have no row yet."""
        if [self.add.itemData(index) for index in range(1, self.add.count())] != others:
            self.add.clear()
            self.add.addItem(tr("Another control …"))
            for name in others:
                self.add.addItem(axis_title(Axis(name), card), name)
        self.add.setVisible(bool(others))

    def _build(self, card: RigCard, controls: list[str]) -> None:
        while (item := self._grid.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self.rows = {}
        for column, head in enumerate(() if not controls else ("", tr("from"), tr("to"), tr("step"), "", tr("n"))):
            if head:
                self._grid.addWidget(label(head, "soft"), 0, column, Qt.AlignmentFlag.AlignRight)
        for index, control in enumerate(controls, 1):
            row = AxisRow(control, short_title(control, card), self._settled, self.focused.emit)
            self.rows[control] = row
            cells: tuple[QWidget, ...] = (row.name, *row.fields, label(row.unit, "soft"), row.points)
            for column, cell in enumerate(cells):
                side = Qt.AlignmentFlag.AlignRight if isinstance(cell, QLabel) and column == len(cells) - 1 else None
                self._grid.addWidget(cell, index, column, side or Qt.AlignmentFlag(0))
        self.setTabOrder(self, self.add)

    def _settled(self, control: str) -> None:
        row, card, question = self.rows.get(control), self._card, self._question
        if row is None or card is None or question is None or not any(field.isModified() for field in row.fields):
            return
        before = _axis_over(question, control)
        read, problem = _typed(row, card)
        if problem:
            self.show_question(card, question)
            kept = tr("The plan is unchanged.")
            self.refused.emit(f"{axis_title(Axis(control), card)}: {problem}. {kept}")
            return
        if isinstance(read, Axis) and read == before:
            self.show_question(card, question)
            return
        self.edited.emit(control, read)

    def _added(self, index: int) -> None:
        control = self.add.itemData(index)
        self.add.setCurrentIndex(0)
        if control and self._card is not None:
            self.edited.emit(control, _first_value(self._card, control))


def short_title(control: str, card: RigCard) -> str:
    """Return a control's name where there is little room for it."""
    name, part = control_name(control)
    short = {
        "sustained_power_w": tr("Power limit"),
        "voltage_offset_mv": tr("Offset"),
        "core_offset_mv": tr("Offset per core"),
        "point_offset_mv": tr("Offset per point"),
        "temperature_cap_c": tr("Temp. cap"),
        "fan_duty": tr("{group} fans").format(group=part.capitalize()),
        SPEED: tr("{group} fans").format(group=part.capitalize()),
        LEVEL: tr("Level of fans"),
        "load_size": part.capitalize(),
        "fixed_voltage_v": tr("Voltage"),
        "burst_power_w": tr("Burst limit"),
    }
    return short.get(name) or axis_title(Axis(control), card)


def _whole(axis: Axis, card: RigCard) -> Axis:
    """Return an axis over a bare quantity as one over its first part, by which its points are judged."""
    if card.control(axis.control) is None and (parts := control_parts(card, axis.control)):
        return msgspec.structs.replace(axis, control=parts[0])
    return axis


def _first_value(card: RigCard, control: str) -> float:
    """Return what a control starts with when it is taken up: what it stands at as found."""
    parts = control_parts(card, control)
    value = card.stock.value(parts[0]) if parts else None
    return value if value is not None else range_of(_whole(Axis(control), card), card)[0]


def _plain(value: float) -> str:
    return in_locale(f"{value:.6g}".replace("-", "−"))


def _axis_over(question: Question, control: str) -> Axis | None:
    """Return the axis over exactly this control."""
    return next((one for one in question.axes if one.control == control), None)


def _typed(row: AxisRow, card: RigCard) -> tuple[Axis | float | None, str]:
    """Return what was typed in a row, and why it cannot be (``""`` where it can)."""
    try:
        read = row.read(range_of(_whole(Axis(row.control), card), card)[2])
    except NoFigureError as error:
        return None, str(error)
    if read is None:
        return None, ""
    axis = read if isinstance(read, Axis) else Axis(row.control, (read,))
    return read, axis_problem(_whole(axis, card), card)
