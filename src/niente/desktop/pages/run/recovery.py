"""The offer after an end that nobody asked for: what was running, its last seconds, what follows, go on or not."""

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from niente.core.acquisition.recovery import InterruptedRun
from niente.core.model.names import kind_of
from niente.core.model.quantities import duration_text, quantity_of
from niente.desktop.actions.registry import Actions
from niente.desktop.services.theme import BODY, SMALL, Look, font
from niente.desktop.services.translation import tr
from niente.desktop.session.session import Session
from niente.desktop.widgets.brushes import draw_text
from niente.desktop.widgets.labels import ActionButton, label, rule

SHOWN = (
    ("core_temperature_c", "hottest_core_c"),
    ("package_power_w", "package_power_w"),
    ("effective_clock_mhz", "effective_clock_mhz"),
    ("throughput_per_s", "throughput_per_s"),
)
"""What is drawn of the last seconds: channels (of several, the greatest) and the quantity they are named by."""
STRIP_H, MIN_STRIP_H, FOOT_H = 46, 26, 16
NAMED = 6


class LastSeconds(QWidget):
    """The last samples before everything ended, a small line for each reading, now at the right."""

    def __init__(self, look: Look) -> None:
        super().__init__()
        self._look = look
        self._lines: list[tuple[str, str, np.ndarray]] = []
        self._time = np.empty(0)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Maximum)
        look.changed.connect(self.update)

    def show_samples(self, found: InterruptedRun) -> None:
        """Show a run's last samples."""
        self._time, self._lines = found.time_s, []
        for channel, name in SHOWN:
            indices = [i for i, one in enumerate(found.run.channels) if kind_of(one) == channel]
            if not indices or not found.time_s.shape[0]:
                continue
            values = np.where(np.isfinite(found.values[:, indices]), found.values[:, indices], -np.inf).max(axis=1)
            values = np.where(np.isfinite(values), values, np.nan)
            quantity = quantity_of(name)
            self._lines.append((quantity.title, quantity.with_unit(float(values[-1])), values))
        text = "; ".join(f"{title}: {last}" for title, last, _ in self._lines)
        self.setAccessibleName(tr("The last seconds"))
        self.setAccessibleDescription(text)
        self.updateGeometry()
        self.update()

    def sizeHint(self) -> QSize:
        """One strip high a reading."""
        return QSize(400, STRIP_H * len(self._lines) + FOOT_H)

    def minimumSizeHint(self) -> QSize:
        """Where there is little room, the strips are lower."""
        return QSize(400, MIN_STRIP_H * len(self._lines) + FOOT_H)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the lines."""
        if not self._lines:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        p = self._look.palette
        left, right = 120.0, self.width() - 110.0
        high_px = (self.height() - FOOT_H) / len(self._lines)
        start, end = float(self._time[0]), float(self._time[-1])
        for row, (title, last, values) in enumerate(self._lines):
            top = high_px * row
            area = QRectF(left, top + 6, right - left, high_px - 14)
            draw_text(painter, QPointF(0, top + high_px / 2 + 2), title, font(BODY), p.ink)
            painter.setPen(QPen(QColor(p.rule), 1))
            painter.drawLine(QPointF(left, top + high_px - 3.5), QPointF(right, top + high_px - 3.5))
            low, high = float(np.nanmin(values)), float(np.nanmax(values))
            if not math.isfinite(low):
                continue
            span = max(high - low, 0.02 * max(abs(high), 1.0))
            x = left + (self._time - start) / max(end - start, 1.0) * area.width()
            y = area.bottom() - (values - low) / span * area.height()
            points = [QPointF(a, b) for a, b in zip(x.tolist(), y.tolist(), strict=True) if b == b]
            painter.setPen(QPen(QColor(p.ink), 1.25))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolyline(QPolygonF(points))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(p.guard))
            painter.drawEllipse(points[-1], 3.5, 3.5)
            draw_text(painter, QPointF(right + 12, points[-1].y() + 4), last, font(BODY), p.ink)
        foot = self.height() - 6.0
        draw_text(painter, QPointF(left, foot), f"−{duration_text(end - start)}", font(SMALL), p.soft)
        draw_text(painter, QPointF(right, foot), tr("the end"), font(SMALL), p.soft, align=Qt.AlignmentFlag.AlignRight)
        painter.end()


class RecoveryView(QWidget):
    """What was running when everything ended, whether it says anything of the setting, and the ways on."""

    def __init__(self, session: Session, actions: Actions, look: Look) -> None:
        super().__init__()
        self.session = session
        self.what = label("", "", wrap=True)
        self.last = LastSeconds(look)
        self.verdict = label("", "", wrap=True)
        self.left_out = label("", "soft", wrap=True)
        self.failed = QPushButton(tr("The machine failed in it"))
        self.failed.setToolTip(tr("The setting counts as failed under this load; the plan leaves out what that implies"))
        self.failed.clicked.connect(lambda: session.hands.judge(machine_down=True))
        self.ended = QPushButton(tr("Something else ended it"))
        self.ended.setToolTip(tr("A power cut, or Niente was ended: it says nothing of the setting, and the run is made again"))
        self.ended.clicked.connect(lambda: session.hands.judge(machine_down=False))
        self.resume = ActionButton(actions["plan.start"])
        self.away = QPushButton(tr("Not now"))
        self.away.setToolTip(tr("Hide this for now; the book keeps it, and the plan can go on at any time"))
        self.away.clicked.connect(session.hands.put_away)
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 4, 0, 4)
        rows.setSpacing(8)
        rows.addWidget(self.what)
        rows.addSpacing(4)
        self.lasting = QWidget()
        lasting = QVBoxLayout(self.lasting)
        lasting.setContentsMargins(0, 0, 0, 0)
        lasting.addWidget(label(tr("The last half minute"), "section"))
        lasting.addWidget(rule())
        lasting.addWidget(self.last)
        rows.addWidget(self.lasting)
        rows.addWidget(label(tr("What it says"), "section"))
        rows.addWidget(rule())
        rows.addWidget(self.verdict)
        rows.addWidget(self.left_out)
        row = QHBoxLayout()
        for button in (self.failed, self.ended, self.resume, self.away):
            row.addWidget(button)
        row.addStretch(1)
        rows.addSpacing(4)
        rows.addLayout(row)
        rows.addStretch(1)

    def refresh(self) -> None:
        """Show what the book found open."""
        found, card = self.session.hands.interrupted, self.session.card
        if found is None or card is None:
            return
        load = card.load(found.run.load)
        swept = tuple(control.name for control in card.controls if "." not in control.name)
        words = tr("{load} had run for {t} at {setting}. Every sample of it is in the book.")
        setting = found.run.setting.text(swept)
        title = load.title if load is not None else found.run.load
        if not found.time_s.shape[0]:
            words = tr("{load} had only begun at {setting}: no sample of it had come.")
        self.what.setText(words.format(load=title, t=duration_text(found.seconds), setting=setting))
        self.lasting.setVisible(found.time_s.shape[0] > 1)
        self.last.show_samples(found)
        self.verdict.setText(_verdict(found))
        self.left_out.setText(self._left_out(found))
        self.failed.setVisible(found.to_be_judged)
        self.ended.setVisible(found.to_be_judged)
        self.resume.setVisible(not found.to_be_judged)

    def _left_out(self, found: InterruptedRun) -> str:
        names = self.session.hands.left_out()
        if found.machine_down is False:
            return ""
        if not names:
            return tr("No other run of the plan is left out because of it.") if found.machine_down is not None else ""
        shown = "; ".join(names[:NAMED]) + (tr(" and {n} more").format(n=len(names) - NAMED) if len(names) > NAMED else "")
        if found.machine_down:
            return tr("Left out, since they are at least as demanding: {runs}.").format(runs=shown)
        return tr("If it failed, these are left out, since they are at least as demanding: {runs}.").format(runs=shown)


def _verdict(found: InterruptedRun) -> str:
    if found.machine_down:
        return tr("The machine went down in this run: the setting counts as failed under this load. The plan can go on.")
    if found.machine_down is False:
        return tr("Niente ended in this run, and the machine did not fail: it says nothing of the setting and is made again.")
    return tr(
        "Niente cannot tell from here whether the machine failed at this setting, or whether the power was cut or Niente "
        "itself ended. You were there, or can ask: a machine that froze, restarted or showed an error has failed."
    )
