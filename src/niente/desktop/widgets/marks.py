"""The marks: measured is filled, inferred is open, running is half filled, the pick has a ring."""

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from niente.desktop.services.theme import Palette


def draw_measured(painter: QPainter, at: QPointF, p: Palette) -> None:
    """Draw a setting that was run."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(QColor(p.ground), 1.5))
    painter.setBrush(QColor(p.ink))
    painter.drawEllipse(at, 4.25, 4.25)


def draw_inferred(painter: QPainter, at: QPointF, p: Palette, *, over_field: bool = False) -> None:
    """Draw a setting that is only inferred; over a field, a pale ring on a dark one."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    if over_field:
        painter.setPen(QPen(QColor("#22262B"), 3.0))
        painter.drawEllipse(at, 3.0, 3.0)
        painter.setPen(QPen(QColor("#F6F4EF"), 1.3))
        painter.drawEllipse(at, 3.0, 3.0)
        return
    painter.setPen(QPen(QColor(p.ink), 1.1))
    painter.setBrush(QColor(p.ground))
    painter.drawEllipse(at, 3.0, 3.0)


def draw_running(painter: QPainter, at: QPointF, p: Palette) -> None:
    """Draw the setting that runs now."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(QColor(p.ink), 1.5))
    painter.setBrush(QColor(p.ground))
    painter.drawEllipse(at, 5.0, 5.0)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor(p.ink))
    painter.drawPie(QRectF(at.x() - 5, at.y() - 5, 10, 10), 90 * 16, 180 * 16)


def draw_picked(painter: QPainter, at: QPointF, p: Palette) -> None:
    """Draw the pick: a dot of accent in a ring."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(QColor(p.ground), 3.5))
    painter.drawEllipse(at, 7.5, 7.5)
    painter.setPen(QPen(QColor(p.accent), 1.75))
    painter.drawEllipse(at, 7.5, 7.5)
    painter.setPen(QPen(QColor(p.ground), 1.0))
    painter.setBrush(QColor(p.accent))
    painter.drawEllipse(at, 4.25, 4.25)


def draw_ringed(painter: QPainter, at: QPointF, p: Palette, *, wide: bool = False) -> None:
    """Draw a setting that has a name or a number: a dot in a ring, ``wide`` where a person points at it."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setBrush(QColor(p.ground))
    painter.setPen(QPen(QColor(p.ink), 1.25))
    across = 7.5 if wide else 5.5
    painter.drawEllipse(at, across, across)
    painter.setBrush(QColor(p.ink))
    painter.drawEllipse(at, 2.25, 2.25)


def draw_rejected(painter: QPainter, at: QPointF, colour: QColor) -> None:
    """Draw a setting that breaks a limit."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(colour, 1.0))
    for way in (-1.0, 1.0):
        painter.drawLine(at + QPointF(-2.5, -2.5 * way), at + QPointF(2.5, 2.5 * way))
