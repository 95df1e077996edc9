"""What is rehearsed: the day, the room, and what it is compared with."""

from collections.abc import Sequence

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QWidget

from niente.core.fans.day import STANDARD_DAYS
from niente.core.model.quantities import quantity_of
from niente.desktop.services.translation import tr
from niente.desktop.widgets import form
from niente.desktop.widgets.labels import ShortLabel, label
from niente.desktop.widgets.quantity_field import QuantityField

BEFORE, FOUND, FIXED = range(3)
COMPARED = ("the last curves", "as found", "fixed duties")
COLDEST_ROOM_C, HOTTEST_ROOM_C, ROOM_PX = 5.0, 45.0, 80


class DayRow(QWidget):
    """``changed`` comes with another day or room, ``beside_changed`` with something else to compare with."""

    changed = Signal()
    beside_changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._runs: tuple[tuple[int, str], ...] = ()
        self._names = [day.name for day in STANDARD_DAYS]
        self.day = form.choice(tr("The day that is rehearsed"), [tr(name) for name in self._names], self._day_chosen)
        self.room = QuantityField(
            quantity_of("room_temperature_c"), low=COLDEST_ROOM_C, high=HOTTEST_ROOM_C, step=1.0, title=tr("Room")
        )
        self.room.setFixedWidth(ROOM_PX)
        self.room.settled.connect(lambda _: self.changed.emit())
        beside = [tr(one) for one in COMPARED]
        self.compared = form.choice(tr("What it is compared with"), beside, lambda _: self.beside_changed.emit())
        self.compared.setCurrentIndex(FIXED)
        self.stands = ShortLabel("soft")
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(8)
        row.addWidget(label(tr("Rehearsal"), "section"))
        fields: tuple[tuple[str, QWidget], ...] = (
            (tr("Day"), self.day), (tr("Room"), self.room), (tr("beside"), self.compared)
        )  # fmt: skip
        for words, field in fields:
            row.addWidget(label(words, "soft"))
            row.addWidget(field)
        row.addSpacing(8)
        row.addWidget(self.stands, 1)
        self._day_told()

    def show_runs(self, runs: Sequence[tuple[int, str]]) -> None:
        """Offer runs that were made on these curves, by number and in words, behind the standard days."""
        if tuple(runs) == self._runs:
            return
        current = self.run_id
        self._runs = tuple(runs)
        while self.day.count() > len(self._names):
            self.day.removeItem(self.day.count() - 1)
        self.day.addItems([words for _, words in runs])
        numbers = [number for number, _ in runs]
        if current is not None:
            self.day.setCurrentIndex(len(self._names) + numbers.index(current) if current in numbers else 0)

    def offer(self, *, before: bool, found: bool) -> None:
        """Let only that be compared with which there is: curves before the last change, and curves that the machine had."""
        for index, there in ((BEFORE, before), (FOUND, found)):
            self.compared.model().item(index).setEnabled(there)  # type: ignore[attr-defined]
            if not there and self.compared.currentIndex() == index:
                self.compared.setCurrentIndex(FIXED)

    @property
    def run_id(self) -> int | None:
        """The run that is rehearsed in place of a day; ``None`` for a standard day."""
        at = self.day.currentIndex() - len(self._names)
        return self._runs[at][0] if 0 <= at < len(self._runs) else None

    @property
    def day_name(self) -> str:
        """The standard day that is rehearsed; of a run the first one."""
        at = self.day.currentIndex()
        return self._names[at if 0 <= at < len(self._names) else 0]

    @property
    def room_c(self) -> float:
        """The room in °C."""
        return self.room.value()

    @property
    def compared_name(self) -> str:
        """What it is compared with, in words."""
        return tr(COMPARED[self.compared.currentIndex()])

    def _day_chosen(self, _: int) -> None:
        self._day_told()
        self.changed.emit()

    def _day_told(self) -> None:
        """Say in the tooltip what the day is."""
        made = tr("a run that was made on these curves, beside its rehearsal")
        words = next((tr(day.words) for day in STANDARD_DAYS if day.name == self.day_name), "")
        self.day.setToolTip(made if self.run_id is not None else words)
