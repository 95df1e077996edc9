"""Edits that can be undone: each knows the project before and after, and says what it did."""

from collections.abc import Callable

from PySide6.QtGui import QUndoCommand

from niente.core.project import Project


class Edit(QUndoCommand):
    """One change of the project."""

    def __init__(self, words: str, before: Project, after: Project, put: Callable[[Project], None]) -> None:
        super().__init__(words)
        self._before = before
        self._after = after
        self._put = put

    def redo(self) -> None:
        """Put the new project in force."""
        self._put(self._after)

    def undo(self) -> None:
        """Put the old one back."""
        self._put(self._before)
