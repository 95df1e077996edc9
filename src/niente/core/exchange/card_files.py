"""Hand-over cards as files: plain text, JSON, HTML, PDF and a script, the same for window and command line."""

from collections.abc import Callable
from pathlib import Path

from niente.core.answers.answering import Answering
from niente.core.answers.hand_over import hand_over_card
from niente.core.exchange.card_page import card_page, hand_over_text
from niente.core.exchange.card_script import card_script
from niente.core.exchange.html_page import page_as_html
from niente.core.exchange.pdf_page import page_as_pdf
from niente.core.model.hand_over_card import HandOverCard
from niente.core.model.kept_point import point_named
from niente.core.model.project import Project

FORMATS: dict[str, Callable[[HandOverCard], bytes]] = {
    "text": lambda card: f"{hand_over_text(card)}\n".encode(),
    "json": HandOverCard.to_json,
    "html": lambda card: page_as_html(card_page(card)).encode(),
    "pdf": lambda card: page_as_pdf(card_page(card)),
    "script": lambda card: card_script(card).encode(),
}


def card_file(answering: Answering, book: Path, project: Project, stamp: tuple[str, str], of: str, point: str = "") -> bytes:
    """Return the card of a book's pick, or of one of its points by name, in a format, by what was found of the book last.
    ``stamp`` is the moment (UTC, ISO 8601) and the version of Niente. Raises ``NotEnoughError`` without a pick, and
    ``DocumentError`` where there is no such point."""
    kept = point_named(project.points, point) if point else None
    return FORMATS[of](hand_over_card(book, answering.found(book, project.limits), *stamp, kept))
