"""Opening a book: is it one, is it ours to write, and what to say where it is not."""

import contextlib
import errno
import fcntl
import os
import sqlite3
import stat
import time
from pathlib import Path
from types import TracebackType

from niente.core.model.errors import BookBusyError, BookError
from niente.core.storage.schema import APPLICATION_ID, SCHEMA_VERSION, UPGRADES

LATEST = (
    "SELECT max(t) FROM (SELECT max(opened_at) AS t FROM run UNION ALL SELECT max(closed_at) FROM closing"
    " UNION ALL SELECT max(written_at) FROM document UNION ALL SELECT max(written_at) FROM happening)"
)
"""When a book was last written."""
HEADER, APPLICATION_AT = 100, 68
"""A database's header, and where its application id stands in it (the SQLite file format, section 1.3)."""


class WriterLock:
    """One writer a book: an advisory lock on the file itself, whatever name leads to it, which the system lets go when the
    process ends. A book that does not exist is made, empty.

    It is taken before SQLite opens the file and released after: closing the descriptor drops the locks that SQLite has.
    """

    def __init__(self, book: Path) -> None:
        try:
            self._file = os.open(book, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NONBLOCK, 0o644)
        except (OSError, ValueError) as error:
            raise cannot_write(book, error) from None
        found = os.fstat(self._file)
        if not stat.S_ISREG(found.st_mode):
            os.close(self._file)
            raise BookError(f"{book} is no file.", remedy="Name a book (*.niente), or a new one.")
        self._identity = (found.st_dev, found.st_ino)
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            os.close(self._file)
            if error.errno not in (errno.EWOULDBLOCK, errno.EACCES):
                raise cannot_write(book, error) from None
            raise BookBusyError(
                f"The book {book} is being written by another Niente.",
                safe="Nothing was changed.",
                remedy="Close it there, or open it here to look at only.",
            ) from None

    def holds(self, book: Path) -> bool:
        """Return whether a name still leads to the file that is locked."""
        try:
            found = book.stat()
        except OSError:
            return False
        return (found.st_dev, found.st_ino) == self._identity

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


def book_gone(book: Path, kept: Path | None) -> BookError:
    """Return the error for a book that is not where it was when it was opened; ``kept`` is where its content is now."""
    happened = f"The book {book} is gone: it was moved or deleted, or its disk was taken away."
    if kept is None:
        return BookError(
            happened,
            safe="What was measured since then waits in memory; the rig has its safe setting.",
            remedy="Put it back where it was, then go on; what waits is written first.",
        )
    return BookError(
        happened,
        safe=f"All that it held is in {kept}; the rig has its safe setting.",
        remedy="Go on with that file, or give it the old name once Niente has closed it.",
    )


def beside(book: Path) -> Path:
    """Return the name of a new file beside a book, for what it held."""
    number = 1
    while (kept := book.with_name(f"{book.stem}.kept-{number}{book.suffix}")).exists():
        number += 1
    return kept


def damaged(book: Path, error: Exception) -> BookError:
    """Return the error for a book whose content cannot be what a Niente wrote."""
    return BookError(
        f"The book {book} is damaged: {type(error).__name__}: {error}.",
        safe="It is untouched.",
        remedy="Take its last copy; what can still be read of it can be copied out with any SQLite tool.",
    )


def is_unmade(path: Path) -> bool:
    """Return whether a file is a book that was only being made when something ended that: nothing of anybody's is in it.

    A rollback journal beside it says so too: a book that was made once has a write-ahead log, and never a journal.
    """
    if path.stat().st_size == 0:
        return True
    journal = path.with_name(f"{path.name}-journal")
    if journal.exists() and journal.stat().st_size:
        with path.open("rb") as file:
            head = file.read(HEADER)
        return int.from_bytes(head[APPLICATION_AT : APPLICATION_AT + 4], "big") in (0, APPLICATION_ID)
    try:
        with contextlib.closing(_connected(path)) as link:
            ours = int(link.execute("PRAGMA application_id").fetchone()[0]) in (0, APPLICATION_ID)
            return ours and not link.execute("SELECT count(*) FROM sqlite_master").fetchone()[0]
    except sqlite3.Error:
        return False


def open_for_writing(path: Path) -> sqlite3.Connection:
    """Open or make a book for writing; its lock is held by the caller. Raises ``BookError``.

    One that is new, or was only being made when something ended that, is made here: its tables and its application id come in
    one transaction.
    """
    _insist_on_log(path)
    fresh = not path.exists() or is_unmade(path)
    if not fresh:
        open_for_reading(path).close()
    link: sqlite3.Connection | None = None
    try:
        link = sqlite3.connect(path, isolation_level=None, check_same_thread=False, timeout=5.0)
        link.execute("PRAGMA synchronous=FULL")
        if fresh and not link.execute("SELECT count(*) FROM sqlite_master").fetchone()[0]:
            _make(link)
        link.execute("PRAGMA journal_mode=WAL")
        upgrade(link, path)
        link.execute("BEGIN IMMEDIATE")  # finds a read-only file now, not at the first sample
        link.execute("ROLLBACK")
    except (sqlite3.Error, OSError) as error:
        if link is not None:
            link.close()
        raise cannot_write(path, error) from error
    return link


def _make(link: sqlite3.Connection) -> None:
    script = " ".join(UPGRADES)
    mark = f"PRAGMA application_id={APPLICATION_ID}; PRAGMA user_version={SCHEMA_VERSION};"
    link.executescript(f"BEGIN IMMEDIATE; {script} {mark} COMMIT;")


def _connected(path: Path) -> sqlite3.Connection:
    """Return a connection that only reads. A book at rest in a folder that may not be written to is read as it lies there."""
    uri = path.absolute().as_uri()
    log = path.with_name(f"{path.name}-wal")
    lies_still = not os.access(path.parent, os.W_OK) and not (log.exists() and log.stat().st_size)
    mode = "immutable=1" if lies_still else "mode=ro"
    return sqlite3.connect(f"{uri}?{mode}", uri=True, isolation_level=None, check_same_thread=False)


def open_for_reading(path: Path) -> sqlite3.Connection:
    """Open a book to look at only. Raises ``BookError`` unless it is a book of a version that this Niente reads.

    The file is looked at through SQLite alone: closing a second descriptor of our own would drop the locks that a writer
    in the same process holds on it.
    """
    _insist_on_file(path)
    if is_unmade(path):
        raise BookError(
            f"The book {path} is new: nothing was written into it yet.",
            safe="The file is untouched.",
            remedy="Run a plan into it first.",
        )
    try:
        link = _connected(path)
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
    return link if version == SCHEMA_VERSION else _brought_up_to_date(link, path)


def _insist_on_file(path: Path) -> None:
    """Raise ``BookError`` where there is no plain file of that name, or it cannot be looked at."""
    try:
        plain = stat.S_ISREG(path.stat().st_mode)
    except (FileNotFoundError, NotADirectoryError):
        raise BookError(f"There is no book {path}.", remedy="Check the name, or run a plan to make one.") from None
    except (OSError, ValueError) as error:
        why = error.strerror if isinstance(error, OSError) else str(error)
        shown = str(path)[:200]
        raise BookError(f"The book {shown} cannot be read: {why}.", remedy="Check its name, and who may read it.") from None
    if not plain:
        raise BookError(f"{path} is no file.", remedy="Name a book (*.niente).")


def _insist_on_log(path: Path) -> None:
    """Raise ``BookError`` where a hard link's other name has the log with what was last written: SQLite finds it only there."""
    found = path.stat() if path.exists() else None
    if found is None or found.st_nlink < 2:
        return
    for other in path.absolute().parent.iterdir():
        log = other.with_name(f"{other.name}-wal")
        if other.name != path.name and log.exists() and log.stat().st_size and other.exists() and other.samefile(path):
            raise BookError(
                f"The book {path} is called {other.name} too, and what was last written into it waits beside that name.",
                safe="It is untouched.",
                remedy=f"Open it as {other.name} once; after that either name will do.",
            )


def _brought_up_to_date(link: sqlite3.Connection, path: Path) -> sqlite3.Connection:
    """Return a copy, in memory, of a book of an older version as one of today's; the file stays as it is."""
    copy = sqlite3.connect(":memory:", isolation_level=None, check_same_thread=False)
    try:
        link.backup(copy)
        version = int(copy.execute("PRAGMA user_version").fetchone()[0])
        for step in range(version, SCHEMA_VERSION):
            copy.executescript(f"BEGIN; {UPGRADES[step]} PRAGMA user_version={step + 1}; COMMIT;")
    except sqlite3.Error as error:
        copy.close()
        raise damaged(path, error) from error
    finally:
        link.close()
    return copy


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
