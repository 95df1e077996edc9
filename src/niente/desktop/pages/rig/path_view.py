"""The view of the heat path: the ladder, a section of the machine with its air, and what other states of it change."""

import msgspec
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QTableView, QVBoxLayout, QWidget

from niente.core.analysis.air_changes import VariantChange, unmeasured_changes
from niente.core.model.case_air import CaseAir
from niente.core.model.rig_card import RigCard
from niente.desktop.pages.rig.heat_path import Ladder, LadderView
from niente.desktop.pages.rig.path_reading import PathScene
from niente.desktop.pages.rig.path_words import air_sentence, change_figure, change_words
from niente.desktop.pages.rig.section import SectionView, Sketch
from niente.desktop.services.theme import Look
from niente.desktop.services.translation import tr
from niente.desktop.widgets.labels import label, rule
from niente.desktop.widgets.table import Cell, CellSign, RowsModel, rows_view

ROWS = 5


class HeatPathView(QWidget):
    """Ladder at the left, section and sentence at the right, changes below. ``selected`` is the place that the margin is of."""

    place_chosen = Signal(str)

    def __init__(self, look: Look) -> None:
        super().__init__()
        self._look = look
        self.ladder = LadderView(look)
        self.section = SectionView(look)
        self.sentence = label("", "reading", wrap=True)
        self.follows = label("", "soft", wrap=True)
        self.changes = label(tr("If one thing changes"), "section")
        self.changes_aside = label("", "soft")
        self.model = RowsModel([], set())
        self.table: QTableView | None = None
        self._below = QVBoxLayout()
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(6)
        both = QHBoxLayout()
        both.setSpacing(16)
        both.addWidget(self.ladder, 58)
        right = QVBoxLayout()
        right.setSpacing(4)
        right.addWidget(self.section, 1)
        right.addWidget(self.sentence)
        right.addWidget(self.follows)
        both.addLayout(right, 42)
        rows.addLayout(both, 1)
        rows.addWidget(rule())
        head = QHBoxLayout()
        head.addWidget(self.changes)
        head.addStretch(1)
        head.addWidget(self.changes_aside)
        rows.addLayout(head)
        rows.addLayout(self._below)
        self.ladder.place_chosen.connect(self.place_chosen)
        self.section.chosen.connect(self.place_chosen)

    def show_typical(self, ladder: Ladder, card: RigCard, selected: str) -> None:
        """Show what is typical: nothing is measured yet."""
        self.ladder.show_ladder(ladder)
        self._show_air(card.air, None, selected)
        self._show_changes(unmeasured_changes(card), card.air)

    def show_scene(self, scene: PathScene, card: RigCard, selected: str) -> None:
        """Show what the runs tell."""
        self.ladder.show_ladder(msgspec.structs.replace(scene.ladder, selected=selected))
        self._show_air(card.air, scene, selected)
        self._show_changes(scene.changes, card.air)

    def _show_air(self, air: CaseAir | None, scene: PathScene | None, selected: str) -> None:
        state = scene.air if scene is not None else None
        self.section.setVisible(air is not None)
        if air is not None:
            self.section.show_sketch(Sketch(air, state), selected)
        sentence, follows = air_sentence(air, state)
        self.sentence.setText(sentence)
        self.follows.setText(follows)

    def _show_changes(self, changes: tuple[VariantChange, ...], air: CaseAir | None) -> None:
        """Show the table of the other states; its columns are the places that are read."""
        places = air.sensed if air is not None else ()
        heads = ["", tr("Variant"), *(f"{place.title}, K" for place in places), tr("Core, K"), tr("Noise, dB"), tr("rests on")]
        if self.table is None or self.model.heads != heads:
            if self.table is not None:
                self.table.deleteLater()
            self.model = RowsModel(heads, set(range(2, len(heads))))
            self.table = rows_view(
                tr("If one thing changes"), self.model, self._look, stretch=1, fixed={0: 20}, rows=ROWS,
            )  # fmt: skip
            self.table.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAsNeeded)
            self._below.addWidget(self.table)
        measured = sum(1 for change in changes if change.known)
        aside = tr("{n} of {all} states were measured; filled: measured").format(n=measured, all=len(changes))
        self.changes_aside.setText(aside if changes else tr("nothing measured yet"))
        self.model.set_rows([self._row(change, [place.name for place in places]) for change in changes])

    @staticmethod
    def _row(change: VariantChange, places: list[str]) -> list[Cell | str]:
        told = change.known
        cells: list[Cell | str] = [Cell(sign=CellSign.DONE if told else CellSign.EXPECTED), Cell(change.variant, soft=not told)]
        for name in places:
            value, _ = change_figure(*change.places_k[name]) if name in change.places_k else ("–", "")
            cells.append(Cell(value, soft=not told))
        value, spread = change_figure(change.core_k, change.core_half_width_k)
        cells.append(Cell(value, spread, bold=change.told, soft=not told))
        cells.append(Cell(change_figure(change.noise_db)[0], soft=not told))
        cells.append(Cell(change_words(change), soft=True))
        return cells
