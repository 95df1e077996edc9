"""Two looks from one set of tokens: they can be read, they follow the desktop, and textures carry what colours carry."""

from collections.abc import Callable

import pytest
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPalette
from PySide6.QtWidgets import QApplication, QLabel
from pytestqt.qtbot import QtBot

from niente.core.science.clock_limiter import ClockLimiter
from niente.desktop.app.main import look_of, make_app
from niente.desktop.app.window import NAMES, Window
from niente.desktop.services.preferences import Preferences
from niente.desktop.services.theme import DUSK, PAPER, Palette, PaletteChoice, palette_for
from niente.desktop.widgets.brushes import LIMITERS, draw_limiter, stage_brush

STAGES = ("noise", "baseline", "undervolt", "capacity", "confirmation")
BOTH = pytest.mark.parametrize("palette", [PAPER, DUSK], ids=lambda palette: palette.name)


def luminance(colour: str) -> float:
    parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
    linear = [part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def contrast(one: str, two: str) -> float:
    """WCAG 2 contrast ratio (formula from memory; black on white is 21 by its definition)."""
    light, dark = sorted((luminance(one), luminance(two)), reverse=True)
    return (light + 0.05) / (dark + 0.05)


def test_the_formula_gives_what_it_is_defined_to_give() -> None:
    assert contrast("#000000", "#FFFFFF") == pytest.approx(21.0)
    assert contrast("#777777", "#FFFFFF") == pytest.approx(4.48, abs=0.01)  # WCAG's well-known near miss, from memory


@BOTH
@pytest.mark.parametrize("text", ["ink", "soft", "accent"])
@pytest.mark.parametrize("under", ["ground", "surface", "shade"])
def test_text_stands_out(palette: Palette, text: str, under: str) -> None:
    """4.5:1, WCAG 2.2 success criterion 1.4.3 (from memory)."""
    assert contrast(getattr(palette, text), getattr(palette, under)) >= 4.5


@BOTH
def test_the_second_variable_is_text_too(palette: Palette) -> None:
    assert contrast(palette.second, palette.ground) >= 4.5


@BOTH
@pytest.mark.parametrize("mark", ["cap_line", "guard", "second", "fault", "accent", "ink"])
def test_marks_stand_out(palette: Palette, mark: str) -> None:
    """3:1, WCAG 2.2 success criterion 1.4.11 (from memory)."""
    assert contrast(getattr(palette, mark), palette.ground) >= 3.0


def grey_picture(draw: Callable[[QPainter], None]) -> QImage:
    picture = QImage(60, 16, QImage.Format.Format_RGB32)
    picture.fill(QColor("#FFFFFF"))
    painter = QPainter(picture)
    draw(painter)
    painter.end()
    return picture.convertToFormat(QImage.Format.Format_Mono, Qt.ImageConversionFlag.ThresholdDither)


@BOTH
def test_the_band_can_be_told_apart_without_colour(qapp: QApplication, palette: Palette) -> None:
    """Reduced to black and white, every limiter has a pattern of its own."""
    black = dict.fromkeys(("cap", "cap_line", "guard", "second", "fault", "strong_rule"), "#000000")
    import msgspec

    plain = msgspec.structs.replace(palette, surface="#FFFFFF", rule="#FFFFFF", **black)

    def pattern(limiter: ClockLimiter) -> bytes:
        picture = grey_picture(lambda painter: draw_limiter(painter, QRectF(0, 0, 60, 16), limiter, plain, 1.0))
        return bytes(picture.constBits())

    assert len({pattern(limiter) for limiter in LIMITERS}) == len(LIMITERS) == 7


def test_stages_can_be_told_apart_without_colour(qapp: QApplication) -> None:
    def pattern(stage: str) -> bytes:
        def draw(painter: QPainter) -> None:
            painter.fillRect(QRectF(0, 0, 60, 16), stage_brush(stage, PAPER, 1.0))

        picture = QImage(60, 16, QImage.Format.Format_RGB32)
        picture.fill(QColor(PAPER.ground))
        painter = QPainter(picture)
        draw(painter)
        painter.end()
        return bytes(picture.constBits())

    assert len({pattern(stage) for stage in STAGES}) == len(STAGES)


def test_a_wish_and_the_desktop_make_the_look() -> None:
    dark, light, unknown = Qt.ColorScheme.Dark, Qt.ColorScheme.Light, Qt.ColorScheme.Unknown
    assert palette_for(PaletteChoice.DESKTOP, dark) is DUSK
    assert palette_for(PaletteChoice.DESKTOP, light) is PAPER
    assert palette_for(PaletteChoice.DESKTOP, unknown) is PAPER
    assert palette_for(PaletteChoice.PAPER, dark) is PAPER
    assert palette_for(PaletteChoice.DUSK, light) is DUSK


def test_the_look_follows_the_desktop_only_when_asked() -> None:
    look = look_of(make_app([]), Preferences())
    look.apply(PaletteChoice.DESKTOP)
    look.follow(Qt.ColorScheme.Dark)
    assert look.palette is DUSK
    look.apply(PaletteChoice.PAPER)
    look.follow(Qt.ColorScheme.Dark)
    assert look.palette is PAPER


@pytest.mark.parametrize(("choice", "palette"), [(PaletteChoice.DUSK, DUSK), (PaletteChoice.PAPER, PAPER)])
def test_every_page_changes_its_colours_at_once(read_window: Window, choice: PaletteChoice, palette: Palette) -> None:
    read_window.apply(choice)
    for index in range(len(NAMES)):
        read_window.go_to(index)
        QApplication.processEvents()
        picture = read_window.grab().toImage()
        ground = QColor(palette.ground).name()
        other = QColor((PAPER if palette is DUSK else DUSK).ground).name()
        seen = [picture.pixelColor(x, y).name() for x in range(3, picture.width(), 23) for y in range(3, picture.height(), 17)]
        assert seen.count(ground) > len(seen) / 3, NAMES[index]
        assert seen.count(other) < len(seen) / 100, NAMES[index]


def test_pages_that_do_not_show_take_over_a_palette_by_themselves(read_window: Window, qtbot: QtBot) -> None:
    read_window.go_to(NAMES.index("Rig"))
    read_window.apply(PaletteChoice.DUSK)
    hidden = read_window.pages[NAMES.index("Plan")]
    names = [one for one in hidden.findChildren(QLabel) if one.property("role") == "section"]
    ink = QColor(DUSK.ink).name()
    qtbot.waitUntil(lambda: {one.palette().color(QPalette.ColorRole.WindowText).name() for one in names} == {ink})
    ground = QColor(DUSK.ground).name()  # the page itself may be among the last, after its labels
    qtbot.waitUntil(lambda: hidden.grab().toImage().pixelColor(1, 1).name() == ground)


def test_the_choice_of_look_is_kept(swept_window: Window) -> None:
    swept_window.actions_["view.dusk"].trigger()
    assert Preferences().palette_choice == PaletteChoice.DUSK
    assert swept_window.actions_["view.dusk"].isChecked()
    assert not swept_window.actions_["view.paper"].isChecked()
    swept_window.actions_["view.paper"].trigger()
    assert Preferences().palette_choice == PaletteChoice.PAPER
