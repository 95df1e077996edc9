"""The picture behind an answer: bars of temperatures, spreads about zero, rails of depth, or curves."""

from PySide6.QtCore import QRectF, QSize
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from niente.core.model.answer_document import Bars, Curves, Depths, Differences
from niente.desktop.pages.answer.bars import bars_px, draw_bars
from niente.desktop.pages.answer.curves import draw_curves
from niente.desktop.pages.answer.depths import draw_depths
from niente.desktop.pages.answer.differences import differences_px, draw_differences
from niente.desktop.pages.answer.outlines import HIGH_PX, draw_outline
from niente.desktop.services.theme import Look
from niente.desktop.services.translation import tr

Shown = Bars | Differences | Depths | Curves
LEAST_PX, CURVES_PX, DEPTHS_PX = 120, 300, 340


class AnswerPicture(QWidget):
    """Paints what an answer's picture shows."""

    def __init__(self, look: Look) -> None:
        super().__init__()
        self._look = look
        self.shown: Shown | None = None
        self.awaited = ""
        """The question whose picture is drawn in outline, where there is none yet."""
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(tr("The picture behind the answer"))
        look.changed.connect(self.update)

    def show_picture(self, picture: Shown | None, words: str) -> None:
        """Show another picture; ``words`` say it for who does not see it."""
        if picture != self.shown:
            self.shown = picture
            self.setAccessibleDescription(words)
            fixed = isinstance(picture, Bars | Differences)
            vertical = QSizePolicy.Policy.Fixed if fixed else QSizePolicy.Policy.Expanding
            self.setSizePolicy(QSizePolicy.Policy.Expanding, vertical)
            self.updateGeometry()
            self.update()

    def await_picture(self, question: str) -> None:
        """Draw the picture that a question's answer will have in outline; an empty text draws none."""
        if question != self.awaited:
            self.awaited = question
            if question:
                self.setAccessibleDescription(tr("The picture to come, in outline"))
            self.updateGeometry()
            self.update()

    def sizeHint(self) -> QSize:
        """As high as its rows want."""
        return QSize(600, self._wanted_px())

    def minimumSizeHint(self) -> QSize:
        """Low enough for a small window."""
        return QSize(300, min(self._wanted_px(), LEAST_PX))

    def _wanted_px(self) -> int:
        match self.shown:
            case Bars():
                return bars_px(self.shown)
            case Differences():
                return differences_px(self.shown)
            case Depths():
                return DEPTHS_PX
            case Curves():
                return CURVES_PX
            case _:
                return int(HIGH_PX) if self.awaited else 0

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the picture."""
        painter = QPainter(self)
        area = QRectF(self.rect())
        match self.shown:
            case Bars():
                draw_bars(painter, area, self.shown, self._look)
            case Differences():
                draw_differences(painter, area, self.shown, self._look)
            case Depths():
                draw_depths(painter, area, self.shown, self._look)
            case Curves():
                draw_curves(painter, area, self.shown, self._look)
            case _ if self.awaited:
                draw_outline(painter, area, self.awaited, self._look.palette)
        painter.end()
