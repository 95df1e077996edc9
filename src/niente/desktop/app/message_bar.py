"""The message bar: what a person can act on, with the remedy beside it."""

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from niente.desktop.services.translation import tr
from niente.desktop.session.notices import Notice, NoticeEnd
from niente.desktop.widgets.labels import label


class MessageBar(QWidget):
    """One notice at a time; it stays until it is answered or put away, or what it says is over."""

    acted = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self._text = label("", "", wrap=True)
        self._act = QPushButton()
        self._away = QPushButton(tr("Dismiss"))
        self._away.setToolTip(tr("Hide this message; nothing else happens"))
        self._action = ""
        self._until: NoticeEnd | None = None
        row = QHBoxLayout(self)
        row.setContentsMargins(24, 6, 24, 6)
        row.addWidget(self._text, 1)
        row.addWidget(self._act)
        row.addWidget(self._away)
        self._act.clicked.connect(self._acted)
        self._away.clicked.connect(self.hide)
        self.hide()

    @property
    def text(self) -> str:
        """What the bar says; empty while it is put away."""
        return "" if self.isHidden() else self._text.text()

    @property
    def action(self) -> str:
        """The action that the bar offers; empty while it is put away, or offers none."""
        return "" if self.isHidden() else self._action

    def show_notice(self, notice: Notice, action_text: str) -> None:
        """Show a notice, with the text of the action that helps (empty for none)."""
        self._text.setText(notice.text)
        self._action, self._until = notice.action, notice.until
        self._act.setText(action_text)
        self._act.setVisible(bool(action_text))
        self.setAccessibleName(tr("Message: {text}").format(text=notice.text))
        self.show()

    def drop(self, action: str) -> None:
        """Put a notice away that only offers an action which is done."""
        if self.action == action:
            self.hide()

    def end(self, what: NoticeEnd) -> None:
        """Put a notice away that is over now."""
        if self._until == what:
            self.hide()

    def _acted(self) -> None:
        self.hide()
        self.acted.emit(self._action)
