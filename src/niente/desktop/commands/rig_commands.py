"""What a person can do with the machine as a whole: another variant, another part, a new rig, a copy, a sheet in and out."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
from PySide6.QtWidgets import QDialog, QWidget

from niente.core.model.errors import NienteError
from niente.core.model.rig_card import Trust
from niente.core.model.rig_sheet import reworded, with_part
from niente.desktop.dialogs import prompts
from niente.desktop.services.translation import tr
from niente.desktop.session.notices import Notice
from niente.desktop.session.session import Session

if TYPE_CHECKING:
    from niente.desktop.dialogs.change_part import ChangedPart

Make = Callable[[Path, Callable[[str], None]], None]
"""Makes a book at a path, and says in words how far that is."""
"""Makes a book at a path; called away from the window's thread."""


class RigCommands:
    """The commands of one window; ``open_made`` opens a book once it was made."""

    def __init__(self, session: Session, over: QWidget, open_made: Callable[[Path, Make], None]) -> None:
        self._session = session
        self._over = over
        self._open_made = open_made

    def become(self, variant: str) -> None:
        """Change to another variant, after hands have done what it wants; else show the one in force again."""
        session, sheet = self._session, self._session.sheet
        if sheet is None or variant == sheet.variant:
            return
        known = sheet.known(variant)
        hands = known.hands if known is not None else ""
        if hands and not prompts.whether_hands_are_done(self._over, hands, _cautions()):
            session.project_changed.emit()
            return
        words = tr("variant {name}").format(name=variant)
        if not session.sheets.change(words, msgspec.structs.replace(sheet, variant=variant)):
            session.project_changed.emit()

    def change_part(self, name: str = "") -> None:
        """Ask what a part is now."""
        from niente.desktop.dialogs.change_part import ChangePart

        sheet = self._session.sheet
        if sheet is None:
            return
        dialog = ChangePart(sheet, name or (sheet.parts[0].name if sheet.parts else ""), self._over)
        if dialog.exec() == QDialog.DialogCode.Accepted:
            self.take_part(dialog.values)
        dialog.deleteLater()

    def take_part(self, result: ChangedPart) -> None:
        """Take what was said of a part."""
        session, sheet = self._session, self._session.sheet
        if sheet is None:
            return
        try:
            after = (
                with_part(sheet, result.part, result.variant, result.hands) if result.variant else reworded(sheet, result.part)
            )
        except NienteError as error:
            session.notice.emit(Notice(str(error)))
            return
        session.sheets.change(tr("part {name}").format(name=result.part.name), after)

    def calibrate(self) -> None:
        """Ask what a sensor is off by, and trust it so."""
        from niente.desktop.dialogs.calibrate import ask_for_trust

        bench = self._session.bench
        if bench is None:
            return
        trust = ask_for_trust(self._over, bench.own_card, self._session.answer.evidence)
        if trust is not None:
            self.take_trust(trust)

    def take_trust(self, trust: Trust) -> None:
        """Take over what a sensor is off by, in place of what was said of it."""
        session, sheet = self._session, self._session.sheet
        if sheet is None:
            return
        others = tuple(one for one in sheet.trust if one.channel != trust.channel)
        session.sheets.change(tr("sensor trust"), msgspec.structs.replace(sheet, trust=(*others, trust)))

    def take_sheet(self) -> None:
        """Ask for a sheet and take it."""
        file = prompts.for_sheet(self._over)
        if file is not None:
            self._session.sheets.take(file)

    def save_sheet(self) -> None:
        """Ask where, and write the sheet."""
        sheet = self._session.sheet
        file = prompts.where_to_save_sheet(self._over, sheet.rig) if sheet is not None else None
        if file is not None:
            self._session.sheets.save(file)

    def new(self) -> None:
        """Ask for a class of machines and a name, and make a book for it."""
        from niente.desktop.dialogs.new_rig import NewRig

        dialog = NewRig(self._over)
        result = dialog.values if dialog.exec() == QDialog.DialogCode.Accepted else None
        dialog.deleteLater()
        book = prompts.where_to_make_book(self._over, result[1]) if result is not None else None
        if result is None or book is None:
            return
        template, title = result

        def make(path: Path, progress: Callable[[str], None]) -> None:
            from niente.core.acquisition.new_book import make_from_class

            make_from_class(path, template, title, progress)

        self._open_made(book, make)

    def copy(self) -> None:
        """Ask where, and make a book with this machine and what is said of it, without its runs."""
        bench, project = self._session.bench, self._session.project
        if bench is None or project is None:
            return
        own = bench.path
        book = prompts.where_to_make_book(self._over, tr("{title}, copy").format(title=bench.card.title))
        if book is None:
            return

        def make(path: Path, progress: Callable[[str], None]) -> None:
            from niente.core.acquisition.new_book import make_copy

            make_copy(path, own, progress)

        self._open_made(book, make)


def _cautions() -> str:
    return tr(
        "Mains off and unplugged before hands go in, and let a heatsink cool. Liquid and power do not mix. The maker's "
        "limits and local rules come first; mains work is for licensed people."
    )
