"""The Rig page's fourth view: how far each sensor is to be trusted, and which temperature is the one that counts."""

import math

import msgspec
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from niente.core.model.names import kind_of
from niente.core.model.quantities import Quantity, quantity_of
from niente.core.model.rig_card import Channel, RigCard, Trust
from niente.core.model.rig_sheet import READABLE, RigSheet, counts_of
from niente.desktop.services.leisure import Leisure
from niente.desktop.services.theme import Look
from niente.desktop.services.translation import tr
from niente.desktop.session.session import Session
from niente.desktop.widgets.blocks import Reading
from niente.desktop.widgets.form import Form, choice
from niente.desktop.widgets.labels import ActionButton, label, rule
from niente.desktop.widgets.sheet_table import Entry, SheetModel, sheet_view

HEADS = ("Sensor", "Now", "Step", "Read by", "Reads too high by", "Reads times", "As shown by")
NOW, STEP, READ_BY, OFFSET, GAIN, REFERENCE = range(1, 7)
BY = {False: "sensor", True: "hand"}
GAIN_FIELD = Quantity("gain", "Gain", "", "×", 3, 0.2, 5.0)


class SensorsView(QWidget):
    """Which statistic counts, over a table of channels."""

    def __init__(self, session: Session, look: Look, calibrate: QAction) -> None:
        super().__init__()
        self.session = session
        self.counts = choice(tr("What counts"), [], self._counts_chosen)
        self.model = SheetModel([tr(head) for head in HEADS], {NOW, STEP, OFFSET, GAIN})
        self.model.edited.connect(self._edited)
        self._names: list[str] = []
        session.sampled.connect(Leisure(self._show_now, self).soon)
        widths = {0: 168, NOW: 96, STEP: 64, READ_BY: 64, OFFSET: 116, GAIN: 84}
        self.table = sheet_view(tr("Sensor trust"), self.model, look, stretch=REFERENCE, widths=widths)
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(4)
        form = Form(tr("The temperature that counts"))
        form.add(tr("Of the processor"), self.counts, tr("settled temperatures, headroom and the map are of this one"))
        rows.addWidget(form)
        rows.addWidget(rule())
        rows.addWidget(label(tr("Sensor trust"), "section"))
        rows.addWidget(
            label(
                tr(
                    "A board's sensor can be wrong by a gain: a reference on both machines, or driving into a known cap, "
                    "shows it. Readings stay in the book as they came; what is worked out from them uses these corrections."
                ),
                "soft",
                wrap=True,
            )
        )
        rows.addWidget(self.table, 1)
        row = QHBoxLayout()
        row.addWidget(ActionButton(calibrate))
        row.addStretch(1)
        rows.addLayout(row)

    def show_sheet(self, sheet: RigSheet, own: RigCard) -> None:
        """Show a sheet over the driver's channels."""
        offered = [tr(kind.value) for kind in counts_of(own)]
        if [self.counts.itemText(i) for i in range(self.counts.count())] != offered:
            self.counts.clear()
            self.counts.addItems(offered)
        self.counts.setCurrentText(tr(sheet.counts.value))
        kinds: dict[str, list[Channel]] = {}
        for channel in own.channels:
            kinds.setdefault(kind_of(channel.name), []).append(channel)
        self._names = list(kinds)
        known = {trust.channel: trust for trust in sheet.trust}
        self.model.set_entries([_row(kind, alike, known, sheet.by_hand) for kind, alike in kinds.items()])
        self._show_now()

    def _show_now(self) -> None:
        """Show what each sensor reads now, of several the highest."""
        card, frame = self.session.card, self.session.frame
        if card is None or frame is None or not self.isVisible():
            return
        entries = []
        for kind in self._names:
            read = [float(frame.values[index]) for index in card.indices(kind)]
            known = [value for value in read if math.isfinite(value)]
            entries.append(Entry(quantity_of(kind).with_unit(max(known)) if known else "–"))
        self.model.set_column(NOW, entries)

    def _counts_chosen(self, index: int) -> None:
        sheet, bench = self.session.sheet, self.session.bench
        if sheet is not None and bench is not None:
            counts = counts_of(bench.own_card)[index]
            self.session.sheets.change(tr("what counts"), msgspec.structs.replace(sheet, counts=counts))

    def _edited(self, row: int, column: int, value: object) -> None:
        sheet, bench = self.session.sheet, self.session.bench
        if sheet is None or bench is None:
            return
        name = self._names[row]
        if column == READ_BY:
            words, after = tr("how a meter is read"), _with_reading(sheet, name, by_hand=value == tr(BY[True]))
        else:
            field = {OFFSET: "offset", GAIN: "gain", REFERENCE: "reference"}[column]
            words, after = tr("sensor trust"), _trusted(sheet, name, field, value)
        if not self.session.sheets.change(words, after):
            self.show_sheet(sheet, bench.own_card)


def _read_by(name: str, by_hand: tuple[str, ...]) -> Entry:
    """Return who reads a channel; what guards and models want at every sample comes by cable."""
    source = tr(BY[name in by_hand])
    if name not in READABLE:
        return Entry(source, soft=True)
    title = tr("Read by hand: asked for at the end of every run")
    return Entry(source, source, options=tuple(tr(words) for words in BY.values()), title=title)


def _row(kind: str, alike: list[Channel], known: dict[str, Trust], by_hand: tuple[str, ...]) -> list[Entry]:
    """Return the row of a quantity; where there are several channels of it they share what is said of them."""
    quantity, trust, channel = quantity_of(kind), known.get(kind, Trust(kind)), alike[0]
    own = [one.title for one in alike if one.name in known and one.name != kind]
    title = channel.title if len(alike) == 1 else tr("{title}, all {n}").format(title=quantity.title, n=len(alike))
    title += tr(" (own: {names})").format(names=", ".join(own)) if own else ""
    step = f"{channel.resolution:g}\u00a0{quantity.unit}" if channel.resolution else ""
    offset_step = 0.1 if quantity.digits <= 1 else 0.001
    reach = 30.0 if quantity.unit in ("°C", "dBA", "K") else quantity.high / 10.0
    return [
        Entry(title),
        Entry("–"),
        Entry(step, soft=True),
        _read_by(kind, by_hand),
        Entry(
            f"{trust.offset:+g}\u00a0{quantity.unit}".replace("-", "−") if trust.offset else "",
            trust.offset,
            quantity,
            -reach,
            reach,
            offset_step,
            title=tr("Reads too high by"),
        ),
        Entry(
            f"×\u00a0{trust.gain:g}" if trust.gain != 1 else "",
            trust.gain,
            GAIN_FIELD,
            0.2,
            5.0,
            0.001,
            title=tr("Reads times"),
        ),
        Entry(trust.reference, trust.reference, title=tr("As shown by")),
    ]


def _with_reading(sheet: RigSheet, name: str, *, by_hand: bool) -> RigSheet:
    """Return a sheet on which a channel is read by hand, or by cable."""
    others = tuple(one for one in sheet.by_hand if one != name)
    return msgspec.structs.replace(sheet, by_hand=(*others, name) if by_hand else others)


def _trusted(sheet: RigSheet, name: str, field: str, value: object) -> RigSheet:
    """Return a sheet with one figure of a channel's trust changed; trust that says nothing is not kept."""
    known = {trust.channel: trust for trust in sheet.trust}
    known[name] = msgspec.structs.replace(known.get(name, Trust(name)), **{field: value})
    return msgspec.structs.replace(sheet, trust=tuple(one for one in known.values() if one != Trust(one.channel)))


def trust_readings(card: RigCard) -> tuple[Reading, ...]:
    """Return each quantity's step and what of it counts, for the margin."""
    counts = {
        "core_temperature_c": tr("hottest"),
        "case_air_temperature_c": tr("mean"),
        "room_temperature_c": tr("lagged"),
        "package_power_w": tr("mean"),
        "noise_dba": tr("energy"),
    }
    found = []
    for name, how in counts.items():
        indices = card.indices(name)
        if not indices:
            continue
        quantity = quantity_of(name)
        step = card.channels[indices[0]].resolution
        unit = "K" if quantity.unit == "°C" else quantity.unit.removesuffix("A")
        title = tr("Cores") if name == "core_temperature_c" else quantity.title
        found.append(Reading(title, f"{step:g}" if step else "–", unit, how))
    return tuple(found)
