"""Labels by their role in the look, and the two small parts pages are ruled with."""

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QFrame, QLabel, QPushButton


def label(text: str = "", role: str = "", *, wrap: bool = False) -> QLabel:
    """Return a label dressed for a role of the style sheet: soft, lead, title, reading, great, mark, tag or section."""
    made = QLabel(text)
    if role:
        made.setProperty("role", role)
    made.setWordWrap(wrap)
    made.setTextFormat(Qt.TextFormat.PlainText)
    return made


def rule() -> QFrame:
    """Return a horizontal rule, one pixel."""
    line = QFrame()
    line.setProperty("role", "rule")
    line.setFixedHeight(1)
    return line


class ActionButton(QPushButton):
    """A button that does an action, and stands and falls with it: words, tooltip, and whether it can be done."""

    def __init__(self, action: QAction) -> None:
        super().__init__()
        self._action = action
        self._follow()
        action.changed.connect(self._follow)
        self.clicked.connect(action.trigger)

    def _follow(self) -> None:
        self.setText(self._action.text().removesuffix(" …"))
        self.setToolTip(self._action.toolTip())
        self.setEnabled(self._action.isEnabled())
