"""Figures that were judged once and are to stay as they are.

What a fit says depends on many small constants, tuned together against truths that no unit test holds (benchmarks, part
coverage). The files in ``tests/data/held`` are what they said when they were last judged: a change of any is a change of the
model, and is judged before ``NIENTE_HOLD=anew`` writes them again.
"""

import json
import math
import os
from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np

FOLDER = Path(__file__).parent / "data" / "held"
DIGITS, WIDE = 5, 120


def plain(found: object) -> object:
    """Return figures as a file holds them: numbers to five digits, arrays as lists, what is not finite in words."""
    if isinstance(found, Mapping):
        return {str(key): plain(value) for key, value in found.items()}
    if isinstance(found, np.ndarray):
        return plain(found.tolist())
    if isinstance(found, bool | str) or found is None:
        return found
    if isinstance(found, Sequence):
        return [plain(value) for value in found]
    number = float(found)  # type: ignore[arg-type]
    return float(f"{number:.{DIGITS}g}") if math.isfinite(number) else str(number)


def apart(found: object, held: object, within: float, path: str = "") -> list[str]:
    """Return where figures differ from those held, by more than a share of them or of a thousandth."""
    if isinstance(found, dict) and isinstance(held, dict):
        if found.keys() != held.keys():
            return [f"{path}: {sorted(found)} instead of {sorted(held)}"]
        return [words for key in found for words in apart(found[key], held[key], within, f"{path}/{key}")]
    if isinstance(found, list) and isinstance(held, list):
        if len(found) != len(held):
            return [f"{path}: {len(found)} instead of {len(held)}"]
        pairs = enumerate(zip(found, held, strict=True))
        return [words for index, (one, other) in pairs for words in apart(one, other, within, f"{path}/{index}")]
    if isinstance(found, float) and isinstance(held, int | float) and not isinstance(held, bool):
        same = abs(found - held) <= within * max(abs(held), 1e-3)
    else:
        same = found == held
    return [] if same else [f"{path}: {found} instead of {held}"]


def told(value: object, indent: int = 0) -> str:
    """Return JSON with a line for whatever fits on one."""
    line = json.dumps(value, ensure_ascii=False)
    if indent + len(line) <= WIDE or not isinstance(value, dict | list):
        return line
    deeper = " " * (indent + 1)
    if isinstance(value, dict):
        parts = [f"{json.dumps(key, ensure_ascii=False)}: {told(one, indent + 1)}" for key, one in value.items()]
    else:
        parts = [told(one, indent + 1) for one in value]
    first, last = "{}" if isinstance(value, dict) else "[]"
    return f"{first}\n{deeper}" + f",\n{deeper}".join(parts) + f"\n{' ' * indent}{last}"


def hold(name: str, found: object, within: float = 1e-3) -> None:
    """Hold figures against those of a file, each within a share of it."""
    file, now = FOLDER / f"{name}.json", plain(found)
    if os.environ.get("NIENTE_HOLD") == "anew":
        file.write_text(told(now) + "\n")
    differing = apart(now, json.loads(file.read_text()), within)
    assert not differing, "; ".join(differing[:8])
