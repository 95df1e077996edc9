"""Kept points: settings under names, each with what it comes to now and against stock."""

from collections.abc import Sequence

from PySide6.QtCore import QItemSelectionModel, Signal
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from niente.core.answers.beside_choice import BesideChoice
from niente.core.model.kept_point import KeptPoint
from niente.core.model.quantities import NO_BREAK_SPACE, number_text
from niente.core.selection.explanation import short_candidate_text
from niente.core.selection.kept import Limit
from niente.core.selection.points import PointStand
from niente.desktop.actions.registry import Actions
from niente.desktop.services.theme import Look
from niente.desktop.services.translation import tr
from niente.desktop.widgets.labels import ActionButton, ShortLabel
from niente.desktop.widgets.table import Cell, RowsModel, rows_view

HEADS = ("Kept as", "Setting", "Throughput, %", "Noise, dBA", "Headroom, K", "Against stock")
ACTIONS = ("answer.keep", "answer.let_go", "answer.take_limits", "answer.card")
NONE_KEPT = "No point is kept yet. Keep the pick, or a setting clicked on in the picture, under a name: Show, Day, Night."


class PointsPanel(QWidget):
    """A table of kept points, and what can be done with them. ``selected`` comes when another row is the current one."""

    selected = Signal()

    def __init__(self, look: Look, actions: Actions) -> None:
        super().__init__()
        self._stands: tuple[PointStand, ...] = ()
        self._points: tuple[KeptPoint, ...] = ()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.model = RowsModel([tr(head) for head in HEADS], {2, 3, 4})
        self.table = rows_view(
            tr("Kept points, against stock"), self.model, look, stretch=5, rows=4,
            least={0: 60, 1: 150, 2: 92, 3: 78, 4: 78},
        )  # fmt: skip
        self.table.selectionModel().currentRowChanged.connect(lambda *_: self.selected.emit())
        self.none = ShortLabel("soft")
        self.none.setText(tr(NONE_KEPT))
        column.addWidget(self.table)
        column.addWidget(self.none)
        row = QHBoxLayout()
        row.setSpacing(12)
        for name in ACTIONS:
            row.addWidget(ActionButton(actions[name]))
        row.addStretch(1)
        column.addLayout(row)
        column.addStretch(1)

    @property
    def current(self) -> KeptPoint | None:
        """The point of the current row; ``None`` where there is none."""
        row = self.table.currentIndex().row()
        return self._points[row] if 0 <= row < len(self._points) else None

    def stand(self, point: KeptPoint) -> PointStand | None:
        """Return how a point stands, as far as that is known."""
        return next((one for one in self._stands if one.point == point), None)

    def refresh(self, points: tuple[KeptPoint, ...], beside: BesideChoice | None) -> None:
        """Show points as they are kept."""
        current = self.current
        self._points, self._stands = points, beside.points if beside is not None else ()
        self.model.set_rows([_row(point, self.stand(point)) for point in points])
        self.table.setVisible(bool(points))
        self.none.setVisible(not points)
        names = [one.name for one in points]
        if current is not None and current.name in names and self.current != current:
            at = self.model.index(names.index(current.name), 0)
            self.table.selectionModel().setCurrentIndex(
                at, QItemSelectionModel.SelectionFlag.ClearAndSelect | QItemSelectionModel.SelectionFlag.Rows
            )


def _row(point: KeptPoint, stand: PointStand | None) -> Sequence[Cell | str]:
    at = stand.at if stand is not None else None
    if at is None:
        words = stand.words if stand is not None else tr("being worked out")
        return [Cell(point.name, bold=True), Cell(point.setting.text(), soft=True), *[Cell("–")] * 3, Cell(words, soft=True)]

    def figure(value: float, half_width: float, limit: Limit | None = None) -> Cell:
        under = "guard" if limit is not None and limit in at.breaks else ""
        return Cell(number_text(value, 1), f"±{NO_BREAK_SPACE}{number_text(half_width, 1)}", under=under)

    return [
        Cell(point.name, bold=True),
        Cell(short_candidate_text(at)),
        figure(at.throughput_percent, at.throughput_hw, Limit.THROUGHPUT),
        figure(at.in_room_dba, at.in_room_hw, Limit.NOISE),
        figure(at.headroom_k, at.core_hw, Limit.HEADROOM),
        Cell(stand.words if stand is not None else "", soft=True),
    ]
