"""What if: a row for each circumstance that was not measured, with what becomes of the pick there."""

from collections.abc import Sequence

import msgspec
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QVBoxLayout, QWidget

from niente.core.analysis.circumstances import parts_for
from niente.core.answers.beside_choice import BesideChoice, what_ifs_of
from niente.core.model.project import Project
from niente.core.model.quantities import NO_BREAK_SPACE, Quantity, number_text, quantity_of
from niente.core.model.rig_card import RigCard
from niente.core.model.what_if import WITHIN, Circumstance, WhatIf
from niente.core.selection.kept import Limit
from niente.core.selection.what_if_words import assumed_text, outcome_brief, outcome_text, robust_text
from niente.core.selection.what_ifs import Outcome
from niente.desktop.commands.choice_commands import ChoiceCommands
from niente.desktop.services.plain_text import plain
from niente.desktop.services.translation import tr
from niente.desktop.widgets import form
from niente.desktop.widgets.labels import ShortLabel, label
from niente.desktop.widgets.quantity_field import QuantityField

TITLES = {
    Circumstance.ROOM: "A hotter room",
    Circumstance.ALTITUDE: "At an altitude of",
    Circumstance.FLOW: "A clogged filter: flow",
    Circumstance.PASTE: "Aged paste: at 100 W",
    Circumstance.DEAD_FANS: "Fans that fail",
    Circumstance.NIGHT: "For a listener at night",
    Circumstance.BY_DAY: "For a listener by day",
    Circumstance.OTHER_LOAD: "Another load counts",
}
STEPS = {Circumstance.ROOM: 1.0, Circumstance.ALTITUDE: 100.0, Circumstance.FLOW: 5.0, Circumstance.PASTE: 0.5}
FIELD_PX = 92


def _quantity(kind: Circumstance) -> Quantity:
    of = {Circumstance.ROOM: "room_temperature_c", Circumstance.FLOW: "throughput_percent", Circumstance.PASTE: "headroom_k"}
    if kind == Circumstance.ALTITUDE:
        return msgspec.structs.replace(quantity_of("headroom_k"), unit="m", digits=0)
    return quantity_of(of[kind])


class _Row:
    """The widgets of one circumstance."""

    def __init__(self, what_if: WhatIf, parts: tuple[str, ...]) -> None:
        self.what_if, self._parts = what_if, parts
        title = tr(TITLES[what_if.kind])
        self.must = QCheckBox()
        self.must.setAccessibleName(tr("The robust pick holds here: {what}").format(what=title))
        self.must.setToolTip(tr("A robust pick must hold here"))
        self.title = label(title)
        self.field: QuantityField | None = None
        if what_if.kind in STEPS:
            low, high = WITHIN[what_if.kind]
            step = STEPS[what_if.kind]
            self.field = QuantityField(_quantity(what_if.kind), low=low, high=high, step=step, title=title)
            self.field.setFixedWidth(FIELD_PX)
        self.part: QComboBox | None = None
        if parts:
            self.part = form.choice(tr("{what}: which").format(what=title), list(parts), lambda _: None)
            self.part.setFixedWidth(FIELD_PX)
        self.headroom, self.noise, self.mark = label(), label(), label("", "mark")
        self.words = ShortLabel("")

    def show(self, what_if: WhatIf) -> None:
        """Show the circumstance as it is assumed."""
        self.what_if = what_if
        self.must.blockSignals(True)
        self.must.setChecked(what_if.must_hold)
        self.must.blockSignals(False)
        if self.field is not None:
            self.field.put(what_if.value)
        if self.part is not None:
            self.part.setCurrentIndex(self._parts.index(what_if.part))

    def take(self, outcome: Outcome | None) -> None:
        """Show what becomes of the pick; dashes while that is not known."""
        self.words.setText(outcome_brief(outcome) if outcome is not None else tr("being worked out"))
        self.words.setToolTip(plain(outcome_text(outcome)) if outcome is not None else "")
        if outcome is None or not outcome.known:
            self.headroom.setText("–")
            self.noise.setText("–")
            self.mark.setText("")
            return
        there = outcome.there
        broken = Limit.HEADROOM in outcome.breaks
        half = f"±{NO_BREAK_SPACE}{number_text(there.core_hw, 1)}{NO_BREAK_SPACE}K"
        self.headroom.setText(f"{number_text(there.headroom_k, 1)} {half}")
        if self.headroom.property("role") != ("beyond" if broken else "within"):
            self.headroom.setProperty("role", "beyond" if broken else "within")
            self.headroom.style().polish(self.headroom)
        self.noise.setText(f"{number_text(outcome.heard_dba, 1)}{NO_BREAK_SPACE}dBA")
        self.mark.setText(outcome.mark)


class WhatIfPanel(QWidget):
    """The circumstances that a choice is looked at in, and the setting that holds in all that it must."""

    def __init__(self, commands: ChoiceCommands) -> None:
        super().__init__()
        self._commands = commands
        self._rows: list[_Row] = []
        self._kinds: tuple[tuple[Circumstance, tuple[str, ...]], ...] = ()
        self._every: tuple[WhatIf, ...] = ()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(14)
        self._grid.setVerticalSpacing(1)
        self._grid.setColumnStretch(6, 1)
        column.addLayout(self._grid)
        self.robust = ShortLabel("")
        """Stands beside the names of the views."""
        column.addStretch(1)

    @property
    def rows(self) -> Sequence[_Row]:
        """The rows, in the order of the circumstances."""
        return self._rows

    def refresh(self, project: Project, card: RigCard, beside: BesideChoice | None) -> None:
        """Show the circumstances and what is known of them."""
        self._every = what_ifs_of(project, card)
        kinds = tuple((one.kind, _parts_of(one, card)) for one in self._every)
        if kinds != self._kinds:
            self._make_rows(kinds)
        known = {} if beside is None or beside.limits != project.limits else {one.what_if: one for one in beside.outcomes}
        for row, what_if in zip(self._rows, self._every, strict=True):
            row.show(what_if)
            row.take(_outcome_of(known, what_if))
        fresh = beside is not None and beside.limits == project.limits
        robust = beside.robust if beside is not None and fresh else None
        must = any(one.must_hold for one in self._every)
        none = tr("Assumed, not measured. Tick where the setting must hold, and one that holds in all is looked for.")
        waiting = tr("The setting that holds in all that are ticked is being worked out.")
        self.robust.setText(robust_text(robust) if robust is not None else waiting if must else none)
        self.setToolTip(plain(assumed_text(project.limits)))

    def _make_rows(self, kinds: tuple[tuple[Circumstance, tuple[str, ...]], ...]) -> None:
        """Make the rows anew, where the circumstances are others."""
        while self._grid.count():
            item = self._grid.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.deleteLater()
        self._kinds = kinds
        heads = (tr("Hold"), tr("What if"), "", tr("Headroom"), tr("Noise"), "", tr("The pick"))
        for column, head in enumerate(heads):
            self._grid.addWidget(label(head, "soft"), 0, column)
        self._rows = [_Row(one, parts) for one, (_, parts) in zip(self._every, kinds, strict=True)]
        for index, row in enumerate(self._rows):
            row.must.toggled.connect(lambda on, index=index: self._change(index, must_hold=on))
            if row.field is not None:
                row.field.settled.connect(lambda value, index=index: self._change(index, value=value))
            if row.part is not None:
                row.part.activated.connect(lambda at, index=index: self._change(index, part=self._kinds[index][1][at]))
            cells = (row.must, row.title, row.field or row.part, row.headroom, row.noise, row.mark, row.words)
            for column, part in enumerate(cells):
                if part is not None:
                    self._grid.addWidget(part, index + 1, column, Qt.AlignmentFlag.AlignVCenter)

    def _change(self, index: int, **changed: object) -> None:
        self._commands.change_what_if(index, msgspec.structs.replace(self._every[index], **changed), self._every)

    def editors(self) -> tuple[QWidget, ...]:
        """Return everything in which a person edits."""
        fields = [field for row in self._rows if (field := row.field or row.part) is not None]
        return (*(row.must for row in self._rows), *fields)


def _parts_of(what_if: WhatIf, card: RigCard) -> tuple[str, ...]:
    """Return what a circumstance may be about, with what it is about, which another rig may have had."""
    parts = parts_for(what_if.kind, card)
    return (*parts, what_if.part) if what_if.part and what_if.part not in parts else parts


def _outcome_of(known: dict[WhatIf, Outcome], what_if: WhatIf) -> Outcome | None:
    """Return what is known of a circumstance; whether it must hold is no part of it."""
    for other, outcome in known.items():
        if msgspec.structs.replace(other, must_hold=what_if.must_hold) == what_if:
            return outcome
    return None
