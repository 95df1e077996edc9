"""JSON documents as people keep them in files: decoded with the path of what is wrong, written indented."""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, TypeVar

import msgspec

Document = TypeVar("Document")


class JsonError(ValueError):
    """A text that is not the document wanted. ``path`` names the field, ``steps[0].load``; it is empty for the whole."""

    def __init__(self, path: str, reason: str) -> None:
        super().__init__(f"{path or 'the top'}: {reason}")
        self.path = path
        self.reason = reason


@contextmanager
def _with_path() -> Iterator[None]:
    """Raise what the decoder says (``Expected `str` - at `$.steps[0].load` ``) as a path and a reason."""
    try:
        yield
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        reason, _, path = str(error).partition(" - at ")
        raise JsonError(path.strip("`").removeprefix("$").removeprefix("."), reason) from None
    except RecursionError:
        raise JsonError("", "it is nested too deeply") from None


def decoded_json(text: bytes | str) -> Any:
    """Return what a JSON text holds. Raises ``JsonError``."""
    with _with_path():
        return msgspec.json.decode(text)


def converted(document: Any, kind: type[Document]) -> Document:
    """Return a document of a kind from plain values. Raises ``JsonError``."""
    with _with_path():
        return msgspec.convert(document, kind)


def indented_json(value: Any) -> bytes:
    """Return a value as indented JSON, UTF-8, that ends with a line break."""
    return msgspec.json.format(msgspec.json.encode(value), indent=1) + b"\n"


def json_schema(kind: type) -> bytes:
    """Return the JSON Schema of a kind of document, indented, UTF-8; those that travel stand in docs/reference."""
    return indented_json(msgspec.json.schema(kind))
