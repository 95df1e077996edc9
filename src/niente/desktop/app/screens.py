"""Where a window stands among the screens there are now; they may not be those that it was closed on."""

from PySide6.QtWidgets import QWidget


def stay_on_screen(window: QWidget) -> None:
    """Let a window lie within the screen that it is on, no larger than that."""
    screen = window.screen().availableGeometry()
    window.resize(min(window.width(), screen.width()), min(window.height(), screen.height()))
    left = max(min(window.x(), screen.right() + 1 - window.width()), screen.left())
    window.move(left, max(min(window.y(), screen.bottom() + 1 - window.height()), screen.top()))
