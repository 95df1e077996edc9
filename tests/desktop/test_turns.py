"""Turns of the event loop: one piece of work each, painting in between, and nothing twice."""

from functools import partial

from PySide6.QtGui import QPaintEvent
from PySide6.QtWidgets import QLabel
from pytestqt.qtbot import QtBot

from niente.desktop.services.turns import Turns


def test_each_piece_has_a_turn_of_its_own_and_what_it_changed_is_painted_before_the_next(qtbot: QtBot) -> None:
    done: list[str] = []

    class Watched(QLabel):
        def paintEvent(self, event: QPaintEvent) -> None:
            done.append(f"painted {self.text()}")
            super().paintEvent(event)

    words = Watched()
    qtbot.addWidget(words)
    words.resize(80, 20)
    words.show()
    qtbot.waitUntil(lambda: bool(done))
    done.clear()
    turns = Turns()

    def say(text: str) -> None:
        done.append(f"said {text}")
        words.setText(text)

    for text in ("one", "two", "three"):
        turns.later(text, partial(say, text))
    turns.later("two", lambda: say("two again"))  # one of this name waits already
    qtbot.waitUntil(lambda: "painted three" in done)
    assert done == ["said one", "painted one", "said two", "painted two", "said three", "painted three"]
    turns.later("four", lambda: say("four"))
    turns.stop()
    qtbot.wait(20)
    assert "said four" not in done


def test_a_piece_that_fails_takes_no_other_along(qtbot: QtBot) -> None:
    done: list[str] = []
    turns = Turns()

    def fail() -> None:
        raise ValueError("broken")

    turns.later("bad", fail)
    turns.later("good", lambda: done.append("good"))
    with qtbot.captureExceptions() as caught:
        qtbot.waitUntil(lambda: bool(done))
    assert [str(one[1]) for one in caught] == ["broken"]
