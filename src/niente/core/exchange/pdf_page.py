"""A page as PDF, with the fonts that ship with Niente inside of it. One route, the same for window and command line."""

import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from niente.core.exchange.printed import Grid, Heading, Listing, PageBlock, Paragraph, PrintedPage

if TYPE_CHECKING:
    from fpdf import FPDF

FONTS = Path(__file__).parents[2] / "assets" / "fonts"
FAMILY = "B612"
MARGIN_MM, LINE = 18.0, 1.4
TITLE_PT, BODY_PT, SMALL_PT = 17.0, 9.5, 8.0
INK, SOFT, RULE = (34, 38, 43), (94, 102, 111), (217, 213, 203)
NARROW = 6
"""A table of more columns is set smaller."""


def page_as_pdf(page: PrintedPage) -> bytes:
    """Return a page as PDF on A4, as many sheets as it takes."""
    from fpdf import FPDF

    pdf = FPDF(format="A4")
    pdf.set_creation_date(datetime.datetime.fromisoformat(page.made_at))
    pdf.set_title(f"{page.lead}: {page.title}")
    pdf.set_lang("en")
    pdf.set_margin(MARGIN_MM)
    pdf.set_auto_page_break(auto=True, margin=MARGIN_MM)
    for style, name in (("", "Regular"), ("B", "Bold")):
        pdf.add_font(FAMILY, style=style, fname=FONTS / f"B612-{name}.otf")
    pdf.add_page()
    _write(pdf, page.lead, SMALL_PT, SOFT)
    _write(pdf, page.title, TITLE_PT, INK)
    pdf.ln(2.0)
    for block in page.blocks:
        _put(pdf, block)
    pdf.ln(4.0)
    _write(pdf, page.foot, SMALL_PT, SOFT)
    return bytes(pdf.output())


def _put(pdf: "FPDF", block: PageBlock) -> None:
    match block:
        case Heading():
            if pdf.will_page_break(24.0):
                pdf.add_page()
            pdf.ln(3.0)
            pdf.set_draw_color(*RULE)
            pdf.line(pdf.l_margin, pdf.get_y(), pdf.w - pdf.r_margin, pdf.get_y())
            pdf.ln(1.5)
            _write(pdf, block.text, BODY_PT + 1.0, INK, style="B")
        case Paragraph():
            _write(pdf, block.text, BODY_PT, INK, style="B" if block.strong else "")
        case Listing():
            for number, item in enumerate(block.items, 1):
                _write(pdf, f"{number}.  {item}" if block.numbered else f"–  {item}", BODY_PT, INK)
        case Grid():
            _grid(pdf, block)


def _write(pdf: "FPDF", text: str, size_pt: float, colour: tuple[int, int, int], *, style: str = "") -> None:
    """Write text over as many lines as it takes, and go on below it."""
    pdf.set_font(FAMILY, style=style, size=size_pt)
    pdf.set_text_color(*colour)
    pdf.multi_cell(0, size_pt * LINE * 0.3528, text, align="L", new_x="LMARGIN", new_y="NEXT")


def _grid(pdf: "FPDF", grid: Grid) -> None:
    from fpdf.enums import TableBordersLayout, TextEmphasis
    from fpdf.fonts import FontFace

    pdf.ln(1.5)
    _write(pdf, grid.caption, SMALL_PT, SOFT)
    pdf.set_font(FAMILY, size=SMALL_PT if len(grid.heads) <= NARROW else SMALL_PT - 1.5)
    pdf.set_text_color(*INK)
    pdf.set_draw_color(*RULE)
    first = max(len(row[0]) for row in (grid.heads, *grid.rows))
    others = [max(len(row[at]) for row in (grid.heads, *grid.rows)) for at in range(1, len(grid.heads))]
    with pdf.table(
        col_widths=(first + 2, *(width + 2 for width in others)),
        text_align=("LEFT", *("RIGHT" for _ in others)),
        borders_layout=TableBordersLayout.HORIZONTAL_LINES,
        headings_style=FontFace(emphasis=TextEmphasis.NONE, color=SOFT),
        line_height=SMALL_PT * LINE * 0.3528,
        width=pdf.epw if len(grid.heads) > 2 else 0.7 * pdf.epw,
        align="LEFT",
    ) as table:
        for row in (grid.heads, *grid.rows):
            line = table.row()
            for cell in row:
                line.cell(cell)
