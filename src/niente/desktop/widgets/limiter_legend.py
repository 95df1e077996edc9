"""What the textures of the limiter band mean."""

from PySide6.QtCore import QPointF, QRectF, QSize
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from niente.core.science.clock_limiter import ClockLimiter
from niente.desktop.services.theme import SMALL, Look, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import LIMITERS, draw_limiter, draw_text

COLUMNS, ROW = 2, 18


def words_of(limiter: ClockLimiter) -> str:
    """Return what a texture stands for: several limiters may share one."""
    return tr("fault, drop-out") if limiter == ClockLimiter.FAULT else tr(limiter.words)


class LimiterKeys(QWidget):
    """One chip and its word for each texture."""

    def __init__(self, look: Look) -> None:
        super().__init__()
        self._look = look
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(tr("What the limiter band's textures mean"))
        look.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        """As high as its rows."""
        return QSize(200, ROW * -(-len(LIMITERS) // COLUMNS))

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the chips."""
        painter = QPainter(self)
        ratio = self.devicePixelRatioF()
        for index, limiter in enumerate(LIMITERS):
            x, y = (index % COLUMNS) * self.width() / COLUMNS, (index // COLUMNS) * ROW
            draw_limiter(painter, QRectF(int(x), y + 2, 20, 11), limiter, self._look.palette, ratio)
            draw_text(painter, QPointF(int(x) + 26, y + 11.5), words_of(limiter), font(SMALL), self._look.palette.ink)
        painter.end()
