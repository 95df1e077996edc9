"""The pulse: the machine's readings and the one button that always stands in the same place."""

import math
from collections.abc import Callable

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QAction, QPainter, QPaintEvent
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from niente.core.analysis.evidence import column, limiters_of
from niente.core.model.plan import Step
from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import RigCard
from niente.core.science.arrays import Array
from niente.core.science.clock_limiter import ClockLimiter
from niente.desktop.services.leisure import Leisure
from niente.desktop.services.theme import SMALL, Look, font
from niente.desktop.services.translation import tr
from niente.desktop.session.session import Session
from niente.desktop.widgets.brushes import draw_limiter
from niente.desktop.widgets.choice_box import ChoiceBox
from niente.desktop.widgets.labels import label

HEIGHT = 56
AT_REST = "stop-at-rest"
GIVE_WAY = ("throughput", "fans", "room")
PACES: tuple[tuple[str, float | None], ...] = (
    ("× 1", 1.0),
    ("× 10", 10.0),
    ("× 60", 60.0),
    ("× 600", 600.0),
    ("as fast as it goes", None),
)


class PulseReading(QWidget):
    """One reading: a soft caption over a value, its unit small behind it, and a mark or chip where it has one."""

    def __init__(self, caption: str, width: int, extra: QWidget | None = None) -> None:
        super().__init__()
        self.value = label("–", "reading")
        self.unit = label("", "soft")
        self.caption = label(caption, "soft")
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 9, 0, 8)
        rows.setSpacing(0)
        rows.addWidget(self.caption)
        line = QHBoxLayout()
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(5)
        if isinstance(extra, LimiterChip):
            line.addWidget(extra)
        line.addWidget(self.value)
        line.addWidget(self.unit, 0, Qt.AlignmentFlag.AlignBottom)
        if isinstance(extra, QLabel):
            line.addWidget(extra, 0, Qt.AlignmentFlag.AlignBottom)
        line.addStretch(1)
        rows.addLayout(line)
        self.unit.setContentsMargins(0, 0, 0, 3)
        self.setAccessibleName(caption)
        self.setFixedWidth(max(width, self.caption.sizeHint().width()))

    def show_value(self, value: str, unit: str = "") -> None:
        """Show a value, for eyes and for screen readers."""
        if value != self.value.text() or unit != self.unit.text():
            self.value.setText(value)
            self.unit.setText(unit)
            self.setAccessibleDescription(f"{value} {unit}".strip())


class LimiterChip(QWidget):
    """A piece of the limiter band, as large as a word."""

    def __init__(self, look: Look) -> None:
        super().__init__()
        self._look = look
        self._limiter: ClockLimiter | None = None
        self.setFixedSize(QSize(20, 14))

    def show_limiter(self, limiter: ClockLimiter | None) -> None:
        """Show what holds; nothing while nothing runs."""
        if limiter != self._limiter:
            self._limiter = limiter
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the chip."""
        if self._limiter is not None:
            painter = QPainter(self)
            draw_limiter(painter, QRectF(0, 1, 20, 12), self._limiter, self._look.palette, self.devicePixelRatioF())
            painter.end()


class Pulse(QWidget):
    """The strip at the bottom while a rig is attached."""

    paced = Signal(object)

    def __init__(self, session: Session, stop: QAction, look: Look) -> None:
        super().__init__()
        self._session = session
        self.setFixedHeight(HEIGHT)
        row = QHBoxLayout(self)
        row.setContentsMargins(24, 0, 24, 0)
        row.setSpacing(8)
        self._chip = LimiterChip(look)
        self._mark = label("", "mark")
        self._mark.setStyleSheet("font-size: 15px;")
        self._mark.setMinimumWidth(48)
        self._readings = {
            "hot": PulseReading(tr("Hottest core"), 84),
            "room": PulseReading(tr("Room"), 74),
            "power": PulseReading(tr("Package"), 84),
            "clock": PulseReading(tr("Effective clock"), 98),
            "throughput": PulseReading(tr("Throughput"), 84),
            "fans": PulseReading(tr("Fans"), 122),
            "noise": PulseReading(tr("Noise in the room"), 146, self._mark),
            "limiter": PulseReading(tr("Limits the clock"), 164, self._chip),
        }
        for reading in self._readings.values():
            row.addWidget(reading)
        row.addStretch(1)
        self.badge = label(tr("simulated, at"), "soft")
        self.pace = ChoiceBox()
        self.pace.setAccessibleName(tr("Pace of the simulated rig"))
        self.pace.setToolTip(tr("How fast the simulated rig's clock goes"))
        self.pace.addItems([tr(text) for text, _ in PACES])
        self.pace.setFont(font(SMALL))
        self._session.sampled.connect(Leisure(self.refresh, self).soon)
        self._session.project_changed.connect(self.attach)  # whoever commands may have set another pace
        self.pace.activated.connect(lambda index: self.paced.emit(PACES[index][1]))
        self.pace.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.pace.setMinimumContentsLength(7)
        self.pace.view().setMinimumWidth(150)
        pace = QVBoxLayout()
        pace.setContentsMargins(0, 9, 0, 8)
        pace.setSpacing(1)
        pace.addWidget(self.badge)
        pace.addWidget(self.pace)
        row.addLayout(pace)
        row.addSpacing(4)
        self.stop = QPushButton(f"{stop.text()}   {stop.shortcut().toString()}")
        self.stop.setProperty("role", AT_REST)
        self.stop.setAccessibleName(stop.text())
        self.stop.setToolTip(stop.toolTip())
        self.stop.ensurePolished()
        self.stop.setMinimumWidth(max(184, self.stop.sizeHint().width()))
        self.stop.clicked.connect(stop.trigger)
        stop.changed.connect(lambda: self.stop.setEnabled(stop.isEnabled()))
        row.addWidget(self.stop)

    def show_stop(self, runs: bool) -> None:
        """Let the button stand out while something runs, and only then."""
        role = "stop" if runs else AT_REST
        if self.stop.property("role") != role:
            self.stop.setProperty("role", role)
            self.stop.style().unpolish(self.stop)
            self.stop.style().polish(self.stop)

    def attach(self) -> None:
        """Show whether the rig is simulated, and its pace."""
        card, bench = self._session.card, self._session.bench
        if card is None or bench is None:
            return
        self.badge.setVisible(card.simulated)
        self.pace.setVisible(card.simulated)
        paces = [pace for _, pace in PACES]
        if bench.pace in paces:
            self.pace.setCurrentIndex(paces.index(bench.pace))
        self.pace.setEnabled(not bench.follows)
        groups = ", ".join(card.fan_groups()[::-1])
        fans = self._readings["fans"]
        fans.caption.setText(tr("Fans: {groups}").format(groups=groups))
        fans.setFixedWidth(max(fans.width(), fans.caption.sizeHint().width()))

    def resizeEvent(self, event: object) -> None:
        """In a narrow window throughput, then fans, then room give way; the button never does."""
        row = self.layout()
        for name in GIVE_WAY:
            self._readings[name].setVisible(True)
        for name in GIVE_WAY:
            if row is not None and row.minimumSize().width() > self.width():
                self._readings[name].setVisible(False)

    def refresh(self) -> None:
        """Show the latest frame."""
        session, card, frame = self._session, self._session.card, self._session.frame
        if card is None or frame is None:
            return
        values = frame.values[None, :]

        def one(name: str) -> float:
            return float(column(card, values, name)[0])

        cores = [frame.values[index] for index in card.indices("core_temperature_c")]
        hottest = max((core for core in cores if not math.isnan(core)), default=math.nan)
        live = session.live
        running = live is not None and live.closed is None
        for reading, name, value in (
            ("hot", "hottest_core_c", hottest),
            ("room", "room_temperature_c", one("room_temperature_c")),
            ("power", "package_power_w", one("package_power_w")),
            ("clock", "effective_clock_mhz", one("effective_clock_mhz")),
            ("noise", "noise_dba", one("noise_dba")),
        ):
            quantity = quantity_of(name)
            self._readings[reading].show_value(quantity.text(value), quantity.unit)
        self._show_throughput(one("throughput_per_s"), live.opened.step.load if running and live else "")
        self._show_fans(card.fan_groups()[::-1], one)
        self._show_mark(one("noise_dba"))
        working = running and one("throughput_per_s") > 0
        self._show_limiter(_limiter(card, values, live.opened.step) if working and live is not None else None)

    def _show_limiter(self, limiter: ClockLimiter | None) -> None:
        """Show what holds the clock, or that the machine is idle."""
        self._chip.setVisible(limiter is not None)
        self._chip.show_limiter(limiter)
        self._readings["limiter"].show_value(tr(limiter.words) if limiter is not None else tr("idle"))

    def _show_fans(self, groups: tuple[str, ...], one: Callable[[str], float]) -> None:
        speeds = [quantity_of("fan_speed_rpm").text(one(f"fan_speed_rpm.{group}")) for group in groups]
        self._readings["fans"].show_value(", ".join(speeds), "rpm")

    def _show_throughput(self, now: float, load: str) -> None:
        models = self._session.answer.models
        stock = models.stock_work(load) if models is not None else None
        if stock:
            self._readings["throughput"].show_value(quantity_of("throughput_percent").text(100.0 * now / stock), "%")
        else:
            self._readings["throughput"].show_value("–")

    def _show_mark(self, level: float) -> None:
        models = self._session.answer.models
        text = models.scale.mark(level) if models is not None else ""
        if text != self._mark.text():
            self._mark.setText(text)


def _limiter(card: RigCard, values: Array, step: Step) -> ClockLimiter:
    """Return what holds the clock in one frame ``(1, channels)`` of a run."""
    return ClockLimiter(int(limiters_of(card, values, step.setting, step.load)[0]))
