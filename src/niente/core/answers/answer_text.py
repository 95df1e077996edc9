"""An answer as plain text: the words that the window shows, in the order in which it shows them."""

from niente.core.answers.wording import amount
from niente.core.model.answer_document import AnswerDocument, Column, Table, TableRow
from niente.core.model.quantities import NO_BREAK_SPACE, number_text

GAP = "  "


def answer_as_text(answer: AnswerDocument) -> str:
    """Return the whole answer for a terminal."""
    tag = f"  [{answer.tag}]" if answer.tag else ""
    lines = [answer.lead, f"{answer.sentence}{tag}."]
    lines += [answer.consequence] if answer.consequence else []
    if answer.table is not None:
        lines += ["", *table_lines(answer.table)]
    lines += ["", "What it rests on", *(f"{GAP}{one.title}: {one.value} {one.unit}".rstrip() for one in answer.basis)]
    for remark in answer.remarks:
        lines += ["", remark.head, f"{GAP}{remark.words}"]
    if answer.surer is not None:
        lines += ["", "To be surer", f"{GAP}{answer.surer.words}"]
    lines += ["", *(f"Caution. {words}" for words in answer.cautions)]
    return "\n".join(lines).rstrip()


def table_lines(table: Table) -> list[str]:
    """Return a table in columns, numbers with their intervals, what does not fit on a line below no other."""
    heads = ["", *(_head(column) for column in table.columns)]
    rows = [[_name(row), *(_cell(row, index, column) for index, column in enumerate(table.columns))] for row in table.rows]
    kept = [index for index in range(len(heads)) if index == 0 or any(row[index] for row in rows)]
    widths = [max(len(one[index]) for one in (heads, *rows)) for index in kept]

    def line(cells: list[str]) -> str:
        first, *rest = (cells[index] for index in kept)
        told = (cell.rjust(width) for cell, width in zip(rest, widths[1:], strict=True))
        return GAP.join(["", first.ljust(widths[0]), *told]).rstrip()

    return [table.title, line(heads), *(line(row) for row in rows)]


def _head(column: Column) -> str:
    return f"{column.title}, {column.unit}" if column.unit else column.title


def _name(row: TableRow) -> str:
    name = f"{row.title}, {row.unit}" if row.unit else row.title
    return f"{name} ({row.detail})" if row.detail else name


def _cell(row: TableRow, index: int, column: Column) -> str:
    value = row.values[index]
    if value.words:
        return value.words
    if value.value is None:
        return ""
    digits = row.digits if row.unit else column.digits
    if value.half_width is None:
        return number_text(value.value, digits)
    return amount(value, digits, "").replace(NO_BREAK_SPACE, " ")
