"""Opening a bench: the one way in. A book is opened for a rig, what an earlier end left open is closed, the threads start."""

from collections.abc import Callable
from pathlib import Path

import msgspec

from niente.core.acquisition.bench import Bench, BookState, HangLimits
from niente.core.acquisition.hand_cards import by_hand_in
from niente.core.acquisition.recovery import close_open_runs
from niente.core.acquisition.sheeted_rig import SheetedRig
from niente.core.model.cautions import READ, cautions_for
from niente.core.model.errors import BookError, RigError
from niente.core.model.project import Project
from niente.core.model.records import Listener, RigCardChanged
from niente.core.model.rig_card import RigCard
from niente.core.planning.templates import project_asking
from niente.core.rigs.protocol import Rig
from niente.core.storage.kinds import CARD_CONFIRMED
from niente.core.storage.reader import BookReader
from niente.core.storage.recorder import Recorder
from niente.core.storage.writer import BookWriter


def open_bench(
    rig: Rig,
    book: Path,
    listener: Listener,
    *,
    variant: str | None = None,
    silent_limit_s: float = 10.0,
    hang_limit_s: float = 15.0,
    on_look: Callable[[], None] = lambda: None,
) -> Bench:
    """Return a started bench for a rig and a book, which is made where there is none.

    Runs that an earlier end left open are closed first (``Bench.interrupted``). ``listener`` is given every record, from the
    bench's threads, one at a time, and must not wait. ``variant`` is the state the machine is in, where it is not the one that
    the book knows. ``on_look`` is called a few times a second as long as the bench lives. Raises
    ``NienteError`` where book and rig do not belong together or one of them cannot be used; the book is then closed again,
    and the rig is the caller's.
    """
    sheeted = SheetedRig(rig)
    writer = BookWriter(book)
    try:
        recorder = Recorder(writer, sheeted.card)
        state = _read_book(writer, recorder, sheeted, variant)
        interrupted = close_open_runs(book, recorder, sheeted.card)
        if interrupted is not None:
            sheeted.rig.make_safe()  # whatever ended everything may have left the load on
        limits = HangLimits(silent_limit_s, hang_limit_s)
        bench = Bench(sheeted, writer, recorder, listener, state, interrupted, limits, on_look)
    except BaseException:
        writer.close()
        raise
    bench.start_threads()
    return bench


def _read_book(writer: BookWriter, recorder: Recorder, sheeted: SheetedRig, variant: str | None) -> BookState:
    """Return what the book knows, with its sheet put in force and the rig's card written where it is new."""
    book = BookReader(writer.path)
    try:
        known, project = book.card(), book.project()
        if project is None and (plans := book.plans()):  # something was asked here, if without a project
            project = project_asking(sheeted.card, None, plans[max(plans)].question)
        cautions = list(cautions_for(sheeted.card))
        cautions_read = any(event.body == cautions for event in book.events(kind=READ))
        by_hand = by_hand_in([event.body for event in book.events(kind=CARD_CONFIRMED)])
    finally:
        book.close()
    _insist_on_its_rig(writer.path, known, sheeted.card)
    sheet_problems = _put_sheet_in_force(sheeted, project, variant)
    if known != sheeted.card:
        recorder.write(RigCardChanged(sheeted.card))
    return BookState(project, cautions_read, by_hand, sheet_problems)


def _insist_on_its_rig(book: Path, known: RigCard | None, card: RigCard) -> None:
    """Raise ``BookError`` where a book belongs to another individual machine."""
    if known is not None and (known.name, known.serial) != (card.name, card.serial):
        raise BookError(
            f"The book {book} belongs to {known.title}, number {known.serial}, and this is {card.title}, number {card.serial}.",
            safe="The book is untouched.",
            remedy="Open it with its own rig, or name another book for this one.",
        )


def _put_sheet_in_force(sheeted: SheetedRig, project: Project | None, variant: str | None) -> list[str]:
    """Put the book's sheet in force, in a variant where one is named; return what of it does not fit, which leaves it aside.

    Raises ``RigError`` where the sheet does not fit in a variant that was named.
    """
    kept = project.sheet if project is not None else None
    if variant is None and kept is None:
        return []
    sheet = kept or sheeted.first_sheet
    if variant is not None:
        sheet = msgspec.structs.replace(sheet, variant=variant)
    found = sheeted.problems(sheet)
    if found and variant is not None:
        raise RigError(f"{sheeted.card.title} refuses its sheet: {'; '.join(found)}.", remedy="Choose another variant.")
    if not found:
        sheeted.take(sheet)
    return found
