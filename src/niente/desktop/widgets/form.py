"""Rows of fields under a heading: a name, a field, and a soft word beside it; and the fields that forms are made of."""

from collections.abc import Callable

from PySide6.QtWidgets import QComboBox, QGridLayout, QLineEdit, QVBoxLayout, QWidget

from niente.core.model.quantities import quantity_of
from niente.desktop.services.plain_text import plain
from niente.desktop.services.translation import tr
from niente.desktop.widgets.choice_box import ChoiceBox
from niente.desktop.widgets.labels import label
from niente.desktop.widgets.quantity_field import QuantityField
from niente.desktop.widgets.undo_keys import UndoKeys

FIELD_PX = 148


class Form(QWidget):
    """A heading over rows of fields; a field's row is named by its title."""

    def __init__(self, heading: str) -> None:
        super().__init__()
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 6, 0, 6)
        rows.setSpacing(4)
        if heading:
            rows.addWidget(label(heading, "section"))
        self._grid = QGridLayout()
        self._grid.setVerticalSpacing(5)
        self._grid.setHorizontalSpacing(10)
        self._grid.setColumnStretch(2, 1)
        rows.addLayout(self._grid)
        rows.addStretch(1)

    def add(self, name: str, field: QWidget, beside: QWidget | str = "") -> None:
        """Add a row."""
        row = self._grid.rowCount()
        words = label(name)
        words.setBuddy(field)
        if not field.accessibleName():
            field.setAccessibleName(name)
        self._grid.addWidget(words, row, 0)
        if beside == "" and isinstance(field, QComboBox):
            field.setMinimumWidth(FIELD_PX)  # a choice reads as a whole; nothing stands beside it
            self._grid.addWidget(field, row, 1, 1, 2)
            return
        field.setFixedWidth(FIELD_PX)
        self._grid.addWidget(field, row, 1)
        self._grid.addWidget(label(beside, "soft", wrap=True) if isinstance(beside, str) else beside, row, 2)


def figure(
    quantity: str,
    title: str,
    low: float,
    high: float,
    step: float,
    settled: Callable[[float], object],
    *,
    default: float | None = None,
    unknown: bool = False,
) -> QuantityField:
    """Return a field for a quantity; with ``unknown`` the lowest value says that the value is not known."""
    field = QuantityField(
        quantity_of(quantity),
        low=low,
        high=high,
        step=step,
        title=title,
        default=default,
        off_words=tr("not known") if unknown else "",
    )
    field.settled.connect(settled)
    return field


def words(title: str, settled: Callable[[str], object]) -> QLineEdit:
    """Return a line of text; ``settled`` is called once it is left with other words in it."""
    line = QLineEdit()
    line.setAccessibleName(title)
    line.setToolTip(plain(title))
    line.editingFinished.connect(lambda: settled(line.text().strip()))
    line.editingFinished.connect(lambda: line.setModified(False))
    UndoKeys(line)
    return line


def choice(title: str, options: list[str], settled: Callable[[int], object]) -> QComboBox:
    """Return a list to choose from; ``settled`` is called with the index of what was chosen by a person."""
    box = ChoiceBox()
    box.setAccessibleName(title)
    box.setToolTip(plain(title))
    box.addItems(options)
    box.activated.connect(settled)
    return box
