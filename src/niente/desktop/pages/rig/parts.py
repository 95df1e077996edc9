"""The machine as a list of parts."""

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import Part, RigCard
from niente.core.model.rig_sheet import RigSheet, parts_in
from niente.desktop.services.translation import tr
from niente.desktop.widgets.labels import label, rule


def part_rows(card: RigCard) -> tuple[Part, ...]:
    """Return a rig's parts; where its card names none, what follows from its channels and controls."""
    if card.parts:
        return card.parts
    cores = len(card.indices("core_temperature_c"))
    found = [Part(tr("Machine"), card.summary)]
    if cores:
        found.append(Part(tr("Processor"), tr("{n} cores are read").format(n=cores)))
    for group in card.fan_groups():
        control = card.control(f"fan_duty.{group}")
        if control is not None:
            found.append(Part(tr("Fans: {group}").format(group=group), control.range_text()))
    power = card.control("sustained_power_w")
    if power is not None:
        found.append(Part(quantity_of("sustained_power_w").title, power.range_text()))
    return tuple(found)


def other_states(sheet: RigSheet) -> dict[str, tuple[str, ...]]:
    """Return, by part, the tags that it has in variants other than the one in force."""
    now = {part.name: part.tag for part in parts_in(sheet, sheet.variant)}
    found: dict[str, list[str]] = {}
    for variant in sheet.variants:
        for part in parts_in(sheet, variant.name):
            tags = found.setdefault(part.name, [])
            if part.tag and part.tag != now.get(part.name) and part.tag not in tags:
                tags.append(part.tag)
    return {name: tuple(tags) for name, tags in found.items() if tags}


class PartRow(QFrame):
    """One part: its name, what it is, the state it is in as a tag, and what it is in other variants.

    Enter, Space or a double click asks to change it.
    """

    chosen = Signal(str)

    def __init__(self, part: Part, others: tuple[str, ...]) -> None:
        super().__init__()
        self._name = part.name
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(" ".join(text for text in (part.name, part.words, part.tag) if text))
        self.setAccessibleDescription(tr("Enter changes this part"))
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 5, 0, 5)
        rows.setSpacing(0)
        head = QHBoxLayout()
        head.addWidget(label(part.name, "", wrap=True), 1)
        if part.tag:
            head.addWidget(label(part.tag, "tag"))
        rows.addLayout(head)
        rows.addWidget(label(part.words, "soft", wrap=True))
        if others:
            rows.addWidget(label(tr("or {others}").format(others=", ".join(others)), "soft", wrap=True))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Ask to change the part."""
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.chosen.emit(self._name)
        else:
            super().keyPressEvent(event)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Ask to change the part."""
        self.chosen.emit(self._name)


class PartsList(QScrollArea):
    """The parts, one below the other; ``chosen`` comes with the name of one that is to be changed."""

    chosen = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName(tr("Parts of the machine"))
        self.setMinimumWidth(200)
        self._shown: tuple[object, ...] = ()
        self.rows: list[PartRow] = []

    def show_parts(self, parts: tuple[Part, ...], others: dict[str, tuple[str, ...]] | None = None) -> None:
        """Show a machine's parts; ``others`` are, by part, the states it has in other variants."""
        known = others or {}
        if (parts, known) == self._shown:
            return
        self._shown = (parts, known)
        inside = QWidget()
        rows = QVBoxLayout(inside)
        rows.setContentsMargins(2, 2, 12, 2)  # room for the ring of the focus
        rows.setSpacing(0)
        self.rows = [PartRow(part, known.get(part.name, ())) for part in parts]
        for row in self.rows:
            row.chosen.connect(self.chosen)
            rows.addWidget(row)
            rows.addWidget(rule())
        rows.addStretch(1)
        self.setWidget(inside)
