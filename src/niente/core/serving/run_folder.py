"""Where the sockets of running benches are: one a book, in a folder that is this person's alone."""

import hashlib
import os
import stat
import tempfile
from pathlib import Path

from niente.core.model.errors import RigError

MAX_PATH = 70
"""A socket's whole path has at most 107 bytes (unix(7))."""


def digest_of(book: Path) -> str:
    """Return what stands for a book in names of files: the same whatever name leads to its file, or for one that is still to
    be made, however its path is written."""
    try:
        found = book.stat()
        identity = f"{found.st_dev}:{found.st_ino}"
    except (OSError, ValueError):
        identity = os.path.abspath(book)
    return hashlib.sha256(identity.encode(errors="surrogateescape")).hexdigest()[:16]


def socket_of(book: Path) -> Path:
    """Return where the bench of a book is reached. Raises ``RigError`` where no folder for it is this person's alone."""
    return _run_folder() / f"{digest_of(book)}.sock"


def _run_folder() -> Path:
    """Return the folder, made where there is none: in the session's run-time folder, else in that for temporary files."""
    named = os.environ.get("XDG_RUNTIME_DIR", "")
    if named and len(os.fsencode(named)) <= MAX_PATH and _is_own(Path(named)):
        folder = Path(named) / "niente"
    else:
        folder = Path(tempfile.gettempdir()) / f"niente-{os.getuid()}"
    try:
        folder.mkdir(mode=0o700, exist_ok=True)
    except OSError as error:
        raise _no_folder(folder, error.strerror or "it cannot be made") from None
    if not _is_own(folder):
        raise _no_folder(folder, "it is not yours alone")
    return folder


def _is_own(folder: Path) -> bool:
    """Return whether a folder is this person's, and nobody else may look into it or write to it."""
    try:
        found = folder.lstat()
    except OSError:
        return False
    return stat.S_ISDIR(found.st_mode) and found.st_uid == os.getuid() and not found.st_mode & 0o077


def _no_folder(folder: Path, why: str) -> RigError:
    return RigError(
        f"The bench needs a folder for its socket, and {folder} cannot be it: {why}.",
        safe="Nothing was started.",
        remedy="Set XDG_RUNTIME_DIR to a folder of yours with mode 0700, or remove that one, and start again.",
    )
