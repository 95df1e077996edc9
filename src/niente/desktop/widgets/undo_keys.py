"""Undo and redo from a field: its own typing while there is some, else what was done before in the window."""

from PySide6.QtCore import QEvent, QObject
from PySide6.QtGui import QKeyEvent, QKeySequence
from PySide6.QtWidgets import QLineEdit

UNDO, REDO = QKeySequence.StandardKey.Undo, QKeySequence.StandardKey.Redo


def meant_for_window(event: QEvent, field: QLineEdit) -> bool:
    """Return whether an event asks a field if it wants undo or redo, and it has nothing typed that is not committed yet."""
    if event.type() != QEvent.Type.ShortcutOverride or not isinstance(event, QKeyEvent) or field.isModified():
        return False
    return event.matches(UNDO) or event.matches(REDO)


class UndoKeys(QObject):
    """Lets undo and redo reach the window from a field whose edit is committed: a field takes both keys for itself, even where
    it has nothing to take back."""

    def __init__(self, field: QLineEdit) -> None:
        super().__init__(field)
        self._field = field
        field.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Leave the keys to the window where nothing was typed that is not committed yet."""
        if not meant_for_window(event, self._field):
            return False
        event.ignore()
        return True
