"""Edits that can be undone: each knows how things stood before and after, and says what it did."""

from collections.abc import Callable
from pathlib import Path

from PySide6.QtGui import QUndoCommand

from niente.core.model.plan import Plan
from niente.core.model.project import Project


class Edit(QUndoCommand):
    """One change of the project."""

    def __init__(self, words: str, before: Project, after: Project, put: Callable[[Project], None]) -> None:
        super().__init__(words)
        self.before = before
        self.after = after
        self._put = put

    def redo(self) -> None:
        """Put the new project in force."""
        self._put(self.after)

    def undo(self) -> None:
        """Put the old one back."""
        self._put(self.before)


class PlanTaken(QUndoCommand):
    """A plan from a file in place of the question's own."""

    def __init__(
        self,
        words: str,
        before: tuple[Plan | None, Path | None],
        after: tuple[Plan | None, Path | None],
        put: Callable[..., None],
    ) -> None:
        super().__init__(words)
        self.before = before
        self.after = after
        self._put = put

    def redo(self) -> None:
        """Put the plan in force."""
        self._put(*self.after)

    def undo(self) -> None:
        """Put the one before it back."""
        self._put(*self.before)
