"""A table whose cells are edited in place: figures with a quantity's field, words with a line, choices with a list."""

from collections.abc import Sequence
from typing import Any

import msgspec
from PySide6.QtCore import (
    QAbstractItemModel,
    QPointF,
    QRectF,
    Qt,
    Signal,
)
from PySide6.QtGui import QColor, QFontMetricsF, QPainter
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QHeaderView,
    QLineEdit,
    QStyle,
    QStyleOptionViewItem,
    QTableView,
    QWidget,
)

from niente.core.model.quantities import Quantity
from niente.desktop.services.decimal_sign import in_locale
from niente.desktop.services.plain_text import plain
from niente.desktop.services.theme import BODY, Look, font
from niente.desktop.widgets.brushes import draw_text
from niente.desktop.widgets.quantity_field import QuantityDelegate
from niente.desktop.widgets.table import PAD, ROW_PX, HeadedModel, Index

GAP_PX = 6
"""What parts one cell's line from the next."""


class Entry(msgspec.Struct, frozen=True):
    """One cell: what it says, and where it can be edited the value behind it.

    A figure has a ``quantity`` with ``low``, ``high`` and ``step``; a choice has ``options``; anything else is words.
    """

    text: str
    value: float | str | None = None
    quantity: Quantity | None = None
    low: float = 0.0
    high: float = 0.0
    step: float = 1.0
    options: tuple[str, ...] = ()
    title: str = ""
    soft: bool = False

    @property
    def editable(self) -> bool:
        """Whether a person can change it."""
        return self.value is not None

    @property
    def told(self) -> str:
        """What is said where a pointer rests on it: what it is, and words as a whole, for which there may be no room."""
        words = self.text if self.quantity is None and not self.options else ""
        return ": ".join(part for part in (self.title, words) if part)


class SheetModel(HeadedModel):
    """Rows of entries; ``edited`` comes with row, column and the new value, and the owner shows what came of it."""

    edited = Signal(int, int, object)

    def __init__(self, heads: Sequence[str], right: set[int]) -> None:
        super().__init__(heads, right)
        self.entries: list[list[Entry]] = []

    def set_entries(self, entries: list[list[Entry]]) -> None:
        """Show other rows; where there are as many the view keeps its place."""
        if entries == self.entries:
            return
        same = len(entries) == len(self.entries)
        if not same:
            self.beginResetModel()
        self.entries = entries
        if same:
            self.dataChanged.emit(self.index(0, 0), self.index(len(entries) - 1, len(self.heads) - 1))
        else:
            self.endResetModel()

    def set_column(self, column: int, entries: list[Entry]) -> None:
        """Show other entries in one column; an editor in another stays as it is."""
        if entries == [row[column] for row in self.entries]:
            return
        self.entries = [[*row[:column], entry, *row[column + 1 :]] for row, entry in zip(self.entries, entries, strict=True)]
        self.dataChanged.emit(self.index(0, column), self.index(len(entries) - 1, column))

    def count(self) -> int:
        """Return the number of rows."""
        return len(self.entries)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """Return what a cell says, or the value behind it."""
        entry = self.entries[index.row()][index.column()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            return in_locale(entry.text)
        if role == Qt.ItemDataRole.EditRole:
            return entry.value
        if role == Qt.ItemDataRole.ToolTipRole:
            return plain(entry.told) or None
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return self.alignment(index.column())
        return None

    def flags(self, index: Index) -> Qt.ItemFlag:
        """Say which cells can be edited."""
        found = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        return found | Qt.ItemFlag.ItemIsEditable if self.entries[index.row()][index.column()].editable else found

    def setData(self, index: Index, value: object, role: int = Qt.ItemDataRole.EditRole) -> bool:
        """Tell the owner of an edit."""
        if value == self.entries[index.row()][index.column()].value:
            return False
        self.edited.emit(index.row(), index.column(), value)
        return True


class _EntryDelegate(QuantityDelegate):
    """Edits an entry with what fits it."""

    def __init__(self, model: SheetModel, parent: QWidget, look: Look) -> None:
        super().__init__(self._arguments, parent)
        self._model = model
        self._look = look

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        """Paint a cell; those that can be edited stand on a line, as fields do."""
        p, area, entry = self._look.palette, QRectF(option.rect), self._entry(index)
        painter.save()
        painter.setClipRect(area)
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(area, QColor(p.surface))
        line = area.bottom() - 6.0
        right = index.column() in self._model.right
        room = area.width() - 2 * PAD - GAP_PX
        text = QFontMetricsF(font(BODY)).elidedText(entry.text, Qt.TextElideMode.ElideRight, room)
        left = area.left() + PAD
        point = QPointF(area.right() - PAD, line) if right else QPointF(left, line)
        side = Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft
        draw_text(painter, point, text, font(BODY), p.soft if entry.soft else p.ink, align=side)
        if entry.editable:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
            painter.setPen(QColor(p.ink if option.state & QStyle.StateFlag.State_Selected else p.strong_rule))
            painter.drawLine(QPointF(left - 4.0, area.bottom() - 1.5), QPointF(area.right() - 4.0, area.bottom() - 1.5))
        painter.restore()

    def _entry(self, index: Index) -> Entry:
        return self._model.entries[index.row()][index.column()]

    def _arguments(self, row: int, column: int) -> dict[str, Any]:
        entry = self._model.entries[row][column]
        return {"quantity": entry.quantity, "low": entry.low, "high": entry.high, "step": entry.step, "title": entry.title}

    def createEditor(self, parent: QWidget, option: QStyleOptionViewItem, index: Index) -> QWidget:
        """Return the editor for an entry."""
        entry = self._entry(index)
        if entry.quantity is not None:
            return super().createEditor(parent, option, index)
        editor: QWidget = QComboBox(parent) if entry.options else QLineEdit(parent)
        editor.setAccessibleName(entry.title)
        if isinstance(editor, QComboBox):
            editor.addItems(entry.options)
            editor.activated.connect(lambda _: self._commit(editor))
        return editor

    def _commit(self, editor: QWidget) -> None:
        self.commitData.emit(editor)
        self.closeEditor.emit(editor)

    def setEditorData(self, editor: QWidget, index: Index) -> None:
        """Show the value."""
        if isinstance(editor, QComboBox):
            editor.setCurrentText(str(self._entry(index).value))
        elif isinstance(editor, QLineEdit):
            editor.setText(str(self._entry(index).value))
        else:
            super().setEditorData(editor, index)

    def setModelData(self, editor: QWidget, model: QAbstractItemModel, index: Index) -> None:
        """Give the value to the model."""
        if isinstance(editor, QComboBox):
            model.setData(index, editor.currentText(), Qt.ItemDataRole.EditRole)
        elif isinstance(editor, QLineEdit):
            model.setData(index, editor.text().strip(), Qt.ItemDataRole.EditRole)
        else:
            super().setModelData(editor, model, index)


def sheet_view(name: str, model: SheetModel, look: Look, *, stretch: int, widths: dict[int, int]) -> QTableView:
    """Return a view of entries; Enter, F2 or a double click edits a cell."""
    view = QTableView()
    view.setModel(model)
    view.setAccessibleName(name)
    view.setShowGrid(False)
    view.verticalHeader().hide()
    view.verticalHeader().setDefaultSectionSize(ROW_PX + 3)
    view.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
    view.setEditTriggers(
        QAbstractItemView.EditTrigger.DoubleClicked
        | QAbstractItemView.EditTrigger.EditKeyPressed
        | QAbstractItemView.EditTrigger.AnyKeyPressed
    )
    view.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    view.setTabKeyNavigation(False)
    view.setItemDelegate(_EntryDelegate(model, view, look))
    look.changed.connect(view.viewport().update)
    head = view.horizontalHeader()
    head.setFixedHeight(22)
    head.setMinimumSectionSize(12)
    head.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
    head.setSectionResizeMode(stretch, QHeaderView.ResizeMode.Stretch)
    head.setHighlightSections(False)
    for column, width in widths.items():
        view.setColumnWidth(column, width + 2 * PAD + GAP_PX)
    return view
