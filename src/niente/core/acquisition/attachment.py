"""Attaching a rig to a book: which rig, and which individual, follows from the book where nobody says otherwise."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec

from niente.core.acquisition.bench import Bench
from niente.core.acquisition.opening import open_bench
from niente.core.acquisition.trusted_drivers import insist_on_trust, trust
from niente.core.model.json_files import converted
from niente.core.model.records import Listener
from niente.core.model.rig_card import RigCard
from niente.core.rigs.protocol import Rig
from niente.core.rigs.registry import Progress, document_of, open_document, open_rig, shipped, silently
from niente.core.storage.reader import BookReader


class Driver(msgspec.Struct, frozen=True):
    """How a book's rig is opened again: by its name, or by the machine file that the book keeps whole."""

    name: str
    machine: dict[str, Any] = msgspec.field(default_factory=dict)


KIND = "driver"
"""The kind of document that holds a driver."""


def attach(
    book: Path,
    listener: Listener,
    *,
    rig: str | None = None,
    seed: int | None = None,
    pace: float | None = None,
    variant: str | None = None,
    otherwise: str | None = None,
    progress: Progress = silently,
    on_look: Callable[[], None] = lambda: None,
) -> Bench:
    """Return a bench on a book.

    Where ``rig`` or ``seed`` are not given, the rig is opened as the book knows it (in a new book: the first that ships,
    sample 1; ``otherwise`` names another for books that do not know how theirs is opened). A machine file is kept in the
    book, which then needs it no more. Raises ``NienteError`` where rig or book
    cannot be opened or do not belong together.
    """
    known, driver = card_and_driver(book)
    seed = _seed_of(known) if seed is None else seed
    if driver is None and otherwise is not None and (known is None or known.name not in shipped()):
        rig = rig or otherwise
    opened, used = _opened(book, rig, known, driver, seed, pace, progress)
    try:
        bench = open_bench(opened, book, listener, variant=variant, on_look=on_look)
    except BaseException:
        opened.close()
        raise
    if used != driver:
        bench.writer.add_document(KIND, used)
    return bench


def _seed_of(known: RigCard | None) -> int:
    """Return which sample of a simulated machine a book's card is of."""
    return int(known.serial) if known is not None and known.simulated and known.serial.isdigit() else 1


def _opened(
    book: Path, rig: str | None, known: RigCard | None, driver: Driver | None, seed: int, pace: float | None, progress: Progress
) -> tuple[Rig, Driver]:
    """Return the rig, and how it is opened again."""
    if rig is None and driver is not None:
        insist_on_trust(driver.name, book)
    if rig is None and driver is not None and driver.machine:
        return opened_by(driver, seed, pace, progress), driver
    fallback = known.name if known is not None and known.name in shipped() else shipped()[0]
    name = rig or (driver.name if driver is not None else fallback)
    opened = open_rig(name, seed=seed, pace=pace, progress=progress)
    if rig is not None:
        trust(rig)  # whoever names a driver themselves says that it may run
    return opened, Driver(name, document_of(name))


def opened_by(driver: Driver, seed: int, pace: float | None = None, progress: Progress = silently) -> Rig:
    """Return the rig of a driver that is known. Raises ``NienteError`` where it cannot be opened."""
    if driver.machine:
        return open_document(driver.machine, driver.name, seed=seed, pace=pace, progress=progress)
    return open_rig(driver.name, seed=seed, pace=pace, progress=progress)


def card_and_driver(book: Path) -> tuple[RigCard | None, Driver | None]:
    """Return the card of the rig a book belongs to and its driver; ``None`` for what the book does not know."""
    if not book.exists() or book.stat().st_size == 0:
        return None, None
    reader = BookReader(book)
    try:
        return reader.card(), reader.newest(KIND, lambda document: converted(document, Driver))
    finally:
        reader.close()
