"""A plain table of texts, for lists that are read row by row."""

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableView

ROW_PX = 19
Index = QModelIndex | QPersistentModelIndex


class RowsModel(QAbstractTableModel):
    """Rows of texts under column heads; columns named in ``right`` are set flush right, as figures are."""

    def __init__(self, heads: list[str], right: set[int]) -> None:
        super().__init__()
        self._heads = heads
        self._right = right
        self.rows: list[list[str]] = []

    def set_rows(self, rows: list[list[str]]) -> None:
        """Show other rows; where only texts change the view keeps its place."""
        if rows == self.rows:
            return
        if len(rows) == len(self.rows):
            changed = [place for place, (old, new) in enumerate(zip(self.rows, rows, strict=True)) if old != new]
            self.rows = rows
            for place in changed:
                self.dataChanged.emit(self.index(place, 0), self.index(place, len(self._heads) - 1))
            return
        self.beginResetModel()
        self.rows = rows
        self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008 (Qt's own signature)
        """Return the number of rows."""
        return 0 if parent.isValid() else len(self.rows)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        """Return the number of columns."""
        return 0 if parent.isValid() else len(self._heads)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """Return a cell's text or its alignment."""
        if role == Qt.ItemDataRole.DisplayRole:
            return self.rows[index.row()][index.column()]
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return self._alignment(index.column())
        return None

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """Return a column's head."""
        if orientation == Qt.Orientation.Horizontal:
            if role == Qt.ItemDataRole.DisplayRole:
                return self._heads[section]
            if role == Qt.ItemDataRole.TextAlignmentRole:
                return self._alignment(section)
        return None

    def _alignment(self, column: int) -> Qt.AlignmentFlag:
        side = Qt.AlignmentFlag.AlignRight if column in self._right else Qt.AlignmentFlag.AlignLeft
        return side | Qt.AlignmentFlag.AlignVCenter


def rows_view(
    name: str, model: RowsModel, *, stretch: int, rows: int | None = None, least: dict[int, int] | None = None
) -> QTableView:
    """Return a view of rows, read only, one row selected at a time; column ``stretch`` takes the width
    that is left; with ``rows`` the view is just that high; ``least`` are widths in px that columns keep
    for texts to come."""
    view = QTableView()
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
    if rows is not None:
        view.setFixedHeight(ROW_PX * rows + 32)
        view.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    head = view.horizontalHeader()
    head.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
    head.setSectionResizeMode(stretch, QHeaderView.ResizeMode.Stretch)
    head.setHighlightSections(False)

    def fit() -> None:
        """Fit the columns once for new rows, and not at every change of a text."""
        view.resizeColumnsToContents()
        for column, width in (least or {}).items():
            view.setColumnWidth(column, max(width, view.columnWidth(column)))

    model.modelReset.connect(fit)
    return view
