"""What a page says while it has no answer yet: why, what to do about it, and what will stand there in outline."""

from typing import Protocol

from PySide6.QtGui import QAction
from PySide6.QtWidgets import QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from niente.desktop.services.theme import Look
from niente.desktop.widgets.labels import ActionButton, label
from niente.desktop.widgets.outlines import Outline


class ActionsByName(Protocol):
    """The actions of a window."""

    def __getitem__(self, name: str) -> QAction:
        """Return an action."""


class Empty(QWidget):
    """A few words, the actions that help, and a page's outline, on an otherwise empty page. While no question is asked,
    choosing one is what helps."""

    def __init__(self, actions: ActionsByName, look: Look, page: str, *names: str) -> None:
        """``page`` is the page whose outline is drawn (empty for none), ``names`` are the actions beside Start."""
        super().__init__()
        self._words = label("", "lead", wrap=True)
        self._outline: Outline | None = None
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 4, 0, 0)
        rows.setSpacing(12)
        rows.addWidget(self._words)
        row = QHBoxLayout()
        for name in ("plan.ask", "plan.start", *names):
            row.addWidget(_shown_while_it_helps(actions[name]))
        row.addStretch(1)
        rows.addLayout(row)
        if page:
            rows.addSpacing(8)
            self._outline = Outline(look, page)
            rows.addWidget(self._outline, 100)
        rows.addStretch(1)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def text(self) -> str:
        """Return what is said."""
        return self._words.text()

    def show_problem(self, problem: str, *, outlined: bool = True) -> None:
        """Say what is missing, with the page's outline or without; an empty text puts this away."""
        self._words.setText(problem)
        if self._outline is not None:
            self._outline.setVisible(outlined)
        self.setVisible(bool(problem))


def _shown_while_it_helps(action: QAction) -> QWidget:
    """Return a button that shows while its action has a place in the menus; the first of them is the one to press."""
    button = ActionButton(action)
    button.setProperty("role", "primary" if action.objectName() in ("plan.ask", "plan.start") else "")
    if not action.isVisible():
        button.hide()
    action.visibleChanged.connect(lambda: button.setVisible(action.isVisible()))
    return button
