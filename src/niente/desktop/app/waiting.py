"""What shows while something takes longer than a moment: what it is, and a way to cancel it."""

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from niente.desktop.services.translation import tr
from niente.desktop.session.session import Session
from niente.desktop.widgets.labels import label

A_MOMENT_MS = 300


class Opening(QWidget):
    """The page that stands while a book is opened."""

    def __init__(self, session: Session) -> None:
        super().__init__()
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
        row.addStretch(1)
        rows.addLayout(row)
        rows.addStretch(1)
        session.progress.connect(self.show_text)
        session.cancelled.connect(self._stopped)

    def show_text(self, text: str) -> None:
        """Say what goes on."""
        self._words.setText(text)

    def text(self) -> str:
        """Return what is said."""
        return self._words.text()

    def _stopped(self) -> None:
        self.show_text(tr("Nothing is open. Open a book with Ctrl+O, or close the window."))
        self.cancel.hide()


class Working(QFrame):
    """A line that comes up over the foot of the page when an answer takes longer than a moment; nothing moves for it."""

    def __init__(self, session: Session, over: QWidget) -> None:
        super().__init__(over)
        self.setProperty("role", "over")
        self.cancel = QPushButton(tr("Cancel"))
        self.cancel.setToolTip(tr("Keep the last answer; the next run or edit asks again"))
        self.cancel.clicked.connect(session.cancel_work)
        self.cancel.clicked.connect(self.hide)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 6, 6, 6)
        row.setSpacing(16)
        row.addWidget(label(tr("Working out what the readings come to …"), "lead"), 1)
        row.addWidget(self.cancel)
        self._patience = QTimer(self)
        self._patience.setSingleShot(True)
        self._patience.setInterval(A_MOMENT_MS)
        self._patience.timeout.connect(self._come_up)
        session.working.connect(self._changed)
        self.hide()

    def _come_up(self) -> None:
        over = self.parentWidget()
        self.adjustSize()
        if over is not None:
            self.move(24, over.height() - self.height() - 8)
        self.raise_()
        self.show()

    def _changed(self, working: bool) -> None:
        if working:
            self._patience.start()
        else:
            self._patience.stop()
            self.hide()
