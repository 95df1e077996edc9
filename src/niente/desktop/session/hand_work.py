"""What a session wants of a person: the bench card that is shown, and a word on what an earlier end left open."""

from typing import Protocol

from PySide6.QtCore import QObject, Signal

from niente.core.acquisition.client import BenchClient
from niente.core.acquisition.recovery import InterruptedRun, rows_left_out
from niente.core.model.errors import NienteError
from niente.core.model.hand_cards import HandCard
from niente.core.model.plan import Plan
from niente.core.model.rig_card import RigCard
from niente.core.selection.answer import Answer
from niente.desktop.services.translation import tr
from niente.desktop.session.notices import Ending, Notice


class HandWorkSession(Protocol):
    """What hands need of a session."""

    bench: BenchClient | None
    answer: Answer

    @property
    def plan(self) -> Plan | None:
        """The plan that is run next."""

    @property
    def card(self) -> RigCard | None:
        """The rig's card."""

    def report(self, error: NienteError) -> None:
        """Say an error that a person can act on."""

    def request_answer(self) -> None:
        """Ask for fresh answers."""


class HandWork(QObject):
    """The card under way with its ticks and readings, and the interrupted run until it is put away."""

    changed = Signal()
    noticed = Signal(object)
    """A card is shown: a word for the message bar."""
    wanted = Signal(object)
    """A card is shown: a word for the desktop."""
    over = Signal()
    """Hands are done with a card: what was said of it may go."""
    refused = Signal(str)
    """Readings could not be taken: what happened, and what to do."""

    def __init__(self, session: HandWorkSession, parent: QObject) -> None:
        super().__init__(parent)
        self._session = session
        self.card: HandCard | None = None
        self.ticked: frozenset[int] = frozenset()
        self.readings: dict[str, float] = {}
        self.interrupted: InterruptedRun | None = None

    # -- the bench card ----------------------------------------------------------------------------------------------

    def show(self, card: HandCard | None, ticked: tuple[int, ...] = ()) -> None:
        """A card is shown, with the boxes that were ticked before, or is over."""
        self.card, self.readings, self.ticked = card, {}, frozenset(ticked)
        if card is None:
            self.over.emit()
        else:
            self.noticed.emit(Notice(card.words(), "page.run", tr("To the card")))
            self.wanted.emit(Ending(tr("Hands are needed"), card.title, urgent=True))
        self.changed.emit()

    def tick(self, box: int, on: bool) -> None:
        """Tick a box, or take its tick back; the book keeps which."""
        self.ticked = self.ticked | {box} if on else self.ticked - {box}
        bench = self._session.bench
        if bench is not None:
            try:
                bench.tick(tuple(sorted(self.ticked)))
            except NienteError as error:
                self._session.report(error)
        self.changed.emit()

    def show_ticks(self, boxes: tuple[int, ...]) -> None:
        """Show the ticks that another window sets; this one's own are shown already, and may be further by now."""
        bench = self._session.bench
        if bench is not None and bench.follows and frozenset(boxes) != self.ticked:
            self.ticked = frozenset(boxes)
            self.changed.emit()

    def read(self, channel: str, value: float | None) -> None:
        """Put a reading in, or take it out."""
        self.readings = {name: one for name, one in self.readings.items() if name != channel}
        if value is not None:
            self.readings[channel] = value
        self.changed.emit()

    def ready(self) -> bool:
        """Return whether the card can be confirmed: every box is ticked, every reading is there."""
        card = self.card
        return card is not None and len(self.ticked) == card.boxes and not card.problems(self.readings)

    def confirm(self) -> None:
        """Say that hands are done; where something is missing, say what."""
        bench, card = self._session.bench, self.card
        if bench is None or card is None:
            return
        if len(self.ticked) < card.boxes:
            self.refused.emit(tr("Not every box is ticked yet."))
            return
        try:
            bench.confirm(self.readings)
        except NienteError as error:
            self.refused.emit(str(error))

    # -- after something went down -------------------------------------------------------------------------------------

    def found(self, interrupted: InterruptedRun | None) -> None:
        """Take in what the book said when it was opened."""
        self.interrupted = interrupted
        self.changed.emit()

    def judge(self, *, machine_down: bool) -> None:
        """Say what the run was that was left open."""
        bench = self._session.bench
        if bench is None or self.interrupted is None:
            return
        try:
            bench.judge(machine_down=machine_down)
        except NienteError as error:
            self._session.report(error)
            return
        self.interrupted = bench.interrupted
        self._session.request_answer()
        self.changed.emit()

    def put_away(self) -> None:
        """Show the offer no more; the book keeps what it is about."""
        self.interrupted = None
        self.changed.emit()

    def left_out(self) -> list[str]:
        """Return which runs of the plan go if the machine failed, in words; nothing while that cannot be said."""
        found, session = self.interrupted, self._session
        evidence, plan, card = session.answer.evidence, session.plan, session.card
        if found is None or evidence is None or plan is None or card is None:
            return []
        texts = []
        for index, row in rows_left_out(plan, card, evidence, found.run):
            whole = row.step.setting.over(card.stock)
            changed = tuple(name for name, value in whole.controls() if value != card.stock.value(name))
            texts.append(f"{index + 1}: {whole.text(changed) or tr('stock')}, {row.step.load}")
        return texts
