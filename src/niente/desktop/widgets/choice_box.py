"""A box to choose from that the mouse wheel does not change: over it the wheel scrolls what the box stands in."""

from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import QComboBox


class ChoiceBox(QComboBox):
    """A combo box whose choice is only made on purpose: by a click, by keys, or in its opened list."""

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Leave the wheel to the column that scrolls."""
        event.ignore()
