"""The words of answers: figures with their intervals and units, and what belongs to them."""

from collections.abc import Sequence

from niente.core.model.answer_document import AnswerState, Value
from niente.core.model.quantities import NO_BREAK_SPACE, TRUE_MINUS, number_text
from niente.core.model.rig_card import LoadCard, RigCard
from niente.core.planning.progress import Row, RunStatus

INTERVALS = "95 % intervals"


def amount(value: Value, digits: int, unit: str) -> str:
    """Return a figure with its interval and its unit, held together: ``83.3 ± 1.0 °C``."""
    if value.words:
        return value.words
    if value.value is None:
        return "not known"
    parts = [number_text(value.value, digits)]
    if value.half_width is not None:
        parts += ["±", number_text(value.half_width, digits)]
    return NO_BREAK_SPACE.join([*parts, *([unit] if unit else [])])


def bare(value: float | None, digits: int, unit: str) -> str:
    """Return a figure with its unit, held together."""
    return NO_BREAK_SPACE.join([number_text(value, digits), *([unit] if unit else [])]) if value is not None else "not known"


def signed(value: Value, digits: int, unit: str) -> str:
    """Return a difference with its sign: ``+80 ± 12 MHz``."""
    text = amount(value, digits, unit)
    return f"+{text}" if value.value is not None and value.value > 0 and not text.startswith(("0", TRUE_MINUS)) else text


def known_differences(differences: Sequence[tuple[Value, int, str]]) -> list[str]:
    """Return the differences whose interval is known, in words: one between runs that have not settled says nothing."""
    return [signed(value, digits, unit) for value, digits, unit in differences if value.half_width is not None]


def load_title(load: LoadCard) -> str:
    """Return what a load is called, without how many cores it takes."""
    return load.title.partition(",")[0]


def title_rest(load: LoadCard) -> str:
    """Return what stands behind a load's name: how many cores it takes."""
    return load.title.partition(",")[2].strip()


def listed(words: Sequence[str]) -> str:
    """Return words as a list in a sentence: ``a, b and c``."""
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}" if words else ""


def machine(card: RigCard) -> str:
    """Return the machine with the state it is in."""
    return f"{card.title}, {card.variant}" if card.variant else card.title


def fans_words(card: RigCard, rows: Sequence[Row]) -> str:
    """Return how the fans stood in all of some runs."""
    settings = [row.run.setting for row in rows if row.run is not None]
    groups = list(card.fan_groups())
    if not settings or not groups:
        return ""
    if any(setting.fan_curve for setting in settings):
        return "fans on a curve"
    found = []
    for group in groups:
        duties = {setting.fan_duty.get(group) for setting in settings}
        known = [duty for duty in duties if duty is not None]
        if len(duties) == 1 and known:
            found.append(f"{group}{NO_BREAK_SPACE}fans {known[0]:g}{NO_BREAK_SPACE}%")
    return listed(found)


def lead_of(title: str, card: RigCard, *conditions: str) -> str:
    """Return the line over an answer: question, machine, conditions, and what its intervals are."""
    return "; ".join([f"{title}: {machine(card)}", *(words for words in conditions if words), INTERVALS])


def left_words(rows: Sequence[Row], state: AnswerState) -> str:
    """Say how far an answer is; empty where it is complete and nothing failed on the way."""
    waiting = [row for row in rows if not row.status.closed]
    if state == AnswerState.NOTHING:
        return "No run has been made for it yet."
    failed = sum(row.status == RunStatus.GUARD for row in rows)
    words = []
    if waiting:
        words.append(f"{len(waiting)} of {len(rows)} runs are still to come.")
    if failed:
        words.append(f"{failed} {'run was' if failed == 1 else 'runs were'} ended by a guard.")
    return " ".join(words)
