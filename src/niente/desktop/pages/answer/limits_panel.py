"""The limits of a choice as fields, each with what a unit of it buys; and what is wanted of the settings that keep them."""

import math

import msgspec
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from niente.core.analysis.beside import readable
from niente.core.model.limits import CEILINGS, Aim, Ceiling, Limits, LoadLimits, NoisePlace, Weights
from niente.core.model.quantities import Quantity, quantity_of
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.selection.explanation import limit_cost_text, unit_cost_text
from niente.core.selection.kept import CEILING_OF, Limit
from niente.core.selection.pick import Choice
from niente.desktop.commands.choice_commands import ChoiceCommands
from niente.desktop.services.plain_text import plain
from niente.desktop.services.translation import tr
from niente.desktop.session.session import Session
from niente.desktop.widgets import form
from niente.desktop.widgets.labels import NarrowLabel, label
from niente.desktop.widgets.quantity_field import QuantityField

FAILURE, LOAD_WORK, LOAD_HEADROOM = "failure", "load throughput", "load headroom"
"""Fields that stand for a part of the limits: the chance of a failure in per cent, and what one load must keep."""
OFF = {
    "max_noise_dba": 9.5,
    "max_over_background_db": -10.5,
    "coolant_temperature_c": 14.0,
    "board_temperature_c": 14.0,
    "graphics_temperature_c": 14.0,
    "wall_power_w": 9.0,
    LOAD_WORK: 9.0,
    LOAD_HEADROOM: -1.0,
}
"""Where a field stands for "no limit"."""
LIMIT_OF = {
    Limit.THROUGHPUT: "min_throughput_percent",
    Limit.HEADROOM: "min_headroom_k",
    Limit.RESULTS: "clean_minutes",
    Limit.NOISE: "max_noise_dba",
    Limit.FAILURES: FAILURE,
    Limit.LOADS: LOAD_WORK,
    **CEILING_OF,
}
"""The field under which each limit's cost stands."""
ACROSS, FIELD_PX = 7, 96


class LimitsPanel(QWidget):
    """Fields for everything that a pick must keep."""

    def __init__(self, session: Session, commands: ChoiceCommands) -> None:
        super().__init__()
        self._session, self._commands = session, commands
        self._card: RigCard | None = None
        self.fields = _make_fields()
        for name, field in self.fields.items():
            field.settled.connect(lambda value, name=name: self.edit(name, value))
        self.costs = {name: NarrowLabel("soft") for name in LIMIT_OF.values()}
        self.aim = form.choice(tr("What the choice is for"), [tr(aim.value) for aim in Aim], self._aimed)
        self.noise_at = form.choice(
            tr("Where the most noise is judged"), [tr(place.value) for place in NoisePlace], self._placed
        )
        self.fans = form.choice(tr("Whether fans may stand"), [tr("may stand"), tr("always turn")], self._fans_settled)
        self.load = form.choice(tr("The load that must keep limits of its own"), [], lambda _: self._show_load())
        self.weights = {
            name: QuantityField(
                msgspec.structs.replace(quantity_of("throughput_percent"), unit=unit, digits=2),
                low=0.0,
                high=100.0,
                step=0.05,
                title=tr("What {unit} is worth").format(unit=words),
                default=getattr(Weights(), name),
            )
            for name, unit, words in (
                ("noise_db", "/ dB", tr("a decibel less")),
                ("throughput_percent", "/ %", tr("a per cent more")),
                ("power_w", "/ W", tr("a watt less")),
                ("core_k", "/ K", tr("a kelvin less")),
            )
        }
        for name, field in self.weights.items():
            field.settled.connect(lambda value, name=name: self._weighed(name, value))
        self._cells = {name: self._cell(field.title, field, self.costs.get(name)) for name, field in self.fields.items()}
        self._cells |= {"fans": self._cell(tr("Fans"), self.fans), "load": self._cell(tr("One load by itself"), self.load)}
        for name in (LOAD_WORK, LOAD_HEADROOM):  # behind the load that they are about
            self._cells[name] = self._cells.pop(name)
        self._grid = QGridLayout()
        self._lay_out()

    def _lay_out(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        row = QHBoxLayout()
        row.setSpacing(12)
        for words, box in ((tr("Of those that keep them, the"), self.aim), (tr("Noise is judged"), self.noise_at)):
            text = label(words, "soft")
            text.setBuddy(box)
            row.addWidget(text)
            row.addWidget(box)
        for field in self.weights.values():
            field.setFixedWidth(FIELD_PX - 12)
            field.hide()  # until something is weighed: they would make the page too wide
            row.addWidget(field)
        row.addStretch(1)
        column.addLayout(row)
        self._grid.setHorizontalSpacing(12)
        self._grid.setVerticalSpacing(6)
        for index in range(ACROSS):
            self._grid.setColumnStretch(index, 1)
        column.addLayout(self._grid)
        column.addStretch(1)

    def _cell(self, title: str, field: QWidget, cost: NarrowLabel | None = None) -> QWidget:
        cell = QWidget()
        column = QVBoxLayout(cell)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(1)
        text = NarrowLabel("soft")
        text.setText(title)
        text.setBuddy(field)
        column.addWidget(text)
        if isinstance(field, QComboBox):
            field.setMinimumWidth(FIELD_PX)
        else:
            field.setFixedWidth(FIELD_PX)
        column.addWidget(field)
        if cost is not None:
            column.addWidget(cost)
        column.setAlignment(Qt.AlignmentFlag.AlignTop)
        return cell

    def refresh(self, card: RigCard | None, limits: Limits) -> None:
        """Show the limits as they are, on a machine."""
        if card is not None and card is not self._card:
            self._take_card(card)
        for name, field in self.fields.items():
            kept = self._kept(limits, name)
            field.put(OFF[name] if kept is None else kept)
        for name, field in self.weights.items():
            field.put(getattr(limits.weights, name))
            field.setVisible(limits.aim == Aim.WEIGHED)
        self.aim.setCurrentIndex(list(Aim).index(limits.aim))
        self.noise_at.setCurrentIndex(list(NoisePlace).index(limits.noise_at))
        self.fans.setCurrentIndex(int(limits.fans_turn))

    def _take_card(self, card: RigCard) -> None:
        """Show the fields that a machine has readings and loads for."""
        self._card = card
        self.load.clear()
        for load in card.loads:
            if load.kind not in (LoadKind.IDLE, LoadKind.BURST):
                self.load.addItem(load.title.split(",")[0], load.name)
        read = readable(card)
        shown = [name for name in self._cells if name not in CEILINGS or name in read]
        for name, cell in self._cells.items():
            self._grid.removeWidget(cell)
            cell.setVisible(name in shown)
        for index, name in enumerate(shown):
            self._grid.addWidget(self._cells[name], index // ACROSS, index % ACROSS, Qt.AlignmentFlag.AlignTop)

    def show_costs(self, choice: Choice | None) -> None:
        """Say under each field what a unit of its limit buys; nothing without a choice."""
        for words in self.costs.values():
            words.setText("")
        for cost in choice.costs if choice is not None else ():
            name = LIMIT_OF.get(cost.limit)
            if choice is not None and name is not None:
                self.costs[name].setText(unit_cost_text(choice, cost.limit))
                self.costs[name].setToolTip(plain(limit_cost_text(choice, cost.limit)))

    def edit(self, name: str, value: float) -> None:
        """Put a limit in force, by its field's name."""
        project, field = self._session.project, self.fields[name]
        if project is None:
            return
        limits, within = project.limits, min(max(value, field.minimum()), field.maximum())
        off = name in OFF and (not math.isfinite(value) or value <= OFF[name])
        if name == FAILURE:
            self._commands.change_goal(field.title, msgspec.structs.replace(limits.failure, chance=within / 100.0))
            return
        if name in CEILINGS:
            limits = limits.with_ceiling(name, None if off else within)
        elif name in (LOAD_WORK, LOAD_HEADROOM):
            load = self.load.currentData() or ""
            part = {LOAD_WORK: "min_throughput_percent", LOAD_HEADROOM: "min_headroom_k"}[name]
            wanted = limits.each_load.get(load, LoadLimits())
            limits = limits.with_load(load, msgspec.structs.replace(wanted, **{part: None if off else within}))
        else:
            limits = msgspec.structs.replace(limits, **{name: None if off else within})
        self._commands.change_limits(field.title, limits)

    def title_of(self, limit: Limit) -> str:
        """Return what a limit's field is called."""
        name = LIMIT_OF.get(limit)
        return self.fields[name].title if name is not None else tr("Fans always turn")

    def reading(self, limits: Limits, limit: Limit) -> tuple[str, str]:
        """Return a limit's value as its field shows it, and its unit."""
        name = LIMIT_OF.get(limit)
        value = self._kept(limits, name) if name is not None else None
        if name is None or value is None:
            return "", ""
        return f"{value:g}", self.fields[name].quantity.unit

    def _kept(self, limits: Limits, name: str) -> float | None:
        """Return a limit as its field shows it; ``None`` where there is none."""
        if name == FAILURE:
            return 100.0 * limits.failure.chance
        if name in CEILINGS:
            return limits.ceilings.get(Ceiling(name))
        if name in (LOAD_WORK, LOAD_HEADROOM):
            wanted = limits.each_load.get(self.load.currentData() or "", LoadLimits())
            return wanted.min_throughput_percent if name == LOAD_WORK else wanted.min_headroom_k
        value: float | None = getattr(limits, name)
        return value

    def _show_load(self) -> None:
        project = self._session.project
        if project is not None:
            self.refresh(self._card, project.limits)

    def _aimed(self, index: int) -> None:
        project = self._session.project
        if project is not None:
            limits = msgspec.structs.replace(project.limits, aim=list(Aim)[index])
            self._commands.change_limits(tr("what the choice is for"), limits)

    def _placed(self, index: int) -> None:
        project = self._session.project
        if project is not None:
            limits = msgspec.structs.replace(project.limits, noise_at=list(NoisePlace)[index])
            self._commands.change_limits(tr("where noise is judged"), limits)

    def _fans_settled(self, index: int) -> None:
        project = self._session.project
        if project is not None:
            limits = msgspec.structs.replace(project.limits, fans_turn=bool(index))
            self._commands.change_limits(tr("whether fans may stand"), limits)

    def _weighed(self, name: str, value: float) -> None:
        project = self._session.project
        if project is not None:
            weights = msgspec.structs.replace(project.limits.weights, **{name: value})
            self._commands.change_limits(self.weights[name].title, msgspec.structs.replace(project.limits, weights=weights))

    def editors(self) -> tuple[QWidget, ...]:
        """Return everything in which a person edits."""
        return (*self.fields.values(), *self.weights.values(), self.aim, self.noise_at, self.fans, self.load)


def _make_fields() -> dict[str, QuantityField]:
    usual = Limits()
    percent, kelvin = quantity_of("throughput_percent"), quantity_of("headroom_k")
    minutes = msgspec.structs.replace(quantity_of("burst_time_s"), unit="min")
    over = msgspec.structs.replace(quantity_of("noise_dba"), unit="dB")
    chance = msgspec.structs.replace(percent, digits=2)
    none = tr("no limit")

    def may_be_off(name: str, title: str, high: float, step: float, quantity: Quantity | None = None) -> QuantityField:
        of = quantity or quantity_of(name)
        return QuantityField(of, low=OFF[name], high=high, step=step, title=title, default=OFF[name], off_words=none)

    return {
        "min_throughput_percent": QuantityField(
            percent, low=10, high=110, step=1, title=tr("Throughput at least"), default=usual.min_throughput_percent
        ),
        "max_noise_dba": may_be_off("max_noise_dba", tr("Noise at most"), 80, 0.5, quantity_of("noise_dba")),
        "max_over_background_db": may_be_off("max_over_background_db", tr("Over background"), 30, 0.5, over),
        "min_headroom_k": QuantityField(
            kelvin, low=0, high=60, step=1, title=tr("Headroom at least"), default=usual.min_headroom_k
        ),
        "design_room_c": QuantityField(
            quantity_of("room_temperature_c"), low=10, high=45, step=1, title=tr("In a room of"), default=usual.design_room_c
        ),
        "clean_minutes": QuantityField(
            minutes, low=1, high=1440, step=1, title=tr("Heaviest load, clean"), default=usual.clean_minutes
        ),
        FAILURE: QuantityField(
            chance, low=0.01, high=99.0, step=0.5, title=tr("A failure at most"), default=100.0 * usual.failure.chance
        ),
        "coolant_temperature_c": may_be_off("coolant_temperature_c", tr("Coolant at most"), 80, 1),
        "board_temperature_c": may_be_off("board_temperature_c", tr("Board at most"), 120, 1),
        "graphics_temperature_c": may_be_off("graphics_temperature_c", tr("Graphics at most"), 110, 1),
        "wall_power_w": may_be_off("wall_power_w", tr("Wall at most"), 3000, 5),
        LOAD_WORK: may_be_off(LOAD_WORK, tr("Its throughput"), 110, 1, percent),
        LOAD_HEADROOM: may_be_off(LOAD_HEADROOM, tr("Its headroom"), 60, 1, kelvin),
    }
