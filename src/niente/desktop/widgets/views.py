"""The views of a page: names at the right of its head, the current one bold over a line of accent."""

from collections.abc import Sequence

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QPushButton, QWidget


class Views(QWidget):
    """One button a view; ``chosen`` comes with the index of the one that is current now."""

    chosen = Signal(int)

    def __init__(self, names: Sequence[tuple[str, str]], *, leading: int = 0) -> None:
        """``names`` are pairs of a name and what the view is for; the view ``leading`` stands first, and is current first."""
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
            button.setChecked(index == leading)
            self._group.addButton(button, index)
            row.insertWidget(0 if index == leading else -1, button)
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


class NamedViews(QWidget):
    """Views whose names come and go; ``chosen`` comes with the key of the one that a person chose."""

    chosen = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(0, 0, 0, 0)
        self._row.setSpacing(12)
        self._keys: list[tuple[str, str]] = []
        self._group = QButtonGroup(self)
        self._group.idClicked.connect(lambda index: self.chosen.emit(self._keys[index][0]))

    def show_names(self, names: Sequence[tuple[str, str]], current: str) -> None:
        """Show one button for each pair of a key and a name; of one alone there is nothing to choose."""
        if list(names) != self._keys:
            for button in self._group.buttons():
                self._group.removeButton(button)
                self._row.removeWidget(button)
                button.deleteLater()
            self._keys = list(names)
            for index, (_, name) in enumerate(names):
                button = QPushButton(name)
                button.setProperty("role", "view")
                button.setCheckable(True)
                self._group.addButton(button, index)
                self._row.addWidget(button)
        for index, (key, _) in enumerate(self._keys):
            self._group.button(index).setChecked(key == current)
        self.setVisible(len(self._keys) > 1)
