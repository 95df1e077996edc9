"""A project: what a person wants of a machine. It is kept in the book, version after version."""

from enum import StrEnum
from typing import Any

import msgspec

from niente.core.model.failure_goal import A_DAY, FailureGoal
from niente.core.model.json_files import converted
from niente.core.model.question import Question, of_first_question
from niente.core.model.rig_sheet import RigSheet


class Aim(StrEnum):
    """What a choice is for, among the settings that keep every limit."""

    QUIETEST = "quietest"
    FASTEST = "fastest"
    LEAST_WATTS = "least watts"
    COOLEST = "coolest"


class NoisePlace(StrEnum):
    """Where, and when, the most noise is judged."""

    ROOM = "in the room"
    LISTENER_BY_DAY = "listener by day"
    LISTENER_AT_NIGHT = "listener at night"


class Limits(
    msgspec.Struct,
    frozen=True,
    forbid_unknown_fields=True,
    rename={
        "min_throughput_percent": "least_throughput_percent",
        "min_headroom_k": "least_headroom_k",
        "max_noise_dba": "most_noise_dba",
    },
):
    """What a pick must keep.

    Throughput in percent of stock in the load that counts, headroom in kelvin in the design room with its 95 %
    interval, and minutes of the heaviest load at the setting without a wrong result. ``max_noise_dba`` is the most
    noise, with its interval, at ``noise_at``; ``None`` sets no such limit. ``failure`` is what it has to last, ``aim`` what is
    wanted beyond the limits.
    """

    min_throughput_percent: float = 90.0
    min_headroom_k: float = 8.0
    design_room_c: float = 28.0
    clean_minutes: float = 20.0
    max_noise_dba: float | None = None
    failure: FailureGoal = A_DAY
    aim: Aim = Aim.QUIETEST
    noise_at: NoisePlace = NoisePlace.ROOM


class Project(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a person has decided so far: the rig, its question, and the limits of the choice.

    ``question_chosen`` is false in a fresh book until a person chooses a question: until then ``question`` is a proposal, and
    nothing is run for it. ``sheet`` is what the person says of the machine; ``None`` where that is what its driver says.
    ``sheet_kept`` is the document that a sheet was taken from, whose unknown fields go out again with it.
    """

    rig: str
    question: Question
    limits: Limits = Limits()
    sheet: RigSheet | None = None
    sheet_kept: dict[str, Any] = msgspec.field(default_factory=dict)
    question_chosen: bool = True


def project_of(document: Any) -> Project:
    """Return the project in a decoded JSON document, of whichever kind its question was. Raises ``JsonError``."""
    question = document.get("question") if isinstance(document, dict) else None
    if isinstance(question, dict) and "power" in question:
        document = {**document, "question": of_first_question(question)}
    return converted(document, Project)
