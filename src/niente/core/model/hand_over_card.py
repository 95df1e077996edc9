"""A hand-over card: a setting as it is entered, what is to be expected of it, how to check it, and the way back.

It travels as JSON, and is printed as a page. Figures carry their 95 % intervals; what follows from a model says so.
"""

import msgspec

from niente.core.model.answer_document import AnswerFigure, Remark, Table
from niente.core.model.errors import DocumentError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.json_files import JsonError, converted, decoded_json, indented_json, json_schema
from niente.core.model.rig_card import ControlFile, SetBy

HAND_OVER_FORMAT = "niente-card/1"


class EntryStep(msgspec.Struct, frozen=True):
    """One control to be set: who sets it, its name and title, the value with its unit, in words, what stock has, and the
    kernel's own file behind it, where there is one."""

    control: str
    title: str
    set_by: SetBy
    value: float
    unit: str
    words: str
    stock: float | None = None
    file: ControlFile | None = None


class FanRow(msgspec.Struct, frozen=True):
    """A fan group: its duty in %, and the speed in rpm that is to be expected."""

    group: str
    duty: float
    speed: AnswerFigure


class CurveRow(msgspec.Struct, frozen=True):
    """A fan group on a curve, and the curve in words, as it is entered."""

    group: str
    curve: FanCurve
    words: str


class ShortCheck(msgspec.Struct, frozen=True):
    """The check of ten minutes: which load for how long, and what is then read while the machine behaves as it did. The
    interval of a figure is what it may differ by; ``runs`` of a figure are those that it was read from."""

    load: str
    title: str
    minutes: float
    figures: tuple[AnswerFigure, ...]
    words: str


class HandOverCard(msgspec.Struct, frozen=True):
    """A setting of one machine, handed over.

    ``point`` is the name that it was kept under (empty: the pick), ``made_at`` the moment (UTC, ISO 8601); ``steps`` stand in
    the order of entry, ``fans`` are those at fixed duties and ``curves`` the others, ``back`` is the way back to stock.
    ``firmware`` is for the version and date that a person notes.
    """

    format: str
    rig: str
    machine: str
    summary: str
    variant: str
    point: str
    made_at: str
    niente: str
    sentence: str
    standing: str
    standing_words: str
    steps: tuple[EntryStep, ...]
    fans: tuple[FanRow, ...]
    figures: tuple[AnswerFigure, ...]
    loads: Table | None
    check: ShortCheck | None
    evidence: tuple[Remark, ...]
    back: tuple[EntryStep, ...]
    cautions: tuple[str, ...]
    firmware: str = ""
    curves: tuple[CurveRow, ...] = ()

    def to_json(self) -> bytes:
        """Return the card as indented JSON, UTF-8."""
        return indented_json(self)


def read_card(text: bytes | str) -> HandOverCard:
    """Return the card in a JSON text. Raises ``DocumentError`` that names the path of the first field that is wrong."""
    try:
        card = converted(decoded_json(text), HandOverCard)
        if card.format != HAND_OVER_FORMAT:
            raise JsonError("format", f"{card.format!r}; this Niente reads {HAND_OVER_FORMAT!r}")
    except ValueError as error:
        words = f"at {error}" if isinstance(error, JsonError) else str(error)
        raise DocumentError(
            f"This is not a hand-over card that Niente can read: {words}.",
            safe="The file is untouched and nothing was set.",
            remedy="Correct that field, or make the card anew with 'niente-cli card'.",
        ) from None
    return card


def hand_over_schema() -> bytes:
    """Return the JSON schema of a card."""
    return json_schema(HandOverCard)
