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


def action_button(action: QAction) -> QPushButton:
    """Return a button that does an action, and stands and falls with it: words, tooltip, and whether it can be done."""
    button = QPushButton()

    def follow() -> None:
        button.setText(action.text().removesuffix(" …"))
        button.setToolTip(action.toolTip())
        button.setEnabled(action.isEnabled())

    follow()
    action.changed.connect(follow)
    button.clicked.connect(action.trigger)
    return button
