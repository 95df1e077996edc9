"""A page as one HTML file: no script, nothing to load, readable at any width, and printed well."""

from pathlib import Path

from niente.core.exchange.printed import PrintedPage

TEMPLATE = Path(__file__).parents[2] / "assets" / "print" / "page.html"


def page_as_html(page: PrintedPage) -> str:
    """Return a page as HTML; whatever stands in its texts is text there, too."""
    import jinja2

    environment = jinja2.Environment(autoescape=True, undefined=jinja2.StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    template = environment.from_string(TEMPLATE.read_text(encoding="utf-8"))
    return template.render(page=page, blocks=[(type(block).__name__, block) for block in page.blocks])
