"""The dialog in which a sensor is compared with a reference: pairs of true and read values, and the correction from them."""

import math
from collections.abc import Sequence

import numpy as np
from PySide6.QtWidgets import QDialog, QGridLayout, QLineEdit, QPushButton, QWidget

from niente.core.analysis.evidence import Evidence
from niente.core.model.names import kind_of
from niente.core.model.quantities import quantity_of, value_typed
from niente.core.model.rig_card import RigCard, Trust
from niente.core.science.calibration import Calibration, calibrate
from niente.desktop.dialogs.sheet import SheetDialog
from niente.desktop.services.decimal_sign import in_locale
from niente.desktop.services.translation import tr
from niente.desktop.widgets.choice_box import ChoiceBox
from niente.desktop.widgets.labels import label

PAIRS = 6
CORES = "core_temperature_c"


class Calibrate(SheetDialog):
    """Asks for pairs, and says what the sensor is off by while they are typed."""

    def __init__(self, over: QWidget, card: RigCard, evidence: Evidence | None) -> None:
        words = tr(
            "Put what a reference reads beside what the sensor reads, at temperatures that lie apart. A cooler or a meter "
            "measured on another machine will do; so will a core that is driven into its temperature cap: the cap is true."
        )
        super().__init__(over, tr("Calibrate a sensor"), words)
        self.found: Calibration | None = None
        self._evidence = evidence
        self.sensor = ChoiceBox()
        self.sensor.setAccessibleName(tr("Sensor"))
        for name in dict.fromkeys(kind_of(channel.name) for channel in card.channels):
            if quantity_of(name).unit in ("°C", "W", "dBA", "rpm"):
                self.sensor.addItem(quantity_of(name).title, name)
        self.sensor.currentIndexChanged.connect(self._look)
        self.from_caps = QPushButton(tr("From runs limited by their cap"))
        self.from_caps.clicked.connect(self.take_caps)
        grid = QGridLayout()
        grid.addWidget(label(tr("True"), "soft"), 0, 0)
        grid.addWidget(label(tr("Reads"), "soft"), 0, 1)
        self.pairs: list[tuple[QLineEdit, QLineEdit]] = []
        for row in range(PAIRS):
            pair = QLineEdit(), QLineEdit()
            for column, (field, name) in enumerate(zip(pair, (tr("True"), tr("Reads")), strict=True)):
                field.setAccessibleName(f"{name} {row + 1}")
                field.textChanged.connect(self._look)
                grid.addWidget(field, row + 1, column)
            self.pairs.append(pair)
        self.column.addWidget(self.sensor)
        self.column.addLayout(grid)
        self.column.addWidget(self.from_caps)
        self.result_text = self.say("")
        self.say(tr("Every reading stays in the book as it came."), "soft")
        self.take = self.take_or_leave(tr("Take over"))
        self._look()

    @property
    def name(self) -> str:
        """The quantity that is calibrated."""
        return str(self.sensor.currentData())

    def take_caps(self) -> None:
        """Fill in the runs that firmware limited at a temperature cap: the cap is true, the core's reading is what it reads."""
        index = self.sensor.findData(CORES)
        if index >= 0:
            self.sensor.setCurrentIndex(index)
        self._fill(caps_of(self._evidence))

    def _fill(self, found: Sequence[tuple[float, float]]) -> None:
        for row, (true, reads) in enumerate(self.pairs):
            known = found[row] if row < len(found) else None
            true.setText(in_locale(f"{known[0]:g}") if known is not None else "")
            reads.setText(in_locale(f"{known[1]:.1f}") if known is not None else "")

    def _typed(self) -> list[tuple[float, float]]:
        unit = quantity_of(self.name).unit
        found = []
        for true, reads in self.pairs:
            try:
                found.append((value_typed(true.text(), unit), value_typed(reads.text(), unit)))
            except ValueError:
                continue
        return found

    def _look(self) -> None:
        """Say what the pairs come to."""
        self.from_caps.setEnabled(bool(caps_of(self._evidence)))
        pairs = np.array(self._typed()).reshape(-1, 2)
        self.found = None
        try:
            self.found = calibrate(pairs[:, 0], pairs[:, 1])
            self.result_text.setText(self._words(self.found))
        except ValueError as error:
            self.result_text.setText(tr("Not yet: {why}.").format(why=str(error)))
        self.take.setEnabled(self.found is not None)

    def _words(self, found: Calibration) -> str:
        quantity = quantity_of(self.name)
        offset = f"{found.offset:+.2f}".replace("-", "−") + (f" ± {found.offset_hw:.2f}" if _finite(found.offset_hw) else "")
        if not _finite(found.gain_hw) and found.gain == 1.0:
            words = tr("It reads {offset} {unit} too high; references further apart would show a gain as well.")
            return words.format(offset=offset, unit=quantity.unit)
        gain = f"{found.gain:.3f}" + (f" ± {found.gain_hw:.3f}" if _finite(found.gain_hw) else "")
        words = tr("It reads {gain} times the truth and {offset} {unit}, from {n} pairs.")
        return words.format(gain=gain, offset=offset, unit=quantity.unit, n=found.pairs)

    def trust(self) -> Trust | None:
        """Return what to trust the sensor for; ``None`` where the pairs tell nothing."""
        if self.found is None:
            return None
        words = tr("{n} pairs beside a reference").format(n=self.found.pairs)
        return Trust(self.name, round(self.found.offset, 3), round(self.found.gain, 4), words)


def caps_of(evidence: Evidence | None) -> list[tuple[float, float]]:
    """Return the runs that firmware limited at a temperature cap: the cap, and what the core that counts read, °C."""
    found = []
    for run in evidence.usable() if evidence is not None else []:
        cap = run.setting.temperature_cap_c
        if run.heat_limited and cap is not None and math.isfinite(run.core_c):
            found.append((cap, run.core_c))
    return found


def _finite(value: float) -> bool:
    return math.isfinite(value)


def ask_for_trust(over: QWidget, card: RigCard, evidence: Evidence | None) -> Trust | None:
    """Ask what a sensor is off by; ``None`` where nothing is to be taken over."""
    dialog = Calibrate(over, card, evidence)
    wanted = dialog.exec() == QDialog.DialogCode.Accepted
    trust = dialog.trust() if wanted else None
    dialog.deleteLater()
    return trust
