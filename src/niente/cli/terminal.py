"""A person at the terminal: words they type while a plan runs, and cards they confirm."""

import select
import sys
from collections.abc import Callable
from typing import Protocol

from niente.core.acquisition.client import BenchClient
from niente.core.model.commands import Command
from niente.core.model.errors import NienteError
from niente.core.model.hand_cards import HandCard
from niente.core.model.quantities import value_typed

COMMANDS = {
    "pause": Command.PAUSE_NOW,
    "pause after": Command.PAUSE_AFTER,
    "hold": Command.PAUSE_NOW,
    "hold after": Command.PAUSE_AFTER,
    "go on": Command.RESUME,
    "skip": Command.SKIP,
    "repeat": Command.REPEAT,
}
HELP = "Words: pause, pause after, go on, skip, repeat, note TEXT, hand over, leave, stop."


class TerminalVoice(Protocol):
    """What says something to the person, and knows the card that is shown."""

    card: HandCard | None

    def print_line(self, text: str) -> None:
        """Say something."""


class Terminal:
    """Reads lines as they are typed, without waiting for them."""

    def __init__(self, bench: BenchClient, sayer: TerminalVoice) -> None:
        self._bench = bench
        self._sayer = sayer
        self.gone = False
        """Whether the terminal has ended: nobody sits there any more."""
        self.left = False
        """Whether the person leaves the plan to the bench."""
        self._words: dict[str, Callable[[], None]] = {"stop": bench.stop, "hand over": bench.hand_over, "leave": self._leave}
        self._prompted: HandCard | None = None
        self._readings: dict[str, float] = {}

    def look(self) -> None:
        """Ask for what the card that is shown wants next, and act on a line that was typed."""
        card = self._sayer.card
        if card is not self._prompted:
            self._prompted, self._readings = card, {}
            if card is not None:
                self._ask(card)
        if select.select([sys.stdin], [], [], 0.0)[0]:
            typed = sys.stdin.readline()
            if typed:
                self.take(typed)
            else:
                self.gone = True  # an end of input is not a line: it confirms nothing

    def take(self, typed: str) -> None:
        """Act on a line: a word of command, a note, a reading, or an empty one that says that hands are done."""
        text = typed.strip()
        card = self._sayer.card
        try:
            if card is not None and not card.readings and text.lower() == "go on":
                self._answer(card, "")
            elif text.lower() in COMMANDS:
                self._bench.send_command(COMMANDS[text.lower()])
            elif text.lower() in self._words:
                self._words[text.lower()]()
            elif text.lower().startswith("note "):
                self._bench.note(text[5:].strip())
                self._sayer.print_line("Noted.")
            elif card is not None:
                self._answer(card, text)
            elif text:
                self._sayer.print_line(HELP)
        except NienteError as error:
            self._sayer.print_line(str(error))
            self._readings = {}
            if card is not None:
                self._ask(card)

    def _leave(self) -> None:
        self.left = True

    def _ask(self, card: HandCard) -> None:
        waiting = [reading for reading in card.readings if reading.channel not in self._readings]
        if waiting:
            shown = self._bench.shown.get(waiting[0].channel)
            hint = f" (the simulated meter shows {waiting[0].quantity.with_unit(shown)})" if shown is not None else ""
            self._sayer.print_line(f"{waiting[0].title} in {waiting[0].quantity.unit}{hint}: type it, then Enter.")
        else:
            self._sayer.print_line("Press Enter once it is done and checked; Ctrl+C stops and restores.")

    def _answer(self, card: HandCard, text: str) -> None:
        waiting = [reading for reading in card.readings if reading.channel not in self._readings]
        if waiting:
            try:
                self._readings[waiting[0].channel] = value_typed(text, waiting[0].quantity.unit)
            except ValueError as error:
                self._sayer.print_line(f"{error}. Type it again.")
                return
            if len(waiting) > 1:
                self._ask(card)
                return
        elif text:
            self._sayer.print_line(HELP)
            return
        self._bench.confirm(self._readings)
