"""Attaching a rig to a book: which rig, and which individual, follows from the book where nobody says otherwise."""

from pathlib import Path

from niente.core.bench.bench import Bench
from niente.core.bench.events import Listener
from niente.core.book.reader import BookReader
from niente.core.rigcard import RigCard
from niente.core.rigs.registry import open_rig, shipped


def attach(
    book: Path, listener: Listener, *, rig: str | None = None, seed: int | None = None, pace: float | None = None
) -> Bench:
    """Return a bench on a book.

    Where ``rig`` or ``seed`` are not given, a simulated rig is opened as the book knows it (in a new book: the first that
    ships, sample 1). Raises ``NienteError`` where rig or book cannot be opened or do not belong together.
    """
    known = _card_of(book)
    name = rig or (known.name if known is not None and known.name in shipped() else shipped()[0])
    if seed is None:
        seed = int(known.serial) if known is not None and known.simulated and known.serial.isdigit() else 1
    opened = open_rig(name, seed=seed, pace=pace)
    try:
        return Bench(opened, book, listener)
    except BaseException:
        opened.close()
        raise


def _card_of(book: Path) -> RigCard | None:
    """Return the card of the rig a book belongs to; ``None`` for a book that is still to be made."""
    if not book.exists() or book.stat().st_size == 0:
        return None
    reader = BookReader(book)
    try:
        return reader.card()
    finally:
        reader.close()
