"""What a page says while it has no answer yet: why, and what to do about it."""

from PySide6.QtGui import QAction
from PySide6.QtWidgets import QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from niente.desktop.widgets.labels import ActionButton, label


class Empty(QWidget):
    """A few words and the actions that help, at the top of an otherwise empty page."""

    def __init__(self, *actions: QAction) -> None:
        super().__init__()
        self._words = label("", "lead", wrap=True)
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 4, 0, 0)
        rows.setSpacing(12)
        rows.addWidget(self._words)
        row = QHBoxLayout()
        for action in actions:
            row.addWidget(ActionButton(action))
        row.addStretch(1)
        rows.addLayout(row)
        rows.addStretch(1)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def text(self) -> str:
        """Return what is said."""
        return self._words.text()

    def show_problem(self, problem: str) -> None:
        """Say what is missing; an empty text puts this away."""
        self._words.setText(problem)
        self.setVisible(bool(problem))
