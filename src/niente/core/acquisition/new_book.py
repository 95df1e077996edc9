"""Making a book for a machine: a new one of a class, or a copy of one that is known. Runs in the caller's thread."""

import re
from pathlib import Path

import msgspec

from niente.core.acquisition.attachment import KIND, Driver, card_and_driver, opened_by
from niente.core.acquisition.opening import open_bench
from niente.core.model.errors import BookError
from niente.core.model.rig_sheet import sheet_of
from niente.core.planning.templates import default_project
from niente.core.rigs.registry import Progress, class_document, open_document, silently
from niente.core.storage.reader import BookReader


def make_from_class(book: Path, template: str, title: str, progress: Progress = silently) -> None:
    """Make a book for a new machine of a class, called ``title``. Raises ``NienteError``, and touches no book there is."""
    _insist_new(book)
    name = re.sub(r"[^a-z0-9]+", "-", title.lower()).strip("-") or "rig"
    document = {**class_document(template), "name": name, "title": title}
    driver = Driver(name, document)
    bench = open_bench(open_document(document, title, progress=progress), book, lambda event: None)
    try:
        bench.writer.add_document(KIND, driver)
        sheet = msgspec.structs.replace(sheet_of(bench.own_card), title=title)
        bench.save_project(msgspec.structs.replace(default_project(bench.card), sheet=sheet))
    finally:
        bench.close()


def make_copy(book: Path, of: Path, progress: Progress = silently) -> None:
    """Make a book with the machine of another and what is said of it, without its runs. Raises ``NienteError``."""
    _insist_new(book)
    card, driver = card_and_driver(of)
    if card is None:
        raise BookError(f"The book {of} has no rig yet.", remedy="Attach a rig to it first.")
    reader = BookReader(of)
    try:
        project = reader.project()
    finally:
        reader.close()
    used = driver or Driver(card.name)
    seed = int(card.serial) if card.serial.isdigit() else 1
    rig = opened_by(used, seed, progress=progress)
    try:
        bench = open_bench(rig, book, lambda event: None)
    except BaseException:
        rig.close()
        raise
    try:
        bench.writer.add_document(KIND, used)
        bench.save_project(project or default_project(bench.card))
    finally:
        bench.close()


def _insist_new(book: Path) -> None:
    if book.exists() and book.stat().st_size:
        raise BookError(
            f"There is a book {book} already.",
            safe="It is untouched.",
            remedy="Give the new one another name; nothing is ever overwritten.",
        )
