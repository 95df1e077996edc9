"""A quiet table, for lists that are read row by row: figures flush right, intervals small, marks in italics."""

from collections.abc import Sequence
from enum import StrEnum

import msgspec
from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, QPointF, QRect, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QFontMetricsF, QHelpEvent, QPainter, QPen
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QToolTip,
)

from niente.desktop.services.decimal_sign import in_locale
from niente.desktop.services.plain_text import plain
from niente.desktop.services.theme import BODY, SMALL, Look, font
from niente.desktop.widgets.brushes import draw_text, stage_brush, text_width

ROW_PX, PAD, CHIP_PX = 19, 4, 20.0
FLUSH_RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignBottom
FLUSH_LEFT = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom
FITTED = 60
"""So many rows are looked at for the width of a column."""
Index = QModelIndex | QPersistentModelIndex


class CellSign(StrEnum):
    """What is drawn in a cell in place of a text; the value is what a screen reader says."""

    DONE = "done"
    FAILED = "failed"
    GUARD = "guard"
    SKIPPED = "skipped"
    LEFT_OUT = "left out"
    AHEAD = "ahead"
    EXPECTED = "expected"
    RUNNING = "running"
    FOLDED = "folded"


class Cell(msgspec.Struct, frozen=True):
    """What stands in one cell of a table.

    ``aside`` follows in small soft type (an interval, a unit); ``under`` is a palette colour for a line under the
    text (``guard`` for a limit broken, ``cap_line`` for what firmware limits); ``sign`` is drawn instead of a text;
    ``chip`` names a stage whose texture stands before it; a cell that ``spans`` has the room of those beside it, as its view
    gives it, and asks for none.
    """

    text: str = ""
    aside: str = ""
    soft: bool = False
    bold: bool = False
    mark: bool = False
    under: str = ""
    sign: CellSign | None = None
    chip: str = ""
    spans: bool = False

    @property
    def plain(self) -> str:
        """All of it as one text, for screen readers and for copying."""
        return " ".join(part for part in (self.sign, self.text, self.aside) if part)


NOTHING = Cell()


class HeadedModel(QAbstractTableModel):
    """Rows under column heads; columns in ``right`` are set flush right, as figures are."""

    def __init__(self, heads: Sequence[str], right: set[int]) -> None:
        super().__init__()
        self.heads = list(heads)
        self.right = right

    def count(self) -> int:
        """Return the number of rows."""
        raise NotImplementedError

    def row(self, index: int) -> list[Cell]:
        """Return the cells of a row, where the table is drawn from cells."""
        raise NotImplementedError

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008 (Qt's own signature)
        """Return the number of rows."""
        return 0 if parent.isValid() else self.count()

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        """Return the number of columns."""
        return 0 if parent.isValid() else len(self.heads)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """Return a column's head."""
        if orientation == Qt.Orientation.Horizontal:
            if role == Qt.ItemDataRole.DisplayRole:
                return in_locale(self.heads[section])
            if role == Qt.ItemDataRole.TextAlignmentRole:
                return self.alignment(section)
        return None

    def alignment(self, column: int) -> Qt.AlignmentFlag:
        """Return how a column is set."""
        return FLUSH_RIGHT if column in self.right else FLUSH_LEFT


class RowsModel(HeadedModel):
    """Rows of cells, or of plain texts."""

    def __init__(self, heads: Sequence[str], right: set[int]) -> None:
        super().__init__(heads, right)
        self.cells: list[list[Cell]] = []

    @property
    def rows(self) -> list[list[str]]:
        """All rows as plain texts."""
        return [[cell.plain for cell in row] for row in self.cells]

    def set_rows(self, rows: Sequence[Sequence[Cell | str]]) -> None:
        """Show other rows; where only texts change the view keeps its place."""
        cells = [[one if isinstance(one, Cell) else Cell(one) for one in row] for row in rows]
        if cells == self.cells:
            return
        if len(cells) == len(self.cells):
            changed = [index for index, (old, new) in enumerate(zip(self.cells, cells, strict=True)) if old != new]
            self.cells = cells
            for index in changed:
                self.dataChanged.emit(self.index(index, 0), self.index(index, len(self.heads) - 1))
            return
        self.beginResetModel()
        self.cells = cells
        self.endResetModel()

    def set_heads(self, heads: Sequence[str]) -> None:
        """Show other columns, where they are others."""
        if list(heads) == self.heads:
            return
        self.beginResetModel()
        self.heads, self.cells = list(heads), []
        self.endResetModel()

    def count(self) -> int:
        """Return the number of rows."""
        return len(self.cells)

    def row(self, index: int) -> list[Cell]:
        """Return the cells of a row."""
        return self.cells[index]

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """Return a cell's text, its alignment, or the cell itself."""
        return cell_data(self, index, role)


def cell_data(model: HeadedModel, index: Index, role: int) -> object:
    """Return what a model of cells says of one cell: its text, its alignment, or the cell itself."""
    if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
        return in_locale(model.row(index.row())[index.column()].plain)
    if role == Qt.ItemDataRole.UserRole:
        return model.row(index.row())[index.column()]
    if role == Qt.ItemDataRole.TextAlignmentRole:
        return model.alignment(index.column())
    return None


class CellDelegate(QStyledItemDelegate):
    """Paints cells; the selected row has a bar of accent at its left edge."""

    def __init__(self, view: QTableView, model: HeadedModel, look: Look) -> None:
        super().__init__(view)
        self._model = model
        self._look = look

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        """Paint one cell. It is taken from the model itself: every call that goes round through the view costs."""
        column = index.column()
        cell = self._model.row(index.row())[column]
        p, area = self._look.palette, QRectF(option.rect)
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(area, QColor(p.surface))
            if column == 0:
                painter.fillRect(QRectF(area.left(), area.top(), 3.0, area.height()), QColor(p.accent))
        if cell == NOTHING:
            return
        painter.save()
        painter.setClipRect(area)
        line = area.bottom() - 6.0
        if cell.sign:
            draw_sign(painter, QPointF(area.left() + 10.0, area.center().y() + 0.5), cell.sign, p.ink, p.guard, p.ground)
            painter.restore()
            return
        body = font(BODY, bold=cell.bold or cell.mark, italic=cell.mark)
        width, after = self._widths(cell)
        right = column in self._model.right
        left = area.right() - PAD - width - after if right else area.left() + PAD
        if cell.chip:
            left += self._chip(painter, QPointF(left, area.top() + 4.0), cell.chip)
        text, room = cell.text, area.right() - PAD - left - after
        if not right and width > room:
            text = QFontMetricsF(body).elidedText(cell.text, Qt.TextElideMode.ElideRight, room)
        draw_text(painter, QPointF(left, line), text, body, p.soft if cell.soft else p.ink)
        if cell.aside:
            draw_text(painter, QPointF(left + width + 4.0, line), cell.aside, font(SMALL), p.soft)
        if cell.under:
            painter.setPen(QPen(QColor(getattr(p, cell.under)), 1.5))
            painter.drawLine(QPointF(left, line + 3.0), QPointF(left + width, line + 3.0))
        painter.restore()

    def helpEvent(self, event: QHelpEvent, view: QAbstractItemView, option: QStyleOptionViewItem, index: Index) -> bool:
        """Show the whole of a text that has no room, where its cell has no tooltip of its own."""
        if index.isValid() and index.data(Qt.ItemDataRole.ToolTipRole) is None:
            QToolTip.showText(event.globalPos(), plain(self.cut_text(index, view.visualRect(index))), view)
            return True
        return super().helpEvent(event, view, option, index)

    def cut_text(self, index: Index, area: QRect) -> str:
        """Return the whole text of a cell that has no room for it; empty where it has."""
        cell = self._model.row(index.row())[index.column()]
        return "" if cell.sign or sum(self._widths(cell)) + 2 * PAD <= area.width() else cell.plain

    def _chip(self, painter: QPainter, at: QPointF, stage: str) -> float:
        """Draw a stage's texture, 14 by 11 px; return how far it pushes the text."""
        p, box = self._look.palette, QRectF(round(at.x()), round(at.y()), 14.0, 11.0)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setBrushOrigin(box.topLeft())
        painter.fillRect(box, stage_brush(stage, p, painter.device().devicePixelRatioF()))
        painter.setPen(QColor(p.soft))
        painter.drawRect(box.adjusted(0, 0, -1, -1))
        return CHIP_PX

    @staticmethod
    def _widths(cell: Cell) -> tuple[float, float]:
        """Return how wide a cell's text is, and what follows it."""
        body = text_width(cell.text, BODY, cell.bold or cell.mark, cell.mark)
        return body, text_width(cell.aside, SMALL) + 4.0 if cell.aside else 0.0

    def width(self, cell: Cell) -> float:
        """Return how much room a cell wants."""
        if cell.sign or cell.spans:
            return 20.0
        body, aside = self._widths(cell)
        return body + aside + 2 * PAD + (CHIP_PX if cell.chip else 0.0)


def draw_sign(painter: QPainter, at: QPointF, sign: CellSign, ink: str, bad: str, ground: str) -> None:
    """Draw the mark of how a run stands, a dash for one that is left out; of what is folded, which way it opens."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    if sign == CellSign.FOLDED:
        painter.setPen(QPen(QColor(ink), 1.3))
        painter.drawPolyline([at + QPointF(x, y) for x, y in ((-2.0, -4.0), (2.0, 0.0), (-2.0, 4.0))])
        return
    if sign in (CellSign.SKIPPED, CellSign.LEFT_OUT, CellSign.GUARD):
        painter.setPen(QPen(QColor(bad if sign == CellSign.GUARD else ink), 1.6))
        painter.drawLine(at + QPointF(-3.2, 0.0), at + QPointF(3.2, 0.0))
        return
    if sign == CellSign.FAILED:
        painter.setPen(QPen(QColor(bad), 1.6))
        for way in (-1.0, 1.0):
            painter.drawLine(at + QPointF(-3.2, -3.2 * way), at + QPointF(3.2, 3.2 * way))
        return
    painter.setPen(QPen(QColor(ink), 1.3, Qt.PenStyle.DotLine if sign == CellSign.EXPECTED else Qt.PenStyle.SolidLine))
    painter.setBrush(QBrush(QColor(ink if sign == CellSign.DONE else ground)))
    painter.drawEllipse(at, 3.4, 3.4)
    if sign == CellSign.RUNNING:
        painter.setBrush(QColor(ink))
        painter.drawPie(QRectF(at.x() - 3.4, at.y() - 3.4, 6.8, 6.8), 90 * 16, 180 * 16)


def rows_view(
    name: str,
    model: HeadedModel,
    look: Look,
    *,
    stretch: int,
    rows: int | None = None,
    least: dict[int, int] | None = None,
    view: QTableView | None = None,
    fixed: dict[int, int] | None = None,
) -> QTableView:
    """Return a view of rows, read only, one row selected at a time; column ``stretch`` takes the width
    that is left; with ``rows`` the view is just that high; ``least`` are widths in px that columns keep
    for texts to come. ``fixed`` are those that do not grow. ``view`` is dressed
    where it is given."""
    view = view if view is not None else QTableView()
    view.setModel(model)
    view.setAccessibleName(name)
    view.setShowGrid(False)
    view.verticalHeader().hide()
    view.verticalHeader().setDefaultSectionSize(ROW_PX)
    view.verticalHeader().setMinimumSectionSize(ROW_PX)
    view.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    view.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
    view.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    view.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    view.setTabKeyNavigation(False)
    delegate = CellDelegate(view, model, look)
    view.setItemDelegate(delegate)
    head = view.horizontalHeader()
    head.setFixedHeight(22)
    head.setMinimumSectionSize(12)
    head.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
    head.setSectionResizeMode(stretch, QHeaderView.ResizeMode.Stretch)
    head.setHighlightSections(False)
    if rows is not None:
        view.setFixedHeight(ROW_PX * rows + 22)
        view.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    shown: dict[int, float] = {}

    def fit(first: int, end: int) -> None:
        """Let columns grow to what their first rows hold; they do not shrink, so that nothing jumps as texts change."""
        cells = [model.row(index) for index in range(first, min(end, first + FITTED))]
        for column in range(model.columnCount()):
            title = str(model.headerData(column, Qt.Orientation.Horizontal))
            wanted = max([text_width(title, SMALL) + 2 * PAD, float((least or {}).get(column, 0))])
            wanted = max([wanted, *(delegate.width(row[column]) for row in cells)])
            wanted = float((fixed or {}).get(column, wanted))
            if column != stretch and wanted > shown.get(column, 0.0):
                shown[column] = wanted
                view.setColumnWidth(column, int(wanted) + 1)

    model.modelReset.connect(lambda: fit(0, model.count()))
    model.dataChanged.connect(lambda first, last: fit(first.row(), last.row() + 1))
    look.changed.connect(view.viewport().update)
    fit(0, model.count())
    return view
