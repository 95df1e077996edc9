"""Which actions can be done now, and what those are called that change their name: start or resume, undo what."""

from collections.abc import Sequence

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QWidget

from niente.core.model.hand_cards import CardKind
from niente.core.model.states import BenchState
from niente.desktop.actions.registry import Actions
from niente.desktop.services.translation import tr
from niente.desktop.session.session import Session

OF_THE_LIST = ("plan.up", "plan.down", "plan.skip", "plan.repeat", "plan.insert", "plan.anew")
"""Actions on the run list: they act on what is selected there, and only while it shows."""
OF_A_CHOICE = (
    "answer.surer",
    "answer.card",
    "answer.keep",
    "answer.let_go",
    "answer.take_limits",
    "answer.copy",
    "answer.run_here",
    "answer.stay",
    "answer.to_pick",
)
"""Actions on a choice and on what stands beside it."""
OF_CURVES = (
    "fans.draw",
    "fans.stop_drawing",
    "fans.give",
    "fans.take_off",
    "fans.to_others",
    "fans.run_here",
    "fans.round",
    "fans.export",
    "fans.add_point",
    "fans.drop_point",
)
"""Actions on the curves of a point."""
OF_A_QUESTION = ("plan.start", "map.missing")
"""Actions that have no place while no question is asked."""
OF_WHO_COMMANDS = ("run.note", "run.stop")
OF_A_BOOK = ("book.close", "answer.check", "plan.save", "plan.keep", "rig.copy", "rig.export")
CHANGE_IT = ("plan.compare", "plan.open", "rig.import", "rig.part", "rig.calibrate")
"""Actions that change a plan or a rig: not for a window that only looks on."""
UNDER_WAY = ("run.pause_now", "run.pause_after", "run.skip", "run.repeat")


class Enabling(QObject):
    """Lets actions be chosen by what a session does, and by the page that shows. It ends with the window it belongs to, and so
    do its connections."""

    def __init__(self, session: Session, actions: Actions, parent: QObject) -> None:
        super().__init__(parent)
        self._session = session
        self._actions = actions
        session.undo.undoTextChanged.connect(self._name_undo)
        session.undo.redoTextChanged.connect(self._name_redo)
        self._name_undo("")
        self._name_redo("")

    def look(self, page: str, editors: Sequence[QWidget]) -> None:
        """Let only those actions be chosen that can be done now, while a page shows; ``editors`` change plan or rig."""
        session, planner, actions = self._session, self._session.planner, self._actions
        bench = session.bench
        busy, attached = session.busy(), bench is not None
        commands = bench is not None and not bench.follows and not bench.lost
        paused = session.state in (BenchState.PAUSED, BenchState.WAITING_FOR_HANDS)
        begun = 0 < planner.closed() < len(planner.rows)
        unasked = "" if session.question_stands else tr("No question is chosen yet: choose one on the Plan page.")
        looks_on = "" if commands or not attached else tr("This window is view-only.")
        nothing = looks_on or ("" if busy else tr("Nothing runs."))
        for name in OF_A_QUESTION:
            actions[name].setVisible(not unasked)
        actions["plan.ask"].setVisible(bool(unasked))
        actions.allow("plan.ask", commands, looks_on)
        actions.allow(
            "plan.start", commands and not busy and not unasked, looks_on or (tr("A plan runs.") if busy else unasked)
        )
        actions["plan.start"].setText(tr("Resume") if begun else tr("Start"))
        actions.allow("run.resume", commands and busy and paused, nothing or tr("Nothing is paused."))
        actions["run.pause_after"].setChecked(busy and session.pauses_after)
        for name in UNDER_WAY:
            actions.allow(name, commands and busy and not paused, nothing or tr("It is paused."))
        for name in OF_WHO_COMMANDS:
            actions.allow(name, commands, looks_on)
        for editor in editors:
            editor.setEnabled(commands or not attached)
        card = session.hands.card
        if commands and busy and card is not None:
            actions.allow("run.resume", session.hands.ready(), tr("Not everything on the card is ticked."))
            actions.allow("run.skip", card.kind == CardKind.READ, tr("Hands are at work."))
        for name in OF_THE_LIST:
            on_a_list = commands and page == "Plan" and not unasked
            actions.allow(name, on_a_list, looks_on or unasked or tr("It is for the run selected on the Plan page."))
        for name in OF_A_BOOK:
            actions[name].setEnabled(attached)
        for name in CHANGE_IT:
            actions.allow(name, commands, looks_on)
        actions["bench.leave"].setEnabled(busy and commands)
        actions["bench.ask"].setEnabled(bench is not None and bench.follows and not bench.lost)
        actions["bench.hand_over"].setEnabled(commands and session.command_asked)
        actions["book.reopen"].setEnabled(bench is not None and bench.lost)

    def _name_undo(self, what: str) -> None:
        self._name("edit.undo", tr("Undo {what}"), tr("Undo"), what)

    def _name_redo(self, what: str) -> None:
        self._name("edit.redo", tr("Redo {what}"), tr("Redo"), what)

    def _name(self, name: str, words: str, alone: str, what: str) -> None:
        """Say in an action's words what it would do; in its short words only that."""
        self._actions[name].setText(words.format(what=what) if what else alone)
        self._actions[name].setIconText(alone)
        self._actions[name].setEnabled(bool(what))
