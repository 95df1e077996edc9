"""What a book, a rig or a file says is text, and a driver that only a book names runs after a person's yes."""

from pathlib import Path

import pytest
from PySide6.QtCore import Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLabel, QWidget
from pytestqt.qtbot import QtBot

from niente.core.acquisition.attachment import Driver
from niente.core.acquisition.trusted_drivers import trusted_drivers
from niente.core.model.errors import UntrustedDriverError
from niente.core.storage.writer import BookWriter
from niente.desktop.app.main import arguments, look_of, make_app, open_book
from niente.desktop.app.window import Window
from niente.desktop.dialogs import prompts
from niente.desktop.dialogs.sheet import QuestionDialog
from niente.desktop.services.plain_text import plain
from niente.desktop.services.preferences import Preferences
from niente.desktop.session.session import Session

BOLD = "<b>free</b> <img src='file:///etc/passwd'> & more"


@pytest.mark.parametrize("yes", [True, False])
def test_a_driver_that_a_book_names_waits_for_a_yes(
    qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, yes: bool
) -> None:
    book, name = tmp_path / "gift.niente", f"tests.contract.outside:{'Doorbell' if yes else 'RealDoorbell'}"
    writer = BookWriter(book)
    writer.add_document("driver", Driver(name))
    writer.close()
    asked: list[str] = []
    opened: list[Path] = []

    def answer(over: QWidget, error: UntrustedDriverError) -> bool:
        asked.append(error.happened)
        return yes

    monkeypatch.setattr(prompts, "whether_driver_may_run", answer)
    preferences = Preferences()
    window = Window(Session(), look_of(make_app([]), preferences), preferences, lambda path, *_: opened.append(path))
    qtbot.addWidget(window, before_close_func=lambda closing: closing.session.close())
    window.show()
    open_book(window, arguments([str(book)]))
    qtbot.waitUntil(lambda: bool(asked))
    assert name in asked[0]
    assert "code that would run here" in window.opening.text()
    assert opened == ([book] if yes else [])
    assert (name in trusted_drivers()) is yes
    window.session.close()


def test_a_question_box_shows_text_letter_for_letter(qtbot: QtBot) -> None:
    over = QWidget()
    qtbot.addWidget(over)
    seen: list[tuple[str, Qt.TextFormat]] = []

    def look() -> None:
        box = QApplication.activeModalWidget()
        assert isinstance(box, QuestionDialog)
        seen.extend((shown.text(), shown.textFormat()) for shown in box.findChildren(QLabel) if shown.text())
        box.reject()

    QTimer.singleShot(0, look)
    assert not prompts.whether_driver_may_run(over, UntrustedDriverError(BOLD, remedy="None."))
    assert any(text == BOLD for text, _ in seen)
    assert {kind for _, kind in seen} == {Qt.TextFormat.PlainText}


@pytest.mark.parametrize(("tabs", "given"), [(0, "Do not close"), (1, "Close and keep running"), (2, "Stop and close")])
def test_enter_means_the_answer_that_has_the_focus(qtbot: QtBot, tabs: int, given: str) -> None:
    """The safe answer has it first; who goes to another one means that."""
    over = QWidget()
    qtbot.addWidget(over)

    def press() -> None:
        box = QApplication.activeModalWidget()
        assert isinstance(box, QuestionDialog)
        for _ in range(tabs):
            QTest.keyClick(QApplication.focusWidget() or box, Qt.Key.Key_Tab)
        QTest.keyClick(QApplication.focusWidget() or box, Qt.Key.Key_Return)

    QTimer.singleShot(100, press)
    asked = QuestionDialog(over, "A plan is running", "What should happen to it?")
    assert asked.ask("Close and keep running", "Stop and close", safe="Do not close") == given


def test_a_tooltip_shows_text_letter_for_letter() -> None:
    assert plain("plain words, 3 & 4") == "plain words, 3 & 4"
    assert "<b>" not in plain(BOLD)
    assert "&lt;b&gt;free" in plain(BOLD)
