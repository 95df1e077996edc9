"""The look from one set of tokens: palette, type sizes, style sheet, and pens for painters and plots."""

from importlib import resources
from pathlib import Path

import msgspec
from PySide6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PySide6.QtWidgets import QApplication

SMALL, BODY, READING, TITLE, GREAT = 10, 12, 15, 22, 32
"""The only type sizes, in px at scale 1."""


class Palette(msgspec.Struct, frozen=True):
    """The colours of one look. Each carries one meaning (docs/design.md)."""

    ground: str
    surface: str
    ink: str
    soft: str
    rule: str
    strong_rule: str
    shade: str
    accent: str
    cap: str
    guard: str
    second: str
    fault: str


PAPER = Palette(
    ground="#F6F4EF",
    surface="#FFFFFF",
    ink="#22262B",
    soft="#5E666F",
    rule="#D9D5CB",
    strong_rule="#A9A69C",
    shade="#ECE8DF",
    accent="#0F6E74",
    cap="#E69F00",
    guard="#D55E00",
    second="#0072B2",
    fault="#CC79A7",
)


def asset(name: str) -> str:
    """Return the path of a file that ships with Niente, as a style sheet wants it."""
    return str(resources.files("niente") / "assets" / name)


def load_fonts() -> None:
    """Register the fonts that ship with Niente."""
    with resources.as_file(resources.files("niente") / "assets" / "fonts") as folder:
        for file in sorted(Path(folder).glob("*.otf")):
            QFontDatabase.addApplicationFont(str(file))


def font(size: int, *, bold: bool = False, italic: bool = False) -> QFont:
    """Return B612 in one of the sizes."""
    made = QFont("B612")
    made.setPixelSize(size)
    made.setBold(bold)
    made.setItalic(italic)
    return made


def style_sheet(p: Palette) -> str:
    """Return the style sheet for a palette."""
    return f"""
    QWidget {{ background: {p.ground}; color: {p.ink}; font-family: B612; font-size: {BODY}px; }}
    QLabel[role="soft"], QCheckBox[role="soft"] {{ color: {p.soft}; font-size: {SMALL}px; }}
    QLabel[role="lead"] {{ color: {p.soft}; }}
    QLabel[role="title"] {{ font-size: {TITLE}px; }}
    QLabel[role="reading"] {{ font-size: {READING}px; }}
    QLabel[role="great"] {{ font-size: {GREAT}px; }}
    QLabel[role="section"] {{ font-weight: bold; }}
    QPushButton {{ border: 1px solid {p.strong_rule}; padding: 0 12px; min-height: 24px; }}
    QPushButton:hover {{ background: {p.surface}; }}
    QPushButton:checked {{ font-weight: bold; border: 1px solid {p.accent}; border-bottom: 3px solid {p.accent}; }}
    QPushButton:disabled {{ color: {p.strong_rule}; border-color: {p.rule}; }}
    QPushButton:focus, QLineEdit:focus, QAbstractSpinBox:focus, QComboBox:focus, QTableView:focus, QCheckBox:focus
      {{ border: 2px solid {p.accent}; }}
    QPushButton[role="stop"] {{ background: {p.ink}; color: {p.ground}; font-weight: bold; min-height: 34px;
      border: 1px solid {p.ink}; }}
    QPushButton[role="stop"]:focus {{ border: 2px solid {p.accent}; }}
    QLineEdit, QAbstractSpinBox, QComboBox {{ border: none; border-bottom: 1px solid {p.strong_rule}; padding: 2px 4px;
      background: {p.ground}; selection-background-color: {p.accent}; }}
    QAbstractSpinBox::up-button, QAbstractSpinBox::down-button {{ width: 0; height: 0; border: none; }}
    QComboBox::drop-down {{ border: none; width: 16px; }}
    QComboBox::down-arrow {{ image: url({asset("icons/down.svg")}); }}
    QComboBox QAbstractItemView {{ background: {p.surface}; selection-background-color: {p.shade}; selection-color: {p.ink}; }}
    QTableView {{ border: 1px solid {p.ground}; gridline-color: {p.ground}; alternate-background-color: {p.ground};
      selection-background-color: {p.surface}; selection-color: {p.ink}; }}
    QTableView::item {{ padding: 0 6px; border: none; }}
    QTableView::item:selected {{ background: {p.surface}; color: {p.ink}; }}
    QHeaderView::section {{ background: {p.ground}; color: {p.soft}; font-size: {SMALL}px; border: none;
      border-bottom: 1px solid {p.rule}; padding: 2px 6px; }}
    QScrollArea {{ border: none; }}
    QScrollBar:vertical {{ width: 8px; background: {p.ground}; }}
    QScrollBar::handle:vertical {{ background: {p.rule}; min-height: 24px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; }}
    QFrame[role="rule"] {{ background: {p.rule}; border: none; }}
    QMenuBar, QMenu {{ background: {p.ground}; }}
    QMenu::item:selected, QMenuBar::item:selected {{ background: {p.shade}; color: {p.ink}; }}
    QToolTip {{ background: {p.surface}; color: {p.ink}; border: 1px solid {p.strong_rule}; }}
    """


def apply_theme(app: QApplication, p: Palette) -> None:
    """Dress the application in a palette."""
    app.setStyle("Fusion")
    colours = QPalette()
    for role, colour in (
        (QPalette.ColorRole.Window, p.ground),
        (QPalette.ColorRole.Base, p.ground),
        (QPalette.ColorRole.WindowText, p.ink),
        (QPalette.ColorRole.Text, p.ink),
        (QPalette.ColorRole.ButtonText, p.ink),
        (QPalette.ColorRole.Button, p.ground),
        (QPalette.ColorRole.Highlight, p.accent),
        (QPalette.ColorRole.PlaceholderText, p.soft),
    ):
        colours.setColor(role, QColor(colour))
    app.setPalette(colours)
    app.setFont(font(BODY))
    app.setStyleSheet(style_sheet(p))
