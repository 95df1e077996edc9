"""The machine as a list of parts."""

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from niente.core.quantities import quantity_of
from niente.core.rigcard import Part, RigCard
from niente.desktop.tongue import tr
from niente.desktop.widgets.labels import label, rule


def parts_of(card: RigCard) -> tuple[Part, ...]:
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


class PartsList(QScrollArea):
    """One entry a part: name, what it is, and the state it is in as a tag."""

    def __init__(self) -> None:
        super().__init__()
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName(tr("Parts of the machine"))
        self.setMinimumWidth(200)
        self._shown: tuple[Part, ...] = ()

    def show_parts(self, parts: tuple[Part, ...]) -> None:
        """Show a machine's parts."""
        if parts == self._shown:
            return
        self._shown = parts
        inside = QWidget()
        rows = QVBoxLayout(inside)
        rows.setContentsMargins(0, 0, 12, 0)
        rows.setSpacing(0)
        for part in parts:
            head = QHBoxLayout()
            head.setContentsMargins(0, 5, 0, 0)
            head.addWidget(label(part.name, "", wrap=True), 1)
            if part.tag:
                head.addWidget(label(part.tag, "tag"))
            rows.addLayout(head)
            words = label(part.words, "soft", wrap=True)
            words.setContentsMargins(0, 0, 0, 5)
            rows.addWidget(words)
            rows.addWidget(rule())
        rows.addStretch(1)
        self.setWidget(inside)
        self.setAccessibleDescription("; ".join(f"{part.name}: {part.words}" for part in parts))
