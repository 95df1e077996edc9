"""Notes in a book: what a person wrote, when, in which run, and the tags in it."""

import re

import msgspec

from niente.core.storage.kinds import NOTE
from niente.core.storage.reader import BookReader

_TAG = re.compile(r"#(\w[\w-]*)")


class BookNote(msgspec.Struct, frozen=True):
    """One note. ``run_id`` is ``None`` between runs; ``written_at`` in seconds of the epoch; ``tags`` without their #."""

    run_id: int | None
    rig_time_s: float | None
    written_at: float
    text: str
    tags: tuple[str, ...]


def tags_in(text: str) -> tuple[str, ...]:
    """Return the tags in a text, each once, in order, in small letters: words that begin with #."""
    return tuple(dict.fromkeys(tag.lower() for tag in _TAG.findall(text)))


def notes_in(book: BookReader, tag: str = "") -> list[BookNote]:
    """Return the notes of a book, oldest first; with a tag, those that carry it."""
    found = [
        BookNote(one.run_id, one.rig_time_s, one.written_at, str(one.body), tags_in(str(one.body)))
        for one in book.events(kind=NOTE)
    ]
    wanted = tag.removeprefix("#").lower()
    return [note for note in found if not wanted or wanted in note.tags]
