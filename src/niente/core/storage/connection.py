"""Opening a book: is it one, is it ours to write, and what to say where it is not."""

import errno
import fcntl
import os
import sqlite3
import time
from pathlib import Path
from types import TracebackType

from niente.core.model.errors import BookBusyError, BookError
from niente.core.storage.schema import APPLICATION_ID, SCHEMA_VERSION, UPGRADES


class WriterLock:
    """One writer a book: an advisory lock on a file beside it, which the system lets go when the process ends."""

    def __init__(self, book: Path) -> None:
        self._path = book.with_name(book.name + "-lock")
        try:
            self._file = os.open(self._path, os.O_RDWR | os.O_CREAT, 0o644)
        except OSError as error:
            raise cannot_write(book, error) from None
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            os.close(self._file)
            raise BookBusyError(
                f"The book {book} is being written by another Niente.",
                safe="Nothing was changed.",
                remedy="Close it there, or open it here to look at only.",
            ) from None

    def release(self) -> None:
        """Let another writer in."""
        os.close(self._file)


def cannot_write(book: Path, error: Exception) -> BookError:
    """Return the error for a book that cannot be written, in words that fit the reason."""
    text = str(error).lower()
    full = getattr(error, "errno", None) in (errno.ENOSPC, errno.EDQUOT) or "full" in text
    if full:
        return BookError(
            f"The disk that holds {book} is full.",
            safe="Every sample up to now is kept; the rig has its safe setting.",
            remedy="Free some space on it, then go on: the plan continues with the first run that is not done.",
        )
    if "readonly" in text or "read-only" in text or getattr(error, "errno", None) in (errno.EROFS, errno.EACCES, errno.EPERM):
        return BookError(
            f"The book {book} can be read but not written.",
            safe="It is untouched.",
            remedy="Copy it to a place that you may write to, or name another book.",
        )
    return BookError(
        f"The book {book} cannot be written: {error}.",
        safe="Every sample that was written is kept.",
        remedy="Check the disk and the folder, then open the book again.",
    )


def book_gone(book: Path) -> BookError:
    """Return the error for a book that is not where it was when it was opened."""
    return BookError(
        f"The book {book} is gone: it was moved or deleted, or its disk was taken away.",
        safe="What was measured since then waits in memory; the rig has its safe setting.",
        remedy="Put it back where it was, then go on; what waits is written first.",
    )


def open_for_writing(path: Path) -> sqlite3.Connection:
    """Open or make a book for writing; its lock is held by the caller. Raises ``BookError``."""
    fresh = not path.exists() or path.stat().st_size == 0
    if not fresh:
        open_for_reading(path).close()
    try:
        link = sqlite3.connect(path, isolation_level=None, check_same_thread=False, timeout=5.0)
        link.execute("PRAGMA synchronous=FULL")
        if fresh:
            link.execute(f"PRAGMA application_id={APPLICATION_ID}")
        link.execute("PRAGMA journal_mode=WAL")
        upgrade(link, path)
        link.execute("BEGIN IMMEDIATE")  # finds a read-only file now, not at the first sample
        link.execute("ROLLBACK")
    except (sqlite3.Error, OSError) as error:
        raise cannot_write(path, error) from error
    return link


def open_for_reading(path: Path) -> sqlite3.Connection:
    """Open a book to look at only. Raises ``BookError`` unless it is a book of a version that this Niente reads.

    The file is looked at through SQLite alone: closing a second descriptor of our own would drop the locks that a writer
    in the same process holds on it.
    """
    if not path.is_file():
        raise BookError(f"There is no book {path}.", remedy="Check the name, or run a plan to make one.")
    try:
        link = sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True, isolation_level=None, check_same_thread=False)
        try:
            application = int(link.execute("PRAGMA application_id").fetchone()[0])
            version = int(link.execute("PRAGMA user_version").fetchone()[0])
        except sqlite3.Error:
            link.close()
            raise
    except sqlite3.DatabaseError as error:
        if isinstance(error, sqlite3.OperationalError):
            raise BookError(f"The book {path} cannot be read: {error}.", remedy="Check who may read it.") from error
        application, version = 0, 0
    if application != APPLICATION_ID:
        link.close()
        raise BookError(
            f"{path} is not a Niente book.",
            safe="The file is untouched.",
            remedy="Choose a file that Niente wrote (*.niente), or name a new one.",
        )
    if version > SCHEMA_VERSION:
        link.close()
        raise BookError(
            f"The book {path} was written by a newer Niente (book version {version}; this one knows {SCHEMA_VERSION}).",
            safe="The file is untouched.",
            remedy="Open it with the newer Niente.",
        )
    return link


def upgrade(link: sqlite3.Connection, path: Path) -> None:
    """Bring a book to the present version: each step in one transaction, after a backup beside it; a new one without."""
    found = version = int(link.execute("PRAGMA user_version").fetchone()[0])
    while version < SCHEMA_VERSION:
        if found:  # a book that is only being made has nothing to lose
            with sqlite3.connect(path.with_name(f"{path.stem}.version-{version}-{time.time():.0f}.niente")) as copy:
                link.backup(copy)
        script = UPGRADES[version]
        link.executescript(f"BEGIN; {script} PRAGMA user_version={version + 1}; COMMIT;")
        version += 1


class Transaction:
    """``with Transaction(link):`` commits as a whole or not at all."""

    def __init__(self, link: sqlite3.Connection) -> None:
        self._link = link

    def __enter__(self) -> None:
        self._link.execute("BEGIN IMMEDIATE")

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        if kind is None:
            try:
                self._link.execute("COMMIT")
                return
            except sqlite3.Error:
                self._roll_back()
                raise
        self._roll_back()

    def _roll_back(self) -> None:
        if self._link.in_transaction:
            self._link.execute("ROLLBACK")
