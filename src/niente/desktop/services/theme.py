"""The look from one set of tokens: palettes, type sizes, style sheet, and which palette applies when."""

import contextlib
import math
import re
import time
from enum import StrEnum
from functools import lru_cache
from importlib import resources
from pathlib import Path
from string import Template

import msgspec
from PySide6.QtCore import QObject, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PySide6.QtWidgets import QApplication, QWidget

SMALL, BODY, READING, TITLE, GREAT = 11, 12, 15, 22, 32
"""The only type sizes, in px at scale 1."""


class Palette(msgspec.Struct, frozen=True):
    """The colours of one look. Each carries one meaning (docs/design.md).

    ``cap`` fills what firmware limits and is always outlined in ink; ``cap_line`` is the same meaning as a line, dark
    enough to stand alone.
    """

    name: str
    ground: str
    surface: str
    ink: str
    soft: str
    rule: str
    strong_rule: str
    shade: str
    accent: str
    cap: str
    cap_line: str
    guard: str
    second: str
    fault: str


PAPER = Palette(
    name="Paper",
    ground="#F6F4EF",
    surface="#FFFFFF",
    ink="#22262B",
    soft="#5E666F",
    rule="#D9D5CB",
    strong_rule="#A9A69C",
    shade="#ECE8DF",
    accent="#0F6E74",
    cap="#E69F00",
    cap_line="#A66A00",
    guard="#D55E00",
    second="#0072B2",
    fault="#B3578A",
)
DUSK = Palette(
    name="Dusk",
    ground="#14181C",
    surface="#1C2227",
    ink="#E6E3DB",
    soft="#8F99A3",
    rule="#2C343B",
    strong_rule="#4A545D",
    shade="#1B2025",
    accent="#4FB3B0",
    cap="#E69F00",
    cap_line="#E69F00",
    guard="#E2681A",
    second="#56B4E9",
    fault="#CC79A7",
)


class PaletteChoice(StrEnum):
    """Which palette a person wants: the desktop's, or one for good."""

    DESKTOP = "desktop"
    PAPER = "paper"
    DUSK = "dusk"


def palette_for(palette_choice: PaletteChoice, scheme: Qt.ColorScheme) -> Palette:
    """Return the palette for a wish under a desktop's colour scheme; where the desktop says nothing, Paper."""
    if palette_choice == PaletteChoice.DESKTOP:
        return DUSK if scheme == Qt.ColorScheme.Dark else PAPER
    return DUSK if palette_choice == PaletteChoice.DUSK else PAPER


class Look(QObject):
    """The palette in force. Painters read ``palette`` as they paint; ``changed`` tells them to do it again."""

    changed = Signal()

    def __init__(self, app: QApplication, palette_choice: PaletteChoice = PaletteChoice.DESKTOP) -> None:
        super().__init__(app)
        self._app = app
        self.palette_choice = palette_choice
        self.palette = palette_for(palette_choice, app.styleHints().colorScheme())
        app.setStyle("Fusion")  # once: every change of it has all widgets laid out again
        self._redressing = Redressing(app)
        app.setFont(font(BODY))
        dress(app, self.palette)
        app.styleHints().colorSchemeChanged.connect(self.follow)

    def apply(self, palette_choice: PaletteChoice) -> None:
        """Apply another palette, or follow the desktop."""
        self.palette_choice = palette_choice
        self.follow(self._app.styleHints().colorScheme())

    def finish(self) -> None:
        """Have everything take over the palette now: something else is about to be shown."""
        self._redressing.finish()

    def follow(self, scheme: Qt.ColorScheme) -> None:
        """Follow the desktop's scheme, where that is what a person wants."""
        wanted = palette_for(self.palette_choice, scheme)
        if wanted != self.palette:
            self.palette = wanted
            dress(self._app, wanted)
            self._redressing.begin()
            self.changed.emit()


def asset(name: str) -> str:
    """Return the path of a file that ships with Niente, as a style sheet wants it."""
    return str(resources.files("niente") / "assets" / name)


def load_fonts() -> None:
    """Register the fonts that ship with Niente."""
    with resources.as_file(resources.files("niente") / "assets" / "fonts") as folder:
        for file in sorted(Path(folder).glob("*.otf")):
            QFontDatabase.addApplicationFont(str(file))


@lru_cache
def font(size: int, *, bold: bool = False, italic: bool = False) -> QFont:
    """Return B612 in one of the sizes, shared. Its digits all have one width, so figures stay in their columns."""
    made = QFont("B612")
    made.setPixelSize(size)
    made.setBold(bold)
    made.setItalic(italic)
    return made


ROLES = {
    "ground": (
        QPalette.ColorRole.Window,
        QPalette.ColorRole.Base,
        QPalette.ColorRole.Button,
        QPalette.ColorRole.HighlightedText,
    ),
    "ink": (QPalette.ColorRole.WindowText, QPalette.ColorRole.Text, QPalette.ColorRole.ButtonText),
    "soft": (QPalette.ColorRole.Dark, QPalette.ColorRole.PlaceholderText),
    "accent": (QPalette.ColorRole.Highlight, QPalette.ColorRole.Link),
    "surface": (QPalette.ColorRole.Light,),
    "shade": (QPalette.ColorRole.AlternateBase,),
    "rule": (QPalette.ColorRole.Midlight,),
    "strong_rule": (QPalette.ColorRole.Mid,),
    "guard": (QPalette.ColorRole.BrightText,),
}
"""The colours that the style sheet uses, and what Qt calls them; the first of each is the one that the sheet names."""


def style_sheet() -> str:
    """Return the style sheet, which is the same for every palette: it names roles, and no colours. To read a sheet anew costs a
    millisecond a widget; another palette costs next to nothing. The focus ring is not here: ``app.focus_ring`` draws it.
    """
    names = {colour: f"palette({_sheet_name(roles[0])})" for colour, roles in ROLES.items()}
    sizes = {"small": SMALL, "body": BODY, "reading": READING, "title": TITLE, "great": GREAT}
    icons = {name: asset(f"icons/{name}.svg") for name in ("down", "tick")}
    return Template(Path(asset("look.qss")).read_text(encoding="utf-8")).substitute(**names, **sizes, **icons)


def _sheet_name(role: QPalette.ColorRole) -> str:
    """Return what a style sheet calls a role: ``window-text`` for ``WindowText``."""
    return re.sub(r"(?<!^)(?=[A-Z])", "-", role.name).lower()


def dress(app: QApplication, p: Palette) -> None:
    """Dress the application in a palette."""
    colours = QPalette()
    for colour, roles in ROLES.items():
        for role in roles:
            colours.setColor(role, QColor(getattr(p, colour)))
    app.setPalette(colours)
    if not app.styleSheet():
        app.setStyleSheet(style_sheet())


class Redressing(QObject):
    """Has widgets take over another palette. The style sheet keeps what it made of the last one until a widget is polished:
    what is seen at once, all else in slices that no one notices."""

    SLICE_S = 0.008

    def __init__(self, app: QApplication) -> None:
        super().__init__(app)
        self._app = app
        self._left: list[QWidget] = []
        self._breath = QTimer(self)
        self._breath.setSingleShot(True)
        self._breath.timeout.connect(lambda: self._slice())

    def begin(self) -> None:
        """Take over the application's palette."""
        widgets = self._app.allWidgets()
        for widget in widgets:
            if widget.isVisible():
                self._app.style().polish(widget)
        self._left = [widget for widget in widgets if not widget.isVisible()]
        self._breath.start(0)

    def finish(self) -> None:
        """Do at once what is left."""
        self._slice(math.inf)

    def _slice(self, seconds: float = SLICE_S) -> None:
        end = time.perf_counter() + seconds
        while self._left and time.perf_counter() < end:
            widget = self._left.pop()
            with contextlib.suppress(RuntimeError):  # it may have gone meanwhile
                self._app.style().polish(widget)
                if widget.isVisible():
                    widget.update()
        if self._left:
            self._breath.start(0)
