"""Tooltips that hold what a book, a rig or a file says: Qt would draw text as mark-up that only looks like it."""

import html

from niente.desktop.services.decimal_sign import in_locale


def plain(text: str) -> str:
    """Return a text as a tooltip shows it letter for letter, its numbers with the locale's decimal sign."""
    text = in_locale(text)
    if "<" not in text:
        return text  # without a tag it is taken for none
    return "<qt>" + html.escape(text).replace("\n", "<br>") + "</qt>"
