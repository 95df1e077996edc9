"""The Map page: how core temperature and noise lie over the settings, where measured and where inferred."""

from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox

from niente.core.analysis.listener import listener_of_sheet
from niente.core.analysis.map_table import map_as_csv
from niente.core.analysis.maps import MapRequest, SettingMap
from niente.core.analysis.models import Models
from niente.core.model.errors import NienteError
from niente.core.model.limits import Limits
from niente.core.model.quantities import duration_text, number_text, quantity_of
from niente.core.model.setting import Setting
from niente.core.science.heat.sum import OTHER
from niente.core.selection.explanation import short_candidate_text
from niente.core.selection.pick import Candidate, candidate_at
from niente.desktop.actions.registry import Actions
from niente.desktop.commands.plan_commands import PlanCommands
from niente.desktop.dialogs import prompts
from niente.desktop.pages.map import margin as map_words
from niente.desktop.pages.map.field_view import FieldView
from niente.desktop.pages.map.fit_view import QUANTITIES, FitView
from niente.desktop.pages.map.heads import axis_titles, fixed_words, spoken_map
from niente.desktop.pages.map.layers import LAYERS
from niente.desktop.pages.map.noise_view import NoiseView
from niente.desktop.pages.map.over_field import FieldPicture, running_point
from niente.desktop.pages.map.picture import save_picture
from niente.desktop.pages.map.request_row import MapLines, MapRequestRow
from niente.desktop.pages.map.rows import FIGURES, table_heads, table_rows
from niente.desktop.pages.map.watts_view import WattsView
from niente.desktop.pages.page import Page
from niente.desktop.services.files import write
from niente.desktop.services.theme import Look
from niente.desktop.services.translation import tr
from niente.desktop.session.analyst import MapResult
from niente.desktop.session.session import Session
from niente.desktop.widgets.blocks import Block, Buttons, Words
from niente.desktop.widgets.empty import Empty
from niente.desktop.widgets.form import choice
from niente.desktop.widgets.page_stack import PageStack
from niente.desktop.widgets.table import RowsModel, rows_view
from niente.desktop.widgets.views import Views

FIELD, WATTS, NOISE, TABLE, FIT = range(5)


class MapPage(Page):
    """A field over any two controls, rise against watts, noise against duty, the field as a table, and how the models fit."""

    name = "Map"

    def __init__(self, session: Session, actions: Actions, look: Look, commands: PlanCommands) -> None:
        super().__init__(session, actions, look)
        self.commands = commands
        self.request_row = MapRequestRow()
        self.request_row.requested.connect(self._request)
        self.request_row.shown.connect(self.refresh)
        self.view, self.watts, self.noise = FieldView(look), WattsView(look), NoiseView(look)
        self.view.selected.connect(self._select)
        self.view.wanted.connect(self.run_here)
        self.watts.selected.connect(lambda _: self.margin_changed.emit())
        self.noise.selected.connect(lambda _: self.margin_changed.emit())
        self.fit = FitView(look)
        self.fit.selected.connect(self.margin_changed)
        self.by_speed = QCheckBox(tr("Over speed"))
        self.by_speed.setToolTip(tr("Draw noise over the fans' speed in place of their duty"))
        self.by_speed.toggled.connect(self.refresh)
        self.fit_of = choice(tr("What is compared"), [tr(title) for _, title in QUANTITIES], lambda _: self.refresh())
        self.problem = Empty(actions, look, "Map", "map.missing")
        self.model = RowsModel(table_heads(None), FIGURES)
        self.table = rows_view(tr("The map as a table"), self.model, look, stretch=0)
        self.stack = PageStack()
        for widget in (self.view, self.watts, self.noise, self.table, self.fit):
            self.stack.addWidget(widget)
            self.offer(widget, "map.run_here", "map.prove", "map.picture", "map.csv", "map.table", "page.answer", "help.here")
        self.views = Views(
            (
                (tr("Field"), tr("A layer over two controls")),
                (tr("Rise against watts"), tr("A line per fan setting, with the watts it carries at the limit")),
                (tr("Noise"), tr("Each fan group alone and together, over the room")),
                (tr("Table"), actions["map.table"].toolTip()),
                (tr("Fit"), tr("What each run read against what the models say of it")),
            )
        )
        self.views.chosen.connect(self._show_view)
        for beside in (self.by_speed, self.fit_of, self.views):
            self.head.addWidget(beside, 0, Qt.AlignmentFlag.AlignBottom)
        self.body.addWidget(self.request_row)
        self.body.addWidget(self.problem, 1)
        self.body.addWidget(self.stack, 1)
        self.mapped: SettingMap | None = None
        self.candidate: Candidate | None = None
        self._waiting: tuple[Models, MapRequest] | None = None
        self._refused: tuple[Models, MapRequest, str] | None = None
        self._point: tuple[float, float] | None = None
        self._stepped: tuple[SettingMap, Setting, Block] | None = None
        self._index = 0
        session.mapped.connect(self._take)
        session.dropped.connect(self._cancelled)
        self.follow(session.answered, session.run_changed)

    # -- what is asked ---------------------------------------------------------------------------------------------

    def _request(self, request: MapRequest) -> None:
        self._point = self.candidate = None
        self.refresh()
        self.margin_changed.emit()

    def _take(self, answer: MapResult) -> None:
        """Show a map that was asked for, unless something else is wanted by now."""
        if answer.models is not self.session.answer.models or answer.request != self.request_row.request:
            return
        self._waiting = None
        self._refused = None if answer.mapped is not None else (answer.models, answer.request, answer.problem)
        if answer.mapped is not None:
            self.mapped = answer.mapped
        self.when_seen(self.refresh)
        self.margin_changed.emit()

    def _cancelled(self) -> None:
        """Go back to the map that shows, where another one was being worked out."""
        if self._waiting is not None:
            self._waiting = None
            self.request_row.put(self.mapped.request if self.mapped is not None else MapRequest())
            self.when_seen(self.refresh)

    def _is_fresh(self, models: Models, request: MapRequest) -> bool:
        """Return whether the map that is shown is the one requested, of these models and the limits as they are."""
        project, mapped = self.session.project, self.mapped
        if project is None or mapped is None or mapped.models is not models:
            return False
        return mapped.request == request and _alike(mapped, project.limits, request)

    def _is_requested(self, models: Models, request: MapRequest) -> bool:
        """Return whether that map is being worked out, or was refused."""
        known = [one for one in (self._waiting, self._refused) if one is not None]
        return any(one[0] is models and one[1] == request for one in known)

    def _find_map(self) -> None:
        """Let the map be the one that is asked for: the answer's own, or one that is worked out anew."""
        answer, request = self.session.answer, self.request_row.request
        if answer.models is None or answer.mapped is None:
            self.mapped = None
            return
        if request == MapRequest():
            self.mapped = answer.mapped
            return
        if not self._is_fresh(answer.models, request) and not self._is_requested(answer.models, request):
            self._waiting = (answer.models, request)
            self.session.request_map(request)
        if self.mapped is None:
            self.mapped = answer.mapped

    def _show_view(self, index: int) -> None:
        self.stack.setCurrentIndex(index)
        self.refresh()
        self.margin_changed.emit()

    def handlers(self) -> dict[str, Callable[[], None]]:
        """Return what the page does for actions of the registry, by their names."""
        return {
            "map.run_here": self.run_here,
            "map.prove": self.prove,
            "map.picture": self.picture,
            "map.csv": self.export,
            "map.table": self.toggle_table,
        }

    def toggle_table(self) -> None:
        """Change between field and table."""
        self.views.show_view(FIELD if self.views.current == TABLE else TABLE)

    # -- what is selected ------------------------------------------------------------------------------------------

    def _select(self, index: int) -> None:
        if self.mapped is not None:
            self._point = self.mapped.field.point(index)
            self._find()
            self.margin_changed.emit()

    def _find(self) -> None:
        """Find the selected point in the field as it is now."""
        self.candidate = None
        if self._point is None or self.mapped is None:
            return
        self._index = self.mapped.field.nearest(*self._point)
        self.candidate = candidate_at(self.mapped.models, self.mapped.field, self.mapped.limits, self._index)

    def _selected(self) -> Candidate | None:
        """Return what is selected; the pick where nothing is."""
        choice = self.session.answer.choice
        return self.candidate or (choice.pick if choice is not None else None)

    def prove(self) -> None:
        """Ask for the proof of the selected setting."""
        one = self._selected()
        if one is not None:
            self.session.proof_wanted.emit(one.setting)

    def run_here(self) -> None:
        """Plan a run at the selected setting, next."""
        answer, one = self.session.answer, self._selected()
        if one is not None and answer.models is not None:
            load = self.request_row.request.view.load or answer.models.heavy_load
            self.commands.run_next(one.setting, load, tr("Asked for on the map"))

    def export(self) -> None:
        """Ask where the table is to be written, and write it."""
        file = prompts.where_to_save_table(self, "map")
        if file is not None:
            self.write_table(file)

    def write_table(self, file: Path) -> None:
        """Write the field as comma-separated values."""
        if self.mapped is not None:
            table = map_as_csv(self.mapped).encode()
            self._save(lambda: write(file, table, tr("The map is unchanged.")))

    def picture(self) -> None:
        """Ask where the picture is to be written, and write it."""
        file = prompts.where_to_save_picture(self, "map")
        if file is not None:
            self.write_picture(file)

    def write_picture(self, file: Path) -> None:
        """Write the view that shows, as PNG or SVG by the file's ending."""
        shown = self.stack.currentWidget()
        if shown is not None:
            self._save(lambda: save_picture(shown, file, f"{self.title.text()}. {self.lead.text()}"))

    def _save(self, written: Callable[[], None]) -> None:
        try:
            written()
        except NienteError as error:
            self.session.report(error)

    # -- showing ---------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Draw the answer as it stands."""
        project, card = self.session.project, self.session.card
        if self.session.answer.models is not None:
            self.request_row.fit_to(self.session.answer.models)
        self._find_map()
        mapped = self.mapped
        self.by_speed.setVisible(self.views.current == NOISE)
        self.fit_of.setVisible(self.views.current == FIT and mapped is not None)
        self.request_row.setVisible(mapped is not None and self.views.current not in (NOISE, FIT))
        problem = self._refused[2] if self._refused is not None and self._refused[1] == self.request_row.request else ""
        self.problem.show_problem(problem if mapped is not None else self.session.why_nothing())
        self.stack.setVisible(mapped is not None)
        if mapped is None or project is None or card is None:
            self.set_head(tr("How temperature and noise lie over the settings"), tr("Map"))
            return
        self.request_row.show_for_lines(self.views.current == WATTS)
        self.request_row.show_choices(mapped.models, project.limits.design_room_c, mapped.field.settings.base)
        self._draw_view(mapped)

    def _draw_view(self, mapped: SettingMap) -> None:
        """Draw the view that is chosen, under its own head."""
        room = quantity_of("room_temperature_c").with_unit(mapped.room_c)
        fixed = fixed_words(mapped, of_field=self.views.current != WATTS)
        if self.views.current == WATTS:
            lead = tr("Hottest core over the room against package power{fixed}").format(fixed=fixed)
            self.set_head(lead, tr("Rise against watts"))
            self._show_watts(mapped)
        elif self.views.current == NOISE:
            self.set_head(tr("Each fan group alone, and all together, from what was read"), tr("Noise against duty"))
            self.noise.show_noise(mapped.loudness, mapped.models.scale, by_speed=self.by_speed.isChecked())
        elif self.views.current == FIT:
            self.set_head(tr("What each run read against what the models say of it"), tr("How well the models fit"))
            self.fit.show_residuals(self.session.answer.residuals, QUANTITIES[self.fit_of.currentIndex()][0])
        else:
            layer = LAYERS[self.request_row.layer.currentIndex()]
            title = tr("{layer} in a {room} room") if layer.unit in ("°C", "K") else "{layer}"
            title = tr("{layer}, less that with {variant}") if mapped.other is not None else title
            words = title.format(layer=tr(layer.title), room=room, variant=mapped.request.against)
            self.set_head(tr("Field over {a} and {b}{fixed}").format(**axis_titles(mapped), fixed=fixed), words)
            self._show_field(mapped)

    def _show_field(self, mapped: SettingMap) -> None:
        card, field, answer = self.session.card, mapped.field, self.session.answer
        if card is None:
            return
        layer = LAYERS[self.request_row.layer.currentIndex()]
        live = self.session.live if self.session.busy() else None
        running = running_point(live, field, card.stock)
        plan = self.session.plan
        guards = plan.guards if plan is not None else ()
        ceiling = card.temperature_ceiling_c(field.settings.base)
        scale, lines = mapped.models.scale, MapLines(self.request_row.lines.currentData())
        self.view.show_field(
            FieldPicture(
                mapped,
                layer,
                answer.choice,
                running,
                scale,
                ceiling,
                card,
                guards,
                lines,
                self.request_row.intervals.isChecked(),
            )
        )
        self._find()
        self.view.setAccessibleDescription(self._spoken())
        if self.views.current == TABLE:
            self.model.set_heads(table_heads(mapped))
            self.model.set_rows(table_rows(mapped))

    def _show_watts(self, mapped: SettingMap) -> None:
        choice, plan = self.session.answer.choice, self.session.plan
        picked = None
        if choice is not None:
            picked = (choice.pick.power_w, choice.pick.core_c - choice.limits.design_room_c)
        words = tr("limit {limit} in a {room} room: {k} K").format(
            limit=quantity_of("hottest_core_c").with_unit(mapped.watts.limit_c),
            room=quantity_of("room_temperature_c").with_unit(mapped.room_c),
            k=number_text(mapped.watts.limit_k, 1),
        )
        self.watts.show_lines(mapped.watts, plan.guards if plan is not None else (), picked, words)
        line = self.watts.line()
        if line is not None:
            self.watts.setAccessibleDescription(
                tr("{n} lines; at {duty} % the slope is {k} K/W.").format(
                    n=len(mapped.watts.lines), duty=f"{line.duty:g}", k=number_text(line.slope_kpw, 3)
                )
            )

    def _spoken(self) -> str:
        return spoken_map(self.mapped, self._selected(), self.measured_marks()) if self.mapped is not None else ""

    def measured_marks(self) -> int:
        """Return how many measured settings are marked."""
        return int(np.count_nonzero(self.mapped.field.nearly)) if self.mapped is not None else 0

    def live_line(self) -> str:
        """Return how much is measured, and how well a core temperature is known where it was."""
        evidence, answer = self.session.answer.evidence, self.session.answer
        measured = len(evidence.usable()) if evidence is not None else 0
        if answer.field is None:
            return tr("{n} measured").format(n=measured) if measured else tr("nothing yet")
        wide = answer.field.predicted.core_hw
        typical = float(np.nanmedian(wide)) if np.isfinite(wide).any() else float("nan")
        return tr("{n} measured, ±{k} K").format(n=measured, k=number_text(typical, 1))

    def finished(self) -> bool:
        """The models have an answer."""
        return self.session.answer.models is not None

    # -- the margin ------------------------------------------------------------------------------------------------

    def margin(self) -> list[Block]:
        """Explain what is selected in the view that shows, or how to select something."""
        mapped, answer = self.mapped, self.session.answer
        if mapped is None or answer.models is None:
            words = tr(
                "Temperature and noise over the settings that were run, and foreseen between them. A few settled runs of "
            )
            words += tr("the heaviest load make it; every further one makes it surer.")
            return [Words(tr("What will stand here"), words)]
        models = mapped.models
        if self.views.current == WATTS:
            line = self.watts.line()
            other = float(np.exp(models.heat.logs[OTHER]))
            return map_words.line_blocks(mapped.watts, line, models.scale, other) if line is not None else []
        if self.views.current == NOISE:
            return self._of_noise(mapped)
        if self.views.current == FIT:
            return self.fit.margin(models.card)
        return self._of_field(mapped)

    def _of_noise(self, mapped: SettingMap) -> list[Block]:
        one, noise = self.noise.group(), mapped.models.noise
        law = noise.law_of(one.group) if one is not None else None
        return map_words.noise_blocks(mapped.loudness, one, self.noise.duty, mapped.models.scale, law)

    def _of_setting(self, mapped: SettingMap, one: Candidate) -> list[Block]:
        """Explain the setting that is selected, or else the pick, and what one step away would bring."""
        field, models = mapped.field, mapped.models
        controls = (field.across, field.up)
        point = (one.setting.value(field.across) or 0.0, one.setting.value(field.up) or 0.0)
        listening = listener_of_sheet(self.session.sheet) if self.session.sheet is not None else None
        lead = tr("Selected setting") if self.candidate is not None else tr("The pick")
        name = map_words.point_text(controls, point) if self.candidate is not None else short_candidate_text(one)
        return [
            *map_words.candidate_blocks(lead, name, one, models.scale, listening),
            Buttons(("map.run_here", "map.prove")),
            self._steps_away(mapped, one.setting, controls),
        ]

    def _steps_away(self, mapped: SettingMap, here: Setting, controls: tuple[str, str]) -> Block:
        """Return what one step would bring; worked out once, since the margin is shown anew several times a second."""
        if self._stepped is None or self._stepped[0] is not mapped or self._stepped[1] != here:
            self._stepped = (mapped, here, map_words.steps_away(mapped.models, mapped.limits, here, controls))
        return self._stepped[2]

    def _of_field(self, mapped: SettingMap) -> list[Block]:
        answer = self.session.answer
        blocks: list[Block] = []
        one = self._selected()
        if one is not None:
            blocks += self._of_setting(mapped, one)
            blocks += map_words.why_here(mapped, one, answer.choice)
        blocks.append(map_words.heat_path_words(mapped, one))
        if one is not None and one.clean_s:
            words = tr("{t} of the heaviest load, {n} wrong results.")
            blocks.append(Words(tr("Run here"), words.format(t=duration_text(one.clean_s), n=one.failures)))
        if self.candidate is None:
            words = tr("Click a point in the field, or use the arrow keys, to read it here. Enter plans a run there.")
            blocks.append(Words(tr("Select"), words))
        return blocks


def _alike(mapped: SettingMap, limits: Limits, request: MapRequest) -> bool:
    """Return whether a map was worked out under the limits that are in force."""
    here = limits if request.room_c is None else msgspec.structs.replace(limits, design_room_c=request.room_c)
    return mapped.limits == here
