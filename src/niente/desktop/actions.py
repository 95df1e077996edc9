"""The registry of actions: everything a person can do, with its words and its keys; menus and tooltips are made from it."""

from collections.abc import Callable

import msgspec
from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QWidget


class ActionSpec(msgspec.Struct, frozen=True):
    """One action: its name in the registry, its text, keys, tooltip, and the menu it stands in."""

    name: str
    text: str
    keys: str
    tip: str
    menu: str


SPECS = (
    ActionSpec("book.open", "Open book …", "Ctrl+O", "Open another book", "Book"),
    ActionSpec("book.quit", "Quit", "Ctrl+Q", "Close Niente; a plan that runs is stopped after asking", "Book"),
    ActionSpec("edit.undo", "Undo", "Ctrl+Z", "Take the last edit back", "Edit"),
    ActionSpec("edit.redo", "Redo", "Ctrl+Shift+Z", "Do it again after all", "Edit"),
    ActionSpec("page.plan", "Plan", "Ctrl+2", "What to measure, in which order, how long it takes", "Go"),
    ActionSpec("page.run", "Run", "Ctrl+3", "The run under way", "Go"),
    ActionSpec("page.map", "Map", "Ctrl+4", "How temperature and noise lie over the settings", "Go"),
    ActionSpec("page.choose", "Choose", "Ctrl+5", "Which setting, and why", "Go"),
    ActionSpec("view.margin", "Margin", "F9", "Show or hide the explanations at the right", "Go"),
    ActionSpec("plan.start", "Start", "Ctrl+R", "Run what is left of the plan", "Bench"),
    ActionSpec(
        "run.hold_after", "Hold after this run", "Ctrl+H", "End this run as planned, then wait with the load off", "Bench"
    ),
    ActionSpec("run.hold_now", "Hold now", "Ctrl+Shift+H", "End the load now; this run is repeated afterwards", "Bench"),
    ActionSpec("run.go_on", "Go on", "Ctrl+G", "Go on after a hold", "Bench"),
    ActionSpec("run.skip", "Skip this run", "Ctrl+Shift+K", "End this run and leave it out", "Bench"),
    ActionSpec("run.note", "Note …", "N", "Write a note into the book, at this moment", "Bench"),
    ActionSpec("run.stop", "Stop and restore", "Ctrl+.", "End the load, put the safe setting back, keep every sample", "Bench"),
)


class Actions:
    """All actions of one window, by name."""

    def __init__(self, window: QWidget, does: dict[str, Callable[[], object]]) -> None:
        self._actions: dict[str, QAction] = {}
        for spec in SPECS:
            action = QAction(spec.text, window)
            action.setObjectName(spec.name)
            action.setShortcut(QKeySequence(spec.keys))
            action.setToolTip(f"{spec.tip} ({spec.keys})")
            action.setStatusTip(spec.tip)
            action.triggered.connect(lambda _=False, do=does[spec.name]: do())
            window.addAction(action)
            self._actions[spec.name] = action

    def __getitem__(self, name: str) -> QAction:
        return self._actions[name]

    def by_menu(self) -> dict[str, list[QAction]]:
        """Return the actions by the menu they stand in, in order."""
        menus: dict[str, list[QAction]] = {}
        for spec in SPECS:
            menus.setdefault(spec.menu, []).append(self._actions[spec.name])
        return menus
