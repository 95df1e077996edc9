"""Templates of one's own: questions kept as JSON files in a folder, to be asked again of this machine or another."""

import re
from collections.abc import Iterable
from pathlib import Path

import msgspec
import platformdirs

from niente.core.model.errors import DocumentError
from niente.core.model.json_files import JsonError, converted, decoded_json, indented_json
from niente.core.model.names import control_name
from niente.core.model.plan import insist_on_moment
from niente.core.model.question import OWN_FORMAT, OwnTemplate, Question
from niente.core.model.rig_card import RigCard
from niente.core.model.small_files import read_small_file
from niente.core.planning.axis_values import LEVEL, SPEED
from niente.core.planning.builders import control_parts
from niente.core.planning.templates import template


def own_folder() -> Path:
    """Return where a person's templates are kept."""
    return Path(platformdirs.user_data_dir("niente")) / "questions"


def kept(folder: Path) -> dict[str, Path]:
    """Return the templates in a folder by name; a file that is none is passed over."""
    found = {}
    for file in sorted(folder.glob("*.json")) if folder.is_dir() else ():
        try:
            found[read_own(read_small_file(file), file.name).name] = file
        except (OSError, DocumentError):
            continue
    return found


def keep(folder: Path, name: str, question: Question) -> Path:
    """Write a template, and return its file. An older one of that name is kept beside it under a number.

    Raises ``DocumentError`` where it cannot be written.
    """
    plain = re.sub(r"[^\w\- ]", "_", name).strip() or "question"
    file, number = folder / f"{plain}.json", 1
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if file.exists():
            older = folder / f"{plain}.{number}.json.old"
            while older.exists():
                number += 1
                older = folder / f"{plain}.{number}.json.old"
            file.rename(older)
        file.write_bytes(own_text(name, question))
    except OSError as error:
        raise DocumentError(
            f"The template {name!r} cannot be kept in {folder}: {error.strerror}.",
            safe="The question is unchanged.",
            remedy="Make room there, or save the plan as a file.",
        ) from None
    return file


def own_text(name: str, question: Question) -> bytes:
    """Return a template as indented JSON, UTF-8. What belongs to one machine at one time stays behind: changes of the list
    by hand, and the moment from which runs count."""
    plain = msgspec.structs.replace(question, edits=(), since="")
    return indented_json(OwnTemplate(OWN_FORMAT, name, plain))


def read_own(text: bytes, source: str) -> OwnTemplate:
    """Return the template in a JSON text. Raises ``DocumentError`` that names the field that is wrong."""
    try:
        own = converted(decoded_json(text), OwnTemplate)
        insist_on_moment(own.question.since)
    except JsonError as error:
        raise DocumentError(
            f"{source} is no question that Niente can read: at {error}.",
            safe="The file is untouched.",
            remedy="Correct that field, or keep the question anew.",
        ) from None
    if own.format != OWN_FORMAT or template(own.question.template) is None:
        raise DocumentError(
            f"{source} has the format {own.format!r} and asks {own.question.template!r}; "
            f"this Niente reads {OWN_FORMAT!r} with its own questions.",
            safe="The file is untouched.",
            remedy="Use the Niente that wrote it.",
        )
    return own


def for_rig(question: Question, card: RigCard) -> tuple[Question, list[str]]:
    """Return a question as far as a rig can be asked it, and what had to be left out, in words."""
    axes = tuple(axis for axis in question.axes if _has_axis(card, axis.control))
    missing = [control for control, _ in question.base.controls() if card.control(control) is None]
    base = question.base
    for control in missing:
        base = base.without(control)
    loads = {load.name for load in card.loads}
    left = [f"the axis {axis.control}" for axis in question.axes if axis not in axes]
    left += [f"the fixed {control}" for control in missing]
    left += [f"the load {name}" for name in question.loads if name not in loads]
    fresh = msgspec.structs.replace(
        question,
        axes=axes,
        base=base,
        survive=_those_in(question.survive, loads),
        quiet_under=_those_in(question.quiet_under, loads),
        variants=_those_in(question.variants, {variant.name for variant in card.variants}),
        edits=(),
    )
    return _with_loads(question, fresh, card), left


def _with_loads(question: Question, fresh: Question, card: RigCard) -> Question:
    """Return a question with its template's own loads where the rig has none of those that were kept."""
    kind = template(question.template)
    if kind is None or not question.loads or fresh.loads:
        return fresh
    first = kind.first(card)
    return msgspec.structs.replace(fresh, survive=first.survive, quiet_under=first.quiet_under)


def _has_axis(card: RigCard, control: str) -> bool:
    name, part = control_name(control)
    if name == SPEED:
        return part in card.fan_groups()
    return name == LEVEL or bool(control_parts(card, control))


def _those_in(names: Iterable[str], known: set[str]) -> tuple[str, ...]:
    return tuple(name for name in names if name in known)
