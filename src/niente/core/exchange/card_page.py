"""A hand-over card as a page to print, and as plain text."""

from niente.core.answers.wording import amount
from niente.core.exchange.printed import Grid, Heading, Listing, PageBlock, Paragraph, PrintedPage
from niente.core.model.answer_document import AnswerFigure, Table
from niente.core.model.hand_over_card import HandOverCard
from niente.core.model.quantities import quantity_of

TO_NOTE = "Firmware, version and date: ____________________"


def card_page(card: HandOverCard) -> PrintedPage:
    """Return the card as a page, in the order in which a person needs it."""
    machine = f"{card.machine}, {card.variant}" if card.variant else card.machine
    blocks: list[PageBlock] = [
        Paragraph(card.summary),
        Paragraph(card.standing_words, strong=True),
        Heading("Enter, in this order"),
        Listing(tuple(step.words for step in card.steps) or ("Nothing: it is the setting as found.",), numbered=True),
        Paragraph(card.firmware or TO_NOTE),
    ]
    if card.fans:
        rows = tuple((fan.group, f"{fan.duty:g} %", _figure(fan.speed)) for fan in card.fans)
        blocks += [Heading("Fans"), Grid("Duty, and the speed to be expected", ("Group", "Duty", "Speed"), rows)]
    if card.curves:
        rows = tuple((row.group, quantity_of(row.curve.source).title.lower(), row.words) for row in card.curves)
        blocks += [Heading("Fan curves"), Grid("As they are entered", ("Group", "Follows", "Curve"), rows)]
    blocks += [Heading("What it comes to"), _figures("By the models, with 95 % intervals", card.figures)]
    if card.loads is not None:
        blocks.append(_table(card.loads))
    if card.check is not None:
        blocks += [
            Heading("A check of ten minutes"),
            Paragraph(card.check.words),
            _figures(f"{card.check.title}, tenth minute; the interval is what it may differ by", card.check.figures),
        ]
    blocks.append(Heading("What it rests on"))
    blocks += [Paragraph(f"{remark.head}: {remark.words}") for remark in card.evidence]
    blocks += [
        Heading("The way back"),
        Listing(tuple(step.words for step in card.back) or ("Nothing was changed.",), numbered=True),
        Heading("Cautions"),
        Listing(card.cautions),
    ]
    lead = f"Hand-over card: {machine}{f', {card.point}' if card.point else ''}"
    return PrintedPage(card.sentence, lead, card.made_at, f"Niente {card.niente}, {card.made_at[:10]}", tuple(blocks))


def _figures(caption: str, figures: tuple[AnswerFigure, ...]) -> Grid:
    return Grid(caption, ("Figure", "Value"), tuple((figure.title, _figure(figure)) for figure in figures))


def _figure(figure: AnswerFigure) -> str:
    return amount(figure.value, figure.digits, figure.unit)


def _table(table: Table) -> Grid:
    heads = ("Load", *(f"{column.title}, {column.unit}" if column.unit else column.title for column in table.columns))
    rows = []
    for row in table.rows:
        cells = [
            value.words or ("–" if value.value is None else amount(value, column.digits, ""))
            for column, value in zip(table.columns, row.values, strict=True)
        ]
        rows.append((row.title, *cells))
    return Grid(table.title, heads, tuple(rows))


def hand_over_text(card: HandOverCard) -> str:
    """Return the card for a terminal."""
    return page_text(card_page(card))


def page_text(page: PrintedPage) -> str:
    """Return a page as plain text: sections in capitals of their first letter, lists numbered, tables by rows."""
    lines = [page.lead, page.title, ""]
    for block in page.blocks:
        match block:
            case Heading():
                lines += ["", block.text]
            case Paragraph():
                lines.append(f"  {block.text}")
            case Listing():
                marks = [f"{number}." if block.numbered else "-" for number in range(1, len(block.items) + 1)]
                lines += [f"  {mark} {item}" for mark, item in zip(marks, block.items, strict=True)]
            case Grid():
                lines.append(f"  {block.caption}")
                widths = [max(len(row[at]) for row in (block.heads, *block.rows)) for at in range(len(block.heads))]
                lines += [
                    "    " + "  ".join(cell.ljust(width) if not at else cell.rjust(width) for at, (cell, width) in
                                        enumerate(zip(row, widths, strict=True)))
                    for row in (block.heads, *block.rows)
                ]  # fmt: skip
    return "\n".join([*lines, "", page.foot])
