"""The Map page: how core temperature and noise lie over the settings, where measured and where inferred."""

from PySide6.QtWidgets import QButtonGroup, QPushButton

from niente.core.choosing.pick import Candidate, candidate_at
from niente.core.choosing.words import place_text
from niente.core.quantities import duration_text, quantity_of
from niente.desktop.pages.map.field_view import LAYERS, FieldView
from niente.desktop.session import Session
from niente.desktop.theme import Palette
from niente.desktop.widgets.labels import label
from niente.desktop.widgets.page import Page


class MapPage(Page):
    """A field over power limit and case-fan duty."""

    name = "Map"

    def __init__(self, session: Session, palette: Palette) -> None:
        super().__init__(session)
        self.view = FieldView(palette)
        self.view.selected.connect(self._select)
        self.problem = label("", "lead", wrap=True)
        self._layers = QButtonGroup(self)
        self.layer_buttons = []
        for place, layer in enumerate(LAYERS):
            button = QPushButton(layer.title)
            button.setCheckable(True)
            button.setChecked(place == 0)
            button.setToolTip(f"Show {layer.title.lower()} over the settings")
            self._layers.addButton(button, place)
            self.head.addWidget(button)
            self.layer_buttons.append(button)
        self._layers.idClicked.connect(self._set_layer)
        self.body.addWidget(self.problem)
        self.body.addWidget(self.view, 1)
        self.body.addWidget(
            label(
                "Filled marks are measured, open rings on the grid are inferred, the half-filled mark is running. "
                "Dark lines: noise in the room. Hatched: the headroom wanted is not sure there.",
                "soft",
                wrap=True,
            )
        )
        self._layer = LAYERS[0]
        self.candidate: Candidate | None = None
        self.follow(session.answered, session.run_changed)

    def _set_layer(self, place: int) -> None:
        self._layer = LAYERS[place]
        self.refresh()

    def _select(self, index: int) -> None:
        answer, project = self.session.answer, self.session.project
        if answer.models is not None and answer.field is not None and project is not None:
            self.candidate = candidate_at(answer.models, answer.field, project.limits, index)

    def refresh(self) -> None:
        """Draw the answer as it stands."""
        answer, project = self.session.answer, self.session.project
        room = quantity_of("room_temperature_c").with_unit(project.limits.design_room_c) if project is not None else ""
        self.set_head("Field over sustained power limit and case-fan duty", f"{self._layer.title} at {room} room")
        ready = answer.field is not None and answer.models is not None and project is not None
        self.problem.setVisible(not ready)
        self.problem.setText(answer.problem)
        self.view.setVisible(ready)
        if not ready or answer.field is None or project is None:
            return
        live = self.session.live
        running = live.opened.step.setting if live is not None and live.closed is None and self.session.busy() else None
        self.view.show_field(answer.field, self._layer, project.limits, answer.choice, running)

    def measured_marks(self) -> int:
        """Return how many measured settings are marked."""
        return self.view.measured_marks()

    def live_line(self) -> str:
        """Return how much is measured, and how well the heat path fits."""
        evidence, models = self.session.answer.evidence, self.session.answer.models
        measured = len(evidence.usable()) if evidence is not None else 0
        if models is None:
            return f"{measured} measured" if measured else "nothing yet"
        return f"{measured} measured, ±{2 * max(models.thermal.residual_sd_k, 0.3):.1f} K"

    def finished(self) -> bool:
        """The models have an answer."""
        return self.session.answer.models is not None

    def margin(self) -> list[tuple[str, str]]:
        """Explain the selected setting, or how to select one."""
        answer = self.session.answer
        if answer.models is None:
            return [("The map", answer.problem)]
        models = answer.models
        cooler, case = models.thermal.cooler_full_rpm, models.thermal.case_full_rpm
        theta, half_width = models.thermal.resistance(cooler, case)
        path = quantity_of("thermal_resistance_kpw").with_unit(theta, half_width)
        words = [("Heat path", f"Core to room, fans at their fastest: {path}, from {models.thermal.runs} settled runs.")]
        one = self.candidate or (answer.choice.pick if answer.choice is not None else None)
        if one is not None:
            words.insert(0, (place_text(one), candidate_words(one)))
        if self.candidate is None:
            words.append(("Select", "Click a place in the field, or use the arrow keys, to read it here."))
        return words


def candidate_words(one: Candidate) -> str:
    """Return a setting's readings, a line each, with their intervals."""
    lines = [
        f"Hottest core  {quantity_of('hottest_core_c').with_unit(one.core_c, one.core_hw)}",
        f"Headroom  {quantity_of('headroom_k').with_unit(one.headroom_k, one.core_hw)}",
        f"Noise  {quantity_of('noise_dba').with_unit(one.in_room_dba, one.in_room_hw)}",
        f"Machine alone, modelled  {quantity_of('noise_dba').with_unit(one.alone_dba)}",
        f"Throughput  {quantity_of('throughput_percent').with_unit(one.throughput_percent, one.throughput_hw)} of stock",
        f"Package power  {quantity_of('package_power_w').with_unit(one.power_w)}",
        "Measured" if one.measured else "Inferred",
    ]
    if one.clean_s:
        lines.append(f"Heaviest load for {duration_text(one.clean_s)}, {one.failures} wrong results")
    if one.breaks:
        lines.append("Breaks the limit of " + ", ".join(one.breaks))
    return "\n".join(lines)
