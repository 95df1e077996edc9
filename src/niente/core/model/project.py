"""A project: what a person wants of a machine. It is kept in the book, version after version."""

from typing import Any

import msgspec

from niente.core.model.json_files import converted
from niente.core.model.kept_point import KeptPoint
from niente.core.model.limits import Limits
from niente.core.model.question import Question, of_first_question
from niente.core.model.rig_sheet import RigSheet
from niente.core.model.what_if import WhatIf


class Project(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a person has decided so far: the rig, its question, and the limits of the choice.

    ``question_chosen`` is false in a fresh book until a person chooses a question: until then ``question`` is a proposal, and
    nothing is run for it. ``sheet`` is what the person says of the machine; ``None`` where that is what its driver says.
    ``sheet_kept`` is the document that a sheet was taken from, whose unknown fields go out again with it. ``points`` are
    settings that were kept under names; ``what_ifs`` the circumstances that a choice is looked at in (``None``: the usual).
    """

    rig: str
    question: Question
    limits: Limits = Limits()
    sheet: RigSheet | None = None
    sheet_kept: dict[str, Any] = msgspec.field(default_factory=dict)
    question_chosen: bool = True
    points: tuple[KeptPoint, ...] = ()
    what_ifs: tuple[WhatIf, ...] | None = None


def project_of(document: Any) -> Project:
    """Return the project in a decoded JSON document, of whichever kind its question was. Raises ``JsonError``."""
    question = document.get("question") if isinstance(document, dict) else None
    if isinstance(question, dict) and "power" in question:
        document = {**document, "question": of_first_question(question)}
    return converted(document, Project)
