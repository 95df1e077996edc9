"""Labels by their role in the look."""

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QLabel


def label(text: str = "", role: str = "", *, wrap: bool = False) -> QLabel:
    """Return a label dressed for a role of the style sheet: soft, lead, title, reading, great or section."""
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
