"""A screen has one decimal sign, that of the locale; what leaves it in a file keeps the point."""

import re
from collections.abc import Callable, Iterable, Iterator

import pytest
from PySide6.QtCore import QLocale, Qt
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QAbstractButton, QAbstractSpinBox, QComboBox, QLabel, QLineEdit, QTableView, QWidget
from pytestqt.qtbot import QtBot

from niente.core.model.quantities import quantity_of
from niente.desktop.actions.guide import TOPICS, Guide
from niente.desktop.app.window import NAMES, Window
from niente.desktop.services.decimal_sign import in_locale, list_parts, list_text
from niente.desktop.widgets.labels import label
from niente.desktop.widgets.quantity_field import QuantityField
from tests.desktop.layout import painted
from tests.desktop.test_scales import LEAST, settle, views_of

POINTED = re.compile(r"(?<![\w.])\d+\.\d+(?![\w.])")
"""What a number with a point looks like; a version has two."""
OWN_WORDS = {"in front, 0.9 m high"}
"""What a person wrote on the rig's card: it stays as it was written."""


@pytest.fixture
def german() -> Iterator[None]:
    """The locale of Germany, for as long as a test takes: its decimal sign is a comma."""
    before = QLocale()
    QLocale.setDefault(QLocale("de_DE"))
    yield
    QLocale.setDefault(before)


def texts_of(window: QWidget) -> Iterator[str]:
    """All that a window says: what it paints, labels, buttons, menus, fields, lists, tables and tooltips."""
    yield from (action.text() for action in window.findChildren(QAction))
    yield from (text for _, text in painted(window))
    for widget in window.findChildren(QWidget):
        yield widget.toolTip()
        if isinstance(widget, QLabel | QAbstractButton | QLineEdit | QAbstractSpinBox):
            yield widget.text()
        elif isinstance(widget, QComboBox):
            yield from (widget.itemText(index) for index in range(widget.count()))
        elif isinstance(widget, QTableView):
            model = widget.model()
            for column in range(model.columnCount()):
                yield str(model.headerData(column, Qt.Orientation.Horizontal))
                for role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole):
                    yield from (str(model.index(row, column).data(role)) for row in range(model.rowCount()))


def pointed(texts: Iterable[str]) -> list[str]:
    """Those of the texts that hold a number with a point."""
    return sorted({text for text in texts if POINTED.search(text)} - OWN_WORDS)


@pytest.mark.parametrize("name", NAMES)
def test_every_page_speaks_with_a_comma(german: None, swept_window: Window, name: str) -> None:
    swept_window.resize(1280, 800)
    settle()
    said: list[str] = []
    for view in views_of(swept_window, name):
        texts = list(texts_of(swept_window))
        assert not pointed(texts), view
        said.extend(texts)
    assert sum(bool(re.search(r"\d,\d", text)) for text in said) > 5  # figures were there


def test_a_fresh_book_speaks_with_a_comma(german: None, open_window: Callable[..., Window]) -> None:
    window = open_window(fresh=True)
    window.resize(*LEAST)
    for name in NAMES:
        for view in views_of(window, name):
            assert not pointed(texts_of(window)), view


def test_a_field_takes_and_shows_a_comma(german: None, qtbot: QtBot) -> None:
    field = QuantityField(quantity_of("core_rise_k"), low=0.5, high=5.0, step=0.1)
    qtbot.addWidget(field)
    field.setValue(field.valueFromText("1,5"))
    assert field.text() == "1,5\u00a0K"
    assert field.valueFromText("2.5 K") == 2.5  # who types a point means it as well
    assert "0,5 to 5,0" in field.toolTip()


def test_help_speaks_with_a_comma(german: None, open_window: Callable[..., Window]) -> None:
    guide = Guide.over(open_window(fresh=True))
    for topic in TOPICS:
        guide.open_at(topic)
        assert not POINTED.findall(guide.text.toPlainText()), topic
    guide.close()


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        ("83.3 ± 1.0 °C", "83,3 ± 1,0 °C"),
        ("−0.5 to +12.25", "−0,5 to +12,25"),
        ("It kept 8.0. Then it stopped.", "It kept 8,0. Then it stopped."),
        ("×1.38", "×1,38"),
        ("1.2.3 and v2.5 and core_temperature_c.3", "1.2.3 and v2.5 and core_temperature_c.3"),
        ("run-2.5b.niente", "run-2.5b.niente"),
        ("80–92.5 %", "80–92,5 %"),
        ("/home/me/bench-2.5/my 3.5/2.5.niente", "/home/me/bench-2.5/my 3.5/2.5.niente"),
        ("minus -0.5 (2.5, 3.5)", "minus -0,5 (2,5, 3,5)"),
    ],
)
def test_numbers_are_turned_and_nothing_else(german: None, qtbot: QtBot, text: str, shown: str) -> None:
    assert in_locale(text) == shown
    assert label(text).text() == shown


def test_a_locale_with_a_sign_that_no_field_reads_keeps_the_point(qtbot: QtBot) -> None:
    before = QLocale()
    QLocale.setDefault(QLocale("fa_IR"))
    try:
        field = QuantityField(quantity_of("core_rise_k"), low=0.5, high=5.0, step=0.1)
        qtbot.addWidget(field)
        field.setValue(1.5)
        assert field.valueFromText(field.text()) == 1.5
        assert not field.refusal(field.text())
    finally:
        QLocale.setDefault(before)


def test_a_point_stays_where_the_locale_has_one(qtbot: QtBot) -> None:
    assert in_locale("83.3 ± 1.0 °C") == "83.3 ± 1.0 °C"


@pytest.mark.parametrize(
    ("typed", "parts"),
    [
        ("12,5", ["12,5"]),
        ("12,5; 14", ["12,5", "14"]),
        ("80, 100, 125", ["80", "100", "125"]),
        ("80,100,125", ["80", "100", "125"]),
        ("12,5, 14,5", ["12,5", "14,5"]),
        ("12,5;14,5;", ["12,5", "14,5"]),
        ("", []),
    ],
)
def test_a_comma_that_is_the_decimal_sign_parts_no_list(german: None, typed: str, parts: list[str]) -> None:
    assert list_parts(typed) == parts


def test_a_list_can_be_typed_as_it_is_shown(german: None) -> None:
    assert list_text(["12.5", "14"]) == "12,5; 14"
    assert list_parts(list_text(["12.5", "14"])) == ["12,5", "14"]


def test_a_bare_comma_parts_a_list_where_the_decimal_sign_is_a_point() -> None:
    assert list_parts("80,100") == ["80", "100"]
    assert list_text(["12.5", "14"]) == "12.5, 14"
