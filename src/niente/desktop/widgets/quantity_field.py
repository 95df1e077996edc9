"""One field for a quantity: it knows its name, unit, range and step, and shows the unit."""

from PySide6.QtCore import Signal
from PySide6.QtGui import QFocusEvent
from PySide6.QtWidgets import QDoubleSpinBox

from niente.core.quantities import NO_BREAK_SPACE, Quantity


class QuantityField(QDoubleSpinBox):
    """A spin box for a quantity. ``settled`` comes once an edit is finished, not at every key."""

    settled = Signal(float)

    def __init__(self, quantity: Quantity, *, low: float, high: float, step: float, title: str = "") -> None:
        super().__init__()
        self.setDecimals(0 if step == int(step) else 1)
        self.setRange(low, high)
        self.setSingleStep(step)
        self.setSuffix(f"{NO_BREAK_SPACE}{quantity.unit}")
        self.setKeyboardTracking(False)
        self.setAccessibleName(title or quantity.title)
        self.setToolTip(f"{title or quantity.title}, {low:g} to {high:g} {quantity.unit}")
        self.valueChanged.connect(self._changed)

    def put(self, value: float) -> None:
        """Show a value without calling it an edit."""
        if not self.hasFocus() or value != self.value():
            self.blockSignals(True)
            self.setValue(value)
            self.blockSignals(False)

    def _changed(self, value: float) -> None:
        self.settled.emit(value)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        """Take what was typed when the field is left."""
        self.interpretText()
        super().focusOutEvent(event)
