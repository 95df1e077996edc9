"""Small files that a person names: read whole and written whole, with errors in words."""

from pathlib import Path

from niente.core.model.errors import DocumentError, NienteError
from niente.core.model.question import OWN_FORMAT
from niente.core.model.rig_sheet import FORMAT
from niente.core.model.small_files import read_small_file
from niente.desktop.services.translation import tr


def bytes_of(file: Path) -> bytes:
    """Return what is in a file. Raises ``DocumentError`` where it cannot be read."""
    return read_small_file(file)


def is_sheet(file: Path) -> bool:
    """Return whether a JSON file says of itself that it is a rig sheet; what cannot be read is none."""
    return _names_format(file, FORMAT)


def is_question(file: Path) -> bool:
    """Return whether a JSON file says of itself that it is a question that was kept."""
    return _names_format(file, OWN_FORMAT)


def _names_format(file: Path, its_format: str) -> bool:
    try:
        return f'"{its_format.partition("/")[0]}/' in read_small_file(file).decode("utf-8", errors="replace")
    except DocumentError:
        return False


def write(file: Path, text: bytes, safe: str) -> None:
    """Write a file. Raises ``NienteError`` where that cannot be; ``safe`` says what is untouched then."""
    try:
        file.write_bytes(text)
    except OSError as error:
        words = tr("{file} could not be written: {why}.").format(file=file, why=error.strerror)
        raise NienteError(words, safe=safe, remedy=tr("Choose another folder, or make room.")) from None
