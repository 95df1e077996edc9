"""The pulse: the machine's readings and the one button that always stands in the same place."""

import math
from collections.abc import Callable

from PySide6.QtCore import Signal
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from niente.core.evidence import column, holds_of
from niente.core.quantities import NO_BREAK_SPACE, quantity_of
from niente.core.rigs.protocol import Paced
from niente.core.science.dynamics import dynamic_mark
from niente.core.science.hold import Hold
from niente.core.setting import Setting
from niente.desktop.session import Session
from niente.desktop.theme import SMALL, font
from niente.desktop.widgets.labels import label

HEIGHT = 56
PACES: tuple[tuple[str, float | None], ...] = (
    ("× 1", 1.0),
    ("× 10", 10.0),
    ("× 60", 60.0),
    ("× 600", 600.0),
    ("as fast as it goes", None),
)


class Reading(QWidget):
    """One reading: a soft caption over a value."""

    def __init__(self, caption: str, width: int) -> None:
        super().__init__()
        self.setFixedWidth(width)
        self.value = label("–", "reading")
        self.caption = label(caption, "soft")
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 8, 0, 8)
        rows.setSpacing(0)
        rows.addWidget(self.caption)
        rows.addWidget(self.value)
        self.setAccessibleName(caption)

    def show_text(self, text: str) -> None:
        """Show a value, for eyes and for screen readers."""
        if text != self.value.text():
            self.value.setText(text)
            self.setAccessibleDescription(text)


class Pulse(QWidget):
    """The strip at the bottom while a rig is attached."""

    paced = Signal(object)

    def __init__(self, session: Session, stop: QAction) -> None:
        super().__init__()
        self._session = session
        self.setFixedHeight(HEIGHT)
        row = QHBoxLayout(self)
        row.setContentsMargins(24, 0, 24, 0)
        row.setSpacing(10)
        self._readings = {
            "hot": Reading("Hottest core", 82),
            "room": Reading("Room", 74),
            "power": Reading("Package", 84),
            "clock": Reading("Effective clock", 96),
            "throughput": Reading("Throughput", 74),
            "fans": Reading("Fans", 128),
            "noise": Reading("Noise in the room", 122),
            "hold": Reading("Holds the clock", 104),
        }
        for reading in self._readings.values():
            row.addWidget(reading)
        row.addStretch(1)
        self.badge = label("simulated", "soft")
        self.pace = QComboBox()
        self.pace.setAccessibleName("Pace of the simulated rig")
        self.pace.setToolTip("How fast the simulated rig's clock goes")
        self.pace.addItems([text for text, _ in PACES])
        self.pace.setFont(font(SMALL))
        self.pace.activated.connect(lambda place: self.paced.emit(PACES[place][1]))
        pace = QVBoxLayout()
        pace.setContentsMargins(0, 8, 0, 8)
        pace.setSpacing(2)
        pace.addWidget(self.badge)
        pace.addWidget(self.pace)
        row.addLayout(pace)
        self.stop = QPushButton("Stop and restore   Ctrl+.")
        self.stop.setProperty("role", "stop")
        self.stop.setAccessibleName("Stop and restore")
        self.stop.setToolTip(stop.toolTip())
        self.stop.setFixedWidth(184)
        self.stop.clicked.connect(stop.trigger)
        row.addWidget(self.stop)

    def attach(self) -> None:
        """Show whether the rig is simulated, and its pace."""
        card, bench = self._session.card, self._session.bench
        if card is None or bench is None:
            return
        self.badge.setVisible(card.simulated)
        self.pace.setVisible(card.simulated)
        if isinstance(bench.rig, Paced):
            paces = [pace for _, pace in PACES]
            if bench.rig.pace in paces:
                self.pace.setCurrentIndex(paces.index(bench.rig.pace))
        self._readings["fans"].caption.setText("Fans: " + ", ".join(card.fan_groups()[::-1]))

    def resizeEvent(self, event: object) -> None:
        """Below 1280 px throughput, then fans, then room give way."""
        width = self.width()
        for name, least in (("throughput", 1270), ("fans", 1180), ("room", 1020)):
            self._readings[name].setVisible(width >= least)

    def refresh(self) -> None:
        """Show the latest frame."""
        session, card, frame = self._session, self._session.card, self._session.frame
        if card is None or frame is None:
            return
        values = frame.values[None, :]

        def one(name: str) -> float:
            return float(column(card, values, name)[0])

        cores = [frame.values[place] for place in card.indices("core_temperature_c")]
        hottest = max((core for core in cores if not math.isnan(core)), default=math.nan)
        live = session.live
        running = live is not None and live.closed is None
        show = {
            "hot": quantity_of("hottest_core_c").with_unit(hottest),
            "room": quantity_of("room_temperature_c").with_unit(one("room_temperature_c")),
            "power": quantity_of("package_power_w").with_unit(one("package_power_w")),
            "clock": quantity_of("effective_clock_mhz").with_unit(one("effective_clock_mhz")),
            "throughput": self._throughput(one("throughput_per_s"), live.opened.step.load if running and live else ""),
            "fans": self._fans(card.fan_groups()[::-1], one),
            "noise": self._noise(one("noise_dba")),
            "hold": "idle",
        }
        if running and live is not None and one("throughput_per_s") > 0:
            setting: Setting = live.opened.step.setting
            show["hold"] = Hold(int(holds_of(card, values, setting)[0])).words
        for name, text in show.items():
            self._readings[name].show_text(text)

    def _fans(self, groups: tuple[str, ...], one: Callable[[str], float]) -> str:
        speeds = [quantity_of("fan_speed_rpm").text(one(f"fan_speed_rpm.{group}")) for group in groups]
        return f"{', '.join(speeds)}{NO_BREAK_SPACE}rpm"

    def _throughput(self, now: float, load: str) -> str:
        models = self._session.answer.models
        stock = models.stock_throughput.get(load) if models is not None else None
        if not stock:
            return "–"
        return quantity_of("throughput_percent").with_unit(100.0 * now / stock)

    def _noise(self, level: float) -> str:
        text = quantity_of("noise_dba").with_unit(level)
        models = self._session.answer.models
        return f"{text}  {dynamic_mark(level, models.noise.background_dba)}" if models is not None else text
