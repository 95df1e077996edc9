"""A page: a lead, a title, and one idea below."""

from collections.abc import Callable

from PySide6.QtCore import Qt, Signal, SignalInstance
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QHBoxLayout, QSplitter, QVBoxLayout, QWidget

from niente.desktop.actions.registry import Actions
from niente.desktop.services.qt_errors import guarded
from niente.desktop.services.theme import Look
from niente.desktop.session.session import Session
from niente.desktop.widgets.blocks import Block
from niente.desktop.widgets.labels import ShortLabel, rule


class Page(QWidget):
    """Base of every page. ``name`` is its name in the passage, and the topic of its help."""

    name = ""
    margin_changed = Signal()
    """What the margin says has changed: something else is selected."""

    def __init__(self, session: Session, actions: Actions, look: Look) -> None:
        super().__init__()
        self.setObjectName(f"page_{self.name.lower()}")
        self.setProperty("help", self.name.lower())
        self.session = session
        self.actions_ = actions
        self.look = look
        self._stale = True
        self.lead = ShortLabel("lead")
        self.title = ShortLabel("title")
        self.head = QHBoxLayout()
        self.head.setSpacing(12)
        self.words = QVBoxLayout()
        self.words.setSpacing(2)
        self.words.addWidget(self.lead)
        self.words.addWidget(self.title)
        self.head.addLayout(self.words, 1)
        self.body = QVBoxLayout(self)
        self.body.setContentsMargins(24, 10, 12, 8)
        self.body.setSpacing(8)
        self.body.addLayout(self.head)
        self.body.addWidget(rule())

    def follow(self, *signals: SignalInstance) -> None:
        """Refresh at any of these signals; while another page shows, once this one comes up."""
        for signal in signals:
            signal.connect(self._changed)

    def _changed(self) -> None:
        self.when_seen(self.refresh)

    def when_seen(self, show: Callable[[], None]) -> None:
        """Show some of the page now; while another page shows, all of it once this one comes up."""
        if self.isVisible():
            show()
        else:
            self._stale = True

    def showEvent(self, event: QShowEvent) -> None:
        """Catch up with what was missed."""
        if self._stale:
            self._stale = False
            guarded(self.refresh)
        super().showEvent(event)

    def refresh(self) -> None:
        """Show what the session holds now."""

    def offer(self, widget: QWidget, *names: str) -> None:
        """Give a widget a context menu of actions, by their names in the registry."""
        widget.setContextMenuPolicy(Qt.ContextMenuPolicy.ActionsContextMenu)
        widget.addActions([self.actions_[name] for name in names])

    def editors(self) -> tuple[QWidget, ...]:
        """Return what changes the plan or the machine here: it is greyed in a window that only looks on."""
        return ()

    def handlers(self) -> dict[str, Callable[[], None]]:
        """Return what the page does for actions of the registry, by their names."""
        return {}

    def set_head(self, lead: str, title: str) -> None:
        """Set the two lines of the page's head."""
        self.lead.setText(lead)
        self.title.setText(title)

    def splitters(self) -> list[QSplitter]:
        """Return the page's splitters, whose places are remembered."""
        return self.findChildren(QSplitter)

    def live_line(self) -> str:
        """Return the short line under the page's name in the passage."""
        return ""

    def finished(self) -> bool:
        """Return whether the page has an answer for the project as it stands."""
        return False

    def margin(self) -> list[Block]:
        """Return what the margin says while this page shows."""
        return []
