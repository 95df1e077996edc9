"""The views of a page: names at the right of its head, the current one bold over a line of accent."""

from collections.abc import Sequence

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QPushButton, QWidget


class Views(QWidget):
    """One button a view; ``chosen`` comes with the index of the one that is current now."""

    chosen = Signal(int)

    def __init__(self, names: Sequence[tuple[str, str]]) -> None:
        """``names`` are pairs of a name and what the view is for."""
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(12)
        self._group = QButtonGroup(self)
        for index, (name, tip) in enumerate(names):
            button = QPushButton(name)
            button.setProperty("role", "view")
            button.setCheckable(True)
            button.setToolTip(tip)
            button.setChecked(index == 0)
            self._group.addButton(button, index)
            row.addWidget(button)
        self._group.idToggled.connect(lambda index, on: self.chosen.emit(index) if on else None)

    def offer(self, index: int, on: bool) -> None:
        """Show a view's name, or hide it while there is nothing to see there."""
        self._group.button(index).setVisible(on)

    def show_view(self, index: int) -> None:
        """Let a view be the current one."""
        self._group.button(index).setChecked(True)

    @property
    def current(self) -> int:
        """The index of the current view."""
        return self._group.checkedId()
