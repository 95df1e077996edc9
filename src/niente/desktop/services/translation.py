"""Every word on the screen goes through here, so that it can be given in another language."""

from PySide6.QtCore import QCoreApplication

CONTEXT = "Niente"


def tr(text: str) -> str:
    """Return a text in the person's language; places to fill stay as they are: ``tr("{n} runs").format(n=3)``."""
    return QCoreApplication.translate(CONTEXT, text)
