"""One decimal sign on the whole screen: that of the person's locale. Files, JSON and the command line keep the point.

Sentences come with a point from the core, which knows of no screen. They are turned where they are shown (labels, painters,
tables, tooltips), so that no page has to think of it.
"""

import re
from collections.abc import Iterable

from PySide6.QtCore import QLocale

POINT = re.compile(r"(?<![\w.,/-])([+−-]?\d+)\.(\d+)(?![\w/-]|\.\w)")
"""A number with a decimal point; versions (1.2.3), names and paths (v2.5, bench-2.5/a, 2.5.niente) are left alone."""


def decimal_sign() -> str:
    """Return the sign between units and tenths in the person's locale: a comma or a point, which is what fields can read."""
    return "," if QLocale().decimalPoint() == "," else "."


def in_locale(text: str) -> str:
    """Return a text with the locale's decimal sign in its numbers."""
    return text if "." not in text or decimal_sign() == "." else POINT.sub(r"\1,\2", text)


def list_text(texts: Iterable[str]) -> str:
    """Return numbers as a list that can be typed again: a comma that is the decimal sign parts nothing."""
    return in_locale(("; " if decimal_sign() == "," else ", ").join(texts))


def list_parts(text: str) -> list[str]:
    """Return what stands in a typed list; one part where it is no list.

    A semicolon parts, and a comma with a space after it. A bare comma parts where the decimal sign is a point, or where it
    stands in a part twice: no number has two.
    """
    found: list[str] = []
    for part in re.split(r";|,(?=\s)", text):
        bare = part.count(",") > (1 if decimal_sign() == "," else 0)
        found.extend(part.split(",") if bare else [part])
    return [part.strip() for part in found if part.strip()]
