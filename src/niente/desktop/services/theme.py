"""The look from one set of tokens: palettes, type sizes, style sheet, and which palette applies when."""

from enum import StrEnum
from functools import lru_cache
from importlib import resources
from pathlib import Path

import msgspec
from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PySide6.QtWidgets import QApplication

SMALL, BODY, READING, TITLE, GREAT = 11, 12, 15, 22, 32
"""The only type sizes, in px at scale 1."""


class Palette(msgspec.Struct, frozen=True):
    """The colours of one look. Each carries one meaning (docs/design.md).

    ``cap`` fills what firmware limits and is always outlined in ink; ``cap_line`` is the same meaning as a line, dark
    enough to stand alone.
    """

    name: str
    dark: bool
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
    dark=False,
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
    dark=True,
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
        app.setFont(font(BODY))
        dress(app, self.palette)
        app.styleHints().colorSchemeChanged.connect(self.follow)

    def apply(self, palette_choice: PaletteChoice) -> None:
        """Apply another palette, or follow the desktop."""
        self.palette_choice = palette_choice
        self.follow(self._app.styleHints().colorScheme())

    def follow(self, scheme: Qt.ColorScheme) -> None:
        """Follow the desktop's scheme, where that is what a person wants."""
        wanted = palette_for(self.palette_choice, scheme)
        if wanted != self.palette:
            self.palette = wanted
            dress(self._app, wanted)
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


def style_sheet(p: Palette) -> str:
    """Return the style sheet for a palette. The focus ring is not here: ``widgets.focus_ring`` draws it."""
    shade = "dark" if p.dark else "light"
    return f"""
    QWidget {{ background: {p.ground}; color: {p.ink}; font-family: B612; font-size: {BODY}px; }}
    QLabel[role="soft"], QCheckBox[role="soft"] {{ color: {p.soft}; font-size: {SMALL}px; }}
    QLabel[role="caution"] {{ color: {p.guard}; font-size: {READING}px; font-weight: bold; }}
    QLabel[role="broken"] {{ font-size: {SMALL}px; border-top: 1px solid {p.guard}; }}
    QLabel[role="lead"] {{ color: {p.soft}; }}
    QLabel[role="title"] {{ font-size: {TITLE}px; }}
    QLabel[role="reading"] {{ font-size: {READING}px; }}
    QLabel[role="mark"] {{ font-weight: bold; font-style: italic; }}
    QLabel[role="great"] {{ font-size: {GREAT}px; }}
    QLabel[role="section"] {{ font-weight: bold; }}
    QLabel[role="heading"] {{ font-size: {READING}px; font-weight: bold; }}
    QLabel[role="tag"] {{ color: {p.accent}; font-size: {SMALL}px; border: 1px solid {p.accent}; padding: 0 4px; }}
    QPushButton {{ border: 1px solid {p.strong_rule}; padding: 0 10px; min-height: 24px; }}
    QPushButton:hover {{ background: {p.surface}; }}
    QPushButton:pressed {{ background: {p.shade}; }}
    QPushButton:checked {{ border: 1px solid {p.ink}; font-weight: bold; }}
    QPushButton:disabled {{ color: {p.strong_rule}; border-color: {p.rule}; }}
    QPushButton[role="primary"] {{ background: {p.accent}; color: {p.ground}; border-color: {p.accent}; font-weight: bold; }}
    QPushButton[role="primary"]:hover {{ background: {p.ink}; border-color: {p.ink}; }}
    QPushButton[role="primary"]:disabled {{ background: {p.ground}; color: {p.strong_rule}; border-color: {p.rule}; }}
    QPushButton[role="link"] {{ border: none; color: {p.accent}; padding: 0; min-height: 18px; font-size: {SMALL}px; }}
    QPushButton[role="link"]:hover {{ color: {p.ink}; background: {p.ground}; }}
    QPushButton[role="view"] {{ border: none; border-bottom: 2px solid {p.ground}; color: {p.soft}; padding: 0 2px;
      min-height: 20px; }}
    QPushButton[role="view"]:hover {{ color: {p.ink}; background: {p.ground}; }}
    QPushButton[role="view"]:checked {{ color: {p.ink}; font-weight: bold; border-bottom: 2px solid {p.accent}; }}
    QPushButton[role="option"] {{ border: none; color: {p.soft}; font-size: {SMALL}px; padding: 0; min-height: 16px;
      text-align: left; }}
    QPushButton[role="option"]:hover, QPushButton[role="option"]:checked {{ color: {p.ink}; background: {p.ground}; }}
    QPushButton[role="option"]:disabled {{ color: {p.strong_rule}; }}
    QWidget[role="chosen"], QWidget[role="chosen"] QLabel {{ background: {p.surface}; }}
    QWidget[role="chosen"] {{ border-left: 3px solid {p.accent}; }}
    QPushButton[role="stop"] {{ background: {p.ink}; color: {p.ground}; font-weight: bold; min-height: 34px;
      border: 1px solid {p.ink}; }}
    QPushButton[role="stop-at-rest"] {{ color: {p.ink}; font-weight: bold; min-height: 34px; }}
    QPushButton[role="stop"]:hover {{ background: {p.soft}; border-color: {p.soft}; }}
    QLineEdit, QAbstractSpinBox, QComboBox {{ border: none; border-bottom: 1px solid {p.strong_rule}; padding: 1px 4px;
      background: {p.ground}; selection-background-color: {p.accent}; selection-color: {p.ground}; }}
    QLineEdit:focus, QAbstractSpinBox:focus, QComboBox:focus {{ background: {p.surface}; border-bottom-color: {p.ink}; }}
    QAbstractSpinBox::up-button, QAbstractSpinBox::down-button {{ width: 0; height: 0; border: none; }}
    QComboBox::drop-down {{ border: none; width: 16px; }}
    QComboBox::down-arrow {{ image: url({asset(f"icons/down-{shade}.svg")}); }}
    QComboBox QAbstractItemView {{ background: {p.surface}; selection-background-color: {p.shade}; selection-color: {p.ink}; }}
    QCheckBox {{ spacing: 8px; }}
    QCheckBox::indicator {{ width: 11px; height: 11px; border: 1px solid {p.strong_rule}; }}
    QCheckBox::indicator:checked {{ border-color: {p.ink}; image: url({asset(f"icons/tick-{shade}.svg")}); }}
    QAbstractItemView {{ border: none; background: {p.ground}; outline: none; }}
    QTableView {{ gridline-color: {p.ground}; }} QHeaderView {{ border: none; }}
    QHeaderView::section {{ background: {p.ground}; color: {p.soft}; font-size: {SMALL}px; border: none;
      border-bottom: 1px solid {p.rule}; padding: 0 4px 3px 4px; }}
    QListView::item {{ padding: 4px 8px; }}
    QListView::item:selected {{ background: {p.shade}; color: {p.ink}; }}
    QScrollArea {{ border: none; }}
    QScrollBar:vertical {{ width: 8px; background: {p.ground}; }}
    QScrollBar::handle:vertical {{ background: {p.rule}; min-height: 24px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; }}
    QFrame[role="rule"] {{ background: {p.rule}; border: none; }}
    QFrame[role="over"] {{ background: {p.surface}; border: 1px solid {p.strong_rule}; }}
    QFrame[role="over"] QLabel {{ background: {p.surface}; }}
    QSplitter::handle {{ background: {p.rule}; }}
    QSplitter::handle:hover {{ background: {p.accent}; }}
    QMenuBar, QMenu {{ background: {p.ground}; }}
    QMenu {{ border: 1px solid {p.strong_rule}; padding: 4px 0; }}
    QMenu::item {{ padding: 4px 24px; }}
    QMenu::item:selected, QMenuBar::item:selected {{ background: {p.shade}; color: {p.ink}; }}
    QMenu::item:disabled {{ color: {p.strong_rule}; }}
    QMenu::separator {{ height: 1px; background: {p.rule}; margin: 4px 0; }}
    QDialog[role="finder"] {{ border: 1px solid {p.strong_rule}; background: {p.surface}; }}
    QTextBrowser {{ border: none; }}
    QToolTip {{ background: {p.surface}; color: {p.ink}; border: 1px solid {p.strong_rule}; }}
    """


def dress(app: QApplication, p: Palette) -> None:
    """Dress the application in a palette."""
    colours = QPalette()
    for role, colour in (
        (QPalette.ColorRole.Window, p.ground),
        (QPalette.ColorRole.Base, p.ground),
        (QPalette.ColorRole.AlternateBase, p.shade),
        (QPalette.ColorRole.WindowText, p.ink),
        (QPalette.ColorRole.Text, p.ink),
        (QPalette.ColorRole.ButtonText, p.ink),
        (QPalette.ColorRole.Button, p.ground),
        (QPalette.ColorRole.Highlight, p.accent),
        (QPalette.ColorRole.HighlightedText, p.ground),
        (QPalette.ColorRole.Link, p.accent),
        (QPalette.ColorRole.PlaceholderText, p.soft),
    ):
        colours.setColor(role, QColor(colour))
    app.setPalette(colours)
    app.setStyleSheet(style_sheet(p))
