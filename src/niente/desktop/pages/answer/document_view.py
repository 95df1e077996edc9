"""An answer as a page shows it: its picture, and the table behind it."""

from PySide6.QtWidgets import QSizePolicy, QTableView, QVBoxLayout, QWidget

from niente.core.model.answer_document import AnswerDocument, Column, Table, TableRow
from niente.core.model.quantities import NO_BREAK_SPACE, number_text
from niente.desktop.actions.registry import Actions
from niente.desktop.pages.answer.picture import AnswerPicture
from niente.desktop.services.theme import Look
from niente.desktop.services.translation import tr
from niente.desktop.widgets.empty import Empty
from niente.desktop.widgets.labels import label, rule
from niente.desktop.widgets.table import Cell, RowsModel, rows_view

LEAST_ROWS, ROW_PX, HEAD_PX, NAME_PX = 3, 20, 24, 156


class DocumentView(QWidget):
    """The picture over the table; a book without an answer shows neither."""

    def __init__(self, look: Look, actions: Actions) -> None:
        super().__init__()
        self._look = look
        self.empty = Empty(actions, look, "")
        self.picture = AnswerPicture(look)
        self.head = label("", "section")
        self.rule = rule()
        self.model = RowsModel([""], set())
        self.table: QTableView | None = None
        self.body = QVBoxLayout(self)
        self.body.setContentsMargins(0, 0, 0, 0)
        self.body.setSpacing(8)
        self.body.addWidget(self.empty)
        self.body.addWidget(self.picture)
        self.body.addWidget(self.rule)
        self.body.addWidget(self.head)
        self.head.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.rest = QVBoxLayout()
        self.rest.addStretch(1)
        self.body.addLayout(self.rest, 1)
        self._shown: AnswerDocument | None = None

    def show_answer(self, answer: AnswerDocument | None, question: str) -> None:
        """Show the answer to a kind of question; where there is none yet, that it is so, and its picture in outline."""
        if answer == self._shown and answer is not None:
            return
        self._shown = answer
        picture = answer.picture if answer is not None else None
        table = answer.table if answer is not None else None
        self.picture.show_picture(picture, answer.sentence if answer is not None else "")
        nothing = picture is None and table is None
        self.picture.await_picture(question if nothing else "")
        self.picture.setVisible(picture is not None or nothing)
        words = tr("Start the plan, and the answer grows as runs end: its picture, the table behind it, and what it rests on.")
        self.empty.show_problem(words if nothing else "")
        for widget in (self.rule, self.head):
            widget.setVisible(table is not None)
        self._show_table(table)

    def _show_table(self, table: Table | None) -> None:
        """Show a table; one with other columns is made anew, as wide as its own figures."""
        columns = table.columns if table is not None else ()
        rows = table.rows if table is not None else ()
        kept = [index for index in range(len(columns)) if any(_told(row, index) for row in rows)]
        heads = ["", *(_head(columns[index]) for index in kept)]
        cells = [_cells(row, columns, kept) for row in rows]
        self.head.setText(tr(table.title) if table is not None else "")
        if table is None or self.table is None or heads != self.model.heads:
            self._make_table(heads, {place + 1 for place, index in enumerate(kept) if not _is_words(rows, index)})
        self.model.set_rows(cells)
        if self.table is not None:
            self.table.setVisible(table is not None)
            self.table.setMinimumHeight(HEAD_PX + ROW_PX * min(len(cells), LEAST_ROWS) + 4)
            self.table.setMaximumHeight(HEAD_PX + ROW_PX * len(cells) + 4)

    def _make_table(self, heads: list[str], right: set[int]) -> None:
        if self.table is not None:
            self.rest.removeWidget(self.table)
            self.table.deleteLater()
        self.model = RowsModel(heads, right)
        last = len(heads) - 1
        stretch = last if last and last not in right else 0  # words give way, and names do not
        self.table = rows_view(
            tr("The table behind the answer"), self.model, self._look, stretch=stretch, fixed={0: NAME_PX} if stretch else None
        )
        self.rest.insertWidget(0, self.table, 1000)


def _told(row: TableRow, index: int) -> bool:
    value = row.values[index]
    return bool(value.words) or value.known


def _is_words(rows: tuple[TableRow, ...], index: int) -> bool:
    return any(row.values[index].words and not row.values[index].known for row in rows)


def _head(column: Column) -> str:
    return f"{tr(column.title)}, {column.unit}" if column.unit else tr(column.title)


def _cells(row: TableRow, columns: tuple[Column, ...], kept: list[int]) -> list[Cell]:
    name = f"{row.title}, {row.unit}" if row.unit else row.title
    cells = [Cell(name, aside=row.detail, bold=row.leads)]
    for index in kept:
        value, digits = row.values[index], row.digits if row.unit else columns[index].digits
        if value.words or value.value is None:
            cells.append(Cell(value.words, soft=bool(value.words)))
            continue
        width = value.half_width if not columns[index].brief else None
        aside = f"±{NO_BREAK_SPACE}{number_text(width, digits)}" if width is not None else ""
        cells.append(Cell(number_text(value.value, digits), aside=aside, soft=value.forecast, bold=row.leads))
    return cells
