"""The list of questions: the one that is asked in full, the others beside it in small type, and those of one's own."""

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QButtonGroup, QFrame, QGridLayout, QPushButton, QVBoxLayout, QWidget

from niente.core.model.rig_card import RigCard
from niente.core.planning.templates import TEMPLATES, template
from niente.desktop.services.plain_text import plain
from niente.desktop.services.translation import tr
from niente.desktop.widgets.labels import label


class QuestionList(QWidget):
    """Every template as a button. ``chosen`` comes with a template's public name, ``own_chosen`` with the name of one of
    one's own."""

    chosen = Signal(str)
    own_chosen = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 0, 0, 4)
        rows.setSpacing(4)
        self.now = QFrame()
        self.now.setProperty("role", "chosen")
        inside = QVBoxLayout(self.now)
        inside.setContentsMargins(12, 5, 8, 5)
        inside.setSpacing(1)
        self.title, self.words = label("", "section"), label("", "soft", wrap=True)
        inside.addWidget(self.title)
        inside.addWidget(self.words)
        rows.addWidget(self.now)
        self._grid = QGridLayout()
        self._grid.setContentsMargins(12, 0, 0, 0)
        self._grid.setHorizontalSpacing(8)
        self._grid.setVerticalSpacing(0)
        rows.addLayout(self._grid)
        self._group = QButtonGroup(self)
        self._group.setExclusive(True)
        self.buttons: dict[str, QPushButton] = {}
        half = (len(TEMPLATES) + 1) // 2
        for index, kind in enumerate(TEMPLATES):
            button = self._button(tr(kind.title), index % half, index // half)
            button.clicked.connect(lambda _=False, name=kind.name: self.chosen.emit(name))
            self.buttons[kind.name] = button
            self._group.addButton(button)
        self._own = QVBoxLayout()
        self._own.setContentsMargins(12, 2, 0, 0)
        self._own.setSpacing(0)
        rows.addLayout(self._own)
        self.own: dict[str, QPushButton] = {}

    def _button(self, text: str, row: int, column: int) -> QPushButton:
        button = _small(text)
        button.setCheckable(True)
        self._grid.addWidget(button, row, column)
        return button

    def show_choice(self, card: RigCard, name: str, title: str = "") -> None:
        """Show which question is asked, and which this rig cannot be asked. ``title`` stands for a plan of no template."""
        kind = template(name)
        self.now.setVisible(bool(name or title))
        self.title.setText(title or (tr(kind.title) if kind is not None else name))
        self.words.setText(tr(kind.words) if kind is not None and not title else tr("from a file"))
        for one in TEMPLATES:
            button, lacks = self.buttons[one.name], one.lacks(card)
            button.setChecked(one.name == name)
            button.setEnabled(not lacks)
            button.setToolTip(plain(tr(one.asks) + (f"\n{lacks[0].upper()}{lacks[1:]}." if lacks else "")))

    def show_own(self, names: Sequence[str]) -> None:
        """Show the templates of one's own."""
        if list(names) == list(self.own):
            return
        for button in self.own.values():
            self._own.removeWidget(button)
            button.deleteLater()
        self.own = {}
        for name in names:
            button = _small(name)
            button.setToolTip(plain(tr("A question that you kept: {name}").format(name=name)))
            button.clicked.connect(lambda _=False, name=name: self.own_chosen.emit(name))
            self._own.addWidget(button)
            self.own[name] = button


def _small(text: str) -> QPushButton:
    button = QPushButton(text)
    button.setProperty("role", "option")
    button.setCursor(Qt.CursorShape.PointingHandCursor)
    return button
