"""What a person can decide of a choice: its limits, the circumstances that it is looked at in, and the points that are kept."""

import msgspec
from PySide6.QtGui import QGuiApplication

from niente.core.model.errors import DocumentError, NienteError
from niente.core.model.failure_goal import FailureGoal
from niente.core.model.kept_point import KeptPoint, kept_now, name_problem, with_point
from niente.core.model.limits import Limits
from niente.core.model.setting import Setting
from niente.core.model.what_if import WhatIf
from niente.desktop.services.translation import tr
from niente.desktop.session.notices import Notice
from niente.desktop.session.session import Session

USUAL_NAMES = ("Show", "Day", "Night")
"""What points are called where a person says nothing else."""


class ChoiceCommands:
    """The commands of one window; each is an edit that can be undone."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def change_limits(self, what: str, limits: Limits) -> None:
        """Change what a pick must keep; ``what`` names the limit."""
        project = self._session.project
        if project is not None and limits != project.limits:
            words = tr("change of “{what}”").format(what=what)
            self._session.edit(words, msgspec.structs.replace(project, limits=limits))

    def change_goal(self, what: str, goal: FailureGoal) -> None:
        """Change what a setting has to last: for the choice, and for the searches that are still to come."""
        project = self._session.project
        if project is not None:
            limits = msgspec.structs.replace(project.limits, failure=goal)
            question = msgspec.structs.replace(project.question, goal=goal)
            words = tr("change of “{what}”").format(what=what)
            self._session.edit(words, msgspec.structs.replace(project, limits=limits, question=question))

    def change_what_if(self, index: int, what_if: WhatIf, every: tuple[WhatIf, ...]) -> None:
        """Change one of the circumstances that a choice is looked at in."""
        project = self._session.project
        if project is None or what_if == every[index]:
            return
        if problem := what_if.problem():
            self._session.report(DocumentError(f"{problem}.", safe="Nothing was changed.", remedy="Type another figure."))
            return
        words = tr("change of “{what}”").format(what=tr(what_if.kind.value))
        changed = (*every[:index], what_if, *every[index + 1 :])
        self._session.edit(words, msgspec.structs.replace(project, what_ifs=changed))

    def free_name(self) -> str:
        """Return a name for a point that is not taken yet."""
        project = self._session.project
        taken = {one.name for one in project.points} if project is not None else set()
        return next((tr(name) for name in USUAL_NAMES if tr(name) not in taken), "")

    def keep(self, name: str, setting: Setting) -> None:
        """Keep a setting as a point, with the limits as they are."""
        project, card = self._session.project, self._session.card
        if project is None or card is None:
            return
        if problem := name_problem(name, project.points):
            remedy = tr("Give another name.")
            self._session.report(DocumentError(problem, safe=tr("The points are as they were."), remedy=remedy))
            return
        points = with_point(project.points, kept_now(name, setting, project.limits, card.variant))
        self._session.edit(tr("point {name}").format(name=name), msgspec.structs.replace(project, points=points))

    def let_go(self, name: str) -> None:
        """Keep a point no longer."""
        project = self._session.project
        if project is not None:
            points = tuple(one for one in project.points if one.name != name)
            words = tr("point {name} let go").format(name=name)
            self._session.edit(words, msgspec.structs.replace(project, points=points))

    def take_limits(self, point: KeptPoint) -> None:
        """Put the limits in force that a point was kept for."""
        self.change_limits(tr("limits of {name}").format(name=point.name), point.limits)

    def put_in_force(self, setting: Setting) -> None:
        """Let the machine keep a setting; what came of it is told once it is known."""
        if self._session.bench is not None:
            try:
                self._session.bench.put_in_force(setting)
            except NienteError as error:
                self._session.report(error)

    def copy(self, words: str) -> None:
        """Put entries into the clipboard, as text."""
        QGuiApplication.clipboard().setText(words)
        self._session.notice.emit(Notice(tr("Copied: {words}").format(words=words)))
