"""The words round a page, kept true: the passage's lines above it, and the margin beside it."""

from collections.abc import Callable, Sequence

from PySide6.QtCore import QObject, QTimer

from niente.desktop.app.margin import Margin
from niente.desktop.app.passage import Passage
from niente.desktop.pages.page import Page
from niente.desktop.services.leisure import Leisure
from niente.desktop.services.turns import Turns
from niente.desktop.widgets.blocks import Block

SOON_MS = 25
"""Passage and margin follow what a session says after the page does, in a turn of their own."""


class PageWords(QObject):
    """Brings passage and margin up to date. ``pages`` may grow later; ``shown`` tells which of them shows."""

    def __init__(
        self, passage: Passage, margin: Margin, pages: Sequence[Page], shown: Callable[[], Page | None], turns: Turns
    ) -> None:
        super().__init__(margin)
        self._passage, self._margin, self._turns = passage, margin, turns
        self._pages, self._shown = pages, shown
        self._soon = QTimer(self)  # several signals are one refresh
        self._soon.setSingleShot(True)
        self._soon.setInterval(SOON_MS)
        self._soon.timeout.connect(lambda: turns.later("words", self._refresh))
        self._leisure = Leisure(self._soon.start, self)

    def soon(self) -> None:
        """Refresh in a turn to come."""
        self._soon.start()

    def at_leisure(self) -> None:
        """Refresh as often as can be read."""
        self._leisure.soon()

    def now(self) -> None:
        """Refresh at once."""
        self._refresh_passage()
        page = self._shown()
        if page is not None and self._margin.isVisible():
            self._show(page, page.margin())

    def _refresh(self) -> None:
        """Refresh the passage, and the margin in the next turn: what it says may take a prediction to know."""
        self._refresh_passage()
        page = self._shown()
        if page is not None and self._margin.isVisible():
            blocks = page.margin()
            self._turns.later("margin", lambda: self._show(page, blocks))

    def _show(self, page: Page, blocks: list[Block]) -> None:
        if page is self._shown():
            self._margin.show_blocks(page.name, blocks)

    def _refresh_passage(self) -> None:
        for page, entry in zip(self._pages, self._passage.entries, strict=False):
            entry.set_line(page.live_line())
            if entry.finished != page.finished():
                entry.finished = page.finished()
                self._passage.update()
