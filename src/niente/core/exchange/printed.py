"""A page to print, as blocks: what HTML and PDF are both made from, so that they say the same."""

import msgspec


class Heading(msgspec.Struct, frozen=True, tag="heading"):
    """A heading; level 2 is a section of the page."""

    text: str
    level: int = 2


class Paragraph(msgspec.Struct, frozen=True, tag="paragraph"):
    """Running text; what is ``strong`` stands out."""

    text: str
    strong: bool = False


class Listing(msgspec.Struct, frozen=True, tag="listing"):
    """Items under each other, with numbers where their order counts, or with boxes to tick."""

    items: tuple[str, ...]
    numbered: bool = False


class Grid(msgspec.Struct, frozen=True, tag="grid"):
    """A table: a caption, heads, and rows of text; the first column names the row, all others are set to the right."""

    caption: str
    heads: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]


PageBlock = Heading | Paragraph | Listing | Grid


class PrintedPage(msgspec.Struct, frozen=True):
    """A document to print: its title, the line over it, when it was made (UTC, ISO 8601), and its blocks in order."""

    title: str
    lead: str
    made_at: str
    foot: str
    blocks: tuple[PageBlock, ...]
