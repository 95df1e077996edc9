"""What a bench says to the desktop by itself: no sleep while a plan runs, and a word at its end where no window is open."""

from collections.abc import Callable
from typing import Protocol

from niente.core.model.records import BenchFailed, GuardTripped, HandCardShown, PlanEnded, PlanStarted, Record


class Desktop(Protocol):
    """What is needed of the desktop's bus."""

    def notify(self, title: str, text: str, *, urgent: bool = False) -> None:
        """Show a notification."""

    def keep_awake(self, why: str) -> None:
        """Ask the machine not to go to sleep."""

    def let_sleep(self) -> None:
        """Let it sleep again."""


class DesktopWords:
    """Hears the record of one bench. ``title`` is the machine's; ``alone`` says whether nobody looks on."""

    def __init__(self, bus: Desktop, title: Callable[[], str], alone: Callable[[], bool]) -> None:
        self._bus = bus
        self._title = title
        self._alone = alone

    def hear(self, record: Record) -> None:
        """Say what follows from a record."""
        match record:
            case PlanStarted():
                self._bus.keep_awake(f"A plan is running on {self._title()}")
            case PlanEnded(complete, reason, error):
                self._bus.let_sleep()
                words = "The plan is done." if complete else f"The plan is {reason}."
                self._say(error.happened if error is not None else words, urgent=error is not None)
            case BenchFailed():
                self._bus.let_sleep()
                self._say("A bug of Niente's ended the plan. The rig has its safe setting.", urgent=True)
            case HandCardShown(card) if card is not None:
                self._say(f"Hands are needed: {card.title}", urgent=True)
            case GuardTripped(reason=reason):
                self._say(reason, urgent=True)
            case _:
                return

    def _say(self, words: str, *, urgent: bool) -> None:
        if self._alone():
            self._bus.notify(self._title(), words, urgent=urgent)
