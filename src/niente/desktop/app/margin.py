"""The margin: where words live, so that the page itself stays quiet."""

from difflib import SequenceMatcher

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QScrollArea, QStackedWidget, QVBoxLayout, QWidget

from niente.desktop.actions.registry import Actions
from niente.desktop.services.theme import Look
from niente.desktop.services.translation import tr
from niente.desktop.widgets.blocks import Block, Buttons, Columns, Far, LimiterLegend, Reading, Readings, Title, Words
from niente.desktop.widgets.guard_bars import GuardBars
from niente.desktop.widgets.labels import ActionButton, NarrowLabel, label, rule
from niente.desktop.widgets.limiter_legend import LimiterKeys

WIDTH, MAX_WIDTH, SHARE, SIDES_PX = 288, 380, 0.19, 44
"""The margin is as wide as a share of its window, and no narrower or wider than lines read well."""


def _selectable(text: QLabel) -> QLabel:
    text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
    text.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    return text


def _say(where: QLabel, text: str) -> None:
    if where.text() != text:
        where.setText(text)


class _Shown(QWidget):
    """One block as a widget. ``put`` shows another block of the same ``shape``."""

    def __init__(self, block: Block, look: Look, actions: Actions) -> None:
        super().__init__()
        self._rows = QVBoxLayout(self)
        self._rows.setContentsMargins(0, 0, 0, 0)
        self._rows.setSpacing(2)
        self.shape = _shape(block)
        self._texts: list[QLabel] = []
        self._bars: GuardBars | None = None
        self._grid: QGridLayout | None = None
        self._lines: list[list[QLabel]] = []
        """The rows of readings, as many as were ever needed; those that are not are hidden."""
        match block:
            case Title():
                self._rows.addWidget(self._text("lead"))
                self._rows.addWidget(self._text("title", wrap=True))
                self._rows.addSpacing(6)
                self._rows.addWidget(rule())
            case Words():
                self._rows.addWidget(self._text("section", wrap=True))
                self._rows.addWidget(self._text("", wrap=True))
            case Readings():
                self._head()
                self._grid = QGridLayout()
                self._grid.setContentsMargins(0, 2, 0, 0)
                self._grid.setHorizontalSpacing(5)
                self._grid.setVerticalSpacing(2)
                self._grid.setColumnStretch(0, 1)
                self._rows.addLayout(self._grid)
            case Columns():
                self._columns(block)
            case Far():
                self._head()
                self._bars = GuardBars(look)
                self._rows.addWidget(self._bars)
            case LimiterLegend():
                self._rows.addWidget(self._text("section"))
                self._rows.addWidget(LimiterKeys(look))
            case Buttons(names):
                buttons = [ActionButton(actions[name], short=True) for name in names]
                beside = sum(button.sizeHint().width() + 6 for button in buttons) < WIDTH - SIDES_PX
                row = QHBoxLayout() if beside else QVBoxLayout()
                for button in buttons:
                    row.addWidget(button)
                self._rows.addLayout(row)
        self.put(block)

    def _text(self, role: str, *, wrap: bool = False, narrow: bool = False) -> QLabel:
        made = _selectable(NarrowLabel(role) if narrow else label("", role, wrap=wrap))
        self._texts.append(made)
        return made

    def _head(self) -> None:
        head = QHBoxLayout()
        head.addWidget(self._text("section", narrow=True))
        head.addStretch(1)
        head.addWidget(self._text("soft", narrow=True))
        self._rows.addLayout(head)
        self._rows.addWidget(rule())

    def _put_lines(self, grid: QGridLayout, lines: tuple[Reading, ...]) -> None:
        """Show lines of figures. How many there are changes while a run goes on, and new widgets are slow to make."""
        while len(self._lines) < len(lines):
            cells = [_selectable(one) for one in (NarrowLabel(), *(label("", role) for role in ("", "soft", "soft", "mark")))]
            for column, cell in enumerate(cells):
                side = Qt.AlignmentFlag.AlignLeft if column in (0, 3, 4) else Qt.AlignmentFlag.AlignRight
                grid.addWidget(cell, len(self._lines), column, side | Qt.AlignmentFlag.AlignBottom)
            self._lines.append(cells)
        for cells, line in zip(self._lines, lines, strict=False):
            texts = (line.name + (" •" if line.dot else ""), line.value, line.interval, line.unit, line.mark)
            for cell, text in zip(cells, texts, strict=True):
                _say(cell, text)
                cell.setVisible(True)
        for cells in self._lines[len(lines) :]:
            for cell in cells:
                cell.setVisible(False)

    def _columns(self, block: Columns) -> None:
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(2)
        grid.setColumnStretch(0, 1)
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignBottom
        grid.addWidget(self._text("section", narrow=True), 0, 0)
        for column in range(len(block.heads)):
            grid.addWidget(self._text("soft", narrow=True), 0, column + 1, right)
        grid.addWidget(rule(), 1, 0, 1, len(block.heads) + 1)
        for row, cells in enumerate(block.rows, 2):
            for column in range(len(cells)):
                side = right if column else Qt.AlignmentFlag.AlignLeft
                grid.addWidget(self._text("", narrow=column == 0), row, column, side)
        self._rows.addLayout(grid)

    def put(self, block: Block) -> None:
        """Show another block of the same shape in place of this one."""
        for text, shown in zip(_contents(block), self._texts, strict=True):
            _say(shown, text)
        if isinstance(block, Readings) and self._grid is not None:
            self._put_lines(self._grid, block.lines)
        if isinstance(block, Far) and self._bars is not None:
            self._bars.show_guards(block.guards)


def _shape(block: Block) -> tuple[object, ...]:
    match block:
        case Columns(_, heads, rows):
            return (Columns, len(heads), len(rows))
        case Far(_, _, guards):
            return (Far, len(guards))
        case Buttons(names):
            return (Buttons, names)
        case _:
            return (type(block),)


def _contents(block: Block) -> list[str]:
    match block:
        case Title(lead, text) | Words(lead, text):
            return [lead, text]
        case Columns(heading, heads, rows):
            return [heading, *heads, *(text for row in rows for text in row)]
        case Far(heading, aside, _) | Readings(heading, _, aside):
            return [heading, aside]
        case LimiterLegend(heading):
            return [heading]
        case _:
            return []


def _kept(before: list[tuple[object, ...]], now: list[tuple[object, ...]]) -> dict[int, int]:
    """Return which block of before stays, by its place now. A block that moves up or down keeps its widgets, and the focus."""
    runs = SequenceMatcher(None, before, now, autojunk=False).get_matching_blocks()
    return {run.b + step: run.a + step for run in runs for step in range(run.size)}


class _Column(QScrollArea):
    """The blocks of one page, one below the other; only what changed is touched."""

    def __init__(self, look: Look, actions: Actions) -> None:
        super().__init__()
        self._look = look
        self._actions = actions
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName(tr("Margin: explanations"))
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        inside = QWidget()
        self._rows = QVBoxLayout(inside)
        self._rows.setContentsMargins(20, 10, 24, 8)
        self._rows.setSpacing(10)
        self._rows.addStretch(1)
        self.blocks: list[Block] = []
        self._shown: list[_Shown] = []
        self.setWidget(inside)

    def show_blocks(self, blocks: list[Block]) -> bool:
        """Show what a page says; return whether there are other widgets now."""
        if blocks == self.blocks:
            return False
        self.blocks = list(blocks)
        before = self._shown
        kept = _kept([one.shape for one in before], [_shape(block) for block in blocks])
        for index, old in enumerate(before):
            if index not in kept.values():
                self._take_away(old)
        self._shown = []
        for index, block in enumerate(blocks):
            if index in kept:
                shown = before[kept[index]]
                shown.put(block)
            else:
                shown = _Shown(block, self._look, self._actions)
                self._rows.insertWidget(index, shown)
            self._shown.append(shown)
        return self._shown != before

    def _take_away(self, old: QWidget) -> None:
        self._rows.removeWidget(old)
        old.hide()
        old.deleteLater()


class Margin(QStackedWidget):
    """A column for every page, kept as it was when another page shows. ``rebuilt`` comes when there are other widgets."""

    rebuilt = Signal()

    def __init__(self, look: Look, actions: Actions) -> None:
        super().__init__()
        self._look = look
        self._actions = actions
        self._columns: dict[str, _Column] = {}
        self.setFixedWidth(WIDTH)

    def fit_to(self, window_px: int) -> None:
        """Take the width that a window of so many px gives it."""
        self.setFixedWidth(min(max(WIDTH, round(SHARE * window_px)), MAX_WIDTH))

    def show_blocks(self, page: str, blocks: list[Block]) -> None:
        """Show what a page says."""
        if page not in self._columns:
            self._columns[page] = _Column(self._look, self._actions)
            self.addWidget(self._columns[page])
        column = self._columns[page]
        other = column.show_blocks(blocks)
        if self.currentWidget() is not column:
            self.setCurrentWidget(column)
            other = True
        if other:
            self.rebuilt.emit()

    def blocks(self) -> list[Block]:
        """Return what is shown."""
        shown = self.currentWidget()
        return shown.blocks if isinstance(shown, _Column) else []
