"""The registry of actions: everything a person can do, with its words, its keys and its help.

Menus, tooltips, the command finder and the sheet of keys are all made from it.
"""

from collections.abc import Callable

import msgspec
from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QWidget

from niente.desktop.services.translation import tr


class ActionSpec(msgspec.Struct, frozen=True):
    """One action: its name in the registry, its text, keys, tooltip, the menu it stands in, and its page of help.

    ``checkable`` actions are switches.
    """

    name: str
    text: str
    keys: str
    tip: str
    menu: str
    help: str
    checkable: bool = False


SPECS = (
    ActionSpec("book.open", "Open book …", "Ctrl+O", "Open another book", "Book", "books"),
    ActionSpec("plan.open", "Open plan …", "Ctrl+Shift+O", "Take a plan from a file, in place of this one", "Book", "plan"),
    ActionSpec("plan.save", "Save plan as …", "Ctrl+Shift+S", "Write the plan as JSON, to keep or to hand on", "Book", "plan"),
    ActionSpec("book.close", "Close book", "Ctrl+W", "Let go of this book; where a plan runs it asks first", "Book", "books"),
    ActionSpec("book.quit", "Quit", "Ctrl+Q", "Close Niente; a plan that runs is stopped only after asking", "Book", "books"),
    ActionSpec("rig.new", "New rig …", "", "A machine of your own, from a class, in a book of its own", "Book", "rig"),
    ActionSpec(
        "rig.copy", "New book …", "Ctrl+N", "This machine and what is said of it, in a new book without runs", "Book", "rig"
    ),
    ActionSpec("rig.import", "Import rig sheet …", "", "Take what is said of the machine from a JSON file", "Book", "rig"),
    ActionSpec("rig.export", "Export rig sheet …", "", "Write what is said of the machine as JSON", "Book", "rig"),
    ActionSpec("rig.part", "Change part …", "Ctrl+P", "A changed part is a new variant; old runs keep theirs", "Edit", "rig"),
    ActionSpec("rig.calibrate", "Calibrate sensor …", "", "Compare a sensor with a reference or a known cap", "Edit", "rig"),
    ActionSpec("edit.undo", "Undo", "Ctrl+Z", "Take the last edit back", "Edit", "keys"),
    ActionSpec("edit.redo", "Redo", "Ctrl+Shift+Z", "Do it again after all", "Edit", "keys"),
    ActionSpec("edit.find", "Find a command …", "Ctrl+K", "Find any action or page by words", "Edit", "keys"),
    ActionSpec("page.rig", "Rig", "Ctrl+1", "What this machine is, and what must never be exceeded", "Go", "rig"),
    ActionSpec("page.plan", "Plan", "Ctrl+2", "What to measure, in which order, how long it takes", "Go", "plan"),
    ActionSpec("page.run", "Run", "Ctrl+3", "The run under way", "Go", "run"),
    ActionSpec("page.map", "Map", "Ctrl+4", "How temperature and noise lie over the settings", "Go", "map"),
    ActionSpec("page.answer", "Answer", "Ctrl+5", "What the book says to the question that was asked", "Go", "answer"),
    ActionSpec(
        "answer.surer", "Plan what makes it surer", "", "Plan the runs that would make this answer surer", "Bench", "answer"
    ),
    ActionSpec(
        "answer.card",
        "Hand-over card …",
        "Ctrl+E",
        "Write the pick, its entries in order: to print, or as JSON",
        "Book",
        "answer",
    ),
    ActionSpec(
        "answer.check",
        "Check a hand-over card …",
        "",
        "Whether the machine still behaves as when its card was made, and what moved",
        "Book",
        "answer",
    ),
    ActionSpec("answer.keep", "Keep as a point …", "Ctrl+B", "Keep the setting under a name: Day, Night", "Edit", "answer"),
    ActionSpec("answer.let_go", "Let the point go", "", "Keep the current point no longer; it can be undone", "Edit", "answer"),
    ActionSpec(
        "answer.take_limits",
        "Take its limits",
        "",
        "Put the limits in force that the point was kept for",
        "Edit",
        "answer",
    ),
    ActionSpec("answer.copy", "Copy the entries", "Ctrl+Shift+C", "Copy what is to be entered, as text", "Edit", "answer"),
    ActionSpec(
        "answer.run_here", "Run this setting next", "", "Plan a run of the setting that is pointed at", "Bench", "answer"
    ),
    ActionSpec(
        "answer.stay", "Keep this setting …", "", "Set the machine to it without a load, and leave it so", "Bench", "answer"
    ),
    ActionSpec("answer.to_pick", "Back to the pick", "", "Look at the pick again", "View", "answer"),
    ActionSpec("page.fans", "Fans", "Ctrl+6", "Fan curves for a point, rehearsed over a whole day", "Go", "fans"),
    ActionSpec("fans.draw", "Draw it for me", "Ctrl+Shift+D", "The quietest curves that keep the headroom", "Curves", "fans"),
    ActionSpec("fans.stop_drawing", "Draw no further", "", "End the search; the curves stay as they are", "Curves", "fans"),
    ActionSpec("fans.give", "Put on a curve", "", "Let these fans follow a temperature", "Curves", "fans"),
    ActionSpec("fans.take_off", "Take off the curve", "", "Back to the fixed duty of the point", "Curves", "fans"),
    ActionSpec("fans.to_others", "Copy to all groups", "", "Put the other groups on this curve too", "Curves", "fans"),
    ActionSpec("fans.run_here", "Run on these curves next", "", "Plan a run that shows how true they are", "Curves", "fans"),
    ActionSpec("fans.round", "Round the curves …", "", "To the steps that the board takes, to the cool side", "Curves", "fans"),
    ActionSpec("fans.export", "Fan curves …", "", "Write the curves as a table (CSV) or as JSON", "Curves", "fans"),
    ActionSpec("fans.add_point", "Add a point", "", "A point more, half-way to the next (Insert)", "Curves", "fans"),
    ActionSpec("fans.drop_point", "Take the point away", "", "The selected point goes (Delete); two stay", "Curves", "fans"),
    ActionSpec("page.proof", "Proof", "Ctrl+7", "How surely the pick lasts, and what would make it surer", "Go", "proof"),
    ActionSpec("view.margin", "Margin", "F9", "Show or hide the explanations at the right", "View", "window", True),
    ActionSpec("view.desktop", "Follow the desktop", "", "Light or dark as the desktop is", "View", "window", True),
    ActionSpec("view.paper", "Paper", "", "The light look, whatever the desktop uses", "View", "window", True),
    ActionSpec("view.dusk", "Dusk", "", "The dark look, whatever the desktop uses", "View", "window", True),
    ActionSpec("map.table", "Map as a table", "Ctrl+T", "The same data as the map, in rows and columns", "View", "map"),
    ActionSpec("map.run_here", "Run here next", "Ctrl+Return", "Plan a run at the map's selected setting", "Bench", "map"),
    ActionSpec("map.prove", "How surely it lasts", "", "Show the proof of the map's selected setting", "View", "map"),
    ActionSpec("map.missing", "Plan what is missing", "", "Plan the few runs that the map still needs", "Bench", "map"),
    ActionSpec("map.picture", "Save picture …", "", "Write the view that shows, as PNG or SVG", "Book", "map"),
    ActionSpec("map.csv", "Save table …", "", "Write the map's settings and figures as CSV", "Book", "map"),
    ActionSpec("proof.run", "Add to the plan", "", "Plan what is selected: it would make the proof surer", "Bench", "proof"),
    ActionSpec("proof.soak", "Soak the pick", "", "Plan a long run of the pick under the load that decides", "Bench", "proof"),
    ActionSpec("run.follow", "Follow the run", "Ctrl+F", "Bring the traces back to now, after looking back", "View", "run"),
    ActionSpec("plan.ask", "Choose a question", "", "Go to the questions that this machine can be asked", "Bench", "plan"),
    ActionSpec("plan.compare", "Compare variants", "", "Plan pairs of runs that tell what a change is worth", "Bench", "plan"),
    ActionSpec("plan.start", "Start", "Ctrl+R", "Run what is left of the plan", "Bench", "run"),
    ActionSpec("plan.up", "Move up", "Alt+Up", "Let the selected run come earlier", "Edit", "plan"),
    ActionSpec("plan.down", "Move down", "Alt+Down", "Let the selected run come later", "Edit", "plan"),
    ActionSpec("plan.skip", "Leave out", "Del", "Leave the selected run out, or take it up again", "Edit", "plan"),
    ActionSpec("plan.repeat", "Repeat run", "Ctrl+D", "Make the selected run once more", "Edit", "plan"),
    ActionSpec("plan.insert", "Insert run …", "Ins", "A run of your own, after the selected one", "Edit", "plan"),
    ActionSpec(
        "plan.anew", "Measure again", "", "Let only runs from now on count as answers; the old ones stay", "Edit", "plan"
    ),
    ActionSpec("plan.keep", "Keep question …", "", "Keep this question as a template of your own", "Edit", "plan"),
    ActionSpec(
        "run.pause_after",
        "Pause after",
        "Ctrl+H",
        "End this run as planned, then wait without load; again: go on",
        "Bench",
        "run",
        True,
    ),
    ActionSpec(
        "run.pause_now", "Pause now", "Ctrl+Shift+H", "End the load now; this run is repeated afterwards", "Bench", "run"
    ),
    ActionSpec("run.resume", "Go on", "Ctrl+G", "Go on after a pause", "Bench", "run"),
    ActionSpec("run.skip", "Skip", "Ctrl+Shift+K", "End this run and leave it out", "Bench", "run"),
    ActionSpec("run.repeat", "Repeat", "Ctrl+Shift+R", "End this run, and make it again at once", "Bench", "run"),
    ActionSpec("run.note", "Note …", "N", "Write a note into the book, at this moment; #words are its tags", "Bench", "run"),
    ActionSpec(
        "run.stop", "Stop and restore", "Ctrl+.", "End the load, put the safe setting back, keep every sample", "Bench", "run"
    ),
    ActionSpec(
        "bench.leave", "Close and keep running", "Ctrl+Shift+Q", "Close the window; the plan goes on, guarded", "Bench", "bench"
    ),
    ActionSpec("bench.ask", "Ask for command", "", "Ask the window or terminal that commands to hand over", "Bench", "bench"),
    ActionSpec("bench.hand_over", "Hand over command", "", "Let the one that asked command from now on", "Bench", "bench"),
    ActionSpec(
        "bench.lost_go_on", "If lost, go on", "", "If this window ends unasked, the plan goes on", "Bench", "bench", True
    ),
    ActionSpec("bench.lost_stop", "If lost, stop", "", "If this window ends unasked, the plan stops", "Bench", "bench", True),
    ActionSpec("book.reopen", "Open again", "", "Open this book again, and its bench with it", "Book", "bench"),
    ActionSpec("help.log", "Log", "", "Show the folder with what Niente wrote down about its own errors", "Help", "bench"),
    ActionSpec("help.here", "Help on this", "F1", "What the thing in focus is, and how it is used", "Help", "keys"),
    ActionSpec("help.keys", "Keys", "Shift+F1", "Every action with its keys", "Help", "keys"),
    ActionSpec("help.about", "About Niente", "", "Version, licence, and the libraries it stands on", "Help", "keys"),
)


class Actions:
    """All actions of one window, by name."""

    def __init__(self, window: QWidget, does: dict[str, Callable[[], object]]) -> None:
        self._actions: dict[str, QAction] = {}
        for spec in SPECS:
            action = QAction(tr(spec.text), window)
            action.setObjectName(spec.name)
            action.setShortcut(QKeySequence(spec.keys))
            action.setCheckable(spec.checkable)
            tip = tr(spec.tip)
            action.setToolTip(f"{tip} ({spec.keys})" if spec.keys else tip)
            action.setStatusTip(tip)
            action.triggered.connect(lambda _=False, do=does[spec.name]: do())
            window.addAction(action)
            self._actions[spec.name] = action

    def __getitem__(self, name: str) -> QAction:
        return self._actions[name]

    def allow(self, name: str, allowed: bool, why_not: str = "") -> None:
        """Let an action be chosen, or say why it cannot be: its buttons show that."""
        self._actions[name].setEnabled(allowed)
        self._actions[name].setWhatsThis("" if allowed else why_not)
