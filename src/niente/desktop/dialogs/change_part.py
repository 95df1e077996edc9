"""The dialog in which a part is changed: what it is now, and whether that is another machine or only other words."""

import msgspec
from PySide6.QtWidgets import (
    QButtonGroup,
    QGridLayout,
    QLineEdit,
    QRadioButton,
    QWidget,
)

from niente.core.model.rig_card import Part
from niente.core.model.rig_sheet import RigSheet, parts_in
from niente.desktop.dialogs.sheet import SheetDialog
from niente.desktop.services.translation import tr
from niente.desktop.widgets.choice_box import ChoiceBox
from niente.desktop.widgets.labels import label, rule


class ChangedPart(msgspec.Struct, frozen=True):
    """What a person says of a part. An empty ``variant`` means: only in other words, the machine is the same."""

    part: Part
    variant: str
    hands: str = ""


class ChangePart(SheetDialog):
    """A form; ``values`` is what it holds."""

    def __init__(self, sheet: RigSheet, name: str, over: QWidget) -> None:
        super().__init__(over, tr("Change a part"))
        self._parts = {part.name: part for part in parts_in(sheet, sheet.variant)}
        self._taken = {variant.name for variant in sheet.variants}
        self.part = ChoiceBox()
        self.part.setEditable(True)
        self.part.addItems(list(self._parts))
        self.part.setAccessibleName(tr("Part"))
        self.words, self.tag, self.variant, self.hands = QLineEdit(), QLineEdit(), QLineEdit(), QLineEdit()
        self.other = QRadioButton(tr("The machine has changed: a new variant, in force from now on"))
        self.same = QRadioButton(tr("A new description only; the machine is the same"))
        self._ways = QButtonGroup(self)
        for way in (self.other, self.same):
            self._ways.addButton(way)
        self.other.setChecked(True)
        self._lay_out()
        self.part.currentTextChanged.connect(self._show_part)
        self.tag.textEdited.connect(self._name_variant)
        for line in (self.words, self.tag, self.variant):
            line.textChanged.connect(self._look)
        self.other.toggled.connect(self._look)
        self.part.setCurrentText(name)
        self._show_part(self.part.currentText())

    def _lay_out(self) -> None:
        rows = self.column
        grid = QGridLayout()
        grid.setColumnStretch(1, 1)
        fields: tuple[tuple[str, QWidget], ...] = (
            (tr("Part"), self.part),
            (tr("What it is"), self.words),
            (tr("Its state, as a tag"), self.tag),
        )
        self._add(grid, fields)
        rows.addLayout(grid)
        rows.addWidget(rule())
        rows.addWidget(self.other)
        named = QGridLayout()
        named.setContentsMargins(22, 0, 0, 0)
        named.setColumnStretch(1, 1)
        self._add(named, ((tr("Name of the variant"), self.variant), (tr("What was done by hand"), self.hands)))
        rows.addLayout(named)
        rows.addWidget(self.same)
        rows.addWidget(rule())
        caution = tr(
            "Before hands go in: mains off and unplugged, let a heatsink cool. Makers' limits and local rules come first."
        )
        self.say(caution, "soft")
        self.problem = self.say("")
        self.take = self.take_or_leave(tr("Change"))

    @staticmethod
    def _add(grid: QGridLayout, fields: tuple[tuple[str, QWidget], ...]) -> None:
        for row, (name, field) in enumerate(fields):
            words = label(name)
            words.setBuddy(field)
            field.setAccessibleName(name)
            grid.addWidget(words, row, 0)
            grid.addWidget(field, row, 1)

    def _show_part(self, name: str) -> None:
        known = self._parts.get(name)
        if known is not None:
            self.words.setText(known.words)
            self.tag.setText(known.tag)
            self.variant.clear()
        self._look()

    def _name_variant(self, tag: str) -> None:
        self.variant.setText(tag)

    def _look(self) -> None:
        """Say what is still missing, and let it be taken only once nothing is."""
        new, name = self.other.isChecked(), self.variant.text().strip()
        self.variant.setEnabled(new)
        self.hands.setEnabled(new)
        known = self._parts.get(self.part.currentText().strip())
        problem = ""
        if not self.part.currentText().strip():
            problem = tr("The part needs a name.")
        elif known is not None and (known.words, known.tag) == (self.words.text().strip(), self.tag.text().strip()):
            problem = tr("Nothing is different yet.")
        elif new and not name:
            problem = tr("A new variant needs a name: runs on it stand under that.")
        elif new and name in self._taken:
            problem = tr("There is a variant of that name already; choose it from the list, or give this one another name.")
        self.problem.setText(problem)
        self.take.setEnabled(not problem)

    @property
    def values(self) -> ChangedPart:
        """What the form holds."""
        part = Part(self.part.currentText().strip(), self.words.text().strip(), self.tag.text().strip())
        new = self.other.isChecked()
        return ChangedPart(part, self.variant.text().strip() if new else "", self.hands.text().strip() if new else "")
