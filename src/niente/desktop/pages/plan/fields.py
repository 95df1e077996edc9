"""The field for a list of figures."""

import re

from PySide6.QtWidgets import QLineEdit

from niente.core.quantities import value_typed
from niente.desktop.tongue import tr


class ListField(QLineEdit):
    """A field for a list of figures of one unit: ``80, 100, 125``; units may be typed with them."""

    def __init__(self, title: str, unit: str) -> None:
        super().__init__()
        self._unit = unit
        self.setAccessibleName(title)
        self.setToolTip(tr("{title}: figures in {unit} with commas between them").format(title=title, unit=unit))

    def put(self, values: tuple[float, ...]) -> None:
        """Show the figures."""
        self.setText(", ".join(f"{value:g}" for value in values))
        self.setCursorPosition(0)

    def figures(self) -> tuple[float, ...] | None:
        """Return what was typed, sorted and each once; ``None`` where it is no list of figures."""
        parts = [part for part in re.split(r"[,;]\s*", self.text().strip()) if part.strip()]
        try:
            return tuple(sorted({value_typed(part, self._unit) for part in parts})) or None
        except ValueError:
            return None
