"""The command finder: any action by a few letters of what it is called or does."""

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QAction, QKeyEvent
from PySide6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget
from rapidfuzz import fuzz, process

from niente.desktop.actions.registry import SPECS, Actions, ActionSpec
from niente.desktop.services.translation import tr

MOST, MIN_SCORE = 9, 55.0
ALSO = {
    "answer.card": "export pick, print, pdf, html, settings to enter",
    "answer.check": "verify card, after an update, still the same, drift",
    "answer.copy": "clipboard",
    "answer.keep": "favourite, profile, preset, save setting",
    "bench.leave": "background, detach",
    "edit.find": "search, palette",
    "help.about": "version",
    "help.here": "manual, documentation",
    "help.keys": "shortcuts, keyboard",
    "help.log": "errors, diagnostics",
    "map.csv": "export csv, spreadsheet",
    "map.picture": "export picture, screenshot, png, svg",
    "plan.anew": "again, remeasure",
    "plan.save": "export plan",
    "plan.start": "resume, begin, run the plan",
    "rig.copy": "copy rig, start over, empty book",
    "rig.export": "export rig",
    "rig.import": "import rig",
    "run.resume": "continue, resume",
    "run.stop": "abort, emergency, end",
    "view.dusk": "dark, night, theme",
    "view.paper": "light, bright, theme",
}
"""Other words that somebody may look for an action by."""


def found(words: str, texts: dict[str, str]) -> list[str]:
    """Return the names of the texts that fit some words best, best first; all of them for no words.

    A text that begins with the words comes first; otherwise the best alignment counts, so "ps nw" finds "Pause now".
    """
    query = words.strip().casefold()
    if not query:
        return list(texts)

    def score(one: str, other: str, **_: object) -> float:
        lower = other.casefold()
        name = lower.partition("\n")[0]
        ahead = 40.0 if name.startswith(query) else 20.0 if query in name else 10.0 if query in lower else 0.0
        return max(fuzz.partial_ratio(query, name), 0.8 * fuzz.partial_ratio(query, lower)) + ahead

    ranked = process.extract(query, texts, scorer=score, limit=MOST, score_cutoff=MIN_SCORE)
    return [name for _, _, name in ranked]


def searched_words(spec: ActionSpec, name: str) -> str:
    """Return the words that an action is found by: what it is called now, what it does, and what others call it."""
    return f"{name}\n{tr(spec.tip)}\n{tr(ALSO.get(spec.name, ''))}"


class Finder(QDialog):
    """A line to type in and what fits, best first; Return does it."""

    def __init__(self, actions: Actions, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self.setProperty("role", "finder")
        self.setAccessibleName(tr("Find a command"))
        self._actions = actions
        self.line = QLineEdit()
        self.line.setAccessibleName(tr("Words of a command"))
        self.line.setPlaceholderText(tr("What do you want to do?"))
        self.list = QListWidget()
        self.list.setAccessibleName(tr("Commands that fit"))
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        rows = QVBoxLayout(self)
        rows.setContentsMargins(12, 12, 12, 12)
        rows.addWidget(self.line)
        rows.addWidget(self.list)
        self.resize(460, 300)
        self.line.textChanged.connect(self._show)
        self.line.returnPressed.connect(self._do)
        self.list.itemClicked.connect(lambda _: self._do())
        self.line.installEventFilter(self)

    @classmethod
    def over(cls, window: QWidget, actions: Actions) -> "Finder":
        """Return the one finder of a window."""
        return window.findChild(cls) or cls(actions, window)

    def run(self) -> None:
        """Open, empty, over the middle of the window."""
        parent = self.parentWidget()
        self.line.clear()
        self._show("")
        if parent is not None:
            self.move(parent.mapToGlobal(parent.rect().topLeft()).x() + (parent.width() - self.width()) // 2, self._top(parent))
        self.show()
        self.line.setFocus()

    @staticmethod
    def _top(parent: QWidget) -> int:
        return parent.mapToGlobal(parent.rect().topLeft()).y() + 96

    def _show(self, words: str) -> None:
        texts = {spec.name: searched_words(spec, self._name(spec.name)) for spec in SPECS if spec.name != "edit.find"}
        self.list.clear()
        for name in found(words, texts):
            action = self._actions[name]
            keys = action.shortcut().toString()
            item = QListWidgetItem(self._name(name) + (f"    {keys}" if keys else ""))
            item.setToolTip(action.statusTip())
            item.setData(Qt.ItemDataRole.UserRole, name)
            if not action.isEnabled():
                item.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addItem(item)
        self.list.setCurrentRow(0)

    def _name(self, name: str) -> str:
        return self._actions[name].text().removesuffix(" …")

    def _do(self) -> None:
        item = self.list.currentItem()
        if item is None or not item.flags() & Qt.ItemFlag.ItemIsEnabled:
            return
        action: QAction = self._actions[item.data(Qt.ItemDataRole.UserRole)]
        self.hide()
        action.trigger()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Let the arrow keys move through what fits while the line keeps the focus."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
            if step is not None:
                last = self.list.count() - 1
                self.list.setCurrentRow(min(max(self.list.currentRow() + step, 0), last))
                return True
        return super().eventFilter(watched, event)
