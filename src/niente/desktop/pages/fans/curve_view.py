"""The curve of one fan group: duty over what its sensors read, points to be dragged, and what it stands in."""

import math

import numpy as np
from PySide6.QtCore import QPointF, Qt, QTimer, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from niente.core.model.curve_edits import added_point, moved_point, without_point
from niente.core.model.fan_curve import FanCurve
from niente.desktop.pages.fans.curve_picture import RIGHT_PX, TOP_PX, CurvePicture, Shown
from niente.desktop.services.qt_errors import guarded
from niente.desktop.services.theme import Look
from niente.desktop.services.translation import tr
from niente.desktop.widgets.scale import PixelSpan

LEFT_PX, FOOT_PX, NEAR_PX = 46, 36, 12.0
STEP_C, STEP_PERCENT, LARGE = 1.0, 1.0, 5.0
KEYS_MS = 700
"""So long after the last key an edit by keys is over."""
ARROWS = {
    Qt.Key.Key_Left: (-STEP_C, 0.0),
    Qt.Key.Key_Right: (STEP_C, 0.0),
    Qt.Key.Key_Down: (0.0, -STEP_PERCENT),
    Qt.Key.Key_Up: (0.0, STEP_PERCENT),
}


class CurveView(QWidget):
    """A curve that can be edited: points are dragged, moved by arrows, added by a double click and taken away by Delete.

    ``dragged`` comes while a point moves, ``edited`` once it is let go; ``chosen`` when another point is selected.
    """

    dragged = Signal(object)
    edited = Signal(object, str)
    chosen = Signal(int)

    def __init__(self, look: Look) -> None:
        super().__init__()
        self._look = look
        self._curve: FanCurve | None = None
        self._shown: Shown | None = None
        self._held: FanCurve | None = None
        """The curve while it is being edited; what it was before stays in ``_curve``."""
        self._selected = 0
        self._dragging = False
        self._range_c = (20.0, 100.0)
        self._keys = QTimer(self)
        self._keys.setSingleShot(True)
        self._keys.setInterval(KEYS_MS)
        self._keys.timeout.connect(self._let_go)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setMinimumSize(300, 200)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(tr("The fan curve: duty over temperature"))
        look.changed.connect(self.update)

    # -- what it shows -------------------------------------------------------------------------------------------

    @property
    def curve(self) -> FanCurve | None:
        """The curve as it is seen, an edit under way among it."""
        return self._held if self._held is not None else self._curve

    @property
    def selected(self) -> int:
        """The index of the selected point."""
        points = len(self.curve.points) if self.curve is not None else 0
        return min(self._selected, points - 1)

    def show_curve(self, curve: FanCurve | None, shown: Shown | None) -> None:
        """Show a curve; an edit under way goes on where the curve beneath it is the same."""
        if curve != self._curve:
            self._held, self._dragging = None, False
            self._keys.stop()
        self._curve, self._shown = curve, shown
        if not self._dragging:
            self._range_c = self._fitting_range()
        self.setAccessibleDescription(self.words())
        self.update()

    def words(self) -> str:
        """Say the picture, for who does not see it."""
        curve = self.curve
        if curve is None:
            duty = self._shown.group.fixed if self._shown is not None else 0.0
            return tr("no curve: fixed at {duty} %").format(duty=f"{duty:g}")
        celsius, duty = curve.points[self.selected]
        where = tr("point {k} of {n}: {c} °C, {duty} %").format(
            k=self.selected + 1, n=len(curve.points), c=f"{celsius:g}", duty=f"{duty:g}"
        )
        return f"{curve.text}; {where}"

    def select(self, index: int) -> None:
        """Select a point."""
        curve = self.curve
        if curve is not None and index != self.selected and 0 <= index < len(curve.points):
            self._selected = index
            self.setAccessibleDescription(self.words())
            self.chosen.emit(index)
            self.update()

    def _fitting_range(self) -> tuple[float, float]:
        """Return the temperatures that the axis shows: round ones round all points and where it settles."""
        shown, curve = self._shown, self._curve
        if curve is None or shown is None:
            return self._range_c
        every = [celsius for celsius, _ in curve.points]
        every += [celsius for celsius, _ in shown.compared.points] if shown.compared is not None else []
        every += [one for one in (*(shown.settles_c or ()), shown.now_c, curve.off_below_c or math.nan) if math.isfinite(one)]
        low, high = min(every), max(every)
        step = 10.0 if high - low > 25.0 else 5.0
        return min(step * math.floor((low - 4.0) / step), 20.0 if step == 10.0 else 200.0), step * math.ceil(
            (high + 4.0) / step
        )

    # -- mouse and keys ------------------------------------------------------------------------------------------

    def _spans(self) -> tuple[PixelSpan, PixelSpan]:
        across = PixelSpan(*self._range_c, LEFT_PX, self.width() - RIGHT_PX)
        return across, PixelSpan(0.0, 100.0, self.height() - FOOT_PX, TOP_PX)

    def _near(self, at: QPointF) -> int:
        """Return the index of the point under the pointer; -1 where there is none."""
        across, up = self._spans()
        points = self.curve.points if self.curve is not None else ()
        away = [math.hypot(across.px(celsius) - at.x(), up.px(duty) - at.y()) for celsius, duty in points]
        return int(np.argmin(away)) if away and min(away) <= NEAR_PX else -1

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take hold of a point."""
        index = self._near(event.position())
        if event.button() == Qt.MouseButton.LeftButton and index >= 0 and self.isEnabled():
            self._let_go()
            self.select(index)
            self._dragging = True

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Move the point that is held, in whole steps; else show which can be."""
        curve = self.curve
        if not self._dragging or curve is None:
            near = self._near(event.position()) >= 0
            self.setCursor(Qt.CursorShape.SizeAllCursor if near and self.isEnabled() else Qt.CursorShape.ArrowCursor)
            return
        across, up = self._spans()
        celsius, duty = across.value(event.position().x()), up.value(event.position().y())
        self._move_to(round(celsius / STEP_C) * STEP_C, round(duty / STEP_PERCENT) * STEP_PERCENT)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Let the point go."""
        if self._dragging:
            self._dragging = False
            self._let_go()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Add a point on the line at the pointer."""
        if self.isEnabled() and self._near(event.position()) < 0:
            self.add_point(self._spans()[0].value(event.position().x()))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Move the selected point by arrows, go to another by Page keys, add by Insert and take away by Delete."""
        key, curve = Qt.Key(event.key()), self.curve
        if curve is None:
            super().keyPressEvent(event)
        elif key in ARROWS:
            factor = LARGE if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
            celsius, duty = curve.points[self.selected]
            self._move_to(celsius + factor * ARROWS[key][0], duty + factor * ARROWS[key][1])
            self._keys.start()
        elif key in (Qt.Key.Key_PageUp, Qt.Key.Key_PageDown):
            self.select(self.selected + (1 if key == Qt.Key.Key_PageUp else -1))
        elif key == Qt.Key.Key_Delete:
            self.take_point_away()
        elif key == Qt.Key.Key_Insert:
            self.add_point(self.after_selected())
        elif key == Qt.Key.Key_Escape and self._held is not None:
            self._held, self._dragging = None, False
            self.dragged.emit(self._curve)
            self.update()
        else:
            super().keyPressEvent(event)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        """What keys moved is settled once the picture is left."""
        self._let_go()
        super().focusOutEvent(event)
        self.update()

    def add_point(self, celsius: float) -> None:
        """Add a point on the line."""
        curve = self.curve
        if curve is not None and self.isEnabled():
            made, index = added_point(curve, celsius)
            if index >= 0:
                self._held = made
                self.select(index)
                self._let_go(tr("point added"))

    def take_point_away(self) -> None:
        """Take the selected point away; two stay."""
        curve = self.curve
        if curve is not None and self.isEnabled():
            made = without_point(curve, self.selected)
            if made != curve:
                self._held = made
                self._let_go(tr("point taken away"))

    def after_selected(self) -> float:
        """Return a temperature half-way from the selected point to the next."""
        assert self.curve is not None
        points, index = self.curve.points, self.selected
        if index + 1 < len(points):
            return 0.5 * (points[index][0] + points[index + 1][0])
        return points[index][0] + LARGE

    def _move_to(self, celsius: float, duty: float) -> None:
        curve, shown = self.curve, self._shown
        if curve is None or shown is None or not self.isEnabled():
            return
        made = moved_point(curve, self.selected, celsius, max(duty, curve.floor_percent))
        if made != curve:
            self._held = made
            self.setAccessibleDescription(self.words())
            self.dragged.emit(made)
            self.chosen.emit(self.selected)
            self.update()

    def _let_go(self, words: str = "") -> None:
        """End an edit under way: the owner has it, and shows what came of it."""
        self._keys.stop()
        made, self._held = self._held, None
        if made is not None and made != self._curve:
            self.edited.emit(made, words or tr("point moved"))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw axes, floor, where the fans stand, the curve compared with, the curve, its points and where it is now."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        shown = self._shown
        if shown is not None:
            across, up = self._spans()
            ratio = self.devicePixelRatioF()
            picture = CurvePicture(self._look.palette, ratio, across, up, self.curve, shown, self.selected, self._dragging)
            guarded(lambda: picture.paint(painter))
        painter.end()
