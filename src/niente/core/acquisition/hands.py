"""Hands at the machine: cards are shown and waited for; the book has what they said and what hands did."""

import time
from collections.abc import Callable
from typing import Protocol

from niente.core.acquisition.hand_cards import setting_card, ticked_in
from niente.core.acquisition.run_executor import Closing, closing_of
from niente.core.acquisition.sampler import Sampler
from niente.core.model.commands import Command, Confirmed
from niente.core.model.hand_cards import HandCard
from niente.core.model.records import HandCardConfirmed, HandCardShown, ReadingTaken, Record
from niente.core.model.setting import Setting
from niente.core.model.states import BenchState
from niente.core.storage.reader import BookReader
from niente.core.storage.writer import BookWriter

LOOK_S = 0.5
"""While hands, a person or a machine are waited for, commands are looked for at least so often."""
HANDS_S = 0.02
"""Hands are slower than a simulated machine at full speed: it then gives a sample so often."""


class Commanded(Protocol):
    """Whoever runs the plan: its state, and the commands that come for it."""

    def enter(self, state: BenchState, text: str = "") -> None:
        """Be in another state."""

    def command(self) -> Command | None:
        """Return the next command that it does not carry out itself."""


class Hands:
    """Waits for hands, in the engine's thread. ``open_card`` is the card that they are at; other threads may read it."""

    def __init__(self, sampler: Sampler, writer: BookWriter, publish: Callable[[Record], None], engine: Commanded) -> None:
        self.open_card: HandCard | None = None
        self.set_so_far: dict[str, float] = {}
        """What hands have set, by control."""
        self._sampler = sampler
        self._writer = writer
        self._publish = publish
        self._engine = engine
        self._read: dict[str, float] | None = None

    def take(self, confirmed: Confirmed) -> None:
        """Take in that hands are done with a card."""
        if confirmed.card == self.open_card:
            self._read = confirmed.readings

    def set_by_hand(self, whole: Setting) -> None:
        """Have hands set what only they can, with the load off, where it is not set yet."""
        wanted = setting_card(self._sampler.card, whole, self.set_so_far)
        if wanted is not None:
            self._engine.enter(BenchState.APPLYING)
            self._sampler.make_safe()
            self.wait_for(wanted)
            self.set_so_far |= wanted.sets

    def wait_for(self, card: HandCard) -> None:
        """Show a card and wait, with the load off, until it is confirmed; the book has both."""
        self._sampler.stop()
        self._sampler.idle()
        self._show(card)
        while self._read is None:
            self._sampler.rest(LOOK_S)
            self._engine.command()
        self._confirm(card, None)

    def take_readings(self, run_id: int, card: HandCard) -> Closing | None:
        """Ask for what hands read, the load still on and under guard; return what ended the run meanwhile."""
        self._show(card)
        while self._read is None:
            ended = closing_of(self._sampler.advance(1).ended, self._publish)
            command = self._engine.command()
            if ended is not None or command == Command.SKIP:
                self.put_card_away()
                return ended
            if self._sampler.pace is None:
                time.sleep(HANDS_S)
        for channel, value in self._read.items():
            self._publish(ReadingTaken(run_id, self._sampler.time_s, channel, value))
        self._confirm(card, run_id)
        return None

    def put_card_away(self) -> None:
        """Hands are needed no more, whatever became of the card."""
        if self.open_card is not None:
            self.open_card, self._read = None, None
            self._publish(HandCardShown(None))

    def _show(self, card: HandCard) -> None:
        """Show a card, with the ticks that it had before a restart."""
        book = BookReader(self._writer.path)
        try:
            ticked = ticked_in(book.events(), card)
        finally:
            book.close()
        self.open_card, self._read = card, None
        self._engine.enter(BenchState.WAITING_FOR_HANDS, card.words())
        self._publish(HandCardShown(card, ticked))

    def _confirm(self, card: HandCard, run_id: int | None) -> None:
        self._publish(HandCardConfirmed(run_id, self._sampler.time_s, card.sets))
        self.put_card_away()
