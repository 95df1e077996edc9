"""What the map is asked for: two controls, layer, lines, load, room, the other controls, and a variant to set it against."""

from enum import StrEnum

import msgspec
from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QLabel, QSizePolicy, QVBoxLayout, QWidget

from niente.core.analysis.grid import GridView, OtherControls, axes_of
from niente.core.analysis.maps import MapRequest
from niente.core.analysis.models import Models
from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.desktop.pages.map.layers import LAYERS
from niente.desktop.services.translation import tr
from niente.desktop.widgets.choice_box import ChoiceBox
from niente.desktop.widgets.labels import ShortLabel, label
from niente.desktop.widgets.quantity_field import QuantityField


class MapLines(StrEnum):
    """The lines over a field."""

    NOISE = "noise"
    HEADROOM = "headroom"
    BOTH = "both"
    NONE = "none"

    @property
    def of_noise(self) -> bool:
        """Whether lines of equal noise are among them."""
        return self in (MapLines.NOISE, MapLines.BOTH)

    @property
    def of_headroom(self) -> bool:
        """Whether lines of equal headroom are among them."""
        return self in (MapLines.HEADROOM, MapLines.BOTH)


OTHERS = ((OtherControls.FIXED, "fixed"), (OtherControls.CHOSEN, "as the pick"), (OtherControls.OPTIMISED, "fans optimised"))
MAX_FIXED = 4
FIELD_PX, MIN_PX = 24, 56


def _box(name: str, tip: str) -> QComboBox:
    box = ChoiceBox()
    box.setAccessibleName(name)
    box.setToolTip(tip)
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    box.setMinimumContentsLength(2)
    box.setMinimumWidth(MIN_PX)
    box.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
    return box


class MapRequestRow(QWidget):
    """Fields with their names above them. ``requested`` comes with another map to work out, ``shown`` when only its drawing
    changes."""

    requested = Signal(object)
    shown = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._request = MapRequest()
        self._axes: tuple[str, ...] = ()
        self._lead = ""
        self.across = _box(tr("Across"), tr("The control along the level axis"))
        self.up = _box(tr("Up"), tr("The control along the upright axis"))
        self.layer = _box(tr("Layer"), tr("What the colours show"))
        self.layer.addItems([tr(layer.title) for layer in LAYERS])
        self.lines = _box(
            tr("Lines"), tr("Lines of equal noise at the limits of the dynamic scale, of equal headroom, or both")
        )
        for lines in MapLines:
            self.lines.addItem(tr(lines.value), lines)
        self.load = _box(tr("Load"), tr("The load that heats and counts; both: the heaviest heats, the realistic one counts"))
        self.others = _box(tr("Others"), tr("How the controls that are on no axis are set"))
        for _, name in OTHERS:
            self.others.addItem(tr(name))
        self.room = QuantityField(quantity_of("room_temperature_c"), low=10, high=45, step=0.5, title=tr("Room"), default=28.0)
        self.room.setMinimumWidth(MIN_PX)
        self.room.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.against = _box(tr("Against"), tr("Draw the difference to another variant of the machine"))
        self.intervals = QCheckBox(tr("±"))
        self.intervals.setChecked(True)
        self.intervals.setToolTip(tr("Draw the 95 % intervals in the slices"))
        self.intervals.setAccessibleName(tr("Intervals"))
        self._columns: dict[QWidget, QLabel] = {}
        self._shares: dict[QWidget, int] = {}
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(4)
        row = self._row = QHBoxLayout()
        row.setSpacing(10)
        for name, field, share in (
            *(
                (tr("Across"), self.across, 4),
                (tr("Up"), self.up, 4),
                (tr("Layer"), self.layer, 4),
                (tr("Lines"), self.lines, 3),
            ),
            *((tr("Load"), self.load, 3), (tr("Others"), self.others, 3), (tr("Room"), self.room, 2)),
            *((tr("Against"), self.against, 3), ("", self.intervals, 0)),
        ):
            column = QVBoxLayout()
            column.setSpacing(0)
            words = self._columns[field] = label(name, "soft")
            field.setFixedHeight(FIELD_PX)
            column.addWidget(words)
            column.addWidget(field)
            row.addLayout(column, share)
            self._shares[field] = share
        row.addStretch(0)
        rows.addLayout(row)
        self._fixed_row = QHBoxLayout()
        self._fixed_row.setSpacing(10)
        self._fixed_fields: dict[str, QuantityField] = {}
        rows.addLayout(self._fixed_row)
        for box in (self.across, self.up, self.load, self.others, self.against):
            box.activated.connect(self._edited)
        self.room.settled.connect(self._edited)
        for box in (self.layer, self.lines):
            box.activated.connect(self.shown)
        self.intervals.toggled.connect(self.shown)

    def show_for_lines(self, lines: bool) -> None:
        """Put away what a field alone has, where lines over watts show."""
        of_field = (self.across, self.up, self.layer, self.lines, self.against, self.intervals)
        for index, (field, share) in enumerate(self._shares.items()):
            away = lines and field in of_field
            field.setVisible(not away)
            self._columns[field].setVisible(not away)
            self._row.setStretch(index, 0 if away else share)
        self._row.setStretch(len(self._shares), 14 if lines else 0)

    @property
    def request(self) -> MapRequest:
        """What is asked for now."""
        return self._request

    def put(self, request: MapRequest) -> None:
        """Ask for a map that there is already; the fields follow when they are shown next."""
        self._request, self._axes = request, ()
        index = [how for how, _ in OTHERS].index(request.view.others)
        with QSignalBlocker(self.others):
            self.others.setCurrentIndex(index)
        if request.room_c is not None:
            self.room.put(request.room_c)

    def fit_to(self, models: Models) -> None:
        """Ask for the usual map again where this machine does not have what was asked for."""
        view, axes = self._request.view, axes_of(models)
        controls = {view.across, view.up or models.fans, *view.fixed}
        knows = view.load in ("", *models.power.loads) and self._request.against in ("", *models.evidence.elsewhere)
        if not (controls <= set(axes) and knows):
            self.put(MapRequest())

    def show_choices(self, models: Models, design_room_c: float, base: Setting) -> None:
        """Offer what there is to choose from on this machine, keeping what is chosen."""
        axes, self._lead = axes_of(models), models.fans
        known = {control.name: control.title for control in models.card.controls}
        if axes != self._axes:
            self._axes = axes
            for box in (self.across, self.up):
                with QSignalBlocker(box):
                    box.clear()
                    for name in axes:
                        box.addItem(known[name], name)
            self._choose(self.across, self._request.view.across)
            self._choose(self.up, self._request.view.up or models.fans)
        self._offer(
            self.load, [("", tr("both")), *((load.name, load.title) for load in models.steady())], self._request.view.load
        )
        variants = [name for name, other in models.evidence.elsewhere.items() if other.runs]
        self._offer(self.against, [("", tr("nothing")), *((name, name) for name in variants)], self._request.against)
        self.against.setEnabled(bool(variants))
        self.room.default = design_room_c
        if self._request.room_c is None:
            self.room.put(design_room_c)
        self._show_fixed(models, base)

    @staticmethod
    def _choose(box: QComboBox, data: str) -> None:
        with QSignalBlocker(box):
            box.setCurrentIndex(max(box.findData(data), 0))

    def _offer(self, box: QComboBox, entries: list[tuple[str, str]], chosen: str) -> None:
        if [str(box.itemData(index)) for index in range(box.count())] != [data for data, _ in entries]:
            with QSignalBlocker(box):
                box.clear()
                for data, name in entries:
                    box.addItem(name, data)
        self._choose(box, chosen)

    def _show_fixed(self, models: Models, base: Setting) -> None:
        """Show the values of the controls on no axis; where they are fixed they can be edited."""
        wanted = [name for name in self._axes if name not in (self.across.currentData(), self.up.currentData())][:MAX_FIXED]
        if list(self._fixed_fields) != wanted:
            self._build_fixed(wanted, models.card)
        how = OTHERS[self.others.currentIndex()][0]
        for name, field in self._fixed_fields.items():
            value = base.value(name)
            field.setEnabled(
                how == OtherControls.FIXED or (how == OtherControls.OPTIMISED and not name.startswith("fan_duty."))
            )
            if value is not None and not field.hasFocus():
                field.put(value)

    def _build_fixed(self, wanted: list[str], card: RigCard) -> None:
        """Make the fields of the controls on no axis anew."""
        while (item := self._fixed_row.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self._fixed_fields = {}
        for name in wanted:
            control = card.control(name)
            if control is None:
                continue
            low = control.low if control.rest is None else min(control.low, control.rest)
            field = QuantityField(quantity_of(name), low=low, high=control.high, step=control.step, title=control.title)
            field.settled.connect(lambda value, name=name: self._set_fixed(name, value))
            field.setMinimumWidth(MIN_PX)
            field.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
            words = ShortLabel("soft")
            words.setText(control.title)
            words.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            self._fixed_row.addWidget(words, 5)
            self._fixed_row.addWidget(field, 4)
            self._fixed_fields[name] = field

    def _set_fixed(self, name: str, value: float) -> None:
        view = self._request.view
        fixed = msgspec.structs.replace(view, fixed={**view.fixed, name: value})
        self._take(msgspec.structs.replace(self._request, view=fixed))

    def _edited(self) -> None:
        across, up = str(self.across.currentData()), str(self.up.currentData())
        if across == up:  # the two change places
            before = self._request.view.across, self._request.view.up or self._lead
            across, up = (before[1], before[0])
            self._choose(self.across, across)
            self._choose(self.up, up)
        fixed = {name: value for name, value in self._request.view.fixed.items() if name not in (across, up)}
        up = "" if up == self._lead else up
        view = GridView(across, up, str(self.load.currentData() or ""), OTHERS[self.others.currentIndex()][0], fixed)
        room = self.room.value()
        same = self.room.default is not None and abs(room - self.room.default) < 1e-6
        self._take(MapRequest(view, None if same else room, str(self.against.currentData() or "")))

    def _take(self, request: MapRequest) -> None:
        if request != self._request:
            self._request = request
            self.requested.emit(request)
