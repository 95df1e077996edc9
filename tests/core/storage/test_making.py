"""A book that is killed, or finds the disk full, while it is made or brought up to date is whole all the same, or new."""

import contextlib
import os
import random
import resource
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from niente.core.model.errors import BookBusyError, BookError
from niente.core.storage.connection import WriterLock
from niente.core.storage.reader import BookReader
from niente.core.storage.writer import BookWriter
from tests.contract.outside import CARD
from tests.draws import SEED, draws

KILLS = draws(25, 8)
OLD = Path(__file__).parents[2] / "data" / "version-2.niente"
MAKES = """
import itertools, shutil, sys
from pathlib import Path
from niente.core.storage.writer import BookWriter
folder, old = Path(sys.argv[1]), sys.argv[2]
print("ready", flush=True)
for number in itertools.count():
    book = folder / f"{number}.niente"
    if old:
        shutil.copyfile(old, folder / "draft")
        (folder / "draft").rename(book)
    BookWriter(book).close()
"""


def said_of(book: Path) -> int | str:
    """Return how many runs a book has, or why it cannot be read."""
    try:
        reader = BookReader(book)
    except BookError as error:
        return error.happened
    runs = len(reader.runs())
    reader.close()
    return runs


@pytest.mark.parametrize("old", [False, True])
def test_kills_while_books_are_made_or_upgraded(tmp_path: Path, *, old: bool) -> None:
    draw, runs = random.Random(SEED), len(BookReader(OLD).runs())
    for number in range(KILLS):
        folder = tmp_path / str(number)
        folder.mkdir()
        maker = subprocess.Popen(
            [sys.executable, "-c", MAKES, str(folder), str(OLD) if old else ""], stdout=subprocess.PIPE, env=os.environ
        )
        assert maker.stdout is not None
        assert maker.stdout.readline() == b"ready\n"
        time.sleep(draw.uniform(0.0, 0.1))
        maker.send_signal(signal.SIGKILL)
        maker.wait()
        maker.stdout.close()
        newest = sorted((book for book in folder.glob("*.niente") if book.stem.isdigit()), key=lambda book: int(book.stem))
        for book in newest[-2:]:
            assert said_of(book) == (runs if old else 0) or (not old and "is new" in str(said_of(book)))
            writer = BookWriter(book)
            writer.add_document("rig", CARD)
            writer.close()
            reader = BookReader(book)
            assert reader.card() == CARD
            assert len(reader.runs()) == (runs if old else 0)
            reader.close()
        shutil.rmtree(folder)


@pytest.mark.parametrize("kilobytes", [0, 1, 4, 5, 8, 12, 16, 20, 24, 32, 40, 48, 56, 64])
def test_a_disk_that_is_full_while_a_book_is_made(tmp_path: Path, kilobytes: int) -> None:
    """The limit on a file's size stands for the disk: what cannot be written is said, and the book is new the next time."""
    book = tmp_path / "new.niente"
    before = resource.getrlimit(resource.RLIMIT_FSIZE)
    handler = signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    resource.setrlimit(resource.RLIMIT_FSIZE, (kilobytes * 1024, before[1]))
    try:
        with contextlib.suppress(BookError):  # and nothing else
            BookWriter(book).close()
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, before)
        signal.signal(signal.SIGXFSZ, handler)
    writer = BookWriter(book)
    writer.add_document("rig", CARD)
    writer.close()
    reader = BookReader(book)
    assert reader.card() == CARD
    reader.close()


@pytest.mark.parametrize("way", ["symlink", "hard link", "another path", "no lock file"])
def test_the_lock_holds_for_the_file_whatever_name_leads_to_it(tmp_path: Path, way: str) -> None:
    book, other = tmp_path / "book.niente", tmp_path / "other.niente"
    writer = BookWriter(book)
    if way == "symlink":
        other.symlink_to(book)
    elif way == "hard link":
        other.hardlink_to(book)
    elif way == "another path":
        (tmp_path / "folder").mkdir()
        other = tmp_path / "folder" / ".." / "book.niente"
    else:
        other = book
        for left in tmp_path.glob("*lock*"):
            left.unlink()
    with pytest.raises(BookBusyError):
        BookWriter(other)
    writer.close()
    BookWriter(other).close()


@pytest.mark.parametrize("way", ["deleted", "moved", "another in its place"])
def test_a_book_that_goes_away_is_kept_beside(tmp_path: Path, way: str) -> None:
    book = tmp_path / "book.niente"
    writer = BookWriter(book)
    writer.add_document("rig", CARD)
    if way == "moved":
        book.rename(tmp_path / "elsewhere.niente")
    else:
        book.unlink()
    if way == "another in its place":
        book.write_text("dear all")
    with pytest.raises(BookError, match="is gone") as said:
        writer.add_event("note", "late")
    kept = tmp_path / "book.kept-1.niente"
    assert str(kept) in said.value.safe
    writer.add_event("note", "later")
    writer.close()
    reader = BookReader(kept)
    assert reader.card() == CARD
    assert [event.body for event in reader.events()] == ["later"]
    reader.close()
    assert not book.exists() or book.read_text() == "dear all"


def test_a_finished_book_in_a_folder_that_cannot_be_written_is_read(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """As on a medium that only reads: whoever is root writes everywhere, so the system's word on that is replaced."""
    folder = tmp_path / "archive"
    folder.mkdir()
    book = folder / "book.niente"
    writer = BookWriter(book)
    writer.add_document("rig", CARD)
    writer.close()
    before = sorted(folder.iterdir())
    folder.chmod(0o555)
    monkeypatch.setattr(os, "access", lambda path, mode: False)
    try:
        reader = BookReader(book)
        assert reader.card() == CARD
        reader.close()
        assert sorted(folder.iterdir()) == before
    finally:
        folder.chmod(0o755)


def test_an_older_book_is_read_without_being_changed() -> None:
    before = OLD.read_bytes()
    reader = BookReader(OLD)
    assert reader.runs()
    assert reader.last_ids()[0] == 0  # it kept no record
    reader.close()
    assert OLD.read_bytes() == before


def test_a_lock_that_is_let_go_of_is_free(tmp_path: Path) -> None:
    lock = WriterLock(tmp_path / "book.niente")
    assert lock.holds(tmp_path / "book.niente")
    assert not lock.holds(tmp_path / "none.niente")
    lock.release()
    WriterLock(tmp_path / "book.niente").release()


def test_a_log_that_waits_under_another_name_is_not_lost(tmp_path: Path) -> None:
    """A hard link to a book whose writer was killed: SQLite looks for the log beside the name that it is given."""
    book, other = tmp_path / "book.niente", tmp_path / "other.niente"
    killed = "import os, sys; from pathlib import Path; from niente.core.storage.writer import BookWriter\n"
    killed += "writer = BookWriter(Path(sys.argv[1])); writer.add_event('note', 'kept'); os._exit(9)"
    subprocess.run([sys.executable, "-c", killed, str(book)], check=False)
    other.hardlink_to(book)
    with pytest.raises(BookError, match="waits beside that name"):
        BookWriter(other)
    BookWriter(book).close()
    BookWriter(other).close()
    reader = BookReader(other)
    assert [event.body for event in reader.events()] == ["kept"]
    reader.close()
