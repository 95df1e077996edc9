"""Every word goes through the translator, and no page clips words that are a third longer."""

from collections.abc import Callable, Iterator

import pytest
from PySide6.QtCore import QTranslator
from PySide6.QtGui import QFontMetricsF
from PySide6.QtWidgets import QAbstractButton, QApplication, QLabel, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from niente.desktop.app.main import make_app
from niente.desktop.app.passage import PassageEntry
from niente.desktop.app.window import NAMES, Window
from niente.desktop.services.translation import CONTEXT, tr
from niente.desktop.widgets.labels import ShortLabel

ACCENTED = str.maketrans("aeiouAEIOUcnsyz", "áéíóúÁÉÍÓÚçñšýž")


class Pseudo(QTranslator):
    """A language of longer words with accents, in brackets; places to fill are left alone."""

    def __init__(self) -> None:
        super().__init__()
        self.asked: set[str] = set()

    def translate(self, context: str, text: str, disambiguation: str | None = None, n: int = -1) -> str:
        if context != CONTEXT or not text:
            return ""
        self.asked.add(text)
        parts, inside = [], False
        for sign in text:
            inside = sign == "{" or (inside and sign != "}")
            parts.append(sign if inside or sign == "}" else sign.translate(ACCENTED))
        return "[" + "".join(parts) + "~" * (len(text) // 3) + "]"

    def isEmpty(self) -> bool:
        return False


@pytest.fixture
def pseudo() -> Iterator[Pseudo]:
    app = make_app([])
    language = Pseudo()
    app.installTranslator(language)
    yield language
    app.removeTranslator(language)


def test_the_pseudo_language_is_spoken(pseudo: Pseudo) -> None:
    assert tr("Stop and restore") == "[Stóp áñd réštóré~~~~~]"
    assert tr("{n} runs").format(n=3) == "[3 rúñš~~]"


def clipped(window: Window) -> list[str]:
    """Return the words that do not fit where they stand."""
    found = []
    for widget in window.findChildren(QWidget):
        if not widget.isVisible() or isinstance(widget, PassageEntry):
            continue
        if isinstance(widget, ShortLabel):
            continue  # it ends in an ellipsis, and its tooltip has the whole
        if isinstance(widget, QLabel) and widget.text():
            margins = widget.contentsMargins()
            if widget.wordWrap():
                wanted = widget.heightForWidth(widget.width())
                if wanted > widget.height() + 1:
                    found.append(f"{widget.text()} ({wanted} px high in {widget.height()})")
            elif widget.sizeHint().width() - margins.left() - margins.right() > widget.width() + 1:
                found.append(f"{widget.text()} ({widget.sizeHint().width()} px in {widget.width()})")
        elif isinstance(widget, QPushButton) and QFontMetricsF(widget.font()).horizontalAdvance(widget.text()) > widget.width():
            found.append(widget.text())
    return found


@pytest.mark.parametrize("size", [(1280, 800), (1100, 700)], ids=["1280x800", "1100x700"])
def test_no_page_clips_its_words(pseudo: Pseudo, swept_window: Window, size: tuple[int, int]) -> None:
    swept_window.resize(*size)
    for index, name in enumerate(NAMES):
        swept_window.go_to(index)
        QApplication.processEvents()
        QApplication.processEvents()
        found = clipped(swept_window)
        assert not found, (name, found)


def test_pages_are_translated_and_not_built_from_bare_words(
    pseudo: Pseudo, open_window: Callable[..., Window], qtbot: QtBot
) -> None:
    window = open_window()
    for name in NAMES:
        window.go_to(NAMES.index(name))
        QApplication.processEvents()
        buttons = [
            one.text()
            for one in window.pages[NAMES.index(name)].findChildren(QAbstractButton)
            if one.isVisible() and one.text()
        ]
        card = window.session.card
        loads = {load.title for load in card.loads} if card is not None else set()
        bare = [text for text in buttons if not text.startswith("[") and text not in loads]
        assert not bare
    assert len(pseudo.asked) > 120
