"""Room for names in a drawing: each is put beside what it names, where it covers no other."""

from PySide6.QtCore import QPointF, QRectF

AIR_PX = 3.0


class FreePlaces:
    """What of a drawing is taken by marks and names."""

    def __init__(self) -> None:
        self._taken: list[QRectF] = []

    def take(self, area: QRectF) -> None:
        """Keep an area free of names."""
        self._taken.append(area)

    def beside(
        self, spot: QPointF, width: float, height: float, away: float, whole: QRectF, *, level: bool = False
    ) -> QRectF | None:
        """Take an area of that size beside a point and inside ``whole``; ``None`` where every side is taken. Right of it if it
        can be, or over it where it lies on a ``level`` line."""
        x, y = spot.x(), spot.y()
        sides = (
            QPointF(x + away, y - 0.5 * height),
            QPointF(x - away - width, y - 0.5 * height),
            QPointF(x - 0.5 * width, y - away - height),
            QPointF(x - 0.5 * width, y + away),
            QPointF(x + away, y - away - height),
            QPointF(x + away, y + away),
            QPointF(x - away - width, y - away - height),
            QPointF(x - away - width, y + away),
        )
        for corner in (*sides[2:4], *sides) if level else sides:
            area = QRectF(corner.x(), corner.y(), width, height)
            roomy = area.adjusted(-AIR_PX, -AIR_PX, AIR_PX, AIR_PX)
            if whole.contains(area) and not any(roomy.intersects(other) for other in self._taken):
                self.take(area)
                return area
        return None
