"""Small files that a person names, read whole: plans, questions, sheets, machine files."""

import os
import stat
from pathlib import Path

from niente.core.model.errors import DocumentError

MAX_BYTES = 32 * 2**20
"""What Niente reads whole is never larger; a book is no such file."""


def read_small_file(file: Path) -> bytes:
    """Return what is in a file. Raises ``DocumentError`` where it cannot be read, is no plain file (reading a device or a pipe
    may never end), or is larger than ``MAX_BYTES``."""
    try:
        number = os.open(file, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    except (OSError, ValueError) as error:
        raise _refused(file, _reason(error)) from None
    try:
        found = os.fstat(number)
        if not stat.S_ISREG(found.st_mode):
            raise _refused(file, "it is no plain file")
        if found.st_size > MAX_BYTES:
            raise _refused(file, f"it has {found.st_size / 2**20:.0f} MB, and {MAX_BYTES // 2**20} is the most")
        with os.fdopen(number, "rb", closefd=False) as opened:
            return opened.read(MAX_BYTES)
    except OSError as error:
        raise _refused(file, _reason(error)) from None
    finally:
        os.close(number)


def _reason(error: Exception) -> str:
    return error.strerror or "the system refuses it" if isinstance(error, OSError) else str(error)


def _refused(file: Path, why: str) -> DocumentError:
    name = str(file) or "The file without a name"
    shown = name if len(name) <= 200 else f"{name[:200]} …"
    return DocumentError(f"{shown!r} cannot be read: {why}.", remedy="Check its name, or choose another file.")
