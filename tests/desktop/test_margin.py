"""The margin keeps its widgets, and the focus, while what stands above them comes and goes."""

from collections.abc import Callable

from PySide6.QtCore import QPoint
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLabel
from pytestqt.qtbot import QtBot

from niente.desktop.app.margin import Margin
from niente.desktop.app.window import Window
from niente.desktop.widgets.blocks import Block, Buttons, Title, Words
from niente.desktop.widgets.labels import ActionButton

BUTTONS = Buttons(("book.quit",))


def button_of(margin: Margin) -> ActionButton:
    (button,) = margin.findChildren(ActionButton)
    return button


def test_a_button_keeps_the_focus_while_words_come_and_go_above_it(open_window: Callable[..., Window], qtbot: QtBot) -> None:
    window = open_window()
    margin = Margin(window.look, window.actions_)
    qtbot.addWidget(margin)
    few: list[Block] = [Title("a", "b"), Words("c", "d"), BUTTONS]
    margin.show_blocks("page", few)
    button = button_of(margin)
    button.setFocus()
    for more in ([few[0], Words("x", "y"), *few[1:], Words("below", "too")], [few[0], BUTTONS], few):
        margin.show_blocks("page", more)
        assert button_of(margin) is button
        assert margin.focusWidget() is button
        assert margin.blocks() == more


def test_blocks_stand_in_the_order_in_which_the_page_says_them(open_window: Callable[..., Window], qtbot: QtBot) -> None:
    window = open_window()
    margin = Margin(window.look, window.actions_)
    margin.show_blocks("page", [Words("one", "1"), BUTTONS, Words("two", "2")])
    margin.show_blocks("page", [Title("zero", "0"), Words("one", "1"), Words("more", "1.5"), BUTTONS, Words("two", "2")])
    qtbot.addWidget(margin)
    margin.show()
    QTest.qWait(50)
    texts = sorted(
        (shown.mapTo(margin, QPoint()).y(), shown.text()) for shown in margin.findChildren(QLabel) if shown.isVisible()
    )
    assert [text for _, text in texts if text] == ["zero", "0", "one", "1", "more", "1.5", "two", "2"]
    assert texts[5][0] < button_of(margin).mapTo(margin, QPoint()).y() < texts[-1][0]
