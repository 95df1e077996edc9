"""What all dialogs have in common: a heading, a column with air between its parts, and answers in words at the foot."""

from PySide6.QtCore import Qt
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QDialog, QHBoxLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from niente.desktop.services.translation import tr
from niente.desktop.widgets.labels import label

WIDTH_PX = 460


class SheetDialog(QDialog):
    """A dialog without pictures: what is in it goes into ``column``. Escape leaves everything as it is."""

    def __init__(self, over: QWidget | None, title: str, lead: str = "") -> None:
        super().__init__(over)
        self.setWindowTitle(title)
        self.setMinimumWidth(WIDTH_PX)
        self.column = QVBoxLayout()
        self.column.setSpacing(10)
        self._foot = QHBoxLayout()
        self._foot.setSpacing(8)
        self._foot.addStretch(1)
        rows = QVBoxLayout(self)
        rows.setContentsMargins(24, 20, 24, 18)
        rows.setSpacing(16)
        rows.addLayout(self.column, 1)
        rows.addLayout(self._foot)
        self.column.addWidget(label(title, "heading", wrap=True))
        if lead:
            self.say(lead, "soft")

    def showEvent(self, event: QShowEvent) -> None:
        """Be as high as the paragraphs need: without this, long ones that wrap are cut off."""
        rows = self.layout()
        if rows is not None and rows.hasHeightForWidth():
            self.setMinimumHeight(rows.totalHeightForWidth(self.width()))
        super().showEvent(event)

    def say(self, words: str, role: str = "") -> QLabel:
        """Add a paragraph."""
        paragraph = label(words, role, wrap=True)
        self.column.addWidget(paragraph)
        return paragraph

    def answer(self, words: str, *, usual: bool = False) -> QPushButton:
        """Add a button at the foot. The ``usual`` one is what Enter means, and the one that stands out."""
        button = QPushButton(words)
        if usual:
            button.setProperty("role", "primary")
            button.setDefault(True)
        self._foot.addWidget(button)
        return button

    def take_or_leave(self, words: str) -> QPushButton:
        """Add the two answers of a form: to take over what it holds, and to cancel. Return the first."""
        cancel = self.answer(tr("Cancel"))
        cancel.clicked.connect(self.reject)
        take = self.answer(words, usual=True)
        take.clicked.connect(self.accept)
        return take


class QuestionDialog(SheetDialog):
    """A question with answers in words. One of them is safe: it stands last, Enter and Escape mean it."""

    def __init__(self, over: QWidget, title: str, text: str, more: str = "") -> None:
        super().__init__(over, title)
        self.more = more
        self.given = ""
        """The answer that was given."""
        if text != title:
            self.say(text)
        for paragraph in more.split("\n\n"):
            if paragraph:
                self.say(paragraph, "lead")

    def ask(self, *answers: str, safe: str) -> str:
        """Ask, and return the answer."""
        for words in (*answers, safe):
            self.answer(words, usual=words == safe).clicked.connect(lambda _=False, words=words: self._give(words))
        self.given = safe
        self.exec()
        self.deleteLater()
        return self.given

    def _give(self, words: str) -> None:
        self.given = words
        self.accept()


class LineDialog(SheetDialog):
    """Asks for one line of words."""

    def __init__(self, over: QWidget, title: str, lead: str, take: str, text: str = "") -> None:
        super().__init__(over, title, lead)
        self.line = QLineEdit(text)
        self.line.setAccessibleName(lead)
        self.line.selectAll()
        self.column.addWidget(self.line)
        button = self.take_or_leave(take)
        self.line.textChanged.connect(lambda text: button.setEnabled(bool(text.strip())))
        button.setEnabled(bool(text.strip()))
        self.line.setFocus(Qt.FocusReason.OtherFocusReason)

    def ask(self) -> str:
        """Ask, and return what was typed; empty where nothing is wanted."""
        taken = self.exec() == QDialog.DialogCode.Accepted
        self.deleteLater()
        return self.line.text().strip() if taken else ""
