"""Tooltips that hold what a book, a rig or a file says: Qt would draw text as mark-up that only looks like it."""

import html


def plain(text: str) -> str:
    """Return a text as a tooltip shows it letter for letter."""
    if "<" not in text:
        return text  # without a tag it is taken for none
    return "<qt>" + html.escape(text).replace("\n", "<br>") + "</qt>"
