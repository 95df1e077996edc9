"""The Map page: how core temperature and noise lie over the settings, where measured and where inferred."""

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QButtonGroup, QComboBox, QPushButton, QStackedWidget

from niente.core.choosing.models import POWER
from niente.core.choosing.pick import Candidate, candidate_at
from niente.core.choosing.words import place_text
from niente.core.quantities import duration_text, number_text, quantity_of
from niente.desktop.actions import Actions
from niente.desktop.pages.map.field_view import FieldView, Shown
from niente.desktop.pages.map.layers import LAYERS
from niente.desktop.pages.map.margin import candidate_blocks, steps_away
from niente.desktop.session import Session
from niente.desktop.theme import Look
from niente.desktop.tongue import tr
from niente.desktop.widgets.blocks import Block, Words
from niente.desktop.widgets.empty import Empty
from niente.desktop.widgets.page import Page
from niente.desktop.widgets.table import Cell, RowsModel, rows_view

HEADS = (
    *("Limit, W", "Fans, %", "", "Core, °C", "±", "Headroom, K", "Noise, dBA", "±", "", "Throughput, %", "±"),
    *("Package, W", "Breaks"),
)


class MapPage(Page):
    """A field over power limit and case-fan duty, or the same data as a table."""

    name = "Map"

    def __init__(self, session: Session, actions: Actions, look: Look) -> None:
        super().__init__(session, actions, look)
        self.view = FieldView(look)
        self.view.selected.connect(self._select)
        self.problem = Empty(actions["plan.start"])
        self.layers = QComboBox()
        self.layers.setAccessibleName(tr("Layer of the map"))
        self.layers.setToolTip(tr("What the colours show"))
        self.layers.addItems([tr(layer.title) for layer in LAYERS])
        self.layers.currentIndexChanged.connect(lambda _: self.refresh())
        self.model = RowsModel([tr(head) for head in HEADS], {0, 1, 3, 4, 5, 6, 7, 9, 10, 11})
        self.table = rows_view(tr("The map as a table"), self.model, look, stretch=12)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.view)
        self.stack.addWidget(self.table)
        for widget in (self.view, self.table):
            self.offer(widget, "map.table", "page.choose", "help.here")
        self._lay_out()
        self.candidate: Candidate | None = None
        self._place: tuple[float, float] | None = None
        self.follow(session.answered, session.run_changed)

    def _lay_out(self) -> None:
        self.head.addWidget(self.layers, 0, Qt.AlignmentFlag.AlignBottom)
        self._views = QButtonGroup(self)
        for place, text in enumerate((tr("Field"), tr("Table"))):
            button = QPushButton(text)
            button.setProperty("role", "view")
            button.setCheckable(True)
            button.setChecked(place == 0)
            button.setToolTip(self.actions_["map.table"].toolTip())
            self._views.addButton(button, place)
            self.head.addWidget(button, 0, Qt.AlignmentFlag.AlignBottom)
        self._views.idClicked.connect(self._show_view)
        self.body.addWidget(self.problem, 1)
        self.body.addWidget(self.stack, 1)

    def _show_view(self, place: int) -> None:
        self.stack.setCurrentIndex(place)
        self._views.button(place).setChecked(True)
        self.refresh()

    def toggle_table(self) -> None:
        """Change between field and table."""
        self._show_view(1 - self.stack.currentIndex())

    def _select(self, index: int) -> None:
        field = self.session.answer.field
        if field is not None:
            self._place = field.place(index)
            self._find()
            self.said.emit()

    def _find(self) -> None:
        """Find the selected place in the field as it is now."""
        answer, project = self.session.answer, self.session.project
        self.candidate = None
        if self._place is None or answer.models is None or answer.field is None or project is None:
            return
        field, (limit, duty) = answer.field, self._place
        column = int(np.argmin(np.abs(field.limit_w - limit)))
        row = int(np.argmin(np.abs(field.duty - duty)))
        self.candidate = candidate_at(answer.models, field, project.limits, row * field.limit_w.shape[0] + column)

    def refresh(self) -> None:
        """Draw the answer as it stands."""
        answer, project, card = self.session.answer, self.session.project, self.session.card
        layer = LAYERS[self.layers.currentIndex()]
        room = quantity_of("room_temperature_c").with_unit(project.limits.design_room_c) if project is not None else ""
        models = answer.models
        offset = models.base.voltage_offset_mv if models is not None else None
        lead = tr("Field over sustained power limit and {group}-fan duty").format(group=models.lead if models else "case")
        if models is not None and models.other is not None:
            held = f"{models.base.fan_duty.get(models.other, 0.0):g}"
            lead += tr(", {group} fan {duty} %").format(group=models.other, duty=held)
        if offset is not None:
            lead += tr(", offset {mv}").format(mv=quantity_of("voltage_offset_mv").with_unit(offset))
        title = tr("{layer} in a {room} room") if layer.unit in ("°C", "K") else "{layer}"
        self.set_head(lead, title.format(layer=tr(layer.title), room=room))
        ready = answer.field is not None and answer.models is not None and project is not None
        self.problem.show_problem("" if ready else answer.problem)
        self.stack.setVisible(ready)
        if answer.field is None or answer.models is None or project is None or card is None:
            return
        live = self.session.live
        now = live.opened.step.setting if live is not None and live.closed is None and self.session.busy() else None
        running = None
        if now is not None:
            whole = now.over(card.stock)
            running = (whole.value(POWER) or 0.0, whole.value(answer.models.fans) or 0.0)
            inside = answer.field.limit_w[0] <= running[0] <= answer.field.limit_w[-1]
            running = running if inside and answer.field.duty[0] <= running[1] <= answer.field.duty[-1] else None
        scale = answer.models.scale
        ceiling = card.temperature_ceiling_c(answer.models.base)
        self.view.show_field(
            Shown(answer.field, layer, project.limits, answer.choice, running, scale, ceiling, answer.models.lead)
        )
        self._find()
        self.view.setAccessibleDescription(self._spoken())
        if self.stack.currentWidget() is self.table:
            self.model.set_rows(self._rows())

    def _rows(self) -> list[list[Cell | str]]:
        """Return the field as rows: every place, limits fastest."""
        answer, project = self.session.answer, self.session.project
        if answer.field is None or answer.models is None or project is None:
            return []
        field, said = answer.field, answer.field.predicted
        scale = answer.models.scale
        rows: list[list[Cell | str]] = []
        for index in range(field.measured.shape[0]):
            limit, duty = field.place(index)
            known = bool(field.measured[index])
            sure = said.headroom_k[index] - said.core_hw[index] >= project.limits.least_headroom_k
            mark = scale.mark(float(said.in_room_dba[index]))
            rows.append(
                [
                    f"{limit:g}",
                    f"{duty:g}",
                    Cell(tr("measured") if known else tr("inferred"), bold=known, soft=not known),
                    number_text(float(said.core_c[index]), 1),
                    Cell(number_text(float(said.core_hw[index]), 1), soft=True),
                    Cell(number_text(float(said.headroom_k[index]), 1), under="" if sure else "guard"),
                    number_text(float(said.in_room_dba[index]), 1),
                    Cell(number_text(float(said.in_room_hw[index]), 1), soft=True),
                    Cell(mark, mark=True),
                    number_text(float(said.throughput_percent[index]), 1),
                    Cell(number_text(float(said.throughput_hw[index]), 1), soft=True),
                    number_text(float(said.power_w[index]), 1),
                    "" if sure else tr("headroom not sure"),
                ]
            )
        return rows

    def _spoken(self) -> str:
        answer = self.session.answer
        if answer.field is None:
            return ""
        measured = int(np.count_nonzero(answer.field.measured))
        words = tr("{n} settings, {m} measured. The table (Ctrl+T) gives all of them in figures.")
        one = self.candidate or (answer.choice.pick if answer.choice is not None else None)
        said = words.format(n=answer.field.measured.shape[0], m=measured)
        if one is None:
            return said
        core = quantity_of("hottest_core_c").with_unit(one.core_c, one.core_hw)
        noise = quantity_of("noise_dba").with_unit(one.in_room_dba, one.in_room_hw)
        return f"{said} {place_text(one)}: {core}, {noise}."

    def measured_marks(self) -> int:
        """Return how many measured settings are marked."""
        field = self.session.answer.field
        return int(np.count_nonzero(field.measured)) if field is not None else 0

    def live_line(self) -> str:
        """Return how much is measured, and how well the heat path fits."""
        evidence, models = self.session.answer.evidence, self.session.answer.models
        measured = len(evidence.usable()) if evidence is not None else 0
        if models is None:
            return tr("{n} measured").format(n=measured) if measured else tr("nothing yet")
        spread = 2 * max(models.thermal.residual_sd_k, 0.3)
        return tr("{n} measured, ±{k} K").format(n=measured, k=number_text(spread, 1))

    def finished(self) -> bool:
        """The models have an answer."""
        return self.session.answer.models is not None

    def margin(self) -> list[Block]:
        """Explain the selected setting, or how to select one."""
        answer, project = self.session.answer, self.session.project
        if answer.models is None or answer.field is None or project is None:
            return [Words(tr("The map"), answer.problem)]
        models = answer.models
        blocks: list[Block] = []
        one = self.candidate or (answer.choice.pick if answer.choice is not None else None)
        if one is not None:
            scale = models.scale
            lead = tr("Selected setting") if self.candidate is not None else tr("The pick")
            blocks += candidate_blocks(lead, one, scale)
            blocks.append(steps_away(models, project.limits, one))
        theta, half_width = models.thermal.resistance(models.thermal.cooler_full_rpm, models.thermal.case_full_rpm)
        path = quantity_of("thermal_resistance_kpw").with_unit(theta, half_width)
        words = tr("Core to room, fans at their fastest: {path}, from {n} settled runs.")
        blocks.append(Words(tr("Heat path"), words.format(path=path, n=models.thermal.runs)))
        if one is not None and one.clean_s:
            words = tr("{t} of the heaviest load, {n} wrong results.")
            blocks.append(Words(tr("Run here"), words.format(t=duration_text(one.clean_s), n=one.failures)))
        if one is not None and "headroom" in one.breaks:
            words = tr("In the hatched area the headroom wanted is not sure in the design room: heat may hold the clock there.")
            blocks.append(Words(tr("Caution"), words))
        if self.candidate is None:
            words = tr("Click a place in the field, or use the arrow keys, to read it here.")
            blocks.append(Words(tr("Select"), words))
        return blocks
