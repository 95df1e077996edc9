"""How far something long is, on standard error."""

import sys


class ProgressPrinter:
    """Says on standard error how far something long is, once for each step."""

    def __init__(self) -> None:
        self._last = ""

    def __call__(self, text: str) -> None:
        """Print a step that was not printed yet."""
        if text and text != self._last:
            self._last = text
            print(text, file=sys.stderr, flush=True)
