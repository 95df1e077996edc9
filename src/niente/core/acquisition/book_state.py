"""What a book knows when it is opened for a rig."""

from collections.abc import Sequence
from pathlib import Path

import msgspec

from niente.core.acquisition.hand_cards import by_hand_in
from niente.core.acquisition.recovery import boot_id
from niente.core.acquisition.sheeted_rig import SheetedRig
from niente.core.model.cautions import READ, cautions_for
from niente.core.model.errors import BookError, RigError
from niente.core.model.project import Project
from niente.core.model.records import RigCardChanged
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.planning.templates import project_asking
from niente.core.storage.kinds import CARD_CONFIRMED, MADE_SAFE, START, STAYS
from niente.core.storage.reader import BookEvent, BookReader
from niente.core.storage.recorder import Recorder
from niente.core.storage.writer import BookWriter


class BookState(msgspec.Struct, frozen=True):
    """What a book knows when it is opened for a rig: the project, whether the cautions as they are now were read, what hands
    have set by control, what of the kept sheet does not fit the rig any more, and the setting that the machine has kept since
    the last bench in place of the safe one."""

    project: Project | None
    cautions_read: bool
    by_hand: dict[str, float]
    sheet_problems: list[str]
    stays: Setting | None


def read_book_state(writer: BookWriter, recorder: Recorder, sheeted: SheetedRig, variant: str | None) -> BookState:
    """Return what the book knows, with its sheet put in force and the rig's card written where it is new.

    Raises ``NienteError`` where book and rig do not belong together.
    """
    book = BookReader(writer.path)
    try:
        known, project = book.card(), book.project()
        if project is None and (plans := book.plans()):  # something was asked here, if without a project
            project = project_asking(sheeted.card, None, plans[max(plans)].question)
        cautions = list(cautions_for(sheeted.card))
        cautions_read = any(event.body == cautions for event in book.events(kind=READ))
        stays = stays_in(book.events(), sheeted.card)
        by_hand = by_hand_in([event.body for event in book.events(kind=CARD_CONFIRMED)])
    finally:
        book.close()
    _insist_on_its_rig(writer.path, known, sheeted.card)
    sheet_problems = _put_sheet_in_force(sheeted, project, variant)
    if known != sheeted.card:
        recorder.write(RigCardChanged(sheeted.card))
    return BookState(project, cautions_read, by_hand, sheet_problems, stays)


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


def _setting_of(body: object) -> Setting | None:
    """Return a setting as a book has it; ``None`` for none, and for what is none."""
    try:
        return msgspec.convert(body, Setting | None)
    except msgspec.ValidationError:
        return None


def stays_in(events: Sequence[BookEvent], card: RigCard) -> Setting | None:
    """Return the setting that a machine still keeps, by what happened in its book, oldest first; ``None`` where it keeps none,
    was made safe since, or was started anew, as a simulated one is with every bench."""
    if card.simulated:
        return None
    stays: Setting | None = None
    boot = ""
    for one in events:
        if one.kind == STAYS:
            stays = _setting_of(one.body)
        elif one.kind == MADE_SAFE:
            stays = None
        elif one.kind == START:
            boot = one.body
    return None if card.on_this_computer and boot != boot_id() else stays
