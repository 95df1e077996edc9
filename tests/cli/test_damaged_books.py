"""Damaged books, drawn at random, through every command that reads one, and through the bench's writer."""

import contextlib
import os
import random
import shutil
import sqlite3
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from niente.cli.main import main
from niente.core.model.errors import NienteError
from niente.core.model.project import Project
from niente.core.storage.writer import BookWriter
from tests.draws import SEED, draws

BOOKS = draws(200, 60)
CODES = {0, 3, 6}
TABLES = ("document", "run", "frames", "happening", "closing", "record")
JUNK = ("", "null", "{}", "[]", "7", '"x"', "{", '{"name": 3}', "\x00", "é" * 10, "[" * 5000)


def flip(book: Path, draw: random.Random) -> None:
    data = bytearray(book.read_bytes())
    for _ in range(draw.choice((1, 8, 200))):
        data[draw.randrange(len(data))] ^= 1 << draw.randrange(8)
    book.write_bytes(data)


def cut(book: Path, draw: random.Random) -> None:
    os.truncate(book, draw.randrange(book.stat().st_size))


def blank(book: Path, draw: random.Random) -> None:
    with book.open("r+b") as file:
        file.seek(4096 * draw.randrange(book.stat().st_size // 4096))
        file.write(bytes([draw.choice((0, 255))]) * 4096)


def swap(book: Path, draw: random.Random) -> None:
    data = book.read_bytes()
    pages = [data[at : at + 4096] for at in range(0, len(data), 4096)]
    one, other = draw.randrange(len(pages)), draw.randrange(len(pages))
    pages[one], pages[other] = pages[other], pages[one]
    book.write_bytes(b"".join(pages))


def rewrite(book: Path, draw: random.Random) -> None:
    """What is well-formed for SQLite, and no Niente wrote."""
    table = draw.choice(TABLES)
    with contextlib.closing(sqlite3.connect(book)) as link:
        names = [row[1] for row in link.execute(f"PRAGMA table_info({table})")]
        kinds = {row[1]: row[2] for row in link.execute(f"PRAGMA table_info({table})")}
        for trigger in [row[0] for row in link.execute("SELECT name FROM sqlite_master WHERE type = 'trigger'")]:
            link.execute(f"DROP TRIGGER {trigger}")
        column = draw.choice([name for name in names if name != "id"])
        value: object = {"TEXT": draw.choice(JUNK), "BLOB": draw.randbytes(draw.choice((0, 3, 80)))}.get(
            kinds[column], draw.choice((-1, 0, 10**12))
        )
        number = draw.choice([row[0] for row in link.execute(f"SELECT rowid FROM {table}")] or [0])
        with contextlib.suppress(sqlite3.IntegrityError):
            link.execute(f"UPDATE {table} SET {column} = ? WHERE rowid = ?", (value, number))
        link.commit()


def drop(book: Path, draw: random.Random) -> None:
    with contextlib.closing(sqlite3.connect(book)) as link:
        link.execute(f"DROP TABLE {draw.choice(TABLES)}")
        link.commit()


def claim(book: Path, draw: random.Random) -> None:
    """A version or an application that it is not of."""
    with contextlib.closing(sqlite3.connect(book)) as link:
        link.execute(f"PRAGMA {draw.choice(('user_version', 'application_id'))}={draw.choice((0, 1, 2, 9, -1))}")
        link.commit()


WAYS: tuple[Callable[[Path, random.Random], None], ...] = (flip, flip, cut, blank, swap, rewrite, rewrite, rewrite, drop, claim)


def commands_on(book: Path) -> list[list[str]]:
    name = str(book)
    return [
        ["status", name],
        ["status", name, "--json"],
        ["choose", name],
        ["answer", name],
        ["fit", name],
        ["predict", name, "--set", "sustained_power_w=100"],
        ["rig-sheet", "--book", name],
    ]


def test_a_damaged_book_is_said_to_be_damaged(
    sweep: tuple[Path, Project], tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]
) -> None:
    draw = random.Random(SEED)
    failed = []
    for number in range(BOOKS):
        book = Path(shutil.copyfile(sweep[0], tmp_path / f"{number}.niente"))
        way = draw.choice(WAYS)
        way(book, draw)
        before = book.read_bytes()
        words = draw.choice(commands_on(book))
        monkeypatch.setattr(sys, "argv", ["niente-cli", *words])
        with pytest.raises(SystemExit) as left:
            main()
        said = capfd.readouterr()
        if left.value.code not in CODES or "Traceback" in said.err or (left.value.code and not said.err.strip()):
            failed.append((number, way.__name__, words[0], left.value.code, said.err[-200:]))
        assert book.read_bytes() == before  # a reader changes nothing
        with contextlib.suppress(NienteError):
            BookWriter(book).close()
        book.unlink()
    assert not failed, f"seed {SEED}: {len(failed)} of {BOOKS}: {failed[:8]}"
