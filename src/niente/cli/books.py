"""What a book holds, for commands that answer from it."""

from pathlib import Path

import msgspec

from niente.core.analysis.evidence import Evidence, gather
from niente.core.model.errors import BookError
from niente.core.model.limits import Limits
from niente.core.model.project import Project
from niente.core.model.rig_card import RigCard
from niente.core.planning.templates import default_project
from niente.core.storage.reader import BookReader
from niente.core.storage.writer import BookWriter


def read_book(book: Path) -> tuple[Evidence, Limits]:
    """Return what was measured, and what a pick must keep by the book's own project. Raises ``BookError`` without a rig."""
    reader = BookReader(book)
    try:
        evidence, project = gather(reader), reader.project()
    finally:
        reader.close()
    if evidence is None:
        raise BookError(f"The book {book} has no rig yet.", remedy="Run a plan into it first.")
    return evidence, project.limits if project is not None else Limits()


def card_and_project(book: Path) -> tuple[RigCard, Project | None]:
    """Return the rig of a book and its project, if it has one. Raises ``BookError`` without a rig."""
    reader = BookReader(book)
    try:
        card, project = reader.card(), reader.project()
    finally:
        reader.close()
    if card is None:
        raise BookError(f"The book {book} has no rig yet.", remedy="Run a plan into it first.")
    return card, project


def project_in(book: Path) -> Project:
    """Return the project of a book; of one that was made on the command line what a rig's default is. Raises ``BookError``
    without a rig."""
    card, project = card_and_project(book)
    if project is not None:
        return project
    return msgspec.structs.replace(default_project(card), limits=Limits())


def save_project(book: Path, project: Project) -> None:
    """Add a version of the project to a book. Raises ``BookBusyError`` while another Niente writes it."""
    writer = BookWriter(book)
    try:
        writer.add_document("project", project)
    finally:
        writer.close()
