"""How what takes long is compiled: once, into the person's cache, without holding the interpreter.

A compiled function calls others that stand in other files, and the compiler's own cache looks at one file only: so the
cache's name follows from all of them, and no change can leave an old part in a new machine.
"""

import hashlib
import os
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

import numba
import platformdirs

Function = TypeVar("Function", bound=Callable[..., object])


ROOMS = ("rigs/simulated", "rigs", "fans")
"""The rooms of the core that hold what is compiled."""


def _cache_folder() -> Path:
    """Return where what is compiled from these sources is kept."""
    sources = hashlib.sha256()
    for room in ROOMS:
        for file in sorted((Path(__file__).parents[1] / room).glob("*.py")):
            sources.update(file.read_bytes())
    return Path(platformdirs.user_cache_dir("niente")) / "compiled" / sources.hexdigest()[:16]


if "NUMBA_CACHE_DIR" not in os.environ:
    numba.config.CACHE_DIR = str(_cache_folder())  # type: ignore[attr-defined]


def compiled(function: Function) -> Function:
    """Compile a function of numbers and arrays; divisions by zero give what IEEE 754 says."""
    made: Function = numba.njit(cache=True, nogil=True, error_model="numpy")(function)  # type: ignore[assignment]
    return made
