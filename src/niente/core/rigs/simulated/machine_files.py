"""Machine files: how they are read, how a variant changes one, and what is refused about it, with its path."""

from importlib import resources
from pathlib import Path
from typing import Any

import msgspec

from niente.core.model.errors import DocumentError
from niente.core.model.json_files import JsonError, converted, decoded_json, json_schema
from niente.core.model.small_files import read_small_file
from niente.core.rigs.simulated.machine import FORMAT, STREAMS_FORMAT, Machine
from niente.core.rigs.simulated.validation import impossible

MACHINES = "niente.core.rigs.simulated.machines"
FIRST = "larkspur"


class MachineFile:
    """A machine file: the document with everything in it, known or not, and the machine in the state it describes."""

    def __init__(self, document: dict[str, Any], source: str) -> None:
        self.document = document
        self.source = source
        self.machine = _machine(document, source)
        if any(build.name == self.machine.variant for build in self.machine.variants):
            raise _refused(source, [f"variants: {self.machine.variant!r} is what the file itself describes"])
        for build in self.machine.variants:
            self.built(build.name)  # a variant that cannot be is found when the file is read, not when it is chosen

    def built(self, variant: str) -> Machine:
        """Return the machine in one of its variants. Raises ``DocumentError`` for one it does not have."""
        if variant == self.machine.variant:
            return self.machine
        build = next((build for build in self.machine.variants if build.name == variant), None)
        if build is None:
            known = ", ".join((self.machine.variant, *(build.name for build in self.machine.variants)))
            raise DocumentError(
                f"{self.machine.title} has no variant {variant!r}.",
                safe="The machine was not changed.",
                remedy=f"Choose one of {known}.",
            )
        patched = merged(self.document, build.patch)
        patched["variant"] = variant
        differing = {part.name: msgspec.to_builtins(part) for part in build.parts}
        kept = [differing.pop(part["name"], part) for part in patched.get("parts", [])]
        patched["parts"] = [*kept, *differing.values()]
        return _machine(patched, f"{self.source}, variant {variant!r}")


def merged(document: Any, patch: Any) -> Any:
    """Return a document with a JSON merge patch over it (RFC 7396): ``null`` takes a member away, lists are replaced."""
    if not isinstance(patch, dict):
        return patch
    result = dict(document) if isinstance(document, dict) else {}
    for key, value in patch.items():
        if value is None:
            result.pop(key, None)
        else:
            result[key] = merged(result.get(key), value)
    return result


def shipped_machines() -> tuple[str, ...]:
    """Return the names of the machines that ship, Larkspur first."""
    names = sorted(
        entry.name.removesuffix(".json") for entry in resources.files(MACHINES).iterdir() if entry.name.endswith(".json")
    )
    return tuple(sorted(names, key=lambda name: name != FIRST))


def shipped_file(name: str) -> MachineFile:
    """Return the file of a machine that ships."""
    return read_machine((resources.files(MACHINES) / f"{name}.json").read_bytes(), f"{name}.json")


def machine_file(path: Path) -> MachineFile:
    """Return a file of a person's own. Raises ``DocumentError`` that names the field and the reason."""
    return read_machine(read_small_file(path), path.name)


def read_machine(text: bytes, source: str) -> MachineFile:
    """Return the machine file in a JSON text; fields that are not known are kept. Raises ``DocumentError``."""
    try:
        document = decoded_json(text)
    except JsonError as error:
        raise _refused(source, [f"it is no JSON: {error.reason}"]) from None
    if not isinstance(document, dict):
        raise _refused(source, ["the top: Expected `object`"])
    named_format = document.get("format", FORMAT)
    if named_format not in (FORMAT, STREAMS_FORMAT):
        raise _refused(source, [f"format: {named_format!r}, and this Niente reads {FORMAT!r} and {STREAMS_FORMAT!r}"])
    return MachineFile(document, source)


def _machine(document: dict[str, Any], source: str) -> Machine:
    try:
        machine = converted(document, Machine)
    except JsonError as error:
        raise _refused(source, [str(JsonError(_named_path(document, error), error.reason))]) from None
    problems = list(impossible(machine))
    if problems:
        raise _refused(source, problems)
    return machine


def _named_path(document: dict[str, Any], refused: JsonError) -> str:
    """Return a path with the keys of maps in it where the decoder says ``[...]``: of each, the key that is refused alone."""
    path = refused.path
    while "[...]" in path:
        before, _, after = path.partition("[...]")
        table: Any = document
        for part in before.split("."):
            table = table.get(part, {}) if isinstance(table, dict) else {}
        without = {key: {other: None for other in table if other != key} for key in table}
        key = next((key for key, patch in without.items() if _is_refused(document, before, patch, refused)), None)
        if key is None:
            break
        path = f"{before}.{key}{after}"
    return path


def _is_refused(document: dict[str, Any], at: str, patch: Any, refused: JsonError) -> bool:
    """Return whether a document is refused for the same reason with a patch to one of its tables."""
    for part in reversed(at.split(".")):
        patch = {part: patch}
    try:
        converted(merged(document, patch), Machine)
    except JsonError as error:
        return str(error) == str(refused)
    return False


def _refused(source: str, problems: list[str]) -> DocumentError:
    shown = "; ".join(problems[:6]) + (f"; and {len(problems) - 6} more" if len(problems) > 6 else "")
    return DocumentError(
        f"The machine file {source} is refused: {shown}.",
        safe="The file is untouched and no rig was opened.",
        remedy="Correct these fields.",
    )


def machine_schema() -> bytes:
    """Return the JSON Schema of machine files, indented, UTF-8; it stands in docs/reference."""
    return json_schema(Machine)
