"""What a person does to the plan: asks another question, changes an axis, edits the run list. Every deed can be undone."""

from pathlib import Path

import msgspec

from niente.core.errors import NienteError
from niente.core.plan import Step
from niente.core.planning import own
from niente.core.planning.hand_edits import keyed
from niente.core.planning.templates import anew, template
from niente.core.question import Axis, Deed, ListEdit, Question
from niente.desktop.files import bytes_of
from niente.desktop.live import Notice
from niente.desktop.session import Session
from niente.desktop.tongue import tr

WORDS = {
    Deed.MOVE: "move of run {n}",
    Deed.SKIP: "leaving out of run {n}",
    Deed.TAKE_UP: "taking up of run {n}",
    Deed.REPEAT: "repeat of run {n}",
    Deed.INSERT: "inserted run",
    Deed.REMOVE: "removal of run {n}",
}


class PlanDeeds:
    """The plan's edits, on one session."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self.folder = own.own_folder()

    # -- the question --------------------------------------------------------------------------------------------

    def ask(self, words: str, question: Question) -> None:
        """Ask another question, undoably."""
        project = self._session.project
        if project is not None:
            self._session.edit(words, msgspec.structs.replace(project, question=question))

    def choose(self, name: str) -> None:
        """Ask the question of a template, as it starts on this rig; the budget and the quiet hours stay."""
        kind, card, project = template(name), self._session.card, self._session.project
        if kind is None or card is None or project is None or kind.lacks(card):
            return
        before = project.question
        fresh = msgspec.structs.replace(kind.first(card), budget_h=before.budget_h, quiet=before.quiet)
        if kind.fresh:
            fresh = anew(fresh)
        if before.template != name:
            self.ask(tr("question: {title}").format(title=tr(kind.title)), fresh)
        elif self._session.planner.file is not None:
            self._session.give_way()

    def change_axis(self, control: str, axis: Axis | float | None) -> None:
        """Vary a control, hold it at a value, or leave it as found."""
        question = self._session.project.question if self._session.project is not None else None
        card = self._session.card
        if question is None or card is None:
            return
        named = {"what": self._title(control)}
        others = tuple(one for one in question.axes if one.control != control)
        was_axis = len(others) != len(question.axes)
        held = self._held(question, control)
        if isinstance(axis, Axis):
            fresh = msgspec.structs.replace(held, axes=question.axes).with_axis(axis)
        elif axis is None:
            fresh = msgspec.structs.replace(held, axes=others)
        elif was_axis:
            fresh = question.with_axis(Axis(control, (axis,)))
        elif card.control(control) is not None:
            fresh = msgspec.structs.replace(question, base=question.base.replaced(control, axis))
        else:
            fresh = question.with_axis(Axis(control, (axis,)))
        self.ask(tr("change of {what}").format(**named), fresh)

    def _held(self, question: Question, control: str) -> Question:
        """Return the question with a control not held any more."""
        if question.base.value(control) is None:
            return question
        return msgspec.structs.replace(question, base=question.base.without(control))

    def _title(self, control: str) -> str:
        card = self._session.card
        own_control = card.control(control) if card is not None else None
        return own_control.title.lower() if own_control is not None else control

    def measure_anew(self) -> None:
        """Let only runs from now on count as answers."""
        project = self._session.project
        if project is not None:
            self.ask(tr("measuring anew"), anew(project.question))

    # -- templates of one's own ----------------------------------------------------------------------------------

    def kept(self) -> list[str]:
        """Return the names of one's own templates."""
        return list(own.kept(self.folder))

    def keep(self, name: str) -> None:
        """Keep the question under a name."""
        project = self._session.project
        if project is None:
            return
        try:
            file = own.keep(self.folder, name, project.question)
        except NienteError as error:
            self._session.report(error)
            return
        words = tr("The question is kept as {name}, in {file}.")
        self._session.notice.emit(Notice(words.format(name=name, file=file)))

    def choose_own(self, name: str) -> None:
        """Ask a question that was kept."""
        file = own.kept(self.folder).get(name)
        if file is not None:
            self.take_question(file)

    def take_question(self, file: Path) -> None:
        """Ask the question in a file, as far as this rig can be asked it."""
        card = self._session.card
        if card is None:
            return
        try:
            kept = own.read_own(bytes_of(file), file.name)
        except NienteError as error:
            self._session.report(error)
            return
        question, left = own.for_rig(kept.question, card)
        self.ask(tr("question: {title}").format(title=kept.name), question)
        if left:
            words = tr("{name} asks for what this rig does not have; left out: {what}.")
            self._session.notice.emit(Notice(words.format(name=kept.name, what=", ".join(left))))

    # -- the list ------------------------------------------------------------------------------------------------

    def move(self, place: int, after: int) -> None:
        """Move a run so that it stands after another (-1: first of all). Runs of one search or confirmation go together."""
        rows = self._session.planner.rows
        if not 0 <= place < len(rows) or not -1 <= after < len(rows):
            return
        entry, target = rows[place].entry, rows[after].entry if after >= 0 else -1
        if target in (entry, entry - 1):
            return
        self._edit(Deed.MOVE, place, target)

    def shift(self, place: int, by: int) -> int:
        """Move a run up or down by one entry, and return where it then stands."""
        rows = self._session.planner.rows
        if not 0 <= place < len(rows):
            return place
        entry = rows[place].entry
        first = next(at for at, row in enumerate(rows) if row.entry == entry)
        last = max(at for at, row in enumerate(rows) if row.entry == entry)
        if by < 0 and first > 0:
            other = rows[first - 1].entry
            before = next(at for at, row in enumerate(rows) if row.entry == other)
            self.move(place, before - 1)
            return place - (first - before)
        if by > 0 and last + 1 < len(rows):
            other = rows[last + 1].entry
            end = max(at for at, row in enumerate(rows) if row.entry == other)
            self.move(place, end)
            return place + (end - last)
        return place

    def skip(self, place: int) -> None:
        """Leave a run out, or take it up again."""
        rows, plan = self._session.planner.rows, self._session.plan
        if plan is None or not 0 <= place < len(rows):
            return
        skipped = plan.entries[rows[place].entry].skip
        self._edit(Deed.TAKE_UP if skipped else Deed.SKIP, place)

    def repeat(self, place: int) -> None:
        """Make a run once more, after itself."""
        self._edit(Deed.REPEAT, place)

    def insert(self, place: int, step: Step) -> None:
        """Insert a run after another."""
        rows = self._session.planner.rows
        self._edit(Deed.INSERT, place, rows[place].entry if 0 <= place < len(rows) else -1, step)

    def _edit(self, deed: Deed, place: int, after: int = -1, step: Step | None = None) -> None:
        session, rows = self._session, self._session.planner.rows
        laid = session.planner.laid
        if laid is None or session.project is None or session.plan is None:
            return
        keys = laid.keyed.keys
        entry = keys[rows[place].entry] if 0 <= place < len(rows) and deed != Deed.INSERT else ""
        behind = keys[after] if after >= 0 else ""
        edit = ListEdit(deed, entry, behind if deed in (Deed.MOVE, Deed.INSERT) else "", step)
        words = tr(WORDS[deed]).format(n=place + 1)
        if session.planner.own is not None:
            fresh = msgspec.structs.replace(session.plan, entries=tuple(keyed(session.plan.entries, (edit,)).entries))
            session.put_own(words, fresh)
            return
        question = session.project.question
        self.ask(words, msgspec.structs.replace(question, edits=(*question.edits, edit)))
