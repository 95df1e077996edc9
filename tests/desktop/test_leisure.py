"""Figures are shown at once, and then as often as they can be read; the last of them is never lost."""

from PySide6.QtCore import QObject
from PySide6.QtTest import QTest
from pytestqt.qtbot import QtBot

from niente.desktop.services.leisure import Leisure


def test_the_first_is_done_at_once_and_the_last_is_not_lost(qtbot: QtBot) -> None:
    done: list[int] = []
    asked = [0]
    keeper = QObject()
    leisure = Leisure(lambda: done.append(asked[0]), keeper)
    leisure.soon()
    assert done == [0]
    for number in range(1, 40):
        asked[0] = number
        leisure.soon()
        QTest.qWait(5)
    qtbot.waitUntil(lambda: done[-1] == 39)
    assert len(done) < 12  # of forty
    QTest.qWait(600)
    assert done[-2:] != [39, 39]  # and nothing more, once nothing comes
