"""Small files that a person names: read whole and written whole, with errors in words."""

from pathlib import Path

from niente.core.errors import DocumentError, NienteError
from niente.desktop.tongue import tr


def bytes_of(file: Path) -> bytes:
    """Return what is in a file. Raises ``DocumentError`` where it cannot be read."""
    try:
        return file.read_bytes()
    except OSError as error:
        raise DocumentError(
            tr("{file} cannot be read: {why}.").format(file=file.name, why=error.strerror),
            safe=tr("Nothing was changed."),
            remedy=tr("Choose another file."),
        ) from None


def write(file: Path, text: bytes, safe: str) -> None:
    """Write a file. Raises ``NienteError`` where that cannot be; ``safe`` says what is untouched then."""
    try:
        file.write_bytes(text)
    except OSError as error:
        words = tr("{file} could not be written: {why}.").format(file=file, why=error.strerror)
        raise NienteError(words, safe=safe, remedy=tr("Choose another folder, or make room.")) from None
