"""Errors inside Qt's own calls (painting, showing) go to the same handler as all others, and never through Qt."""

import sys
from collections.abc import Callable


def guarded(work: Callable[[], object]) -> None:
    """Do something on Qt's behalf; a bug in it is reported, and the window lives on."""
    try:
        work()
    except Exception:
        sys.excepthook(*sys.exc_info())
