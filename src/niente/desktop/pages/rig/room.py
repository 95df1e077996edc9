"""The Rig page's third view: the room, where the machine is heard from, the meter, and the dynamic scale."""

import math
from functools import partial
from typing import Any

import msgspec
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from niente.core.model.quantities import number_text, quantity_of
from niente.core.model.rig_sheet import MeterClass, RigSheet
from niente.core.science.acoustics import level_at
from niente.core.science.dynamics import MARKS, Scale
from niente.core.science.humidity import dew_point_c
from niente.desktop.pages.rig.dynamic_scale import DynamicScale
from niente.desktop.services.theme import Look
from niente.desktop.services.translation import tr
from niente.desktop.session.session import Session
from niente.desktop.widgets.form import Form, choice, figure, words
from niente.desktop.widgets.labels import label, rule
from niente.desktop.widgets.quantity_field import QuantityField

UNKNOWN_DBA = 9.0
"""The lowest value of a field for a level, which says that it is not known; no room is as quiet."""


class RoomView(QWidget):
    """Three forms, and the scale's limits under them."""

    def __init__(self, session: Session, look: Look) -> None:
        super().__init__()
        self.session = session
        set_ = self._set
        self.temperature = figure(
            "room_temperature_c", tr("Temperature"), 5, 45, 0.5, lambda v: set_("room", "temperature_c", v), default=23.0
        )
        self.humidity = figure(
            "humidity_percent", tr("Humidity"), 1, 100, 1, lambda v: set_("room", "humidity_percent", v), default=45.0
        )
        self.dew_point = label("", "")
        self.altitude = figure(
            "altitude_m", tr("Altitude"), -400, 5000, 10, lambda v: set_("room", "altitude_m", v), default=0.0
        )
        self.day = self._level(tr("Background by day"), "room", "day_dba")
        self.night = self._level(tr("Background at night"), "room", "night_dba")
        self.from_h = self._hour(tr("The day begins at"), "day_from_h")
        self.to_h = self._hour(tr("The day ends at"), "day_to_h")
        self.place = words(tr("Listener's place"), lambda text: set_("listener", "place", text))
        self.distance = figure("distance_m", tr("Distance"), 0.1, 30, 0.05, lambda v: set_("listener", "distance_m", v))
        self.there_day = self._level(tr("Background there by day"), "listener", "day_dba")
        self.there_night = self._level(tr("Background there at night"), "listener", "night_dba")
        self.heard = label("", "", wrap=True)
        standards = [tr(kind.value) for kind in MeterClass]
        self.standard = choice(tr("Class"), standards, lambda at: set_("meter", "standard", list(MeterClass)[at]))
        self.meter_distance = figure("distance_m", tr("Distance"), 0.1, 30, 0.05, lambda v: set_("meter", "distance_m", v))
        self.meter_place = words(tr("Place"), lambda text: set_("meter", "place", text))
        self.marks = [
            figure("level_over_db", tr("{mark} from").format(mark=mark), 0.5, 60, 0.5, partial(self._mark, at))
            for at, mark in enumerate(MARKS[1:])
        ]
        self.scale = DynamicScale(look)
        self._lay_out()

    def _level(self, title: str, part: str, name: str) -> QuantityField:
        def settled(value: float) -> None:
            self._set(part, name, value if value > UNKNOWN_DBA else None)

        return figure("noise_dba", title, UNKNOWN_DBA, 90, 0.5, settled, unknown=True)

    def _hour(self, title: str, name: str) -> QuantityField:
        return figure("hour_of_day_h", title, 0, 24, 0.5, lambda value: self._set("room", name, value))

    def _lay_out(self) -> None:
        room = Form(tr("Room"))
        room.add(tr("Temperature"), self.temperature, tr("where nothing reads it"))
        room.add(tr("Humidity"), self.humidity)
        room.add(tr("Dew point"), self.dew_point, tr("keep every surface above it: water forms on live boards"))
        room.add(tr("Altitude"), self.altitude, tr("thin air carries less heat"))
        noise = Form(tr("Background at the meter"))
        noise.add(tr("By day"), self.day)
        noise.add(tr("At night"), self.night)
        noise.add(tr("The day begins at"), self.from_h)
        noise.add(tr("The day ends at"), self.to_h)
        listener = Form(tr("Listener"))
        listener.add(tr("Place"), self.place)
        listener.add(tr("Distance"), self.distance, tr("from the machine"))
        listener.add(tr("Background by day"), self.there_day)
        listener.add(tr("Background at night"), self.there_night)
        meter = Form(tr("Sound meter"))
        meter.add(tr("Class"), self.standard, tr("as IEC 61672-1 names them"))
        meter.add(tr("Distance"), self.meter_distance, tr("from the machine"))
        meter.add(tr("Place"), self.meter_place)
        inside = QWidget()
        rows = QVBoxLayout(inside)
        rows.setContentsMargins(2, 2, 12, 2)  # room for the ring of the focus
        rows.setSpacing(4)
        for left, right in ((room, listener), (noise, meter)):
            line = QHBoxLayout()
            line.setSpacing(24)
            line.addWidget(left, 1)
            line.addWidget(right, 1)
            rows.addLayout(line)
            rows.addWidget(rule())
        rows.addWidget(self.heard)
        rows.addWidget(rule())
        rows.addWidget(label(tr("Dynamic scale: how far over the room's background a mark begins"), "section"))
        grid = QGridLayout()
        grid.setHorizontalSpacing(12)
        for column, field in enumerate(self.marks):
            grid.addWidget(label(MARKS[column + 1], "mark"), 0, column)
            field.setMinimumWidth(84)
            grid.addWidget(field, 1, column)
        rows.addLayout(grid)
        rows.addSpacing(12)
        rows.addWidget(self.scale)
        rows.addStretch(1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(inside)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(scroll)

    # -- showing ---------------------------------------------------------------------------------------------------

    def show_sheet(self, sheet: RigSheet) -> None:
        """Show a sheet."""
        room, listener, meter = sheet.room, sheet.listener, sheet.meter
        self.temperature.put(room.temperature_c)
        self.humidity.put(room.humidity_percent)
        dew_point = dew_point_c(room.temperature_c, room.humidity_percent)
        self.dew_point.setText(quantity_of("dew_point_c").with_unit(dew_point))
        self.altitude.put(room.altitude_m)
        for field, level in (
            (self.day, room.day_dba),
            (self.night, room.night_dba),
            (self.there_day, listener.day_dba),
            (self.there_night, listener.night_dba),
        ):
            field.put(UNKNOWN_DBA if level is None else level)
        self.from_h.put(room.day_from_h)
        self.to_h.put(room.day_to_h)
        for line, text in ((self.place, listener.place), (self.meter_place, meter.place)):
            if line.text() != text:
                line.setText(text)
        self.distance.put(listener.distance_m)
        self.standard.setCurrentIndex(list(MeterClass).index(meter.standard))
        self.meter_distance.put(meter.distance_m)
        for field, over in zip(self.marks, sheet.marks_over_db, strict=True):
            field.put(over)
        models = self.session.answer.models
        background = models.noise.background_dba if models is not None else sheet.room.night_dba or math.nan
        self.scale.show_scale(Scale(background, sheet.marks_over_db), math.nan)
        self._show_heard(sheet)

    def _show_heard(self, sheet: RigSheet) -> None:
        """Say what the pick comes to at the listener's place, by night and by day, where that is known."""
        choice_ = self.session.answer.choice
        if choice_ is None:
            self.heard.setText(tr("Once there is a pick, its level at the listener's place stands here."))
            return
        alone = choice_.pick.alone_dba
        texts = []
        for when, background in ((tr("by day"), sheet.listener.day_dba), (tr("at night"), sheet.listener.night_dba)):
            level = level_at(alone, sheet.meter.distance_m, sheet.listener.distance_m, background)
            known = number_text(level, 1) if math.isfinite(level) else ""
            if background is None:
                known = ""
            if known:
                texts.append(tr("{level} dBA {when}").format(level=known, when=when))
        place = f" ({sheet.listener.place})" if sheet.listener.place else ""
        carried = level_at(alone, sheet.meter.distance_m, sheet.listener.distance_m, None)
        text = tr("At the listener's place{place} the pick alone comes to about {level} dBA").format(
            place=place, level=number_text(carried, 1)
        )
        self.heard.setText(text + (tr("; with the background there: ") + ", ".join(texts) if texts else "") + ".")

    # -- editing ---------------------------------------------------------------------------------------------------

    def _set(self, part: str, name: str, value: Any) -> None:
        sheet = self.session.sheet
        if sheet is None or getattr(getattr(sheet, part), name) == value:
            return
        changed = msgspec.structs.replace(getattr(sheet, part), **{name: value})
        self._change({"room": tr("room"), "listener": tr("listener"), "meter": tr("sound meter")}[part], {part: changed})

    def _mark(self, index: int, over_db: float) -> None:
        """Move where a mark begins; those beside it give way, so that the scale goes on rising."""
        sheet = self.session.sheet
        if sheet is None:
            return
        marks = list(sheet.marks_over_db)
        marks[index] = over_db
        for at in range(index + 1, len(marks)):
            marks[at] = max(marks[at], marks[at - 1] + 0.5)
        for at in range(index - 1, -1, -1):
            marks[at] = min(marks[at], marks[at + 1] - 0.5)
        self._change(tr("dynamic scale"), {"marks_over_db": tuple(marks)})

    def _change(self, words_: str, fields: dict[str, Any]) -> None:
        sheet = self.session.sheet
        if sheet is None:
            return
        if not self.session.sheets.change(words_, msgspec.structs.replace(sheet, **fields)):
            self.show_sheet(sheet)
