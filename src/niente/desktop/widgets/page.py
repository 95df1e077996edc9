"""A page: a lead, a title, and one idea below."""

from PySide6.QtCore import SignalInstance
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from niente.desktop.session import Session
from niente.desktop.widgets.labels import label, rule


class Page(QWidget):
    """Base of every page. ``name`` is its place in the passage."""

    name = ""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName(f"page_{self.name.lower()}")
        self.session = session
        self._stale = True
        self.lead = label("", "lead")
        self.title = label("", "title")
        self.head = QHBoxLayout()
        self.head.setSpacing(12)
        words = QVBoxLayout()
        words.setSpacing(2)
        words.addWidget(self.lead)
        words.addWidget(self.title)
        self.head.addLayout(words)
        self.head.addStretch(1)
        self.body = QVBoxLayout(self)
        self.body.setContentsMargins(24, 8, 12, 8)
        self.body.setSpacing(8)
        self.body.addLayout(self.head)
        self.body.addWidget(rule())

    def follow(self, *signals: SignalInstance) -> None:
        """Refresh at any of these signals; while another page shows, once this one comes up."""
        for signal in signals:
            signal.connect(self._changed)

    def _changed(self) -> None:
        if self.isVisible():
            self.refresh()
        else:
            self._stale = True

    def showEvent(self, event: QShowEvent) -> None:
        """Catch up with what was missed."""
        if self._stale:
            self._stale = False
            self.refresh()
        super().showEvent(event)

    def refresh(self) -> None:
        """Show what the session holds now."""

    def set_head(self, lead: str, title: str) -> None:
        """Set the two lines of the page's head."""
        self.lead.setText(lead)
        self.title.setText(title)

    def live_line(self) -> str:
        """Return the short line under the page's name in the passage."""
        return ""

    def finished(self) -> bool:
        """Return whether the page has an answer for the project as it stands."""
        return False

    def margin(self) -> list[tuple[str, str]]:
        """Return what the margin says while this page shows: headings and their text."""
        return []
