"""Labels by their role in the look, and the two small parts pages are ruled with."""

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QAction, QPainter, QPaintEvent
from PySide6.QtWidgets import QFrame, QLabel, QPushButton, QSizePolicy

from niente.desktop.services.decimal_sign import in_locale
from niente.desktop.services.plain_text import plain


def label(text: str = "", role: str = "", *, wrap: bool = False) -> QLabel:
    """Return a label dressed for a role of the style sheet: soft, lead, title, reading, great, mark, tag or section."""
    made = Label(role)
    made.setText(text)
    made.setWordWrap(wrap)
    return made


class Label(QLabel):
    """Words, letter for letter, their numbers with the locale's decimal sign."""

    def __init__(self, role: str = "") -> None:
        super().__init__()
        if role:
            self.setProperty("role", role)
        self.setTextFormat(Qt.TextFormat.PlainText)

    def setText(self, text: str) -> None:
        """Show other words."""
        super().setText(in_locale(text))


class NarrowLabel(Label):
    """A line as wide as its words; where there is less room it ends in an ellipsis, and the tooltip has the whole."""

    LEAST_PX = 40

    def minimumSizeHint(self) -> QSize:
        """A few letters."""
        whole = super().sizeHint()
        return QSize(min(whole.width(), self.LEAST_PX), whole.height())

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the words, or as much as fits."""
        fits = self.fontMetrics().horizontalAdvance(self.text()) <= self.contentsRect().width()
        self.setToolTip("" if fits else plain(self.text()))
        if fits:
            super().paintEvent(event)
            return
        shown = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, self.contentsRect().width())
        painter = QPainter(self)
        self.style().drawItemText(
            painter, self.contentsRect(), int(self.alignment()), self.palette(), self.isEnabled(), shown, self.foregroundRole()
        )
        painter.end()


class ShortLabel(NarrowLabel):
    """A line that takes what room there is, whatever its words need."""

    def __init__(self, role: str) -> None:
        super().__init__(role)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)


def rule() -> QFrame:
    """Return a horizontal rule, one pixel."""
    line = QFrame()
    line.setProperty("role", "rule")
    line.setFixedHeight(1)
    return line


def upright_rule() -> QFrame:
    """Return an upright rule, one pixel."""
    line = QFrame()
    line.setProperty("role", "rule")
    line.setFixedWidth(1)
    return line


class ActionButton(QPushButton):
    """A button that does an action, and stands and falls with it: words, tooltip, and whether it can be done.

    ``short`` is for where there is little room: the action's short words, the long ones in the tooltip.
    """

    def __init__(self, action: QAction, *, short: bool = False) -> None:
        super().__init__()
        self._action = action
        self._short = short
        self._follow()
        action.changed.connect(self._follow)
        self.clicked.connect(action.trigger)

    def _follow(self) -> None:
        words = self._action.text().removesuffix(" …")
        short = self._action.iconText().removesuffix(" …") if self._short else words
        self.setText(in_locale(short))
        told = (*((words,) if short != words else ()), self._action.toolTip(), self._action.whatsThis())
        self.setToolTip(in_locale("\n".join(line for line in told if line)))
        self.setEnabled(self._action.isEnabled())
        self.setCheckable(self._action.isCheckable())
        self.setChecked(self._action.isChecked())
