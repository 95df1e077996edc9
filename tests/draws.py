"""How much the harnesses draw, and from which seed: ``make harness`` draws all, ``make test`` a part of it."""

import os

SEED = int(os.environ.get("NIENTE_SEED", "20261128"))
WHOLE = os.environ.get("NIENTE_DRAWS") == "all"


def draws(whole: int, part: int) -> int:
    """Return how many cases to draw."""
    return whole if WHOLE else part
