"""The Rig page: what this machine is, what may be touched, and what must never be exceeded."""

import math

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QSplitter, QVBoxLayout, QWidget

from niente.core.acquisition.guards.fans import STANDSTILL_RPM
from niente.core.acquisition.guards.sensors import FROZEN_SAMPLES, LOST_SAMPLES
from niente.core.analysis.evidence import column
from niente.core.model.cautions import cautions_for
from niente.core.model.project import Project
from niente.core.model.quantities import NO_BREAK_SPACE, number_text, quantity_of
from niente.core.model.rig_card import RigCard
from niente.core.model.rig_sheet import RigSheet, parts_in
from niente.core.planning.offers import Offer
from niente.core.science.dynamics import Scale
from niente.core.science.heat.path import HeatPath
from niente.core.science.humidity import dew_point_c
from niente.desktop.actions.registry import Actions
from niente.desktop.commands.plan_commands import PlanCommands
from niente.desktop.pages.page import Page
from niente.desktop.pages.rig.dynamic_scale import DynamicScale
from niente.desktop.pages.rig.heat_path import Ladder, LadderView
from niente.desktop.pages.rig.limits import LimitsView
from niente.desktop.pages.rig.parts import PartsList, other_states, part_rows
from niente.desktop.pages.rig.path_reading import PathReading
from niente.desktop.pages.rig.path_view import HeatPathView
from niente.desktop.pages.rig.path_words import place_margin
from niente.desktop.pages.rig.room import RoomView
from niente.desktop.pages.rig.sensors import SensorsView, trust_readings
from niente.desktop.pages.rig.start import StartView, guard_title
from niente.desktop.services.leisure import Leisure
from niente.desktop.services.theme import Look
from niente.desktop.services.translation import tr
from niente.desktop.session.session import Session
from niente.desktop.widgets.blocks import Block, Reading, Readings, Words
from niente.desktop.widgets.form import choice
from niente.desktop.widgets.labels import ActionButton, ShortLabel, label, rule
from niente.desktop.widgets.page_stack import PageStack
from niente.desktop.widgets.views import Views

MACHINE, PATH, LIMITS, ROOM, SENSORS, START = range(6)
"""The page's views."""


class RigPage(Page):
    """Parts at the left, the heat path and the dynamic scale in the middle; guards, room and trust in the margin. While the
    book has no run, a view to start from comes first."""

    name = "Rig"
    variant_wanted = Signal(str)
    """A person wants the machine in another variant: hands may have to do something first."""
    part_chosen = Signal(str)

    def __init__(self, session: Session, actions: Actions, look: Look, commands: PlanCommands) -> None:
        super().__init__(session, actions, look)
        self._commands = commands
        self.views = Views(
            [
                (tr("Machine"), tr("Parts, heat path and dynamic scale")),
                (tr("Heat path"), tr("Where kelvins are lost between core and room, and where the air goes")),
                (tr("Limits"), tr("The maker's limits, guards and controls")),
                (tr("Room"), tr("Room, listener, sound meter and the dynamic scale's limits")),
                (tr("Sensors"), tr("How far each sensor is to be trusted, and what counts")),
                (tr("Start"), tr("What the machine is, what to check first, and which question to ask")),
            ],
            leading=START if not session.question_stands else MACHINE,
        )
        self.start = StartView(look)
        self._offered_for: object = None
        self.stack = PageStack()
        self.variant = choice(tr("Variant"), [], self._variant_chosen)
        self.limits_view = LimitsView(session, look)
        self.room_view = RoomView(session, look)
        self.sensors_view = SensorsView(session, look, actions["rig.calibrate"])
        self.path_view = HeatPathView(look)
        self.reading = PathReading(session)
        self._place = ""
        self.parts = PartsList()
        self.parts.chosen.connect(self.part_chosen)
        self.path_lead = ShortLabel("lead")
        self.path_title = ShortLabel("title")
        self.theta = ShortLabel("soft")
        self.path = LadderView(look)
        for ladder in (self.path, self.path_view.ladder):
            ladder.power_moved.connect(self._move_power)
        self.path_view.ladder.other_moved.connect(self._move_source)
        self.path_view.place_chosen.connect(self._choose_place)
        self.full_speed = label("", "", wrap=True)
        self.full_speed.setMinimumHeight(2 * self.full_speed.fontMetrics().lineSpacing())  # a splitter knows of no wrapping
        self.scale_note = label("", "soft")
        self.scale = DynamicScale(look)
        self.scale.setProperty("help", "noise")
        self.scale.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.offer(self.path, "page.map", "help.here")
        self._lay_out()
        self.follow(session.answered, session.project_changed)
        session.sampled.connect(Leisure(self._show_frame, self).soon)
        session.planner.offered.connect(self._take_offers)

    def _lay_out(self) -> None:
        self.head.addWidget(self.views, 0, Qt.AlignmentFlag.AlignBottom)
        self.views.chosen.connect(self._show_view)
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        line = QHBoxLayout()
        line.addWidget(label(tr("Variant"), "soft"))
        line.addWidget(self.variant, 1)
        line.addSpacing(12)
        column.addLayout(line)
        column.addWidget(self.parts, 1)
        button = ActionButton(self.actions_["rig.part"])
        column.addWidget(button, 0, Qt.AlignmentFlag.AlignLeft)
        right = QWidget()
        rows = QVBoxLayout(right)
        rows.setContentsMargins(16, 0, 0, 0)
        rows.setSpacing(4)
        rows.addWidget(self.path_lead)
        head = QHBoxLayout()
        head.addWidget(self.path_title, 1)
        self.theta.setAlignment(Qt.AlignmentFlag.AlignRight)
        head.addWidget(self.theta, 1, Qt.AlignmentFlag.AlignBottom)
        rows.addLayout(head)
        rows.addWidget(rule())
        rows.addWidget(self.path, 1)
        rows.addWidget(self.full_speed)
        rows.addWidget(rule())
        head = QHBoxLayout()
        head.addWidget(label(tr("Dynamic scale"), "section"))
        head.addStretch(1)
        head.addWidget(self.scale_note)
        rows.addLayout(head)
        rows.addWidget(self.scale)
        split = QSplitter(Qt.Orientation.Horizontal)
        split.setHandleWidth(1)
        split.setChildrenCollapsible(False)
        split.addWidget(left)
        split.addWidget(right)
        split.setStretchFactor(1, 1)
        split.setSizes([300, 620])
        for view in (split, self.path_view, self.limits_view, self.room_view, self.sensors_view, self.start):
            self.stack.addWidget(view)
        self.stack.setCurrentIndex(self.views.current)
        self.start.planned.connect(self._plan)
        self.start.limits_wanted.connect(lambda: self.views.show_view(LIMITS))
        self.start.questions_wanted.connect(self.actions_["page.plan"].trigger)
        self.start.selected.connect(self.margin_changed)
        for table in (*self.limits_view.tables(), self.sensors_view.table):
            self.offer(table, "edit.undo", "edit.redo", "help.here")
        self.body.addWidget(self.stack, 1)

    def _show_view(self, index: int) -> None:
        self.stack.setCurrentIndex(index)
        self.refresh()
        self.margin_changed.emit()

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Let what is in outline give way in a low window."""
        super().resizeEvent(event)
        self.start.fit(self.stack.height())

    def _variant_chosen(self, index: int) -> None:
        self.variant_wanted.emit(self.variant.itemText(index))

    # -- what is shown ---------------------------------------------------------------------------------------------

    def _move_power(self, power_w: float) -> None:
        self.reading.power_w = power_w
        self.refresh()

    def _move_source(self, source_w: float) -> None:
        self.reading.source_w = source_w
        self.refresh()

    def _choose_place(self, place: str) -> None:
        card = self.session.card
        if card is None or card.air is None or card.air.place(place) is None:
            return
        self._place = place
        self.refresh()
        self.margin_changed.emit()

    def editors(self) -> tuple[QWidget, ...]:
        """Return the views in which something is said of the machine."""
        return (self.limits_view, self.room_view, self.sensors_view)

    def refresh(self) -> None:
        """Show the machine, and its heat path as far as it is known."""
        card, project = self.session.card, self.session.project
        if card is None or project is None:
            return
        words = tr("{variant}, simulated") if card.simulated else "{variant}"
        self.set_head(tr("The machine: {what}").format(what=words.format(variant=card.variant)), card.title)
        sheet, bench = self.session.sheet, self.session.bench
        self.views.offer(START, self._is_fresh())
        if self.views.current == START and not self._is_fresh():
            self.views.show_view(MACHINE)
            return
        if sheet is not None and bench is not None:
            self._show_sheet(sheet, bench.own_card)
        if self.views.current == PATH:
            self._show_path(card, project)
        if self.views.current != MACHINE:
            return
        ladder = self.reading.plain(card, project)
        self.path.show_ladder(ladder)
        self._show_path_words(self.reading.model(card)[0], ladder, self.reading.speeds(card)[0])
        self._show_frame()

    def _show_path(self, card: RigCard, project: Project) -> None:
        """Show the view of the heat path, with its figure as the page's title."""
        models = self.session.answer.models
        room = f"{project.limits.design_room_c:g}"
        lead = tr("Heat path from the hottest core to a {room} °C room; {variant}").format(room=room, variant=card.variant)
        if card.air is not None and card.air.place(self._place) is None:
            self._place = card.air.taken_in or card.air.places[0].name
        if models is None:
            ladder = self.reading.plain(card, project)
            rise = number_text(ladder.core_c - ladder.room_c, 0)
            about = tr("about {rise} K at {power} W: typical, nothing measured yet")
            self.set_head(lead, about.format(rise=rise, power=number_text(ladder.power_w, 0)))
            self.path_view.show_typical(ladder, card, self._place)
            return
        scene = self.reading.scene(card, project, models)
        known = f"{number_text(scene.rise_k, 1)} ± {number_text(scene.half_width_k, 1)}"
        title = tr("{rise} K at {power} W").format(rise=known, power=number_text(scene.here.power_w, 0))
        if scene.ladder.other is not None:
            title += tr(", graphics {watts} W").format(watts=number_text(scene.ladder.other.watts, 0))
        self.set_head(lead, title)
        self.path_view.show_scene(scene, card, self._place)

    def _is_fresh(self) -> bool:
        """Whether nothing was measured in the book, in any variant; not so long as that is only not known yet."""
        evidence = self.session.answer.evidence
        if evidence is None:
            return not self.session.question_stands
        return not any(one.runs for one in (evidence, *evidence.elsewhere.values()))

    def _show_sheet(self, sheet: RigSheet, own: RigCard) -> None:
        """Show what is said of the machine, in the view that is current."""
        view = self.views.current
        if view == MACHINE:
            names = [variant.name for variant in sheet.variants]
            if [self.variant.itemText(i) for i in range(self.variant.count())] != names:
                self.variant.clear()
                self.variant.addItems(names)
            self.variant.setCurrentText(sheet.variant)
            self.parts.show_parts(parts_in(sheet, sheet.variant) or part_rows(own), other_states(sheet))
        elif view == LIMITS:
            self.limits_view.show_sheet(sheet, own)
        elif view == ROOM:
            self.room_view.show_sheet(sheet)
        elif view == SENSORS:
            self.sensors_view.show_sheet(sheet, own)
        elif view == START:
            self._show_start(sheet, own)

    def _show_start(self, sheet: RigSheet, own: RigCard) -> None:
        card, plan, bench = self.session.card, self.session.plan, self.session.bench
        if card is None or plan is None or bench is None:
            return
        simulated = tr("A fresh book, nothing measured yet; the machine is simulated")
        self.set_head(simulated if card.simulated else tr("A fresh book, nothing measured yet"), card.title)
        self.start.show_machine(card, parts_in(sheet, sheet.variant) or part_rows(own))
        self.start.show_guards(plan.guards)
        self.start.show_pace(bench.pace)
        self._show_frame()
        if self._offered_for != (card, plan.guards):
            self._offered_for = (card, plan.guards)
            self.session.planner.offer(card, plan.guards)

    def _take_offers(self, offers: tuple[Offer, ...]) -> None:
        self.start.show_offers(offers)
        if self.session.bench is not None:
            self.start.show_pace(self.session.bench.pace)

    def _plan(self, name: str) -> None:
        """Ask a question, and go to where its plan stands."""
        self._commands.choose(name)
        self.actions_["page.plan"].trigger()

    def _show_path_words(self, model: HeatPath, ladder: Ladder, speeds: list[float]) -> None:
        rise, spread = (float(one[0]) for one in model.rise(np.array([ladder.power_w]), np.array([speeds])))
        power = quantity_of("sustained_power_w").with_unit(ladder.power_w)
        lead = tr("Heat path from the hottest core to a {room} °C room").format(room=f"{ladder.room_c:g}")
        self.path_lead.setText(lead + (tr(": typical, nothing measured yet") if ladder.typical else ""))
        words = tr("about {rise} K at {power}") if ladder.typical else tr("{rise} K at {power}")
        known = f"{number_text(rise, 1)} ± {number_text(spread, 1)}"
        rough = number_text(rise, 0)
        self.path_title.setText(words.format(rise=rough if ladder.typical else known, power=power))
        theta, half_width = model.resistance(ladder.power_w, speeds)
        resistance = quantity_of("thermal_resistance_kpw")
        whole = resistance.with_unit(rise / ladder.power_w)
        slope = resistance.with_unit(theta) if ladder.typical else resistance.with_unit(theta, half_width)
        self.theta.setText(tr("{whole} over all; each further watt adds {slope}").format(whole=whole, slope=slope))
        full = quantity_of("core_temperature_c").with_unit(ladder.core_c - ladder.by_fans_k)
        words = tr("At full fan speed the core would read {core}. ").format(core=full)
        models = self.session.answer.models
        if models is not None:
            loud = models.noise.in_room(np.array(models.noise.full_rpm))[0]
            words += tr("That is {noise} in the room. ").format(noise=quantity_of("noise_dba").with_unit(float(loud)))
        if ladder.typical:
            words += tr("Open bars are typical of such machines; three settled runs of the heaviest load close them.")
        self.full_speed.setText(words)

    def _show_frame(self) -> None:
        if not self.isVisible():
            return
        models, frame, card = self.session.answer.models, self.session.frame, self.session.card
        scale = models.scale if models is not None else Scale()
        now = math.nan
        if frame is not None and card is not None:
            now = float(column(card, frame.values[None, :], "noise_dba")[0])
        self.scale.show_scale(scale, now)
        known = tr("in the room, against its {dba} dBA").format(dba=number_text(scale.background_dba, 1))
        self.scale_note.setText(known if math.isfinite(scale.background_dba) else "")
        if self.views.current == START and card is not None and frame is not None:
            self.start.show_frame(card, frame)

    # -- what the frame asks -----------------------------------------------------------------------------------

    def live_line(self) -> str:
        """Return the machine and its variant."""
        card = self.session.card
        return f"{card.title}, {card.variant}" if card is not None else ""

    def finished(self) -> bool:
        """A rig is attached."""
        return self.session.card is not None

    def margin(self) -> list[Block]:
        """Give guards, room, sensor trust and cautions."""
        card, plan, project = self.session.card, self.session.plan, self.session.project
        if card is None or plan is None or project is None:
            return []
        if self.views.current == START and self.session.bench is not None:
            return self.start.margin(card, self.session.bench.pace) + ([] if card.simulated else [self._cautions(card)])
        place = card.air.place(self._place) if card.air is not None and self.views.current == PATH else None
        if place is not None:
            models = self.session.answer.models
            state = self.reading.scene(card, project, models).air if models is not None else None
            runs = models.air[place.channel].runs if models is not None and place.channel in models.air else 0
            return place_margin(card, state, place, project.limits.design_room_c, runs)
        guards = [
            Reading(
                guard_title(guard),
                quantity_of(guard.quantity).text(guard.trip),
                unit=quantity_of(guard.quantity).unit,
            )
            for guard in plan.guards
        ]
        guards += [
            Reading(tr("Fan stalled"), number_text(STANDSTILL_RPM, 0), unit="rpm"),
            Reading(tr("Sensor lost"), f"{LOST_SAMPLES}", unit=tr("samples")),
            Reading(tr("Sensor frozen"), f"{FROZEN_SAMPLES}", unit=tr("samples")),
        ]
        limits = card.limits
        makers = [
            Reading(tr("Hottest core, at most"), number_text(limits.core_temperature_c, 0), unit="°C"),
            Reading(tr("Margin below it"), number_text(limits.margin_k, 0), unit="K"),
            Reading(tr("Shut-down"), number_text(limits.shut_down_c, 0), unit="°C"),
        ]
        cap = card.stock.temperature_cap_c
        if cap is not None:
            makers.insert(1, Reading(tr("Cap, enforced by firmware"), number_text(cap, 0), unit="°C"))
        return [
            Readings(tr("Guards"), tuple(guards), tr("Niente ends the run at")),
            Readings(tr("The maker's limits"), tuple(makers)),
            Readings(tr("Room"), tuple(self._room())),
            Readings(tr("Sensor trust"), trust_readings(card), tr("step; what counts")),
            self._cautions(card),
        ]

    def _cautions(self, card: RigCard) -> Words:
        """Return the cautions, on a real machine with whether they were read."""
        bench, state = self.session.bench, ""
        if bench is not None and not card.simulated:
            state = tr(", read") if bench.cautions_read else tr(", not read yet")
        return Words(tr("Cautions") + state, "\n".join(cautions_for(card)))

    def _room(self) -> list[Reading]:
        session, project = self.session, self.session.project
        found = []
        if session.frame is not None and session.card is not None:
            now = float(column(session.card, session.frame.values[None, :], "room_temperature_c")[0])
            found.append(Reading(tr("Temperature now"), number_text(now, 1), unit="°C"))
        sheet = session.sheet
        if sheet is not None:
            room = sheet.room
            found.append(Reading(tr("Humidity"), number_text(room.humidity_percent, 0), unit="%"))
            dew_point = dew_point_c(room.temperature_c, room.humidity_percent)
            found.append(Reading(tr("Dew point"), number_text(dew_point, 1), unit="°C"))
            found.append(Reading(tr("Altitude"), number_text(room.altitude_m, 0), unit="m"))
        if project is not None:
            found.append(Reading(tr("Design room"), number_text(project.limits.design_room_c, 1), unit="°C"))
        models = session.answer.models
        if models is not None:
            level = number_text(models.noise.background_dba, 1)
            spread = f"±{NO_BREAK_SPACE}{number_text(models.noise.background_hw_db, 1)}"
            found.append(Reading(tr("Background"), level, spread, "dBA"))
        return found
