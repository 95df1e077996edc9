"""Every word goes through the translator, and no page clips words that are a third longer."""

from collections.abc import Callable, Iterator

import pytest
from PySide6.QtCore import QTranslator
from PySide6.QtWidgets import QAbstractButton, QApplication
from pytestqt.qtbot import QtBot

from niente.desktop.app.main import make_app
from niente.desktop.app.window import NAMES, Window
from niente.desktop.services.translation import CONTEXT, tr
from tests.desktop.layout import cut_off

ACCENTED = str.maketrans("aeiouAEIOUcnsyz", "áéíóúÁÉÍÓÚçñšýž")


LONGEST = 20


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
        longer = "~" * (len(text) // 3)
        words = [longer[at : at + LONGEST] for at in range(0, len(longer), LONGEST)]  # a sentence gets words, and no long one
        return "[" + "".join(parts) + " ".join(words) + "]"

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


@pytest.mark.parametrize("size", [(1280, 800), (1100, 700)], ids=["1280x800", "1100x700"])
def test_no_page_clips_its_words(pseudo: Pseudo, swept_window: Window, size: tuple[int, int]) -> None:
    swept_window.resize(*size)
    for index, name in enumerate(NAMES):
        swept_window.go_to(index)
        QApplication.processEvents()
        QApplication.processEvents()
        found = list(cut_off(swept_window))
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
