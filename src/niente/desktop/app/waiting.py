"""What shows while something takes longer than a moment: what it is, and a way to cancel it."""

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from niente.desktop.actions.registry import Actions
from niente.desktop.services.translation import tr
from niente.desktop.session.session import Session
from niente.desktop.widgets.labels import ActionButton, label

A_MOMENT_MS = 300


class Opening(QWidget):
    """The page that stands while a book is opened, and while none is: what happened, and what can be opened instead."""

    def __init__(self, session: Session, actions: Actions) -> None:
        super().__init__()
        self._others = [ActionButton(actions[name]) for name in ("book.open", "rig.new")]
        self._words = label(tr("Opening …"), "lead", wrap=True)
        self.cancel = QPushButton(tr("Cancel"))
        self.cancel.setToolTip(tr("Stop opening; none of your files is touched by that"))
        self.cancel.clicked.connect(session.cancel_opening)
        self.cancel.clicked.connect(lambda: self.show_text(tr("Cancelling …")))
        rows = QVBoxLayout(self)
        rows.setContentsMargins(24, 24, 24, 24)
        rows.addWidget(self._words)
        row = QHBoxLayout()
        row.addWidget(self.cancel)
        for button in self._others:
            row.addWidget(button)
            button.hide()
        row.addStretch(1)
        rows.addLayout(row)
        rows.addStretch(1)
        session.progress.connect(self.show_text)
        session.cancelled.connect(self.rest)

    def show_text(self, text: str) -> None:
        """Say what goes on."""
        self._words.setText(text)

    def text(self) -> str:
        """Return what is said."""
        return self._words.text()

    def rest(self, text: str = "") -> None:
        """Say that nothing is open, or why not; another book can be opened, or a new one made."""
        self.show_text(text or tr("Nothing is open."))
        self.cancel.hide()
        for button in self._others:
            button.show()


class Working(QWidget):
    """A line that comes up when an answer takes longer than a moment. It has a place of its own, as wide as it gets: nothing
    is covered by it, and nothing moves for it."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.cancel = QPushButton(tr("Cancel"))
        self.cancel.setProperty("role", "link")
        self.cancel.setToolTip(tr("Keep the last answer; the next run or edit asks again"))
        self.cancel.clicked.connect(session.cancel_work)
        self.cancel.clicked.connect(self._rest)
        self._words = label(tr("Working out what the readings come to …"), "soft")
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 24, 0)
        row.setSpacing(12)
        row.addStretch(1)
        for part in (self._words, self.cancel):
            policy = part.sizePolicy()
            policy.setRetainSizeWhenHidden(True)
            part.setSizePolicy(policy)
            row.addWidget(part)
        self._patience = QTimer(self)
        self._patience.setSingleShot(True)
        self._patience.setInterval(A_MOMENT_MS)
        self._patience.timeout.connect(self._come_up)
        session.working.connect(self._changed)
        self._rest()

    def shows(self) -> bool:
        """Return whether it says that something is worked out."""
        return self.isVisible() and not self._words.isHidden()

    def _come_up(self) -> None:
        self._words.show()
        self.cancel.show()

    def _rest(self) -> None:
        self._words.hide()
        self.cancel.hide()

    def _changed(self, working: bool) -> None:
        if working:
            self._patience.start()
        else:
            self._patience.stop()
            self._rest()
