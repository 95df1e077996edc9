"""A view as a picture in a file: PNG for a screen, SVG for a page."""

from pathlib import Path

from PySide6.QtCore import QPoint
from PySide6.QtGui import QPainter, QPixmap
from PySide6.QtSvg import QSvgGenerator
from PySide6.QtWidgets import QWidget

from niente.core.model.errors import NienteError
from niente.desktop.services.translation import tr

SCALE = 2.0
"""Pixels of a PNG for each of the screen's."""


def save_picture(view: QWidget, file: Path, words: str) -> None:
    """Write a view into a file, as SVG where its name ends so and as PNG otherwise; ``words`` describe it.

    Raises ``NienteError`` where the file cannot be written.
    """
    done = _as_svg(view, file, words) if file.suffix.lower() == ".svg" else _as_png(view, file)
    if not done:
        raise NienteError(
            tr("The picture could not be written to {file}.").format(file=file),
            safe=tr("The map is unchanged."),
            remedy=tr("Check that the folder exists, may be written to, and has room."),
        )


def _as_png(view: QWidget, file: Path) -> bool:
    picture = QPixmap(view.size() * SCALE)
    picture.setDevicePixelRatio(SCALE)
    view.render(picture)
    return picture.save(str(file), "PNG")


def _as_svg(view: QWidget, file: Path, words: str) -> bool:
    made = QSvgGenerator()
    made.setFileName(str(file))
    made.setSize(view.size())
    made.setViewBox(view.rect())
    made.setTitle("Niente")
    made.setDescription(words)
    painter = QPainter()
    if not painter.begin(made):
        return False
    view.render(painter, QPoint(0, 0))
    return painter.end()
