"""The run list: every run of the plan in its order, folded by stage where many are alike, moved by mouse and keys."""

import math
from collections.abc import Callable, Sequence

import msgspec
from PySide6.QtCore import QByteArray, QMimeData, QModelIndex, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent
from PySide6.QtWidgets import QAbstractItemView, QTableView

from niente.core.analysis.evidence import RunSummary
from niente.core.model.names import kind_of
from niente.core.model.plan import NEAR_PICK
from niente.core.model.quantities import number_text, quantity_of
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.planning.columns import MAX_COLUMNS
from niente.core.planning.forecast import StepForecast
from niente.core.planning.progress import Row, RunStatus
from niente.core.science.dynamics import Scale
from niente.desktop.pages.plan.set_columns import FANS, set_head, set_words, with_fans_together
from niente.desktop.services.plain_text import plain
from niente.desktop.services.translation import tr
from niente.desktop.widgets.table import Cell, CellSign, HeadedModel, Index, cell_data

SIGN, RUN, STAGE, SET = 0, 1, 2, 3
LOAD, CORE, NOISE, MARK, MINUTES, WHY = (SET + MAX_COLUMNS + run_index for run_index in range(6))
SET_COLUMNS = MAX_COLUMNS
FOLDS_FROM = 5
"""So many runs of the noise stage in a row are folded into one line at first."""
CARRIED = Qt.ItemFlag.ItemIsSelectable | Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsDragEnabled
RUNS = "application/x-niente-runs"
MIN_SHOWN = 0.05
"""An interval narrower than a column can say is not said."""


class Fold(msgspec.Struct, frozen=True):
    """Runs of one stage in a row, shown as one line: from ``first`` up to and without ``end``."""

    first: int
    end: int


class Reason(msgspec.Struct, frozen=True):
    """A line below a run that says why it is made, where it follows from what was measured."""

    run_index: int


class ShownRun(msgspec.Struct, frozen=True):
    """What the list is drawn from: runs, how long each takes, the controls that have a column, what is foreseen.
    ``running`` is the index of the run under way."""

    card: RigCard
    rows: tuple[Row, ...]
    seconds: tuple[float, ...]
    columns: tuple[str, ...]
    seen: Callable[[Row], StepForecast]
    scale: Scale
    running: int | None = None


class RunList(HeadedModel):
    """Rows of runs, worked out as they are looked at. ``moved`` tells from which index to after which a run was dragged
    (-1: to the top)."""

    moved = Signal(int, int)

    def __init__(self) -> None:
        heads = ["", "Run", "Stage", *[""] * SET_COLUMNS, "Load", "Core, °C", "dBA", "", "Min", "Why"]
        super().__init__([tr(head) if head else "" for head in heads], {RUN, CORE, NOISE, MINUTES, *range(SET, LOAD)})
        self.shown: ShownRun | None = None
        self.columns: tuple[str, ...] = ()
        """The controls that have a column."""
        self.told: tuple[str, ...] = ()
        """The controls that tell the runs apart, each by itself."""
        self._items: list[int | Fold | Reason] = []
        self._open: set[str] = set()
        self._cells: dict[int, list[Cell]] = {}

    # -- what is shown -------------------------------------------------------------------------------------------

    def show(self, shown: ShownRun) -> None:
        """Show other runs; where as many stay as there were, the view keeps its place."""
        before = (len(self._items), self.reasons(), self.columns)
        self.shown = shown
        self.told = shown.columns
        self.columns = with_fans_together(shown.columns)
        items = self._folded(shown.rows)
        if (len(items), _reasons_in(items), self.columns) == before:
            self._items = items
            made, self._cells = self._cells, {}
            for item, cells in made.items():  # what was never made was never drawn
                if self.row(item) != cells:
                    self.dataChanged.emit(self.index(item, 0), self.index(item, len(self.heads) - 1))
            return
        self.beginResetModel()
        self._items = items
        for run_index in range(SET_COLUMNS):
            self.heads[SET + run_index] = set_head(self.columns, run_index) if run_index < len(self.columns) else ""
        self._cells.clear()
        self.endResetModel()

    def toggle(self, item: int) -> bool:
        """Fold or unfold the stage at a line; return whether there is anything to fold."""
        run_index = self.index_of(item)
        if self.shown is None or run_index is None:
            return False
        run = self._run_at(run_index)
        if run.end - run.first < FOLDS_FROM:
            return False
        key = self._key(run.first)
        self._open ^= {key}
        self.beginResetModel()
        self._items = self._folded(self.shown.rows)
        self._cells.clear()
        self.endResetModel()
        return True

    def index_of(self, item: int) -> int | None:
        """Return the run at a line; of a fold its first."""
        if not 0 <= item < len(self._items):
            return None
        one = self._items[item]
        return one.first if isinstance(one, Fold) else one.run_index if isinstance(one, Reason) else one

    def item_of(self, run_index: int) -> int:
        """Return the line that a run stands in, or is folded into."""
        for item, one in enumerate(self._items):
            if one == run_index or (isinstance(one, Fold) and one.first <= run_index < one.end):
                return item
        return -1

    @property
    def rows(self) -> list[list[str]]:
        """All lines as plain texts."""
        return [[cell.plain for cell in self.row(item)] for item in range(self.count())]

    def count(self) -> int:
        """Return the number of lines."""
        return len(self._items)

    def row(self, run_index: int) -> list[Cell]:
        """Return the cells of a line."""
        found = self._cells.get(run_index)
        if found is None:
            one = self._items[run_index]
            match one:
                case Fold():
                    found = self._sum_row(one)
                case Reason():
                    found = self._reason_row(one.run_index)
                case _:
                    found = self._run_row(one)
            self._cells[run_index] = found
        return found

    def reasons(self) -> list[int]:
        """Return the lines that say why the run above is made."""
        return _reasons_in(self._items)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """Return a cell's text, its alignment, the cell itself, or what a mark means."""
        if role == Qt.ItemDataRole.ToolTipRole and index.column() in (SIGN, WHY):
            run_index = self.index_of(index.row())
            return plain(self._tip(run_index)) if run_index is not None else None
        return cell_data(self, index, role)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """Return a column's head; where fan groups share one, in which order they stand there."""
        at = section - SET
        if role == Qt.ItemDataRole.ToolTipRole and self.shown is not None and 0 <= at < len(self.columns):
            return " · ".join(self.shown.card.fan_groups()) if self.columns[at] == FANS else None
        return super().headerData(section, orientation, role)

    # -- dragging ------------------------------------------------------------------------------------------------

    def flags(self, index: Index) -> Qt.ItemFlag:
        """Let runs be picked up, and put down between others."""
        if index.isValid() and isinstance(self._items[index.row()], Reason):
            return Qt.ItemFlag.NoItemFlags
        return CARRIED if index.isValid() else Qt.ItemFlag.ItemIsDropEnabled

    def supportedDropActions(self) -> Qt.DropAction:
        """Runs are moved, never copied."""
        return Qt.DropAction.MoveAction

    def mimeTypes(self) -> list[str]:
        """Return what is carried."""
        return [RUNS]

    def mimeData(self, indexes: Sequence[QModelIndex]) -> QMimeData:
        """Carry the line that was picked up."""
        data = QMimeData()
        data.setData(RUNS, QByteArray(f"{indexes[0].row()}".encode()))
        return data

    def dropMimeData(self, data: QMimeData, action: Qt.DropAction, row: int, column: int, parent: Index) -> bool:
        """Tell where a run was put down. The list itself follows from the plan."""
        if not data.hasFormat(RUNS):
            return False
        source = self.index_of(int(bytes(data.data(RUNS).data()).decode()))
        target = row if row >= 0 else (parent.row() if parent.isValid() else self.count())
        if source is None:
            return False
        before = self._items[target - 1] if 0 < target <= self.count() else None
        above = self.index_of(target - 1)
        after = before.end - 1 if isinstance(before, Fold) else -1 if above is None else above
        if after != source:
            self.moved.emit(source, after)
        return False  # nothing is taken out here: the plan is made anew

    # -- inside --------------------------------------------------------------------------------------------------

    def _folded(self, rows: tuple[Row, ...]) -> list[int | Fold | Reason]:
        items: list[int | Fold | Reason] = []
        run_index = 0
        while run_index < len(rows):
            end = run_index + 1
            while end < len(rows) and rows[end].step.stage == rows[run_index].step.stage:
                end += 1
            wants = rows[run_index].step.stage == "noise"
            wants = wants and end - run_index < len(rows)
            if end - run_index >= FOLDS_FROM and wants != (self._key(run_index, rows) in self._open):
                items.append(Fold(run_index, end))
            else:
                for one in range(run_index, end):
                    items += [one, Reason(one)] if _told_below(rows[one]) else [one]
            run_index = end
        return items

    def _key(self, first: int, rows: tuple[Row, ...] | None = None) -> str:
        among = rows if rows is not None else self.shown.rows if self.shown is not None else ()
        return f"{among[first].step.stage} {sum(row.step.stage == among[first].step.stage for row in among[:first])}"

    def _run_at(self, run_index: int) -> Fold:
        """Return the runs of the same stage round a run."""
        rows = self.shown.rows if self.shown is not None else ()
        first = end = run_index
        while first > 0 and rows[first - 1].step.stage == rows[run_index].step.stage:
            first -= 1
        while end < len(rows) and rows[end].step.stage == rows[run_index].step.stage:
            end += 1
        return Fold(first, end)

    def _tip(self, run_index: int) -> str:
        assert self.shown is not None
        row = self.shown.rows[run_index]
        return ". ".join(part for part in (tr(row.status.value).capitalize(), row.step.reason, row.reason, row.waits) if part)

    def _run_row(self, run_index: int) -> list[Cell]:
        assert self.shown is not None
        shown, row = self.shown, self.shown.rows[run_index]
        step, quiet = row.step, row.status.closed
        whole = step.setting.over(shown.card.stock)
        core, noise, level = figures(row.run, shown.seen(row))
        running = run_index == shown.running
        first = run_index == 0 or shown.rows[run_index - 1].step.stage != step.stage
        away = row.status in (RunStatus.SKIPPED, RunStatus.LEFT_OUT)
        sets = [
            Cell("?", soft=True) if _open(row, control) else Cell(set_words(shown.card, step, whole, control), soft=away)
            for control in self.columns
        ]
        return [
            Cell(sign=CellSign.RUNNING if running else CellSign(row.status.value)),
            Cell(f"{run_index + 1}", soft=away, bold=running),
            Cell(tr(step.stage) if first else "", soft=True, chip=step.stage),
            *sets,
            *[Cell()] * (SET_COLUMNS - len(sets)),
            Cell(step.load, soft=True),
            core,
            noise,
            Cell(shown.scale.mark(level), mark=True, soft=not quiet),
            Cell("" if away and row.run is None else f"{shown.seconds[run_index] / 60.0:.0f}", soft=away),
            Cell("" if _told_below(row) else row.reason or step.reason, soft=not running),
        ]

    def _reason_row(self, run_index: int) -> list[Cell]:
        assert self.shown is not None
        cells = [Cell()] * len(self.heads)
        cells[STAGE] = Cell(self.shown.rows[run_index].step.reason, soft=True, spans=True)
        return cells

    def _sum_row(self, fold: Fold) -> list[Cell]:
        """Return one line for many runs: ranges in small type, the time summed up."""
        assert self.shown is not None
        shown = self.shown
        rows = shown.rows[fold.first : fold.end]
        done = sum(row.status.closed for row in rows)
        sets = []
        for control in self.columns:
            each = [f"{FANS}.{group}" for group in shown.card.fan_groups()] if control == FANS else [control]
            whole = [row.step.setting.over(shown.card.stock) for row in rows]
            values = [value for setting in whole for name in each if (value := setting.value(name)) is not None]
            sets.append(Cell(aside=_range(values, quantity_of(control).digits)))
        cores = [c for row in rows if math.isfinite(c := _core(row.run, shown.seen(row)))]
        levels = [level for row in rows if math.isfinite(level := figures(row.run, shown.seen(row))[2])]
        stage = rows[0].step.stage
        words = tr("{n} runs, all done") if done == len(rows) else tr("{n} runs, {done} done")
        minutes = sum(shown.seconds[fold.first : fold.end]) / 60.0
        return [
            Cell(sign=CellSign.FOLDED),
            Cell(f"{fold.first + 1}–{fold.end}"),
            Cell(tr(stage), soft=True, chip=stage),
            *sets,
            *[Cell()] * (SET_COLUMNS - len(sets)),
            Cell(rows[0].step.load, soft=True),
            Cell(aside=_range(cores, 0)),
            Cell(aside=_range(levels, 0)),
            Cell(),
            Cell(f"{minutes:.0f}"),
            Cell(words.format(n=len(rows), done=done), soft=True),
        ]


def _reasons_in(items: Sequence[int | Fold | Reason]) -> list[int]:
    return [item for item, one in enumerate(items) if isinstance(one, Reason)]


def _told_below(row: Row) -> bool:
    """Return whether why a run is made wants a line of its own: where it follows from what was measured, and is known."""
    return row.step.stage == NEAR_PICK and row.status != RunStatus.EXPECTED and not row.reason


def _open(row: Row, control: str) -> bool:
    """Return whether a run's value is still to be found by a search."""
    offsets = ("voltage_offset_mv", "core_offset_mv", "point_offset_mv", "fixed_voltage_v")
    return bool(row.step.takes and row.waits) and kind_of(control) in offsets


def _range(values: Sequence[float], digits: int) -> str:
    if not values:
        return ""
    low, high = number_text(min(values), digits), number_text(max(values), digits)
    return low if low == high else f"{low}…{high}"


def _core(run: RunSummary | None, seen: StepForecast) -> float:
    return run.settled.value_c if run is not None and run.settled.known else seen.core_c


def _interval(half_width: float) -> str:
    return f"±{number_text(half_width, 1)}" if half_width >= MIN_SHOWN else ""


def _failure(run: RunSummary) -> str:
    """Return what went wrong in a run, in two words."""
    if run.load_kind == LoadKind.REAL_TIME:
        return tr("went down") if run.crashed else tr("drop-out")
    return tr("{n} wrong").format(n=run.failures)


def figures(run: RunSummary | None, seen: StepForecast) -> tuple[Cell, Cell, float]:
    """Return temperature and noise of a run as cells, and the level: measured in ink, foreseen soft."""
    core, noise, level = Cell(), Cell(), math.nan
    if run is not None and run.settled.known:
        under = "cap_line" if run.heat_limited else ""
        core = Cell(number_text(run.settled.value_c, 1), f"±{number_text(run.settled.half_width_k, 1)}", under=under)
    elif run is not None and run.failures:
        core = Cell(_failure(run), under="guard")
    elif math.isfinite(seen.core_c):
        core = Cell(number_text(seen.core_c, 1), f"±{number_text(seen.core_hw, 1)}", soft=True)
    if run is not None and math.isfinite(run.noise_dba):
        level = run.noise_dba
        noise = Cell(number_text(level, 1), _interval(run.noise_hw_db))
    elif math.isfinite(seen.noise_dba):
        level = seen.noise_dba
        noise = Cell(number_text(level, 1), _interval(seen.noise_hw), soft=True)
    return core, noise, level


class RunListView(QTableView):
    """A view of the list. A stage folds and unfolds by a click on its mark, by Enter and by the arrow keys; runs are picked
    up and put down between others."""

    def __init__(self, model: RunList) -> None:
        super().__init__()
        self._list = model
        self.setDragDropMode(QAbstractItemView.DragDropMode.InternalMove)
        self.setDragDropOverwriteMode(False)
        self.setDropIndicatorShown(True)
        self.setDefaultDropAction(Qt.DropAction.MoveAction)
        model.modelReset.connect(self._span)

    def _span(self) -> None:
        """Let reasons have the room of all columns."""
        self.clearSpans()
        for item in self._list.reasons():
            self.setSpan(item, STAGE, 1, len(self._list.heads) - STAGE)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Unfold by a click on a fold's mark."""
        at = self.indexAt(event.position().toPoint())
        fold = at.isValid() and at.column() == SIGN and self._list.row(at.row())[SIGN].sign == CellSign.FOLDED
        if fold and event.button() == Qt.MouseButton.LeftButton:
            self._list.toggle(at.row())
            return
        super().mousePressEvent(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Unfold by Enter or the right arrow, fold by the left one."""
        item = self.currentIndex().row()
        folded = 0 <= item < self._list.count() and self._list.row(item)[SIGN].sign == CellSign.FOLDED
        keys = (Qt.Key.Key_Right, Qt.Key.Key_Return, Qt.Key.Key_Enter) if folded else (Qt.Key.Key_Left,)
        if event.key() in keys and not event.modifiers():
            run_index = self._list.index_of(item)
            if run_index is not None and self._list.toggle(item):
                self.selectRow(self._list.item_of(run_index))
                return
        super().keyPressEvent(event)
