"""One field for a quantity: it knows its name, unit, range, step and default, takes a typed unit, and explains itself."""

import math
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QAbstractItemModel, QEvent, QModelIndex, QPersistentModelIndex, Qt, Signal
from PySide6.QtGui import QContextMenuEvent, QFocusEvent, QValidator, QWheelEvent
from PySide6.QtWidgets import QDoubleSpinBox, QStyledItemDelegate, QStyleOptionViewItem, QToolTip, QWidget

from niente.core.model.quantities import NO_BREAK_SPACE, Quantity, number_text, value_typed
from niente.desktop.services.decimal_sign import decimal_sign, in_locale
from niente.desktop.services.plain_text import plain
from niente.desktop.services.translation import tr
from niente.desktop.widgets.undo_keys import meant_for_window


class QuantityField(QDoubleSpinBox):
    """A spin box for a quantity. ``settled`` comes once an edit is finished, not at every key.

    ``off_words``, where given, is what the lowest value of the range is called: it then stands for "no limit".
    """

    settled = Signal(float)
    entered = Signal()
    """The field has taken the focus."""
    refused = Signal(str)
    """What was typed could not be taken: why, and what stands there instead."""

    def __init__(
        self,
        quantity: Quantity,
        *,
        low: float,
        high: float,
        step: float,
        title: str = "",
        default: float | None = None,
        off_words: str = "",
        parent: QWidget | None = None,
    ) -> None:
        self.quantity = quantity
        self._digits = 0 if step == int(step) else max(1, math.ceil(-math.log10(step)))
        """Decimals of its steps; a figure in between shows more, so that what was typed stands there."""
        self._off_words = off_words
        super().__init__(parent)
        self.default = default
        self.setDecimals(max(self._digits, quantity.digits))
        self.setRange(low, high)
        self.setSingleStep(step)
        self.setKeyboardTracking(False)
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.title = title or quantity.title
        self.setAccessibleName(self.title)
        self.setToolTip(in_locale(self.explanation()))
        self.setAccessibleDescription(self.explanation())
        self.valueChanged.connect(self.settled)

    def event(self, event: QEvent) -> bool:
        """Leave undo and redo to the window once what was typed is committed."""
        if meant_for_window(event, self.lineEdit()):
            event.ignore()
            return True
        return super().event(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Leave the wheel to the column that scrolls: it never edits."""
        event.ignore()

    def explanation(self) -> str:
        """Return what this field is, in words: name, range, step, default, and that a unit may be typed."""
        low, high = number_text(self.minimum(), self._digits), number_text(self.maximum(), self._digits)
        words = tr("{title}: {low} to {high} {unit}, in steps of {step}.").format(
            title=self.title, low=low, high=high, unit=self.quantity.unit, step=f"{self.singleStep():g}"
        )
        if self.default is not None:
            words += " " + tr("Usual: {value}.").format(value=self.textFromValue(self.default))
        return words + " " + tr("A unit may be typed with the figure.")

    def put(self, value: float) -> None:
        """Show a value without calling it an edit."""
        self.blockSignals(True)
        self.setValue(value)
        self.blockSignals(False)

    def textFromValue(self, value: float) -> str:
        """Return the value with its unit and a true minus, the decimal sign as the person's locale has it."""
        if self._off_words and value <= self.minimum():
            return self._off_words
        between = abs(value - round(value, self._digits)) > 0.5 * 10.0 ** -self.decimals()
        text = number_text(value, self.decimals() if between else self._digits).replace(".", decimal_sign())
        return f"{text}{NO_BREAK_SPACE}{self.quantity.unit}"

    def valueFromText(self, text: str) -> float:
        """Return what was typed, its unit turned into this field's."""
        if self._off_words and text.strip() == self._off_words:
            return self.minimum()
        try:
            return min(max(value_typed(text, self.quantity.unit), self.minimum()), self.maximum())
        except ValueError:
            return self.value()

    def validate(self, text: str, position: int) -> tuple[QValidator.State, str, int]:
        """Let anything be typed; what has not become a figure with a unit at the end is put back, and said why."""
        typed = text.strip()
        if self._off_words and self._off_words.startswith(typed):
            state = QValidator.State.Acceptable if typed == self._off_words else QValidator.State.Intermediate
            return state, text, position
        try:
            value = value_typed(text, self.quantity.unit)
        except ValueError:
            return QValidator.State.Intermediate, text, position
        inside = self.minimum() <= value <= self.maximum()
        return (QValidator.State.Acceptable if inside else QValidator.State.Intermediate), text, position

    def fixup(self, text: str) -> str:
        """Return the nearest figure that is allowed, and say at the field why it is another than was typed."""
        stands = self.textFromValue(self.valueFromText(text))
        why = self.refusal(text)
        if why and self.isVisible():
            words = tr("{why}; it is set to {value}.").format(why=why, value=stands)
            QToolTip.showText(self.mapToGlobal(self.rect().bottomLeft()), plain(words), self)
            self.refused.emit(words)
        return stands

    def refusal(self, text: str) -> str:
        """Return in words why a text cannot be taken as it is; empty where it can, or is nothing at all."""
        if not text.strip() or (self._off_words and text.strip() == self._off_words):
            return ""
        try:
            value = value_typed(text, self.quantity.unit)
        except ValueError as error:
            return str(error)
        if self.minimum() <= value <= self.maximum():
            return ""
        words = tr("{value} is over {end}, the most allowed here")
        end = self.maximum()
        if value < self.minimum():
            words, end = tr("{value} is under {end}, the least allowed here"), self.minimum()
        return words.format(value=text.strip(), end=self.textFromValue(end))

    def focusInEvent(self, event: QFocusEvent) -> None:
        """Select the figure, ready to be typed over."""
        super().focusInEvent(event)
        self.selectAll()
        self.entered.emit()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        """Take what was typed when the field is left."""
        self.interpretText()
        super().focusOutEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """Offer the default beside what a field always offers."""
        menu = self.lineEdit().createStandardContextMenu()
        if self.default is not None:
            menu.addSeparator()
            back = menu.addAction(tr("Back to {value}").format(value=self.textFromValue(self.default)))
            back.setEnabled(self.value() != self.default)
            back.triggered.connect(lambda: self.setValue(self.default or 0.0))
        menu.exec(event.globalPos())
        menu.deleteLater()


class QuantityDelegate(QStyledItemDelegate):
    """Edits a cell with a ``QuantityField``; the model's ``EditRole`` gives and takes the bare figure."""

    def __init__(self, field: Callable[[int, int], dict[str, Any]], parent: QWidget) -> None:
        """``field`` gives the arguments of the field for a row and a column."""
        super().__init__(parent)
        self._field = field

    def createEditor(
        self, parent: QWidget, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> QWidget:
        """Return the field for a cell."""
        return QuantityField(**self._field(index.row(), index.column()), parent=parent)

    def setEditorData(self, editor: QWidget, index: QModelIndex | QPersistentModelIndex) -> None:
        """Show the cell's figure."""
        if isinstance(editor, QuantityField):
            editor.put(float(index.data(Qt.ItemDataRole.EditRole)))

    def setModelData(self, editor: QWidget, model: QAbstractItemModel, index: QModelIndex | QPersistentModelIndex) -> None:
        """Give the figure to the model."""
        if isinstance(editor, QuantityField):
            editor.interpretText()
            model.setData(index, editor.value(), Qt.ItemDataRole.EditRole)
